package app

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"millgate/core/check"
	"millgate/core/quota"
	"millgate/wire"
)

// spent remembers what drills have used of the quotas beside the one they drill,
// so that none of those refuses in its place. It counts as a sliding window does,
// which admits no more than any other.
type spent struct {
	mu  sync.Mutex
	log map[string][]int64 // ticks of calls, by counter
}

// otherClock is by how many ticks the service may see a call later.
const otherClock = 50_000

// mostRemembered is how many calls of a counter are remembered.
const mostRemembered = 5000

// besides are the counters of a call that fills a quota, but those of that quota.
func (r *run) besides(p *check.Probe, c check.Call) (out []count) {
	at := counted{r.doc.RouteNamed(p.Route), "", c.Request.Host}
	if i := r.doc.Inventory.Find(c.Request.Method, c.Request.Host, c.Request.Path); i >= 0 {
		at.route = i // another way to it is counted as the probe's
	}
	if len(c.As) > 0 {
		at.identity = c.As[0].Identity
	}
	for _, n := range (&room{doc: r.doc, target: r.target}).counts(at) {
		if n.quota != c.Counts {
			n.name = r.target.Name + "\x00" + n.name
			out = append(out, n)
		}
	}
	return out
}

// wait is how long until so many calls more have room in all counters, and the
// quota that takes longest; 0 when there is room.
func (s *spent) wait(list []count, many int64, now int64) (longest int64, by string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range list {
		log := s.log[c.name]
		for _, l := range c.stack {
			n, w := l.N, l.W
			if l.Kind == quota.Bucket {
				n, w = l.Burst, l.Burst*l.W/l.N
			}
			k := int64(len(log)) - n + min(many, n) - 1 // this one must have left the window
			if k >= 0 && k < int64(len(log)) && log[k]+w > now && log[k]+w-now+otherClock > longest {
				longest, by = log[k]+w-now+otherClock, c.quota
			}
		}
	}
	return longest, by
}

func (s *spent) add(list []count, now int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.log == nil {
		s.log = map[string][]int64{}
	}
	for _, c := range list {
		l := append(s.log[c.name], now)
		s.log[c.name] = l[max(0, len(l)-mostRemembered):]
	}
}

// beside waits until no other quota would refuse the calls of a drill: one that is run by
// itself has the time, within a sweep it ends there.
func (r *run) beside(p *check.Probe) func(ctx context.Context, c check.Call) (time.Duration, error) {
	var waited atomic.Int64
	return func(ctx context.Context, c check.Call) (time.Duration, error) {
		if r.stopping.Err() != nil {
			return 0, errStopped
		}
		wait, by := r.sweeps.spent.wait(r.besides(p, c), 1, time.Now().UnixMicro())
		d := quota.Span(wait)
		switch {
		case d == 0:
			return 0, nil
		case !r.sweep.Partial || time.Duration(waited.Add(int64(d))) > longestRoom:
			return 0, wire.ErrCrowded
		}
		if !r.pause(fmt.Sprintf("the drill of %s has no room in %s", c.Counts, by), d) {
			return 0, errStopped
		}
		return d, ctx.Err()
	}
}
