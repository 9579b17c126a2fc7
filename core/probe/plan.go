package probe

import (
	"encoding/json"
	"sort"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
)

// Make plans a sweep of the target, with the families given. The document must be without
// errors.
func Make(d *declaration.Document, target *declaration.Target, families check.Families) *Plan {
	pl := &planner{d: d, t: target, plan: &Plan{byID: map[string]*Probe{}, widened: map[string]bool{},
		families: families, context: check.Context{Doc: d, Target: target}}, classes: access.Classes(d),
		controls: make([]*Probe, len(d.Routes)), planned: map[string]bool{}}
	for _, rt := range d.Routes {
		pl.keys, pl.paths = append(pl.keys, rt.Key()), append(pl.paths, rt.Path())
	}
	pl.drafts = check.NewDrafts(d, target, pl.classes)
	pl.crossings()
	pl.malformed()
	pl.family1(undeclared.Family{}.Name())
	pl.issued()
	pl.credentials()
	pl.families()
	pl.quotas()
	sort.SliceStable(pl.plan.Probes, func(i, j int) bool {
		a, b := pl.plan.Probes[i], pl.plan.Probes[j]
		if a.Phase != b.Phase {
			return a.Phase < b.Phase
		}
		return a.Phase == Safe && a.IsControl && !b.IsControl
	})
	return pl.plan
}

type planner struct {
	d        *declaration.Document
	t        *declaration.Target
	plan     *Plan
	classes  []access.Class
	drafts   check.Drafts
	controls []*Probe
	sent     [][]*Probe      // crossings, by route
	planned  map[string]bool // families
	keys     []string        // of the routes
	paths    []string
}

func (pl *planner) leave(route, caller, what, why string) {
	pl.plan.Left = append(pl.plan.Left, Omission{Route: route, Caller: caller, What: what, Why: why,
		ByTarget: check.ByTarget(why)})
}

func (pl *planner) add(p *Probe) *Probe {
	who := p.Identity
	if who == "" {
		who = "nobody"
	}
	p.ID = strings.Join([]string{string(p.Kind), p.RouteKey, who, p.Scheme, string(p.State), string(p.Record.Relation),
		p.Way + p.Claim + p.Param}, "|")
	if p.Donor != "" {
		p.ID += "|" + p.Donor
	}
	if old := pl.plan.byID[p.ID]; old != nil {
		return old
	}
	pl.plan.byID[p.ID] = p
	pl.plan.Probes = append(pl.plan.Probes, p)
	return p
}

// draft fills in what all probes at route i share. p is nil when a parameter has no value
// or the target does not allow it; why says so.
func (pl *planner) draft(i int, id *declaration.Identity, rel access.Relation, turnedAway bool) (p *Probe, why string) {
	d, why, ok := pl.drafts.For(i, id, rel, turnedAway)
	if !ok {
		return nil, why
	}
	rt := pl.d.Routes[i]
	p = &Probe{Kind: Crossing, Route: i, RouteKey: pl.keys[i], Method: rt.Method(), Host: rt.Host, Path: pl.paths[i],
		State: access.Absent, WithBody: true, Params: d.Params, Record: recordOf(d.Record, rel), Phase: d.Phase}
	if id != nil {
		p.Identity = id.Name
	}
	return p, ""
}

// recordOf is a record as the kinds of this package have it.
func recordOf(r check.Record, rel access.Relation) RecordUse {
	if r.Name == "" {
		return RecordUse{}
	}
	return RecordUse{Name: r.Name, Param: r.Param, Relation: rel, Owner: r.Owner, ID: r.Value, Made: r.Lent()}
}

func (pl *planner) usesSession(i int) bool {
	_, q := access.SessionAt(pl.d, i)
	return q != nil
}

// crossings plans the callers at routes, and what is tried beside them at each.
func (pl *planner) crossings() {
	name := crossing.Family{}.Name()
	pl.planned[name] = true
	p := check.NewPlanning(nil)
	if f := pl.plan.families.Named(name); f != nil {
		f.Plan(&pl.plan.context, p)
	}
	pl.plan.Left, pl.plan.Inferred = append(pl.plan.Left, p.Left...), p.Inferred
	made := make([][]*Probe, len(pl.d.Routes))
	for _, x := range p.Probes {
		q := pl.family(x)
		made[q.Route] = append(made[q.Route], q)
		if q.IsControl {
			pl.controls[q.Route] = q
		}
	}
	pl.sent = made
	pl.family1(detour.Family{}.Name())
	for i := range pl.d.Routes {
		pl.raised(i, made[i])
	}
}

// raised plans a body that claims a role, sent by the least of the callers
// that the route admits.
func (pl *planner) raised(i int, made []*Probe) {
	rt := pl.d.Routes[i]
	var body map[string]json.RawMessage
	if rt.Effect != declaration.Create && rt.Effect != declaration.Update ||
		json.Unmarshal(rt.Send.JSON, &body) != nil || len(body) == 0 {
		return
	}
	claim := ""
	for _, s := range pl.d.Schemes {
		if p := s.Claims["roles"]; p != "" {
			claim = p[strings.LastIndexByte(p, '/')+1:]
			break
		}
	}
	if _, there := body[claim]; claim == "" || there {
		return
	}
	var least *Probe
	size := 0
	for _, p := range made {
		if p.Expect.Outcome != access.Admit || p.State == access.Broken || pl.usesSession(i) {
			continue
		}
		n := 0
		if id := pl.d.IdentityNamed(p.Identity); id != nil {
			n = 1 + len(pl.d.RolesOf(id))
		}
		if least == nil || n < size {
			least, size = p, n
		}
	}
	if least == nil {
		return
	}
	role := HighestRole(pl.d, least.Identity)
	if role == "" {
		return
	}
	p := *least
	p.Check, p.shown = nil, nil
	p.Kind, p.Claim, p.Role, p.Phase, p.IsControl, p.StandsFor = RaisedRole, claim, role, Raising, false, nil
	p.Control = least.ID
	pl.add(&p)
}

// HighestRole is the role that includes most, and that the identity does not
// have.
func HighestRole(d *declaration.Document, identity string) string {
	have := map[string]bool{}
	if id := d.IdentityNamed(identity); id != nil {
		have = d.RolesOf(id)
	}
	best, size := "", -1
	for _, r := range d.Roles {
		n := len(r.Includes)
		for _, inc := range r.Includes {
			if o := d.RoleNamed(inc.Name); o != nil {
				n += len(o.Includes)
			}
		}
		if !have[r.Name] && n > size {
			best, size = r.Name, n
		}
	}
	return best
}
