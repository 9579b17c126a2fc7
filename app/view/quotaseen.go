package view

import (
	"slices"
	"time"

	"millgate/app/snapshot"
	"millgate/core/check/quotas"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
)

// QuotaSeen is what is known of a declared quota on a target.
type QuotaSeen struct {
	Name     string
	Column   int   // of the board's kinds of caller
	Declared int64 // calls of its first amount
	Window   time.Duration
	Ceiling  int64 // of that window, or at the same time; quota.Unlimited where nothing limits it
	Most     int64 // seen in one window; -1 when nothing was
	Found    finding.Kind
}

// quotasSeen is what is known of every declared quota.
func quotasSeen(d *declaration.Document, t *declaration.Target, s *snapshot.Snapshot, kinds []string) []QuotaSeen {
	out := make([]QuotaSeen, len(d.Quotas))
	for k, q := range d.Quotas {
		if t != nil {
			q, _ = t.Quota(q)
		}
		stack := quota.Of(q, q.Allow)
		out[k] = QuotaSeen{Name: q.Name, Column: slices.Index(kinds, snapshot.CountedBy(q)),
			Declared: int64(q.Allow[0].Count),
			Window:   q.Allow[0].Per, Ceiling: quota.Unlimited, Most: -1, Found: finding.Unprobed}
		if w := quota.Ticks(q.Allow[0].Per); w > 0 {
			out[k].Ceiling, _ = stack.Ceiling(w)
		} else if q.Model == declaration.Concurrency {
			out[k].Ceiling = int64(q.Allow[0].Count)
		}
		if s == nil {
			continue
		}
		for _, p := range s.Sent() {
			it, ok := s.Items[p.Key()]
			if !ok || !p.Is(quotas.Family{}) || p.Of != q.Name {
				continue
			}
			if out[k].Found != finding.Unprobed && !finding.Worse(it.Verdict.Kind, out[k].Found) {
				continue // another drill of it says more
			}
			out[k].Found, out[k].Most = it.Verdict.Kind, -1
			v, _ := quotas.Of(s.Plan().Context, p, s.Facts.Of(p.Key()).Seen())
			if m := v.Measured; m != nil && (!v.Broken || it.Verdict.Kind.IsGap()) {
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
