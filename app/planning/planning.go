// Package planning says what a sweep would send, before anything is sent.
package planning

import (
	"millgate/app/room"
	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Summary is a plan in numbers.
type Summary struct {
	Target   string  `json:"target"`
	Base     string  `json:"base"`
	Probes   int     `json:"probes"`
	Requests int     `json:"requests"` // with logins and throwaway records
	Unsafe   int     `json:"unsafe"`
	Made     int     `json:"made"` // probes on throwaway records
	Inferred int     `json:"inferred"`
	Spared   int     `json:"spared"`  // broken credentials that a route with the same guard stands for
	Seconds  float64 `json:"seconds"` // that it is expected to take
	Pace     string  `json:"pace"`
	// What of that the pace takes, the quota that holds it up most, and the drills.
	PaceSeconds  float64             `json:"paceSeconds"`
	DrillSeconds float64             `json:"drillSeconds,omitempty"`
	QuotaSeconds float64             `json:"quotaSeconds,omitempty"`
	Quota        string              `json:"quota,omitempty"`
	Policy       string              `json:"policy"` // the target's `unsafe`
	Kinds        map[string]int      `json:"kinds"`
	Shared       map[string][]string `json:"shared"` // identity → those it stands for
}

// Of is a plan against a target in numbers; shares are of counters that others send to as well.
func Of(d *declaration.Document, pl *check.Plan, t *declaration.Target, shares room.Shares) Summary {
	s := Summary{Target: t.Name, Base: t.Base, Probes: len(pl.Probes), Requests: pl.Requests(), Unsafe: pl.Unsafe(),
		Made: pl.Made(), Inferred: pl.Inferred, Spared: pl.Spared,
		Pace: t.Pace.String(), Policy: string(t.Unsafe),
		Kinds: map[string]int{}, Shared: map[string][]string{}}
	in := TimesOf(d, t, pl, shares)
	s.Seconds, s.PaceSeconds, s.DrillSeconds = in.Whole.Seconds(), in.Pace.Seconds(), in.Drills.Seconds()
	s.QuotaSeconds, s.Quota = in.Quota.Seconds(), in.By
	for _, p := range pl.Probes {
		s.Kinds[snapshot.KindOf(p)]++
		if len(p.StandsFor) > 0 {
			s.Shared[p.Caller.Identity] = p.StandsFor
		}
	}
	return s
}

// Detail is a plan to look at before anything is sent.
type Detail struct {
	Summary
	Left         []check.Omission
	UnsafeProbes []UnsafeProbe // at most mostListed of them
}

// UnsafeProbe is a planned probe that sends something unsafe.
type UnsafeProbe struct {
	Route, Who, What string
	Expect           access.Expectation
}

// mostListed is how many unsafe probes a plan lists.
const mostListed = 1000

// InDetail is a plan with what it leaves out and what is unsafe in it.
func InDetail(d *declaration.Document, pl *check.Plan, t *declaration.Target, shares room.Shares) Detail {
	out := Detail{Summary: Of(d, pl, t, shares), Left: pl.Left}
	for _, p := range pl.Probes {
		if p.Unsafe && len(out.UnsafeProbes) < mostListed {
			out.UnsafeProbes = append(out.UnsafeProbes, UnsafeProbe{p.Route, pl.Who(p), snapshot.KindOf(p),
				pl.Expect(p)})
		}
	}
	return out
}
