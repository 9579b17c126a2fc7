package app

import (
	"fmt"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// longestRoom is how long a sweep waits for room at most before it sends all
// the same; the service then says what it thinks of it.
const longestRoom = 90 * time.Second

// takeRoom waits until the quotas have room for a request. It returns false when
// the sweep was stopped meanwhile.
func (r *run) takeRoom(p counted) bool {
	for told := false; ; {
		d, which := r.room.wait(p, time.Now())
		if d == 0 || d > longestRoom {
			return true
		}
		if !told {
			told = true
			r.tellWait(fmt.Sprintf("quota %s is full", which), d)
		}
		select {
		case <-r.stopping.Done():
			return false
		case <-time.After(d):
		}
	}
}

// quotaTime is how long a plan takes at least by the quotas that count it, and
// the quota that takes longest; 0 where none holds it up.
func quotaTime(d *declaration.Document, t *declaration.Target, pl *check.Plan) (longest time.Duration, by string) {
	r := newRoom(d, t, time.Time{})
	if r == nil {
		return 0, ""
	}
	calls := map[string]int64{}
	counters := map[string]count{}
	for _, p := range pl.Probes {
		for _, c := range r.counts(r.countedOf(p)) {
			calls[c.name]++
			counters[c.name] = c
		}
	}
	for n, k := range calls {
		if ticks, _ := counters[n].stack.Within(k); quota.Span(ticks) > longest {
			longest, by = quota.Span(ticks), counters[n].quota
		}
	}
	return longest, by
}
