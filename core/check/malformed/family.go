// Package malformed asks for what cannot be: an id that no service gives out stands behind
// each parameter of each template, sent by a caller who gets as far as the handler.
//
// Nothing is concluded from how it is turned away. What answers must never show is looked
// for in what comes back: a handler that fails on nonsense often tells of itself.
package malformed

import (
	"maps"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Family is that of malformed ids.
type Family struct{ check.OnRecords }

// Detail is what stands behind the parameters.
type Detail struct {
	Params  map[string]string
	OtherID string // the record that a link is for
}

// ID is malformed in every way that breaks careless handlers: quotes, brackets, a backslash.
const ID = "not'an\"id<\\>"

// Name is that of its probes.
func (Family) Name() string { return "malformed" }

func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, "malformed {" + p.Of + "}"
}

// Who is the control's caller.
func (Family) Who(p *check.Probe) string { return check.WhoOf(p.Caller) }

// Expect is that nothing is there.
func (Family) Expect(*check.Context, *check.Probe) access.Expectation {
	return access.Expectation{Outcome: access.Closed}
}

// Plan plans one for each parameter of each template: with a safe method where there is one.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	seen := map[string]bool{}
	for _, unsafe := range []bool{false, true} {
		for i, rt := range c.Doc.Routes {
			ctl, _ := p.ControlAt(i)
			if rt.Unsafe() != unsafe || ctl == nil || unsafe && c.Target.Unsafe != declaration.UnsafeAllowed {
				continue
			}
			for _, name := range rt.Parameters() {
				if k := rt.TemplateKey() + "?" + name; !seen[k] {
					seen[k] = true
					p.Add(f.probe(c, ctl, name))
				}
			}
		}
	}
}

func (f Family) probe(c *check.Context, ctl *check.Probe, name string) check.Probe {
	d := Detail{Params: maps.Clone(check.ParamsOf(ctl))}
	if d.Params == nil {
		d.Params = map[string]string{}
	}
	if s := c.Doc.SchemeNamed(ctl.Caller.Scheme); s != nil && s.Kind == declaration.Link {
		// The link itself is a sound one: for a record that there is.
		if d.OtherID = d.Params[name]; d.OtherID == "" {
			d.OtherID = ctl.Record.Value
		}
	}
	if ctl.Record.Param != "" && ctl.Record.Param != name {
		// Another parameter is malformed; a known record stands here.
		d.Params[ctl.Record.Param] = ctl.Record.Value
	}
	d.Params[name] = ID
	p := check.Probe{ID: check.ID{Family: f.Name(), Route: ctl.Route, Caller: ctl.Caller, Of: name}, Phase: ctl.Phase,
		Unsafe: ctl.Unsafe, Control: ctl.Key(), Detail: d}
	if p.Unsafe {
		p.Phase = check.ThenTurnedAway
	}
	return p
}

// Request is the control's, with the malformed id.
func Request(c *check.Context, p *check.Probe) check.Request {
	i, d := c.Doc.RouteNamed(p.Route), of(p)
	q := check.RequestOf(c, p, i, c.Doc.Routes[i].Path(), d.Params).WithBody(c, i)
	if d.OtherID != "" {
		q.Params[p.Of], q.Params["id"] = d.OtherID, d.OtherID
	}
	return q
}

// Script sends it.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		call := check.Call{Name: check.TheRequest, Request: Request(c, p), As: check.Bears(c, p), Retry: true}
		if !p.Unsafe {
			call.Effect = check.Safe
		}
		call.Makes, call.Take = check.Creating(c.Doc, c.Doc.RouteNamed(p.Route))
		t.On(c, p, call)
	})
}

// Judge says only whether it was answered: what the answer shows is judged with all others.
func (Family) Judge(c *check.Context, _ *check.Probe, f *check.Fact, _ *check.Evidence) check.Verdict {
	if len(f.Reports) == 0 {
		return check.Unproven("nothing was sent")
	}
	r := f.Reports[0]
	a := check.AnswerOf(r.Exchange)
	v := check.Verdict{Answers: []check.Report{r}}
	switch class := r.Class(c.Doc.Answers); {
	case a.Status == 0:
		v.Says = "no answer: " + a.Error
	case class == check.Failed || class == check.Throttled:
		v.Says = "a malformed id was answered " + a.Code()
	default:
		v.Says, v.Proof = "a malformed id was answered "+a.Code(), check.Shown(check.Head(r))
	}
	return v
}

// Causes are those of answers alone.
func (Family) Causes() finding.Family { return finding.Family{Title: "Malformed ids"} }
