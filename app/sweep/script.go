package sweep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"millgate/app/buried"
	"millgate/app/events"
	"millgate/app/room"
	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/store"
	"millgate/wire"
)

// script runs the script of a family's probe.
func (r *run) script(p *check.Probe, f *snapshot.Fact, park func()) error {
	family := r.plan.Family(p)
	c := *r.plan.Context
	c.Target = r.paced
	if c.Longer = r.sweep.Again(); c.Longer {
		if d := family.Cost(&c, p).Time; d > 0 {
			r.sweeps.events.Send(events.Event{Type: events.Waiting, Text: fmt.Sprintf("%s takes up to %s",
				r.plan.Says(p),
				d.Round(time.Second))})
		}
	}
	fact, err := r.runner(p, park).Run(r.ctx, family.Script(&c, p))
	if r.ctx.Err() != nil || errors.Is(err, errStopped) {
		return nil // stopped: what the journal has as unsafe is lost, all else begins again
	}
	if err != nil || len(fact.Reports) == 0 {
		return r.withoutCredential(p, f, cmp.Or(err, errLost))
	}
	fact.Family, fact.Version = family.Name(), family.Version()
	f.Check = &fact
	f.First()
	return r.keep(p, f)
}

// runner is what runs the scripts of a sweep.
func (r *run) runner(p *check.Probe, park func()) wire.Runner {
	var landed, renewed atomic.Bool // landed: a call that may not be sent again
	return wire.Runner{
		Keys:     r.keys,
		Lender:   &r.lender,
		Breaking: r.breaking,
		Public:   r.keysOf,
		Making:   func(l check.Lend) (wire.Making, error) { return r.making(p, l) },
		Made: func(m check.Makes, id string) {
			r.tellMade(store.Made{SweepID: r.sweep.ID, Owner: p.Caller.Identity, Route: p.Route, RID: id,
				Record: m.Record, State: "made"})
		},
		Room: func(_ context.Context, o wire.Outgoing, as check.Caller) error {
			return r.roomFor(o, p.Route, as.Identity, park)
		},
		Beside:   r.beside(p),
		Stopping: r.stopping.Done(),
		Waits:    r.tellWait,
		Again: func(ctx context.Context, o wire.Outgoing, as check.Caller, x check.Exchange, try int) (bool, error) {
			if x.Status == 429 {
				park()
			}
			again, err := r.outlast(ctx, o, as.Identity, x, try)
			if !again && err == nil && failing(x.Status) && p.IsControl && !p.Unsafe && try == 0 &&
				!r.health.isAlive() {
				again, err = r.waited(ctx, o, x, secondTry)
			}
			if errors.Is(err, errStopped) && !landed.Load() {
				// It was turned away, so that it may be sent again.
				return false, cmp.Or(r.withdraw(p), err) //nolint:contextcheck // the run has its own
			}
			return again, err
		},
		Landed: func(c check.Call, x check.Exchange) error {
			if c.Counts != "" { // it was not counted later
				r.sweeps.spent.Add(r.besides(p, c), r.sweeps.ticks())
				return nil
			}
			if c.Effect == check.Unsafe || c.Effect == check.Creates {
				landed.Store(true)
			}
			r.fares(p, c, x, renewed.Load())
			return r.landed(p, c, x, r.class(x))
		},
		Renews: func(c check.Caller, epoch int) bool {
			r.mu.Lock()
			defer r.mu.Unlock()
			again := r.mayRenew(c.Identity+"\x00"+c.Scheme, epoch)
			renewed.Store(again)
			return again
		},
		Bury: func(who check.Caller, secret string, ends time.Time) {
			now := time.Now()
			r.graves.Bury(r.ctx, who, buried.Credential{Secret: secret, At: now, Ends: r.endOf(who, ends, now)})
		},
		Recall: func(who check.Caller) []string { return r.graves.Recall(r.ctx, who, time.Now()) },
		Intend: func(check.Call) error { return r.intend(p) },
		Left: func(l check.Left, name string) {
			r.tellMade(store.Made{SweepID: r.sweep.ID, Owner: p.Caller.Identity, Route: p.Route, RID: name,
				Record: l.What, State: "left", Why: l.Why})
		},
		Owe: func(c check.Call) (func(string), error) { return r.owe(p, c) },
	}
}

// roomFor waits until the quotas have room for a request of an identity, which a probe at a
// route sends.
func (r *run) roomFor(o wire.Outgoing, of, identity string, park func()) error {
	if r.room == nil {
		return nil // nothing counts the sweep
	}
	method, path := asked(o)
	at := room.RouteAt(r.doc, method, o.Host, path, of)
	if at < 0 || r.takeRoom(room.Request{Route: at, Identity: identity, Host: o.Host}, park) {
		return nil
	}
	return errStopped
}

// owe keeps account of what a call may make and will have to be undone.
func (r *run) owe(p *check.Probe, c check.Call) (settle func(left string), err error) {
	m := store.Made{SweepID: r.sweep.ID, Record: c.Name, Owner: p.Caller.Identity, Route: p.Route, State: "making",
		Why: "sent when the sweep was interrupted; whether it made something is not known"}
	if err := r.addMade(&m); err != nil {
		return nil, err
	}
	return func(left string) {
		state := "removed"
		if left != "" {
			state = "left"
		}
		_ = r.setMade(m.ID, state, left) // what a full disk forgets, the sweep remembers
	}, nil
}

// fares follows how an identity's credential fares: when one that was renewed is admitted,
// what was refused since it was last is sent again.
func (r *run) fares(p *check.Probe, c check.Call, x check.Exchange, renewed bool) {
	if p.Phase >= check.ThenEnding || len(c.As) != 1 || c.As[0].Slot != "" || c.As[0].Identity == "" ||
		c.As[0].Identity != p.Caller.Identity || c.As[0].State != access.Sound {
		return
	}
	k := p.Caller.Identity + "\x00" + c.As[0].Scheme
	r.mu.Lock()
	defer r.mu.Unlock()
	cls := r.class(x)
	switch {
	case (cls == check.Refused || r.keys.Unsound(c, x.Status)) && !slices.Contains(r.since[k], p):
		r.since[k] = append(r.since[k], p)
	case cls == check.Admitted && c.Must:
		r.again(k, p, renewed)
	}
}

// keysOf are the public keys of a scheme, fetched once in a sweep.
func (r *run) keysOf(s *declaration.Scheme) token.Keys {
	r.mu.Lock()
	k, ok := r.public[s.Name]
	r.mu.Unlock()
	if ok {
		return k
	}
	k, _ = r.sweeps.ws.KeysOf(r.ctx, r.doc, r.target, s)
	r.mu.Lock()
	r.public[s.Name] = k
	r.mu.Unlock()
	return k
}

// longestBuried is how long an ended credential is kept of which nothing says when it ends.
const longestBuried = 24 * time.Hour

// endOf is when a credential of a scheme that was ended now ends by itself at the latest.
func (r *run) endOf(who check.Caller, ends, now time.Time) time.Time {
	if !ends.IsZero() {
		return ends
	}
	if l, _ := r.target.LifetimeOf(r.doc, r.doc.SchemeNamed(who.Scheme), "access"); l != nil && l.Max > 0 {
		return now.Add(l.Max)
	}
	return now.Add(longestBuried)
}
