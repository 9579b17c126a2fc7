package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/raised"
	"millgate/core/declaration"
	"millgate/core/route"
	"millgate/store"
	"millgate/wire"
)

// script runs the script of a family's probe.
func (r *run) script(p *check.Probe, f *Fact) error {
	family := r.plan.Family(p)
	c := *r.plan.Context
	if c.Longer = r.sweep.Partial; c.Longer {
		if d := family.Cost(&c, p).Time; d > 0 {
			r.app.Events.Send(Event{Type: "wait", Text: fmt.Sprintf("%s takes up to %s", r.plan.Says(p),
				d.Round(time.Second))})
		}
	}
	fact, err := r.runner(p).Run(r.ctx, family.Script(&c, p))
	if r.ctx.Err() != nil || errors.Is(err, errStopped) {
		return nil // stopped: what the journal has as unsafe is lost, all else begins again
	}
	if err != nil || len(fact.Reports) == 0 {
		return r.withoutCredential(p, f, cmp.Or(err, errLost))
	}
	fact.Family, fact.Version = family.Name(), family.Version()
	f.Check = &fact
	f.first()
	return r.keep(p, f)
}

// runner is what runs the scripts of a sweep.
func (r *run) runner(p *check.Probe) wire.Runner {
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
			if r.room == nil {
				return nil // nothing counts the sweep
			}
			at, path := r.routeOf(o)
			if at < 0 { // another way to what is counted
				at = r.doc.RouteNamed(p.Route)
			}
			for _, m := range route.Common {
				if at < 0 { // another method of what is counted
					at = r.doc.Inventory.Find(m, o.Host, path)
				}
			}
			if at < 0 || r.takeRoom(counted{at, as.Identity, o.Host}) {
				return nil
			}
			return errStopped
		},
		Beside:   r.beside(p),
		Stopping: r.stopping.Done(),
		Waits:    r.tellWait,
		Again: func(ctx context.Context, o wire.Outgoing, as check.Caller, x check.Exchange, try int) (bool, error) {
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
				r.app.spent.add(r.besides(p, c), time.Now().UnixMicro())
				return nil
			}
			if c.Effect == check.Unsafe || c.Effect == check.Creates {
				landed.Store(true)
			}
			r.fares(p, c, r.class(x), renewed.Load())
			return r.landed(p, c, x, r.class(x))
		},
		Renews: func(c check.Caller, epoch int) bool {
			r.mu.Lock()
			defer r.mu.Unlock()
			again := r.mayRenew(c.Identity+"\x00"+c.Scheme, epoch)
			renewed.Store(again)
			return again
		},
		Intend: func(check.Call) error { return r.intend(p) },
		Left: func(l check.Left, name string) {
			r.tellMade(store.Made{SweepID: r.sweep.ID, Owner: p.Caller.Identity, Route: p.Route, RID: name,
				Record: l.What, State: "left", Why: l.Why})
		},
		Owe: func(c check.Call) (func(string), error) { return r.owe(p, c) },
	}
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
func (r *run) fares(p *check.Probe, c check.Call, cls check.Class, renewed bool) {
	if p.Phase >= check.ThenDrilling || len(c.As) != 1 || c.As[0].Slot != "" || c.As[0].Identity == "" ||
		c.As[0].Identity != p.Caller.Identity || c.As[0].State != access.Sound {
		return
	}
	k := p.Caller.Identity + "\x00" + c.As[0].Scheme
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case cls == check.Refused && !slices.Contains(r.since[k], p):
		r.since[k] = append(r.since[k], p)
	case cls == check.Admitted && c.Must:
		r.again(k, p, renewed)
	}
}

// mostSteps are looked through for a call of a script that nothing answers.
const mostSteps = 100

// FirstCall is the call of a family's probe that its fact reports first; without a fact
// the one that it begins with. It is nil for the other kinds.
func (a *App) FirstCall(d *declaration.Document, t *declaration.Target, p *check.Probe, f *Fact) *check.Call {
	name := ""
	if onRecord(p.Key()) != "" || is(p, raised.Family{}) {
		name = check.TheRequest
	}
	if f != nil && f.Check != nil && len(f.Check.Reports) > 0 {
		name = f.Check.Reports[0].Name
	}
	script := a.families.Named(p.Family).Script(&check.Context{Doc: d, Target: t}, p)
	defer script.Data() // it ends there
	var last []check.Report
	var first *check.Call
	now := time.Duration(0)
	for range mostSteps {
		step := script.Next(now, last)
		if step.Ends() {
			break
		}
		last, now = nil, max(now, step.Wait)
		if step.Look != nil && step.Look.Sender {
			last = []check.Report{{Name: step.Look.Name}}
			continue
		}
		if step.Look != nil {
			return step.Look.Call(&check.Context{Doc: d, Target: t})
		}
		if l := step.Lend; l != nil {
			last = []check.Report{{Name: l.Make.Name, Took: map[string]string{l.Slot: l.Slot}}}
		}
		for i, c := range step.Send {
			if first == nil || c.Name == name {
				first = &step.Send[i]
			}
			if name == "" || c.Name == name {
				return first
			}
			last = append(last, check.Report{Name: c.Name})
		}
	}
	return first
}

// ScriptStep is one report of a family's probe, and what was to become of it.
type ScriptStep struct {
	check.Outcome
	Report check.Report
}

// stepsOf are the reports of a family's fact; nil for the other kinds.
func stepsOf(pl *check.Plan, p *check.Probe, f *Fact) []ScriptStep {
	family := pl.Family(p)
	if family == nil || f == nil || f.Check == nil || onRecord(p.Key()) != "" || is(p, raised.Family{}) {
		return nil // its reports are one request, and what was read beside it
	}
	var known []check.Outcome
	if x, ok := family.(check.Stepwise); ok {
		known = x.Outcomes(pl.Context, p, f.Check)
	}
	out := make([]ScriptStep, len(f.Check.Reports))
	for i, r := range f.Check.Reports {
		out[i] = ScriptStep{check.Outcome{Worked: r.Class(pl.Context.Doc.Answers) == check.Admitted}, r}
		if i < len(known) {
			out[i].Outcome = known[i]
		}
	}
	return out
}
