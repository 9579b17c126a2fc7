package app

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/quota"
	"millgate/wire"
)

// What a quota drill may use: little within a sweep, more when it is run by
// itself.
const (
	drillLonger    = 25  // times as long when it is run by itself
	drillSpare     = 60  // calls beyond a first stretch, within a sweep
	drillLongSpare = 400 // when run by itself
	drillMost      = 1200
	alone          = 6         // calls one after the other, before some are sent together
	mostBeside     = 16        // that are sent at the same time
	leastBeside    = 3_000_000 // ticks for calls at the same time, whatever a drill may take
)

// quotaDrill runs the quota drill of a probe.
func (r *run) quotaDrill(p *probe.Probe, f *Fact) error {
	q, _ := r.target.Quota(r.doc.QuotaNamed(p.Way))
	stack := stackFor(r.doc, q, p.Identity)
	o, bare, err := r.drilled(p)
	if err != nil {
		return r.withoutCredential(p, f, err)
	}
	moment := momentOf(stack)
	d := &quota.Drill{Burst: int(min(moment+3, drillMost))}
	d.Budget = quota.Budget{Calls: d.Burst + drillSpare, Ticks: quota.Ticks(r.target.Drill)}
	if r.sweep.Partial { // asked for by itself: it goes on to where several nodes would refuse
		d.Burst = int(min(4*moment+10, drillMost))
		d.Budget = quota.Budget{Calls: 2*d.Burst + drillLongSpare, Ticks: drillLonger * quota.Ticks(r.target.Drill)}
		d.Side = mostBeside
	}
	if q.Model == declaration.Concurrency {
		d.AtOnce, d.Burst = int(moment), alone
		d.Side = int(min(max(mostBeside, 3*moment), drillMost/8))
		d.Budget.Ticks = max(d.Budget.Ticks, leastBeside)
	}
	pace := r.target.Pace.PerSecond()
	d.Budget.Ticks += int64(float64(d.Burst) / pace * 1.2e6) // the first stretch has its time whatever the pace
	x := &drilling{r: r, p: p, q: q, o: o, bare: bare, stack: stack, d: d,
		m: &quota.Measured{Said: -1, Budget: d.Budget.Calls}, pulse: newPulse()}
	defer x.pulse.end()
	if trip, err := r.client.Trip(r.ctx, p.Host); err == nil {
		x.m.Trip = quota.Ticks(trip)
	}
	x.besides = r.beside(p)
	// A slow machine has time for the first stretch all the same.
	x.ends = time.Now().Add(quota.Span(d.Budget.Ticks) + time.Second + time.Duration(d.Burst)*slowCall)
	if r.sweep.Partial {
		r.app.Events.Send(Event{Type: "wait", Text: fmt.Sprintf("the drill of %s takes up to %s", q.Name,
			time.Until(x.ends).Round(time.Second))})
	}
	if err := x.run(); err != nil && !errors.Is(err, errLate) && !errors.Is(err, errCrowded) &&
		!errors.Is(err, errFails) {
		if r.ctx.Err() != nil || errors.Is(err, errStopped) {
			return nil // stopped: it is run again as a whole
		}
		return r.withoutCredential(p, f, err)
	}
	x.markGaps()
	x.d.Finish()
	x.m.Claims = x.claims.List
	x.m.Explain(x.d)
	x.m.Stood += x.stood
	x.m.Full = x.m.Full || len(x.m.Calls) == 0 && x.m.Failed == 0
	if x.m.Full {
		f.Earlier = r.measuredBefore(p)
	}
	f.Quota = x.m
	last := x.last
	f.Exchange = &last
	return r.keep(p, f)
}

// markGaps marks the calls during which the drill stood still.
func (x *drilling) markGaps() {
	for i, c := range x.d.Calls {
		from := x.start.Add(quota.Span(c.At - x.start.UnixMicro()))
		x.d.Calls[i].Gap = x.pulse.broke(from, from.Add(quota.Span(c.Took)))
	}
}

// Earlier is what an earlier sweep measured of a quota that is full now.
type Earlier struct {
	At       time.Time       `json:"at"`
	Measured *quota.Measured `json:"measured"`
}

// measuredBefore is what an earlier sweep measured, nil without: a quota that is
// full when the drill begins, perhaps from that one, says nothing itself.
func (r *run) measuredBefore(p *probe.Probe) *Earlier {
	rows, err := r.app.store.PastOf(r.target.Name, p.ID, 20)
	if err != nil {
		return nil // then there is nothing to show
	}
	for _, row := range rows {
		f, err := decodeFact(row.ProbeID, row.Identity, row.Fact, r.app.families)
		if err == nil && f.Quota != nil && !f.Quota.Full {
			return &Earlier{row.Sent, f.Quota}
		}
	}
	return nil
}

// together sends calls at the same time, and tells the drill.
func (x *drilling) together(n int) error {
	o := x.o
	o.Within = time.Until(x.ends)
	answers, err := together(n, func() (check.Exchange, error) {
		defer x.count()
		return x.r.client.Send(x.r.ctx, o)
	})
	if errors.Is(err, wire.ErrLate) {
		return errLate
	} else if err != nil {
		return err
	}
	// A service that fails now and then is not one that lets so many run: 503 is a
	// refusal there when at least half of the calls got it.
	shut := 0
	for _, e := range answers {
		if e.Status == http.StatusServiceUnavailable {
			shut++
		}
	}
	x.shut503 = x.shut503 || x.m.Passes != 0 && x.m.Passes != 503 && 2*shut >= n && shut < n
	list := make([]quota.Seen, 0, n)
	for _, e := range answers {
		if e.Status == 0 {
			return fmt.Errorf("a call was not answered: %s", e.Error)
		}
		if x.failed(e) {
			if err := x.fails(e); err != nil {
				return err
			}
			continue
		}
		x.claims.Add(nil, e.At) // what is said while they run says nothing of one alone
		list = append(list, x.seen(e))
		if x.m.Status == 0 && x.refused(e) {
			x.refusedWith(e)
		}
	}
	x.d.SawBeside(list)
	return nil
}

// together makes calls at the same time.
func together[T any](n int, call func() (T, error)) ([]T, error) {
	list := make([]T, n)
	g := new(errgroup.Group)
	for i := range list {
		g.Go(func() (err error) {
			list[i], err = call()
			return err
		})
	}
	return list, g.Wait()
}

// momentOf is how many calls a stack lets through in a moment, or at the same
// time.
func momentOf(s quota.Stack) int64 {
	if len(s) == 1 && s[0].Kind == quota.Concurrent {
		return s[0].N
	}
	n, _ := s.Ceiling(2)
	return n
}

var (
	errLate    = errors.New("not answered within the drill's time")
	errFails   = errors.New("the service fails")
	errCrowded = errors.New("another quota would refuse")
)

// drilled is the request that a drill repeats, with its credential and without.
func (r *run) drilled(p *probe.Probe) (o, bare wire.Outgoing, err error) {
	if p.Donor != "" {
		w, err := r.keys.WrongLogin(p.Donor, p.Scheme, true)
		if err != nil {
			return o, bare, err
		}
		o = w.Outgoing
	} else if o, err = r.outgoing(p, p.Record.ID); err != nil {
		return o, bare, err
	}
	o.Counted = true
	bare = o
	bare.Headers = slices.Clone(o.Headers)
	err = r.present(r.ctx, p, &o)
	return o, bare, err
}

// drilling is one quota drill under way.
type drilling struct {
	r       *run
	p       *probe.Probe
	q       *declaration.Quota
	o       wire.Outgoing
	bare    wire.Outgoing // without the credential
	stack   quota.Stack
	d       *quota.Drill
	m       *quota.Measured
	pulse   *pulse
	stood   int            // calls that were given up while the drill stood still
	shut503 bool           // calls beyond the quota are answered 503
	last    check.Exchange // the first refusal, or the last call
	ends    time.Time
	start   time.Time
	waited  time.Duration // for room in those beside
	besides []count       // the quotas beside the one that is drilled
	told    bool          // the ways around were tried
	// What the answers to the drill's calls say, one for each call.
	claims quota.Claims
}

// refused says whether an answer turns a call away for coming too often.
func (x *drilling) refused(e check.Exchange) bool {
	return e.Status == 429 || e.Status == x.q.RefuseWith || e.Status == 503 && x.shut503
}

// failed says whether an answer is neither an admission nor a refusal.
func (x *drilling) failed(e check.Exchange) bool { return e.Status >= 500 && !x.refused(e) }

// mostStood is how many calls may be lost to a busy machine.
const mostStood = 5

// mostFailed is how many calls may fail before a drill gives up.
const mostFailed = 3

// fails counts a call that failed. The error ends the drill: what was seen until then is
// kept.
func (x *drilling) fails(e check.Exchange) error {
	x.m.Failed++
	if x.last = e; x.m.Passes == 0 || x.m.Failed > mostFailed {
		return errFails
	}
	return nil
}

// shuts says whether a 503 after admitted calls is how this service refuses: the
// calls that follow at once get it too. A service that only fails now and then
// admits one of them. What was answered is told to the drill, in order.
func (x *drilling) shuts(first check.Exchange) error {
	answers := []check.Exchange{first}
	for range sureShut {
		e, err := x.r.client.Send(x.r.ctx, x.o)
		x.count()
		if err != nil {
			return err
		}
		answers = append(answers, e)
		if e.Status != http.StatusServiceUnavailable {
			break
		}
	}
	x.shut503 = answers[len(answers)-1].Status == http.StatusServiceUnavailable
	for _, e := range answers {
		if err := x.saw(e); err != nil {
			return err
		}
	}
	return nil
}

// sureShut is how many calls more must be answered 503.
const sureShut = 3

// tick is an instant of the drill, by the clock that is never set.
func (x *drilling) tick(t time.Time) int64 {
	if x.start.IsZero() {
		x.start = t
	}
	return x.start.UnixMicro() + t.Sub(x.start).Microseconds()
}

// seen is an answered call as the drill sees it.
func (x *drilling) seen(e check.Exchange) quota.Seen {
	return quota.Seen{At: x.tick(e.At), Took: quota.Ticks(e.Took), OK: !x.refused(e)}
}

// longestFull is how long a drill waits at most for a quota that is full when it
// begins.
const longestFull = 10 * time.Minute

// run drills. A quota that is full when it begins is waited for once, at most as
// long as its window.
func (x *drilling) run() error {
	d, m := *x.d, *x.m
	if err := x.drill(); err != nil || !x.m.Full || x.r.sweep.ID == 0 {
		return err
	}
	wait := quota.Span(x.m.Said)
	if x.m.Said < 0 {
		wait = quota.Span(leastWindow(x.stack))
	}
	if wait += time.Second / 10; wait > min(longestFull, quota.Span(x.stack.Longest())+time.Second) {
		return nil
	}
	if !x.r.pause(fmt.Sprintf("the drill of %s found it full", x.q.Name), wait) {
		return errStopped
	}
	x.ends = x.ends.Add(wait)
	x.d, x.m = &d, &m
	x.start, x.last, x.claims, x.told = time.Time{}, check.Exchange{}, quota.Claims{}, false
	return x.drill()
}

func (x *drilling) drill() error {
	for !x.d.Done() {
		s := x.d.Next(x.tick(time.Now()))
		if s.Many == 0 {
			break
		}
		if wait := quota.Span(s.At - x.tick(time.Now())); s.At > 0 && wait > 0 {
			select {
			case <-x.r.stopping.Done():
				return errStopped
			case <-time.After(wait):
			}
		}
		if s.Beside {
			if err := x.together(s.Many); err != nil {
				return err
			}
			continue
		}
		refused := false
		for range s.Many {
			ok, err := x.call()
			if err != nil {
				return err
			}
			if refused = !ok; refused && len(x.d.Calls) == 1 {
				x.m.Full = true
				return nil
			}
			if s.Stop && x.d.Enough() {
				break
			}
		}
		if s.Stop {
			x.d.Filled()
		}
		if refused && s.Stop && !x.told {
			x.told = true
			if err := x.around(); err != nil {
				return err
			}
		}
	}
	return nil
}

// call sends one call and tells the drill of it.
func (x *drilling) call() (ok bool, err error) {
	if x.r.stopping.Err() != nil {
		return false, errStopped
	}
	if err := x.roomForOne(); err != nil {
		return false, err
	}
	defer x.count()
	ends := x.ends
	if soon := time.Now().Add(x.patience()); x.p != nil && !x.m.Waits && x.q.Model != declaration.Concurrency &&
		soon.Before(ends) {
		ends = soon // whether calls wait at all
	}
	o := x.o
	o.Within = time.Until(ends)
	e, err := x.r.client.Send(x.r.ctx, o)
	if errors.Is(err, wire.ErrLate) {
		if x.pulse.during(e.At, time.Now()) && x.stood < mostStood { // it was us
			x.stood++
			return x.call()
		}
		first := !x.m.Waits
		x.m.Waits = true
		if first && x.p != nil {
			if err := x.overflow(); err != nil {
				return false, err
			}
			if x.r.sweep.Partial { // run by itself
				time.Sleep(x.patience() / 2) // those that were sent away have left
				return x.call()              // there is time to wait for it
			}
		}
		return false, errLate
	}
	if err != nil {
		return false, err
	}
	if e.Status == http.StatusServiceUnavailable && !x.shut503 && x.m.Passes != 0 && x.q.RefuseWith != e.Status {
		err := x.shuts(e)
		return !x.shut503, err
	}
	return !x.refused(e), x.saw(e)
}

// saw tells the drill of an answer.
func (x *drilling) saw(e check.Exchange) error {
	if e.Status == 0 {
		return fmt.Errorf("a call was not answered: %s", e.Error)
	}
	if x.failed(e) {
		return x.fails(e)
	}
	ok := !x.refused(e)
	x.claims.Add(e.Answer, e.At.Add(e.Took))
	x.d.Saw(x.seen(e))
	switch {
	case ok && x.m.Passes == 0:
		x.m.Passes = e.Status
		x.last = e
	case !ok && x.m.Status == 0:
		x.refusedWith(e)
	}
	return nil
}

const (
	slowCall = 25 * time.Millisecond // that a call takes on a slow machine
	// What a call is given before it counts as one that waits: as long as a
	// drill may take, within these.
	leastPatience = 250 * time.Millisecond
	mostPatience  = 600 * time.Millisecond
)

func (x *drilling) patience() time.Duration {
	return max(leastPatience, min(mostPatience, x.r.target.Drill))
}

// overflow sends, while calls wait, more than may wait, so that one is refused;
// and one of another caller, who must not wait for them.
func (x *drilling) overflow() error {
	o := x.o
	o.Within = x.patience()
	list := make([]check.Exchange, max(x.q.Queue, 1)+3)
	g := new(errgroup.Group)
	for i := range list {
		g.Go(func() (err error) {
			defer x.count()
			if list[i], err = x.r.client.Send(x.r.ctx, o); errors.Is(err, wire.ErrLate) {
				return nil // it waited
			}
			return err
		})
	}
	time.Sleep(x.patience() / 6) // until they wait
	if other, status, err := x.asAnother(x.patience() * 5 / 6); x.r.ctx.Err() != nil {
		return err
	} else if other != "" && status != 0 { // what was not answered shows nothing
		x.m.Other, x.m.OtherStatus = other, status
	}
	if err := g.Wait(); err != nil {
		return err
	}
	answered, shut := 0, 0
	for _, e := range list {
		if e.Status != 0 {
			answered++
		}
		if e.Status == http.StatusServiceUnavailable {
			shut++
		}
	}
	x.shut503 = x.shut503 || shut == answered && shut > 1 && x.m.Passes != 0 && x.m.Passes != 503
	for _, e := range list {
		switch {
		case e.Status == 0: // it waited until nobody waited for it any more
			x.m.Queued++
		case x.refused(e) && x.m.Status == 0:
			x.refusedWith(e)
		}
	}
	return nil
}

// refusedWith keeps how the first refusal looks.
func (x *drilling) refusedWith(e check.Exchange) {
	x.m.Status, x.last = e.Status, e
	for _, h := range e.Answer {
		if n := strings.ToLower(h[0]); strings.HasPrefix(n, "ratelimit") || strings.HasPrefix(n, "x-ratelimit") ||
			n == "retry-after" {
			x.m.Fields = append(x.m.Fields, strings.Replace(h[0], "Ratelimit", "RateLimit", 1)+": "+h[1])
		}
	}
	if wait := wire.RetryAfter(e, time.Now()); wait >= 0 {
		x.m.Said = quota.Ticks(wait)
	}
	x.d.Hint = max(0, x.m.Said, x.claims.Asked())
}
