package room

import (
	"sync"

	"millgate/core/quota"
)

// Spent remembers what drills have used of the quotas beside the one they drill,
// so that none of those refuses in its place. It counts as a sliding window does,
// which admits no more than any other.
type Spent struct {
	mu  sync.Mutex
	log map[string][]int64 // ticks of calls, by counter
}

// otherClock is by how many ticks the service may see a call later.
const otherClock = 50_000

// mostRemembered is how many calls of a counter are remembered.
const mostRemembered = 5000

// Wait is how long until so many calls more have room in all counters, and the
// quota that takes longest; 0 when there is room.
func (s *Spent) Wait(list []Counter, many int64, now int64) (longest int64, by string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range list {
		log := s.log[c.Name]
		for _, l := range c.stack {
			n, w := l.N, l.W
			if l.Kind == quota.Bucket {
				n, w = l.Burst, l.Burst*l.W/l.N
			}
			k := int64(len(log)) - n + min(many, n) - 1 // this one must have left the window
			if k >= 0 && k < int64(len(log)) && log[k]+w > now && log[k]+w-now+otherClock > longest {
				longest, by = log[k]+w-now+otherClock, c.Quota
			}
		}
	}
	return longest, by
}

func (s *Spent) Add(list []Counter, now int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.log == nil {
		s.log = map[string][]int64{}
	}
	for _, c := range list {
		l := append(s.log[c.Name], now)
		s.log[c.Name] = l[max(0, len(l)-mostRemembered):]
	}
}
