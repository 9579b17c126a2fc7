package probe

import (
	"maps"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/check/issued"
	"millgate/core/check/quotas"
	"millgate/core/check/raised"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
)

// families plans what families of their own check, behind the kinds of this package.
func (pl *planner) families() {
	for _, f := range pl.plan.families {
		pl.planOnce(f.Name())
	}
	pl.plan.more = func(x *Probe, e *check.Evidence) (out []*Probe) {
		f, ok := pl.plan.families.Named(x.Check.Family).(check.Widening)
		if !ok {
			return nil
		}
		pl.plan.widened[x.ID] = true
		p := check.NewPlanning(pl)
		f.More(&pl.plan.context, x.Check, e, p)
		for _, more := range p.Probes {
			if q := pl.family(more); q != nil {
				q.Widens = x.ID
				out = append(out, q)
			}
		}
		return out
	}
}

// planOnce plans a family that is not planned yet.
func (pl *planner) planOnce(name string) {
	f := pl.plan.families.Named(name)
	if f == nil || pl.planned[name] {
		return
	}
	pl.planned[name] = true
	p := check.NewPlanning(pl)
	f.Plan(&pl.plan.context, p)
	for _, x := range p.Probes {
		pl.family(x)
	}
	pl.plan.Left = append(pl.plan.Left, p.Left...)
	pl.plan.Spared += p.Spared
}

// family puts a probe of a family among the plan's; nil where it is there already.
func (pl *planner) family(x *check.Probe) *Probe {
	f := pl.plan.families.Named(x.Family)
	p := &Probe{ID: x.Key(), Kind: Kind(x.Family), Route: pl.d.RouteNamed(x.Route), RouteKey: x.Route,
		Identity: x.Caller.Identity, Scheme: x.Caller.Scheme, State: x.Caller.State, StandsFor: x.StandsFor,
		Control: x.Control, Phase: x.Phase, Check: x,
		Expect: access.Expectation{Outcome: access.Admit}}
	if p.State == "" {
		p.State = access.Absent
	}
	if p.Record = recordOf(x.Record, x.Relation); p.Record.Name == "" {
		p.Record.Relation = x.Relation
	}
	p.shown = &shown{cost: f.Cost(&pl.plan.context, x)}
	p.shown.cell, p.shown.says = f.Cell(x)
	if e, ok := f.(check.Expecting); ok {
		p.Expect = e.Expect(&pl.plan.context, x)
	}
	if s, ok := f.(check.Speaking); ok {
		p.shown.who = s.Who(x)
	}
	if p.Route >= 0 {
		rt := pl.d.Routes[p.Route]
		p.Method, p.Host, p.Path = rt.Method(), rt.Host, rt.Path()
	}
	switch d := x.Detail.(type) { // as what has not moved, and what is shown, have them
	case crossing.Detail:
		p.Params, p.IsControl, p.WithBody, p.Way = d.Params, d.IsControl, true, x.Of
	case detour.Detail:
		p.Params, p.Way, p.Method, p.Host, p.Path = d.Params, x.Of, d.Method, d.Host, d.Path
	case credential.Detail:
		p.Params, p.Way, p.WithBody = d.Params, d.Way, true
	case issued.Detail:
		p.Params = d.Params
	case raised.Detail:
		p.Params, p.WithBody = d.Params, true
	case quotas.Detail:
		p.Params, p.Way = d.Params, x.Of
	case undeclared.Detail:
		p.Kind, p.Params, p.Method, p.Host, p.Path = Kind(x.Of), d.Params, d.Method, d.Host, d.Path
	}
	if pl.plan.byID[p.ID] != nil {
		return nil
	}
	pl.plan.byID[p.ID] = p
	pl.plan.Probes = append(pl.plan.Probes, p)
	return p
}

// Family is that of a probe, nil for the kinds of this package.
func (p *Plan) Family(x *Probe) check.Family {
	if x.Check == nil {
		return nil
	}
	return p.families.Named(x.Check.Family)
}

// Families are those that the plan was made with.
func (p *Plan) Families() check.Families { return p.families }

// Context is what the plan was made of.
func (p *Plan) Context() *check.Context { return &p.context }

// columnOf is the column of a cell among those of all lenses.
func columnOf(c check.Cell) string {
	switch c.Lens {
	case check.Tokens:
		return TokenCaller + c.Key
	case check.Origins:
		return PageCaller + c.Key
	case check.Quotas:
		return QuotaCaller + c.Key
	default:
	}
	return c.Key
}

// QuotaCaller is put before a quota where a caller is asked for.
const QuotaCaller = "quota:"

// PageCaller is put before a page of the Origins lens where a caller is asked for.
const PageCaller = "origin:"

// TokenCaller is put before a column of the tokens lens where a caller is asked for.
const TokenCaller = "credential:"

// Control is the request of a route's control.
func (pl *planner) Control(i int) (check.Sample, bool) {
	c := pl.controls[i]
	if c == nil || c.Record.Made {
		return check.Sample{}, false
	}
	return pl.sample(c), true
}

// Address is a route's request without a caller: with the parameters of its control where
// that has some that need no record, else made up.
func (pl *planner) Address(i int) check.Request {
	rt := pl.d.Routes[i]
	p := &Probe{Route: i, Method: rt.Method(), Host: rt.Host, Path: rt.Path(), Params: map[string]string{}}
	if c := pl.controls[i]; c != nil {
		maps.Copy(p.Params, c.Params)
	}
	for _, name := range rt.Parameters() {
		if p.Params[name] == "" {
			p.Params[name] = "1"
		}
	}
	return Template(pl.d, pl.t, p)
}

// ControlAt is the control of a route, and its caller.
func (pl *planner) ControlAt(i int) (*check.Probe, string) {
	c := pl.controls[i]
	if c == nil {
		return nil, ""
	}
	return c.Check, c.Who()
}

// At are the crossings of a route.
func (pl *planner) At(i int) (out []*check.Probe) {
	for _, p := range pl.sent[i] {
		out = append(out, p.Check)
	}
	return out
}

// Works is the first safe crossing that must be admitted, of an identity with a scheme,
// at a route that does not admit everybody.
func (pl *planner) Works(identity, scheme string) (check.Sample, bool) {
	for _, p := range pl.plan.Probes {
		if p.Kind == Crossing && p.Identity == identity && p.Scheme == scheme && p.Phase == Safe &&
			p.Expect.Outcome == access.Admit && !p.Record.Made {
			// On an open route anything works.
			if e := pl.d.Entry(p.Route); e != nil && e.Who[0].Kind != declaration.WhoAnyone {
				return pl.sample(p), true
			}
		}
	}
	return check.Sample{}, false
}

// Using are the sound crossings with a scheme, and the looks at what its logins gave.
func (pl *planner) Using(scheme string) (out []string) {
	for _, p := range pl.plan.Probes {
		if p.Scheme == scheme && (p.Kind == Issued || p.Kind == Crossing && p.State == access.Sound) {
			out = append(out, p.ID)
		}
	}
	return out
}

// Classes are those of the identities.
func (pl *planner) Classes() []access.Class { return pl.classes }

func (pl *planner) sample(p *Probe) check.Sample {
	return check.Sample{Key: p.ID, Caller: check.Caller{Identity: p.Identity, Scheme: p.Scheme,
		State: p.State},
		Request: Template(pl.d, pl.t, p)}
}

// Template is a probe's request as a call's, without a credential. Names in its body
// stand for values of the identity as which it is sent, or of the target.
func Template(d *declaration.Document, t *declaration.Target, p *Probe) check.Request {
	q := Build(d, p, p.Record.ID)
	out := check.Request{Method: q.Method, Host: q.Host, Path: q.Path, Query: q.Query, Headers: q.Headers, Body: q.Body}
	if s := d.SchemeNamed(p.Scheme); s != nil && s.Kind == declaration.Link {
		out.Params = p.LinkParams(p.Record.ID)
	}
	fills := check.FillsOf(d, t, q.As, "")
	for _, n := range (&declaration.Request{JSON: q.Body}).Placeholders() {
		if f, ok := fills(n); ok {
			if out.Fill == nil {
				out.Fill = map[string]check.Fill{}
			}
			out.Fill[n] = f
		}
	}
	return out
}
