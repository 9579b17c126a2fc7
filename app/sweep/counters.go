package sweep

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"millgate/app/room"
	"millgate/core/check"
	"millgate/core/quota"
	"millgate/wire"
)

// longestRoom is how long a sweep waits for room at most before it sends all
// the same; the service then says what it thinks of it.
const longestRoom = 90 * time.Second

// takeRoom waits until the quotas have room for a request. It returns false when
// the sweep was stopped meanwhile.
func (r *run) takeRoom(p room.Request) bool {
	for told := false; ; {
		d, which := r.room.Wait(p, time.Now())
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
		wait, by := r.sweeps.spent.Wait(r.besides(p, c), 1, time.Now().UnixMicro())
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
