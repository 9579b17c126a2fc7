package sweep

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/store"
	"millgate/wire"
)

// withoutCredential keeps a probe that could not be sent as it was meant.
func (r *run) withoutCredential(p *check.Probe, f *snapshot.Fact, err error) error {
	if r.ctx.Err() != nil || errors.Is(err, errStopped) {
		return nil
	}
	if errors.Is(err, errJournal) || errors.Is(err, errDead) {
		return err
	}
	if f.Lost = coverage.NotSent + err.Error(); errors.Is(err, errLost) {
		f.Lost = err.Error()
	}
	f.Exchange = &check.Exchange{}
	f.NoCredential = errors.Is(err, wire.ErrCredential) || errors.Is(err, wire.ErrUnreachable)
	return r.keep(p, f)
}

// errLost is a probe that was sent and whose answer says nothing.
var errLost = errors.New("unproven")

var errJournal = errors.New("the journal cannot be written")

// withdraw takes an intent back.
func (r *run) withdraw(p *check.Probe) error {
	if !p.Unsafe {
		return nil
	}
	if err := r.sweeps.store.Withdraw(r.lasting(), r.sweep.ID, p.Key()); err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	return nil
}

// intend writes into the journal that an unsafe probe is about to be sent, so that it is
// not sent twice. A safe one that is never answered is sent again anyway.
func (r *run) intend(p *check.Probe) error {
	if !p.Unsafe {
		return nil
	}
	err := r.sweeps.store.Intend(r.lasting(), store.Probe{SweepID: r.sweep.ID, ProbeID: p.Key(), Route: p.Route,
		Identity: p.Caller.Identity,
		Unsafe:   true, Sent: time.Now()})
	if err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	return nil
}

// again says that a credential works. Where it was renewed, all that was refused since it
// last did is sent again. The caller holds the lock.
func (r *run) again(k string, p *check.Probe, renewed bool) {
	list := r.since[k]
	r.since[k] = nil
	r.worked[k] = true
	if !renewed {
		return
	}
	for _, q := range list {
		if q.Key() != p.Key() && r.facts.Put(q.Key(), nil) != nil {
			r.counted.Add(-1)
			r.mu.Unlock()
			_ = r.one(q, func() {}) // its own journal error comes up with the next probe
			r.mu.Lock()
		}
	}
}

// mayRenew says whether a refused credential is worth renewing: it worked
// before, or nobody tried yet, or it was this very one that was renewed
// meanwhile. The caller holds the lock.
func (r *run) mayRenew(k string, epoch int) bool {
	tried, ever := r.tried[k]
	if !ever {
		r.tried[k] = epoch
	}
	return r.worked[k] || !ever || tried == epoch
}

// tellWait tells people what is waited for, and how long.
func (r *run) tellWait(why string, d time.Duration) {
	r.sweeps.events.Send(events.Event{Type: events.Waiting, Text: fmt.Sprintf("waiting %s %s",
		rounded(d), why)})
}

// rounded is a wait as people read it: 41 s, 0.3 s.
func rounded(d time.Duration) string {
	if d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}

// pause waits and says why. It returns false when the sweep was stopped meanwhile.
func (r *run) pause(why string, d time.Duration) bool {
	r.tellWait(why, d)
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-r.stopping.Done():
		return false
	case <-t.C:
		return true
	}
}

// asked is the method and the path that quotas count a request by: a preflight is counted where
// what it asks about is.
func asked(o wire.Outgoing) (method, path string) {
	path, _, _ = strings.Cut(o.Path, "?")
	method = o.Method
	if m := o.Headers.Get("Access-Control-Request-Method"); method == "OPTIONS" && m != "" {
		method = m
	}
	return method, path
}

// routeOf is the route that serves a request, -1 without, and the request's path.
func (r *run) routeOf(o wire.Outgoing) (at int, path string) {
	method, path := asked(o)
	return r.doc.Inventory.Find(method, o.Host, path), path
}

// sessionAnswered decides about the answer of a login, and of what goes with one:
// whether it is sent again, and after what time. The error ends the sweep.
func (r *run) sessionAnswered(ctx context.Context, o wire.Outgoing, x check.Exchange, try int) (again bool, err error) {
	if again, err = r.outlast(ctx, o, "", x, try); again || err != nil {
		return again, err
	}
	if failing(x.Status) && try == 0 && !r.health.isAlive() {
		return r.waited(ctx, o, x, secondTry)
	}
	return false, r.health.began(x)
}

// outlast waits out a throttled answer to an identity, and says whether it is sent again.
// With errStopped the sweep was stopped meanwhile.
func (r *run) outlast(ctx context.Context, o wire.Outgoing, identity string, x check.Exchange, try int) (again bool,
	err error) {
	if x.Status != 429 {
		return false, nil
	}
	at, _ := r.routeOf(o)
	wait, again := r.patience(at, identity, r.counts(), x, try)
	if !again {
		return false, nil
	}
	return r.waited(ctx, o, x, wait)
}

// waited waits before a request is sent again.
func (r *run) waited(ctx context.Context, o wire.Outgoing, x check.Exchange, wait time.Duration) (again bool,
	err error) {
	_, path := r.routeOf(o)
	if !r.pause(fmt.Sprintf("since %s %s answered %s", o.Method, path, told(x)), wait) {
		return false, errStopped
	}
	return true, ctx.Err()
}
