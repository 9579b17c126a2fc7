package app

import (
	"slices"
	"time"

	"millgate/core/check"
	"millgate/core/check/quotas"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
)

// CountedCaller is put before a kind of counting where a caller is asked for.
const CountedCaller = "counted:"

// QuotaSeen is what is known of a declared quota on a target.
type QuotaSeen struct {
	Name     string
	Column   int   // of the board's kinds of caller
	Declared int64 // calls of its first amount
	Window   time.Duration
	Ceiling  int64 // of that window, or at the same time; quota.Unlimited where nothing limits it
	Most     int64 // seen in one window; -1 when nothing was
	Verdict  string
}

// kindsOfCaller are the columns of the Quotas lens: what quotas count by.
func kindsOfCaller(d *declaration.Document) (out []string) {
	for _, q := range d.Quotas {
		if k := countedBy(q); !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

// quotasSeen is what is known of every declared quota.
func quotasSeen(d *declaration.Document, t *declaration.Target, s *snapshot, kinds []string) []QuotaSeen {
	out := make([]QuotaSeen, len(d.Quotas))
	for k, q := range d.Quotas {
		if t != nil {
			q, _ = t.Quota(q)
		}
		stack := quota.Of(q, q.Allow)
		out[k] = QuotaSeen{Name: q.Name, Column: slices.Index(kinds, countedBy(q)), Declared: int64(q.Allow[0].Count),
			Window: q.Allow[0].Per, Ceiling: quota.Unlimited, Most: -1, Verdict: "."}
		if w := quota.Ticks(q.Allow[0].Per); w > 0 {
			out[k].Ceiling, _ = stack.Ceiling(w)
		} else if q.Model == declaration.Concurrency {
			out[k].Ceiling = int64(q.Allow[0].Count)
		}
		if s == nil {
			continue
		}
		for _, p := range s.sent() {
			it, ok := s.items[p.Key()]
			if !ok || !is(p, quotas.Family{}) || p.Of != q.Name {
				continue
			}
			out[k].Verdict = string(verdictLetter(it.Verdict.Kind))
			v, _ := quotas.Of(s.plan().Context, p, s.facts.of(p.Key()).seen())
			if m := v.Measured; m != nil {
				if q.Model == declaration.Concurrency {
					out[k].Most = int64(m.Side().AtOnce())
					continue
				}
				out[k].Most = m.Most(quota.Ticks(out[k].Window))
				if it.Verdict.Kind != finding.Unthrottled {
					continue // so that nothing went beyond its ceiling
				}
				if n, c, _, yes := m.Beyond(v.Stack); yes {
					out[k].Most, out[k].Ceiling = n, c // in the interval in which it went furthest
				}
			}
		}
	}
	return out
}

// drillsAt are the drills of the quotas that count a route by a kind of caller.
func drillsAt(d *declaration.Document, pl *check.Plan, route, kind string) (out []*check.Probe) {
	i := d.RouteNamed(route)
	if i < 0 {
		return nil
	}
	for _, p := range pl.Probes {
		if !is(p, quotas.Family{}) {
			continue
		}
		if k := slices.IndexFunc(d.Quotas, func(q *declaration.Quota) bool { return q.Name == p.Of }); k >= 0 &&
			slices.Contains(d.QuotasAt[i], k) && countedBy(d.Quotas[k]) == kind {
			out = append(out, p)
		}
	}
	return out
}
