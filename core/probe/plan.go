package probe

import (
	"sort"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/check/issued"
	"millgate/core/check/malformed"
	"millgate/core/check/raised"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
)

// Make plans a sweep of the target, with the families given. The document must be without
// errors.
func Make(d *declaration.Document, target *declaration.Target, families check.Families) *Plan {
	pl := &planner{d: d, t: target, plan: &Plan{byID: map[string]*Probe{}, widened: map[string]bool{},
		families: families, context: check.Context{Doc: d, Target: target}}, classes: access.Classes(d),
		controls: make([]*Probe, len(d.Routes)), planned: map[string]bool{}}
	pl.crossings()
	pl.planOnce(malformed.Family{}.Name())
	pl.planOnce(undeclared.Family{}.Name())
	pl.planOnce(issued.Family{}.Name())
	for _, x := range pl.refusals {
		pl.family(x)
	}
	pl.planOnce(credential.Family{}.Name())
	pl.families()
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
	controls []*Probe
	sent     [][]*Probe      // crossings, by route
	planned  map[string]bool // families
	refusals []*check.Probe  // crossings of another kind of answer
}

// recordOf is a record as the kinds of this package have it.
func recordOf(r check.Record, rel access.Relation) RecordUse {
	if r.Name == "" {
		return RecordUse{}
	}
	return RecordUse{Name: r.Name, Param: r.Param, Relation: rel, Owner: r.Owner, ID: r.Value, Made: r.Lent()}
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
	pl.sent = make([][]*Probe, len(pl.d.Routes))
	for _, x := range p.Probes {
		if x.Of != "" { // how a refusal looks stands beside broken credentials
			pl.refusals = append(pl.refusals, x)
			continue
		}
		q := pl.family(x)
		pl.sent[q.Route] = append(pl.sent[q.Route], q)
		if q.IsControl {
			pl.controls[q.Route] = q
		}
	}
	pl.planOnce(detour.Family{}.Name())
	pl.planOnce(raised.Family{}.Name())
}
