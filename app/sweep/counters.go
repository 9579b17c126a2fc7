package sweep

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"millgate/app/planning"
	"millgate/app/room"
	"millgate/core/check"
	"millgate/core/quota"
	"millgate/wire"
)

const longestRoom = planning.LongestRoom

// turns are queues in front of counters that are full: who comes first waits for room, the others
// for their turn, so that what waits for one counter holds up nothing that another counts.
type turns struct {
	mu sync.Mutex
	of map[string]chan struct{} // by counter; full while somebody waits for room
}

func (t *turns) at(counter string) chan struct{} {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.of == nil {
		t.of = map[string]chan struct{}{}
	}
	if t.of[counter] == nil {
		t.of[counter] = make(chan struct{}, 1)
	}
	return t.of[counter]
}

// takeRoom waits until the quotas have room for a request; park is called before it does.
// It returns false when the sweep was stopped meanwhile.
func (r *run) takeRoom(p room.Request, park func()) bool {
	var turn chan struct{}
	leave := func() {
		if turn != nil {
			<-turn
			turn = nil
		}
	}
	defer leave()
	for at, told := "", false; ; {
		d, full := r.room.Wait(p, time.Now())
		if d == 0 || d > longestRoom {
			return true
		}
		park()
		if full.Name != at {
			leave()
			next := r.turns.at(full.Name)
			select {
			case next <- struct{}{}:
				turn, at, told = next, full.Name, false
			case <-r.stopping.Done():
				return false
			}
			continue
		}
		if !told {
			told = true
			r.tellWait("for quota "+full.Quota, d)
		}
		select {
		case <-r.stopping.Done():
			return false
		case <-time.After(d):
		}
	}
}

// besides are the counters of a call that fills a quota, but those of that quota.
func (r *run) besides(p *check.Probe, c check.Call) []room.Counter {
	at := room.Request{Route: r.doc.RouteNamed(p.Route), Host: c.Request.Host}
	if i := r.doc.Inventory.Find(c.Request.Method, c.Request.Host, c.Request.Path); i >= 0 {
		at.Route = i // another way to it is counted as the probe's
	}
	if len(c.As) > 0 {
		at.Identity = c.As[0].Identity
	}
	return room.Others(r.doc, r.target, at, c.Counts)
}

// beside waits until no other quota would refuse the calls of a drill: one that is run by
// itself has the time, within a sweep it ends there.
func (r *run) beside(p *check.Probe) func(ctx context.Context, c check.Call) (time.Duration, error) {
	var waited atomic.Int64
	return func(ctx context.Context, c check.Call) (time.Duration, error) {
		if r.stopping.Err() != nil {
			return 0, errStopped
		}
		wait, by := r.sweeps.spent.Wait(r.besides(p, c), 1, r.sweeps.ticks())
		d := quota.Span(wait)
		switch {
		case d == 0:
			return 0, nil
		case !r.sweep.Again() || time.Duration(waited.Add(int64(d))) > longestRoom:
			return 0, wire.ErrCrowded
		}
		if !r.pause(fmt.Sprintf("for quota %s, which has no room for the drill of %s", by, c.Counts), d) {
			return 0, errStopped
		}
		return d, ctx.Err()
	}
}
