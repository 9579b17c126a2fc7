package quotas

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// Measured is what a drill saw.
type Measured struct {
	quota.Measured
	// Broke is why it got no further, where that is no answer of the quota.
	Broke string `json:"broke,omitempty"`
	// Right is how the right secret was answered while wrong ones were refused; nil where that was
	// not tried.
	Right *Right `json:"right,omitempty"`
	// Exempt is nil where nobody is exempt who could be sent.
	Exempt *Exempt `json:"exempt,omitempty"`
	// Strangers is nil where none was sent.
	Strangers *Strangers `json:"strangers,omitempty"`
}

// Whole says whether the drill measured what it was to measure: the quota was not full when it began, and
// neither the service nor the sender failed.
func (m *Measured) Whole() bool {
	return !m.Full && m.Broke == "" && m.Failed == 0 && !m.Disturbed() && len(m.Calls) > 0
}

// Right is the answer to the right secret.
type Right struct {
	Status int  `json:"status"`
	In     bool `json:"in"` // it was admitted each time
	// Ended: it was admitted, and then wrong ones were not refused any more.
	Ended bool `json:"ended,omitempty"`
}

// What a drill may use: little within a sweep, more when it was asked for alone.
const (
	longerBy    = 25  // times as long
	spare       = 60  // calls beyond a first stretch
	spareLonger = 400 // when it was asked for alone
	mostCalls   = 1200
	singly      = 6         // calls one after the other, before some are sent together
	mostBeside  = 16        // that are sent at the same time
	leastBeside = 3_000_000 // ticks for calls at the same time, whatever a drill may take
)

const (
	slowCall = 25 * time.Millisecond // that a call takes on a slow machine
	// What a call is given before it counts as one that waits: as long as a drill may take,
	// within these.
	leastPatience = 250 * time.Millisecond
	mostPatience  = 600 * time.Millisecond
)

const (
	// mostStood is how many calls may be lost to a busy machine.
	mostStood = 5
	// mostFailed is how many calls may fail before a drill gives up.
	mostFailed = 3
	// sureShut is how many calls more must be answered 503, one after the other.
	sureShut = 3
	// mostShut is how many calls may be sent to see that.
	mostShut = 24
)

// What ends a drill before its time; what was seen until then is kept.
var (
	errLate    = errors.New("not answered within the drill's time")
	errFails   = errors.New("the service fails")
	errCrowded = errors.New(check.Crowded)
	errBroke   = errors.New("it got no further")
)

// drilling is a drill under way.
type drilling struct {
	*check.Telling
	c       *check.Context
	p       *check.Probe
	at      Detail
	q       *declaration.Quota // on the target
	stack   quota.Stack
	drill   *quota.Drill
	m       *Measured
	what    check.Call   // that is repeated
	turns   []check.Call // that are sent in turn, where one route alone would not show it; nil without
	zero    int64        // tick at which the script began, on the clock
	ends    time.Duration
	stood   int          // calls that were given up while the sender stood still
	shut503 bool         // calls beyond the quota are answered 503
	last    check.Report // the first refusal, or the last call
	told    bool         // the ways around were tried
	// What the answers to the drill's calls say, one for each call.
	claims quota.Claims
}

// Script fills the quota and watches how it refuses and admits again.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		x := begin(c, p, t)
		if x == nil {
			return
		}
		t.Measured(x.m)
		sender := check.Look{Name: "the sender", Sender: true, Host: x.what.Request.Host}
		look := t.Look(sender)
		x.zero = look.Exchange.At.UnixMicro() - look.Begin.Microseconds()
		if look.Pulse != nil {
			x.m.Trip = quota.Ticks(look.Pulse.Trip)
		}
		x.ends = t.Now() + x.longest()
		x.run()
		pulse := t.Look(sender).Pulse
		for i, s := range x.drill.Calls {
			left := quota.Span(s.At - x.zero)
			x.drill.Calls[i].Gap = pulse.Broke(left, left+quota.Span(s.Took))
		}
		x.drill.Finish()
		x.m.Claims = x.claims.List
		x.m.Explain(x.drill)
		x.m.Stood += x.stood
		t.Keep(x.last)
	})
}

// begin is a drill that has not begun; nil where the declaration has no such quota.
func begin(c *check.Context, p *check.Probe, t *check.Telling) *drilling {
	d, _ := p.Detail.(Detail)
	declared := c.Doc.QuotaNamed(p.Of)
	if declared == nil {
		return nil
	}
	q, _ := c.Target.Quota(declared)
	x := &drilling{Telling: t, c: c, p: p, at: d, q: q, stack: quota.StackFor(c.Doc, q, p.Caller.Identity),
		what: d.call(c, p.Of)}
	for _, a := range d.Spread {
		x.turns = append(x.turns, a.call(c, p.Of))
	}
	x.drill = x.planned()
	x.m = &Measured{Measured: quota.Measured{Said: -1, Budget: x.drill.Budget.Calls}}
	return x
}

// planned is a drill with what it may use.
func (x *drilling) planned() *quota.Drill {
	moment := x.stack.Moment()
	d := &quota.Drill{Burst: int(min(moment+3, mostCalls)), Declared: x.stack}
	// On to where nodes that count alone refuse, and how, as far as that is within reach: half the
	// way there would show it in one sweep and not in the next.
	if more := several*moment + 3 - int64(d.Burst); more > 0 && more <= spare {
		d.Further = int(more)
	}
	d.Budget = quota.Budget{Calls: d.Burst + spare, Ticks: quota.Ticks(x.c.Target.Drill)}
	if x.c.Longer { // it goes on to where several nodes would refuse
		d.Burst, d.Further = int(min(4*moment+10, mostCalls)), 0
		d.Budget = quota.Budget{Calls: 2*d.Burst + spareLonger, Ticks: longerBy * quota.Ticks(x.c.Target.Drill)}
		d.Side = mostBeside
	}
	if x.q.Model == declaration.Concurrency {
		d.AtOnce, d.Burst, d.Further = int(moment), singly, 0
		d.Side = int(min(max(mostBeside, 3*moment), mostCalls/8))
		d.Budget.Ticks = max(d.Budget.Ticks, leastBeside)
	}
	if pace := x.c.Target.Pace.PerSecond(); pace > 0 {
		// The first stretch has its time whatever the pace.
		d.Budget.Ticks += int64(float64(d.Burst) / pace * 1.2e6)
	}
	return d
}

// longest is how long the drill may take. A slow machine has time for the first stretch all
// the same.
func (x *drilling) longest() time.Duration {
	return quota.Span(x.drill.Budget.Ticks) + time.Second + time.Duration(x.drill.Burst)*slowCall
}

// tick is a time of the script on the clock.
func (x *drilling) tick(at time.Duration) int64 { return x.zero + at.Microseconds() }

// refused says whether an answer turns a call away for coming too often.
func (x *drilling) refused(r check.Report) bool {
	s := r.Exchange.Status
	return s == 429 || s == x.q.RefuseWith || s == 503 && x.shut503
}

// failed says whether an answer is neither an admission nor a refusal.
func (x *drilling) failed(r check.Report) bool { return r.Exchange.Status >= 500 && !x.refused(r) }

// fails counts a call that failed. The error ends the drill: what was seen until then is
// kept.
func (x *drilling) fails(r check.Report) error {
	x.m.Failed++
	if x.last = r; x.m.Passes == 0 || x.m.Failed > mostFailed {
		return errFails
	}
	return nil
}

// broke says why the drill gets no further after a call.
func (x *drilling) broke(r check.Report) error {
	if len(x.drill.Calls) == 0 {
		x.last = r
	}
	switch {
	case r.Fate == check.Unsent && r.Why == check.Crowded && len(x.drill.Calls) > 0:
		return errCrowded // what was seen until then is kept
	case r.Fate == check.Unsent:
		x.m.Broke = "a call could not be sent: " + r.Why
	default:
		x.m.Broke = "a call was not answered: " + r.Why
	}
	return errBroke
}

// run drills. A quota that is full when it begins is waited for once, at most as long as its
// window.
func (x *drilling) run() {
	if x.steps() != nil || !x.m.Full {
		return
	}
	wait := quota.Span(x.m.Said)
	if x.m.Said < 0 {
		wait = quota.Span(x.stack.Shortest())
	}
	if wait += time.Second / 10; wait > min(quota.LongestFull, quota.Span(x.stack.Longest())+time.Second) {
		return
	}
	x.WaitFor(wait, fmt.Sprintf("the drill of %s found it full", x.q.Name))
	x.ends += wait
	trip := x.m.Trip
	x.drill = x.planned()
	*x.m = Measured{Measured: quota.Measured{Said: -1, Budget: x.drill.Budget.Calls, Trip: trip}}
	x.last, x.claims, x.told = check.Report{}, quota.Claims{}, false
	_ = x.steps() // what was seen until it ended is kept
}

// steps does what the drill asks for.
func (x *drilling) steps() error {
	for !x.drill.Done() {
		s := x.drill.Next(x.tick(x.Now()))
		if s.Many == 0 {
			break
		}
		if s.At > 0 {
			x.Wait(quota.Span(s.At-x.zero) - x.Now())
		}
		if s.Beside {
			if err := x.together(s.Many); err != nil {
				return err
			}
			continue
		}
		refused := false
		for range s.Many {
			if x.queues() {
				if err := x.fillQueue(); err != nil {
					return err
				}
				continue
			}
			ok, err := x.plain()
			if err != nil {
				return err
			}
			if refused = !ok; refused && len(x.drill.Calls) == 1 {
				x.m.Full = true
				return nil
			}
			if s.Stop && x.drill.Enough() {
				break
			}
		}
		if s.Stop {
			x.drill.Filled()
		}
		if refused && x.turns != nil { // what else there is to see, a tighter quota may hide
			return nil
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

// send sends calls at the same time. What they waited for room elsewhere is no time of the
// drill.
func (x *drilling) send(calls ...check.Call) []check.Report {
	list := x.Send(calls...)
	waited := time.Duration(0)
	for _, r := range list {
		waited = max(waited, r.Room)
	}
	x.ends += waited
	x.drill.Budget.Ticks += quota.Ticks(waited)
	return list
}

// plain sends one call and tells the drill of it.
func (x *drilling) plain() (ok bool, err error) {
	c := x.what
	if n := len(x.turns); n > 0 {
		if k := len(x.drill.Calls) % (n + 1); k > 0 {
			c = x.turns[k-1]
		}
	}
	if c.Within = x.ends - x.Now(); c.Within <= 0 {
		return false, errLate
	}
	if !x.m.Waits && x.q.Model != declaration.Concurrency {
		c.Within = min(c.Within, x.patience()) // whether calls wait at all
	}
	r := x.send(c)[0]
	switch r.Fate {
	case check.Late:
		return x.late(r)
	case check.Answered:
	default:
		return false, x.broke(r)
	}
	if r.Exchange.Status == 503 && !x.shut503 && x.m.Passes != 0 &&
		x.q.RefuseWith != r.Exchange.Status {
		err := x.shuts(r)
		return !x.shut503, err
	}
	return !x.refused(r), x.saw(r)
}

// late goes on after a call that was not answered in its time.
func (x *drilling) late(r check.Report) (ok bool, err error) {
	pulse := x.Look(check.Look{Name: "the sender", Sender: true}).Pulse
	if pulse.During(r.Begin, r.End) && x.stood < mostStood { // it was us
		x.stood++
		return x.plain()
	}
	if len(x.drill.Calls) == 0 { // nothing was there yet that it could have waited for
		x.m.Broke = fmt.Sprintf("the first call was not answered within %s: the service is slow, or it makes "+
			"calls wait from the first on", x.patience())
		x.last = r
		return false, errBroke
	}
	first := !x.m.Waits
	x.m.Waits = true
	if !first {
		return false, errLate
	}
	if x.overflow(); !x.c.Longer {
		return false, errLate
	}
	x.Wait(x.patience() / 2) // those that were sent away have left
	return x.plain()         // there is time to wait for it
}

// shuts says whether a 503 after admitted calls is how this service refuses: the calls that
// follow at once get it too. A service that only fails now and then admits one of them. Where the
// quota is full by what is declared, nodes that count alone may admit some until each is full: then
// it fails now and then where as many in a row are admitted. What was answered is told to the
// drill, in order.
func (x *drilling) shuts(first check.Report) error {
	answers := []check.Report{first}
	full := int64(x.admitted()) >= x.stack.First()
	shut, open := 1, 0 // in a row
	for shut <= sureShut && open <= sureShut && len(answers) < mostShut && (full || open == 0) {
		r := x.send(x.what)[0]
		if r.Fate != check.Answered {
			return x.broke(r)
		}
		answers = append(answers, r)
		if r.Exchange.Status == 503 {
			shut, open = shut+1, 0
		} else {
			shut, open = 0, open+1
		}
	}
	x.shut503 = shut > sureShut
	for _, r := range answers {
		if err := x.saw(r); err != nil {
			return err
		}
	}
	return nil
}

// admitted is how many calls were.
func (x *drilling) admitted() (n int) {
	for _, s := range x.drill.Calls {
		if s.OK {
			n++
		}
	}
	return n
}

// seen is an answered call as the drill sees it.
func (x *drilling) seen(r check.Report) quota.Seen {
	return quota.Seen{At: x.tick(r.Begin), Took: quota.Ticks(r.End - r.Begin), OK: !x.refused(r)}
}

// saw tells the drill of an answer.
func (x *drilling) saw(r check.Report) error {
	if x.failed(r) {
		return x.fails(r)
	}
	ok := !x.refused(r)
	x.claims.Add(r.Exchange.Answer, r.Exchange.Answered())
	x.drill.Saw(x.seen(r))
	switch {
	case ok && x.m.Passes == 0:
		x.m.Passes, x.last = r.Exchange.Status, r
	case !ok && x.m.Status == 0:
		x.refusedWith(r)
	}
	return nil
}

// refusedWith keeps how the first refusal looks.
func (x *drilling) refusedWith(r check.Report) {
	x.m.Status, x.last = r.Exchange.Status, r
	for _, h := range r.Exchange.Answer {
		if n := strings.ToLower(h[0]); strings.HasPrefix(n, "ratelimit") || strings.HasPrefix(n, "x-ratelimit") ||
			n == "retry-after" {
			x.m.Fields = append(x.m.Fields, strings.Replace(h[0], "Ratelimit", "RateLimit", 1)+": "+h[1])
		}
	}
	if wait := r.Exchange.RetryAfter(); wait >= 0 {
		x.m.Said = quota.Ticks(wait)
	}
	x.drill.Hint = max(0, x.m.Said, x.claims.Asked())
}

// together sends calls at the same time, and tells the drill.
func (x *drilling) together(n int) error {
	c := x.what
	if c.Within = x.ends - x.Now(); c.Within <= 0 {
		return errLate
	}
	calls := make([]check.Call, n)
	for i := range calls {
		calls[i] = c
	}
	answers := x.send(calls...)
	// A service that fails now and then is not one that lets so many run: 503 is a refusal
	// there when at least half of the calls got it.
	shut := 0
	for _, r := range answers {
		switch {
		case r.Fate == check.Late:
			return errLate
		case r.Fate != check.Answered:
			return x.broke(r)
		case r.Exchange.Status == 503:
			shut++
		}
	}
	x.shut503 = x.shut503 || 2*shut >= n && shut < n
	list := make([]quota.Seen, 0, n)
	for _, r := range answers {
		if x.failed(r) {
			if err := x.fails(r); err != nil {
				return err
			}
			continue
		}
		x.claims.Add(nil, r.Exchange.At) // what is said while they run says nothing of one alone
		list = append(list, x.seen(r))
		if x.m.Status == 0 && x.refused(r) {
			x.refusedWith(r)
		}
	}
	x.drill.SawBeside(list)
	return nil
}
