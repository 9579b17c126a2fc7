package app

import (
	"fmt"
	"sync"
	"time"

	"millgate/core/probe"
	"millgate/core/quota"
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

// beside are the counters of a drill but that of its own quota.
func (r *run) beside(p *probe.Probe) (out []count) {
	for _, c := range (&room{doc: r.doc, target: r.target}).counts(countedOf(p)) {
		if c.quota != p.Way {
			c.name = r.target.Name + "\x00" + c.name
			out = append(out, c)
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

// roomForOne waits until no other quota would refuse the next call: a drill that
// is run by itself has the time, within a sweep it ends there.
func (x *drilling) roomForOne() error {
	wait, by := x.r.app.spent.wait(x.besides, 1, time.Now().UnixMicro())
	d := quota.Span(wait)
	switch {
	case d == 0:
		return nil
	case !x.r.sweep.Partial || x.waited+d > longestRoom:
		return errCrowded
	}
	x.waited += d
	x.ends = x.ends.Add(d)
	x.d.Budget.Ticks += wait
	x.r.app.Events.Send(Event{Type: "wait", Text: fmt.Sprintf("the drill of %s waits %s, until %s has room for it",
		x.q.Name, d.Round(time.Second/10), by)})
	select {
	case <-x.r.stopping.Done():
		return errStopped
	case <-time.After(d):
		return nil
	}
}

// count remembers a call that the target counted, once it is answered: it was not
// counted later.
func (x *drilling) count() { x.r.app.spent.add(x.besides, time.Now().UnixMicro()) }
