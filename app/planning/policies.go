package planning

import (
	"cmp"
	"slices"

	"millgate/core/check"
	"millgate/core/declaration"
)

// Policy is what a target would be sent under one word of its `unsafe`.
type Policy struct {
	Unsafe declaration.Unsafe
	Probes int // in all
	Left   int // what would be left out
	Changing
	Routes []UnsafeRoute // most of what is there first
}

// Changing are probes that send something unsafe (RFC 9110 section 9.2.1), by what they touch.
type Changing struct {
	OnMade  int // records made for the purpose
	Begin   int // nothing that is there: they make records that are removed again, and begin and end sessions
	OnThere int // what is there
}

// UnsafeRoute is a route that something unsafe would be sent to.
type UnsafeRoute struct {
	Route string
	Changing
}

// ByPolicy is what a target would be sent under each word of `unsafe`, from the most careful on.
func ByPolicy(d *declaration.Document, t *declaration.Target, families check.Families) []Policy {
	words := []declaration.Unsafe{declaration.UnsafeRefused, declaration.UnsafeMade, declaration.UnsafeAllowed}
	plans := map[declaration.Unsafe]*check.Plan{}
	out := make([]Policy, len(words))
	for i, u := range words {
		as := *t
		as.Unsafe = u
		pl := check.NewPlan(d, &as, families)
		plans[u] = pl
		out[i] = Policy{Unsafe: u, Probes: len(pl.Probes), Left: len(pl.Left)}
	}
	for i := range out {
		out[i].count(plans[out[i].Unsafe], plans[declaration.UnsafeMade])
	}
	return out
}

// count counts what changes something. What a plan for made records has too, without one, touches nothing that is
// there.
func (p *Policy) count(pl, made *check.Plan) {
	at := map[string]int{}
	for _, x := range pl.Probes {
		if !x.Unsafe {
			continue
		}
		k, ok := at[x.Route]
		if !ok {
			k = len(p.Routes)
			at[x.Route] = k
			p.Routes = append(p.Routes, UnsafeRoute{Route: x.Route})
		}
		for _, c := range []*Changing{&p.Changing, &p.Routes[k].Changing} {
			switch also := made.Find(x.Key()); {
			case x.Record.Lent():
				c.OnMade++
			case also != nil && !also.Record.Lent():
				c.Begin++
			default:
				c.OnThere++
			}
		}
	}
	slices.SortStableFunc(p.Routes, func(a, b UnsafeRoute) int { return cmp.Compare(b.OnThere, a.OnThere) })
}
