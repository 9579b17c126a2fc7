package sweep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"millgate/app/events"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/quota"
	"millgate/wire"
)

// Rule: A target that answers nothing, or begins to fail, is told from one that refuses.

// errStopped ends what waits, because the sweep was stopped: what was not answered
// stays unsent and is sent when the sweep goes on.
var errStopped = errors.New("stopped")

// errDead is a target that turns everything away, so that nothing more is sent.
var errDead = errors.New("the target answers nothing")

const (
	firstDead  = 3           // controls or logins that got nothing but 429 or failures
	secondTry  = time.Second // until such a one is tried again
	inARow     = 10          // failures after which a control is sent again
	hundred    = 100
	manyFail   = 20 // percent of the last hundred
	fewFailed  = 5  // percent of the first hundred
	controlFor = 10 * time.Second
)

// health watches what a target answers. The zero one has seen nothing.
type health struct {
	mu       sync.Mutex
	alive    bool          // a control or a login was answered neither 429 nor with a failure
	dead     int           // tries of controls and logins that were not
	sick     bool          // a control that was admitted before is no longer
	lately   []string      // probes that failed since the last that did not
	last     string        // what the last of them got
	row      int           // failures in a row
	seen     int           // answers
	firsts   int           // failures among the first hundred
	recent   [hundred]bool // failures among the last hundred, by their turn
	admitted check.Call    // of a safe control, named by its route; without a name none was
}

// failing says whether an answer is no answer of the service's rules: a failure, or
// none at all.
func failing(status int) bool { return status == 0 || status >= 500 }

// began takes the last try of a control or a login. It returns an error when the
// first ones got nothing but 429 or failures.
func (h *health) began(x check.Exchange) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !failing(x.Status) && x.Status != 429 {
		h.alive = true
	}
	if h.alive {
		return nil
	}
	h.dead, h.last = h.dead+1, told(x)
	if h.dead < firstDead {
		return nil
	}
	return fmt.Errorf("%w: the first %d controls or logins got only 429 or failures in two tries each, the last one "+
		"%s; nothing more was sent", errDead, h.dead, h.last)
}

func told(x check.Exchange) string {
	if x.Status == 0 {
		return x.Error
	}
	return fmt.Sprint(x.Status)
}

func (h *health) isSick() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.sick
}

func (h *health) isAlive() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.alive
}

// saw takes an answer, and says whether the failures are so many that a control must
// show whether the target is still itself.
func (h *health) saw(id string, status int) (suspect string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	fails := failing(status)
	h.lately = append(h.lately, id)
	if h.row++; !fails && status != 429 {
		h.row, h.lately = 0, nil
	}
	if h.seen < hundred && fails {
		h.firsts++
	}
	h.recent[h.seen%hundred] = fails && status != 0
	if h.seen++; h.row == inARow {
		h.row = 0
		return fmt.Sprintf("%d failures in a row", inARow)
	}
	n := 0
	for _, f := range h.recent {
		if f {
			n++
		}
	}
	if h.seen >= 2*hundred && h.firsts < fewFailed && n > manyFail {
		h.recent = [hundred]bool{} // asked once for these
		return fmt.Sprintf("%d of the last %d answers are failures (5xx)", n, hundred)
	}
	return ""
}

// landed follows how the target fares: after many failures a control that was
// admitted before is sent again, and when that is not admitted either, the sweep
// pauses and ends unless somebody says that it goes on.
func (r *run) landed(p *check.Probe, c check.Call, x check.Exchange, cls check.Class) error {
	control := p.IsControl && c.Must
	if control {
		if err := r.health.began(x); err != nil {
			return err
		}
	}
	s := r.doc.SchemeNamed(p.Caller.Scheme)
	asked := s != nil && s.Kind == declaration.Link // for a link of its own each time, which quotas count
	if control && p.Phase == check.SafeFirst && cls == check.Admitted && !p.Record.Lent() && !asked &&
		!r.crowds(p.Route) {
		r.health.mu.Lock()
		// Somebody rather than nobody, whose count the sweep itself may have filled.
		if len(c.As) > 0 || len(r.health.admitted.As) == 0 {
			r.health.admitted = check.Call{Name: p.Route, Request: c.Request, As: c.As, Effect: check.Safe}
		}
		r.health.mu.Unlock()
	}
	suspect := r.health.saw(p.Key(), x.Status)
	switch {
	case suspect == "":
		return nil
	case !r.health.isAlive():
		return fmt.Errorf("%w: %s, the last one %s, and no control or login got anything else; nothing more was sent",
			errDead, suspect, told(x))
	}
	return r.stillItself(suspect)
}

// crowds says whether only so many calls of a route may run at once: one that is refused there met
// another of this sweep.
func (r *run) crowds(route string) bool {
	i := r.doc.RouteNamed(route)
	return i >= 0 && slices.ContainsFunc(r.doc.QuotasAt[i], func(k int) bool {
		return r.doc.Quotas[k].Model == declaration.Concurrency
	})
}

// stillItself sends an admitted control again. One lane asks; the others go on
// meanwhile, and are stopped with it.
func (r *run) stillItself(suspect string) error {
	r.health.mu.Lock()
	again := r.health.admitted
	r.health.mu.Unlock()
	got := "no control was admitted before"
	if again.Name != "" {
		who := ""
		if len(again.As) > 0 {
			who = again.As[0].Identity
		}
		// Where the sweep itself filled what counts it, its refusal says nothing of the target.
		o := wire.Outgoing{Method: again.Request.Method, Host: again.Request.Host, Path: again.Request.Path}
		if err := r.roomFor(o, again.Name, who, func() {}); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(r.ctx, controlFor)
		defer cancel()
		var x check.Exchange
		f, err := wire.Runner{Keys: r.keys}.Run(ctx, check.Tell(func(t *check.Telling) { t.One(again) }))
		if err == nil {
			x = f.Reports[0].Exchange
		}
		switch {
		case r.ctx.Err() != nil:
			return nil
		case err != nil:
			got = err.Error()
		case r.class(x) == check.Admitted:
			// The failures are the service's answers to these requests.
			r.health.mu.Lock()
			r.health.sick = false
			r.health.mu.Unlock()
			return nil
		default:
			got = fmt.Sprintf("%s, admitted before, was answered %s", again.Name, told(x))
		}
	}
	text := fmt.Sprintf("%s, and %s", suspect, got)
	r.falls()
	if r.sweeps.KeepGoing || r.goOn.Load() {
		return nil
	}
	r.sweeps.events.Send(events.Event{Type: events.Waiting, Text: "paused: " + text})
	if ask := r.sweeps.Ask; ask != nil && ask(text+". Go on?") { // once
		r.goOn.Store(true)
		return nil
	}
	r.mu.Lock()
	r.broken = text
	r.mu.Unlock()
	r.stop()
	return errStopped
}

// falls marks what failed lately, and what fails from now on: the service as a whole
// fails, so that a failure says nothing of the route that it was met at.
func (r *run) falls() {
	r.health.mu.Lock()
	lately := r.health.lately
	r.health.sick, r.health.lately = true, nil
	r.health.mu.Unlock()
	for _, id := range lately {
		if f := r.facts.Of(id); f != nil && failing(f.Exchange.Status) {
			g := *f
			g.Sick = true
			r.facts.Put(id, &g)
			if row, err := snapshot.Row(r.sweep.ID, r.plan.Find(id), &g); err == nil {
				_ = r.journal.add(row, false) // the next row reports a broken journal
			}
		}
	}
}

// class of an answer, by the declaration.
func (r *run) class(x check.Exchange) check.Class {
	return check.Classify(check.Answer{Status: x.Status, Headers: x.Answer, Body: []byte(x.Content), Route: x.Route},
		r.doc.Answers)
}

// patience says how long to wait before what was throttled is sent again, and
// whether to. A quota that is declared for the route explains a 429, and is waited
// for as long as its longest window at most; otherwise a Retry-After is waited for
// only once the target has answered anything else.
func (r *run) patience(route int, identity string, counted bool, x check.Exchange, try int) (wait time.Duration,
	again bool) {
	most := longestWait
	if w := r.windowAt(route, identity); w > 0 && counted {
		most = min(w+time.Second, quota.LongestFull)
	} else if !r.health.isAlive() {
		return secondTry, try == 0
	}
	if try >= repeats {
		return 0, false
	}
	if wait = x.RetryAfter(); wait < 0 {
		wait = time.Second << try
	}
	return wait, wait <= most
}

// windowAt is the longest window of the quotas that are declared to count a route;
// 0 without one.
func (r *run) windowAt(route int, identity string) (longest time.Duration) {
	if route < 0 {
		return 0
	}
	id := r.doc.IdentityNamed(identity)
	for _, k := range r.doc.QuotasAt[route] {
		q, _ := r.target.Quota(r.doc.Quotas[k])
		if q.ExemptIdentity(r.doc, id) || quota.Exempt(q, quota.Caller{Target: r.target.Name}) {
			continue
		}
		amounts, _ := q.AmountsFor(r.doc, id) // a tie is an error of the declaration
		for _, a := range amounts {
			longest = max(longest, a.Per)
		}
	}
	return longest
}

// counts says whether the target's quotas count what the sweep sends.
func (r *run) counts() bool { return r.target.Pass.Header == "" }
