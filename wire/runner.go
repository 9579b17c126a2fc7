package wire

// Rule: What a script did is undone however it ends.

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/core/pointer"
	"millgate/core/token"
)

// Runner runs scripts. It knows no family of checks. What it is not given it does without.
type Runner struct {
	Keys *Keyring
	// Breaking makes broken credentials; without it none can be presented.
	Breaking *Breaking
	// Public gives the public keys of a scheme.
	Public func(s *declaration.Scheme) token.Keys
	// Room waits until the quotas that count a call have room for it.
	Room func(ctx context.Context, o Outgoing, as check.Caller) error
	// Beside waits until the quotas beside the one that a call fills have room for it, and says
	// how long that took. With ErrCrowded it is not sent.
	Beside func(ctx context.Context, c check.Call) (waited time.Duration, err error)
	// Waits is told of waits that people are to know of.
	Waits func(why string, d time.Duration)
	// Stopping ends waits at once when it is closed, and with them the script; nil never does.
	Stopping <-chan struct{}
	// Again says whether an answer is none yet: a call that may be sent again is, once Again
	// has waited for it. try counts from 0. Without it a 429 is what the keyring makes of it.
	Again func(ctx context.Context, o Outgoing, as check.Caller, x check.Exchange, try int) (again bool, err error)
	// Landed is told of each answer that is not sent again, and of those that never came.
	Landed func(c check.Call, x check.Exchange) error
	// Lender keeps what scripts lend; it is one for all scripts of a sweep.
	Lender *Lender
	// Making is told before a record is made that is to be lent.
	Making func(l check.Lend) (Making, error)
	// Made is told of what an admitted call made; id is "" where the answer does not say it.
	Made func(m check.Makes, id string)
	// Left is told of what was made and nothing can remove; name is what it was named.
	Left func(l check.Left, name string)
	// Bury keeps a credential that was ended until it ends by itself, at ends where it says so; Recall
	// gives those of a caller that were kept, the newest first.
	Bury   func(who check.Caller, secret string, ends time.Time)
	Recall func(who check.Caller) []string
	// Renews says whether a credential that was refused is worth renewing.
	Renews func(c check.Caller, epoch int) bool
	// Intend is told of each call that is unsafe or creates, before it is sent: what it
	// keeps is on disk by then.
	Intend func(c check.Call) error
	// Owe is told before a call is sent that will have to be undone. settle takes what
	// became of it: nothing is owed any more, or why something is left.
	Owe func(c check.Call) (settle func(left string), err error)
}

// ErrCrowded is a call that another quota would refuse than the one that it fills.
var ErrCrowded = errors.New(check.Crowded)

// undoTime is how long a script that was given up has to undo what it did.
const undoTime = 5 * time.Second

// running is a script under way: its secrets, and how they are masked in its reports.
type running struct {
	Runner
	k       *Keyring
	began   time.Time
	lent    map[string]*loan // by slot
	mu      sync.Mutex
	slots   map[string]string     // what was taken, raw; it never leaves this package
	drawn   map[check.Fill]string // what was made up
	masking *mask.Masking
	unsent  error // why the first call that could not be sent was not
	owed    []debt
	undoing bool // what is undone waits for no room
	pulse   *Pulse
}

// debt is what has to be undone.
type debt struct {
	undo   []check.Call
	settle func(left string)
}

// Run runs a script to its end, and undoes what it owes. The fact is what was seen,
// masked. The error is that of a cancelled context, or of what the runner was given, where
// the script was given up; or why nothing of it could be sent.
func (x Runner) Run(ctx context.Context, s check.Script) (check.Fact, error) {
	r := x.running()
	defer func() {
		if r.pulse != nil {
			r.pulse.End()
		}
	}()
	f := check.Fact{Began: r.began}
	err := r.steps(ctx, s)
	if err != nil {
		f.Cut = err.Error()
	}
	r.undo(ctx)
	f.Data, f.Reports = s.Data()
	if err == nil && !slices.ContainsFunc(f.Reports, func(x check.Report) bool { return x.Fate != check.Unsent }) {
		err = r.unsent
	}
	return f, err
}

func (x Runner) running() *running {
	return &running{Runner: x, k: x.Keys, began: x.Keys.now(), slots: map[string]string{},
		masking: x.Keys.client.mask.begin()}
}

// undo undoes what is owed, the last first. Who stopped the sweep wants nothing left
// behind, so that it has a moment of its own.
func (r *running) undo(ctx context.Context) {
	if len(r.owed) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), undoTime)
	defer cancel()
	r.undoing = true
	for _, d := range slices.Backward(r.owed) {
		left := "nothing says how to undo it"
		for _, c := range d.undo {
			report, err := r.call(ctx, c)
			switch st := report.Exchange.Status; {
			case err != nil:
				left = err.Error()
			case st >= 200 && st < 300 || st == 404 || st == 410:
				left = ""
			case report.Fate == check.Answered:
				left = fmt.Sprintf("%s was answered %d", c.Name, st)
			default:
				left = c.Name + ": " + report.Why
			}
			if left == "" {
				break
			}
		}
		d.settle(left)
	}
}

func (r *running) now() time.Duration { return r.k.now().Sub(r.began) }

func (r *running) steps(ctx context.Context, s check.Script) error {
	var last []check.Report
	for {
		step := s.Next(r.now(), last)
		if step.Ends() {
			return nil
		}
		last = nil
		if step.Lend != nil {
			report, err := r.lend(ctx, *step.Lend)
			if err != nil {
				return err
			}
			last = []check.Report{report}
		}
		if step.Look != nil {
			report, err := r.look(ctx, *step.Look)
			if err != nil {
				return err
			}
			last = []check.Report{report}
		}
		if step.Back != nil {
			if err := r.back(*step.Back); err != nil {
				return err
			}
		}
		if step.Left != nil && r.Left != nil {
			name := step.Left.Name
			if name == "" {
				name = r.made(check.Fill{Made: step.Left.Made})
			}
			r.Left(*step.Left, name)
		}
		if b := step.Bury; b != nil && r.Bury != nil && r.slots[b.Slot] != "" {
			r.Bury(b.Caller, r.slots[b.Slot], jwtExpiry(r.slots[b.Slot]))
		}
		if step.Recall != nil {
			last = []check.Report{r.recall(*step.Recall)}
		}
		if len(step.Send) > 0 {
			var err error
			if last, err = r.send(ctx, step.Send); err != nil {
				return err
			}
		}
		if wait := step.Wait - r.now(); wait > 0 {
			if step.Why != "" && r.Waits != nil {
				r.Waits(step.Why, wait)
			}
			if err := r.wait(ctx, wait); err != nil {
				return err
			}
		}
	}
}

// wait waits. The error is that of a cancelled context, also where it is stopping.
func (r *running) wait(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-r.Stopping:
		return context.Canceled
	case <-t.C:
		return nil
	}
}

// send sends calls at the same time.
func (r *running) send(ctx context.Context, calls []check.Call) ([]check.Report, error) {
	out := make([]check.Report, len(calls))
	var err error
	if len(calls) == 1 { // as nearly all are
		out[0], err = r.after(ctx, calls[0])
		return out, err
	}
	errs := make([]error, len(calls))
	var all sync.WaitGroup
	for i := range calls[1:] {
		all.Go(func() { out[i+1], errs[i+1] = r.after(ctx, calls[i+1]) })
	}
	out[0], errs[0] = r.after(ctx, calls[0])
	all.Wait()
	return out, errors.Join(errs...)
}

// after sends a call once its time has come.
func (r *running) after(ctx context.Context, c check.Call) (check.Report, error) {
	if c.After > 0 {
		if err := r.wait(ctx, c.After); err != nil {
			return check.Report{}, err
		}
	}
	return r.call(ctx, c)
}

// call sends one call and tells of what came of it. The error is that of a cancelled
// context, or of what the runner was given.
func (r *running) call(ctx context.Context, c check.Call) (check.Report, error) {
	report, err := r.called(ctx, c)
	if err == nil && r.Landed != nil && report.Fate != check.Unsent && !r.undoing {
		err = r.Landed(c, report.Exchange)
	}
	return report, err
}

func (r *running) called(ctx context.Context, c check.Call) (check.Report, error) {
	report := check.Report{Name: c.Name, Begin: r.now(), End: r.now()}
	settle := func(string) {}
	if len(c.Undo) > 0 && r.Owe != nil {
		var err error
		if settle, err = r.Owe(c); err != nil {
			return report, err
		}
	}
	x, left, err := r.sent(ctx, c, &report)
	if len(c.Undo) > 0 {
		switch {
		case err == nil && x.Status >= 200 && x.Status < 400: // a redirect may lead to what was made
			r.mu.Lock()
			r.owed = append(r.owed, debt{c.Undo, settle})
			r.mu.Unlock()
		case !left, x.Status != 0 && x.Status < 500:
			settle("") // it made nothing
		case x.Status != 0:
			settle(fmt.Sprintf("it was answered %d; whether it made something is not known", x.Status))
		default:
			settle("its answer was never seen; whether it made something is not known")
		}
	}
	if errors.Is(err, errUnsent) {
		return report, nil
	}
	defer func() { // its id is in a slot by then
		if c.Makes != nil && r.Made != nil && x.Status >= 200 && x.Status < 300 {
			r.Made(*c.Makes, report.Took[c.Makes.Slot])
		}
	}()
	switch {
	case errors.Is(err, ErrLate):
		report.Fate, report.Why = check.Late, err.Error()
	case err != nil:
		return report, err
	case x.Status == 0:
		report.Fate = check.Lost
	default:
		report.Fate = check.Answered
	}
	if !x.At.IsZero() { // it left then: before that it waited for its pace
		report.Begin = x.At.Sub(r.began)
		report.End = report.Begin + x.Took
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	raw := r.take(c, x)
	report.Echoed = r.echoed(x)
	r.masking.Use(r.k.client.mask.set.Load())
	report.Exchange = r.k.client.mask.exchange(x, r.k.client.never, r.masking)
	for _, p := range c.As {
		if p.Way == check.CrossSite {
			if cookie, err := r.k.Cookie(ctx, p.Identity, p.Scheme); err == nil && cookie != nil {
				report.SameSite = cookie.SameSite
			}
		}
	}
	if report.Fate == check.Lost {
		report.Why = report.Exchange.Error
	}
	if len(raw) > 0 {
		report.Took, report.Ends = map[string]string{}, map[string]time.Time{}
	}
	for _, t := range c.Take {
		v, ok := raw[t.Slot]
		if !ok {
			continue
		}
		report.Took[t.Slot] = r.masking.Text(v, false)
		if t.Plain || t.From == check.FromLink {
			continue
		}
		if end := endOf(v, t, x, r.k.now()); !end.IsZero() {
			report.Ends[t.Slot] = end
		}
	}
	return report, nil
}

// recall puts into slots what was buried of a caller.
func (r *running) recall(q check.Recall) check.Report {
	now := r.now()
	report := check.Report{Name: "what was ended before", Why: "nothing is kept", Begin: now, End: now,
		Took: map[string]string{}}
	if r.Recall == nil {
		return report
	}
	for n, secret := range r.Recall(q.Caller) {
		slot := fmt.Sprint(q.Slot, n)
		r.k.client.mask.Learn(mask.Token, secret)
		r.slots[slot], report.Took[slot] = secret, r.masking.Text(secret, false)
	}
	return report
}

// take puts into slots what a call takes out of its raw answer.
func (r *running) take(c check.Call, x raw) map[string]string {
	out := map[string]string{}
	for _, t := range c.Take {
		v := ""
		switch t.From {
		case check.FromBody:
			v, _ = check.Points(x.content, pointer.JSON(t.At))
		case check.FromCookie:
			if k := cookieOf(x.Answer, t.At); k != nil {
				v = k.Value
			}
		case check.FromField:
			v = x.Answer.Get(t.At)
		case check.FromLink:
			v = r.k.client.linkIn(x.content, pointer.JSON(t.At))
			if s := r.k.doc.SchemeNamed(t.Scheme); s != nil {
				_, _ = r.k.address(s, v, "") // what signs it is masked; what it lacks, following it shows
			}
		case check.FromPlace:
			if u, err := url.Parse(x.Answer.Get("Location")); err == nil {
				v = u.Path[strings.LastIndexByte(u.Path, '/')+1:]
			}
		}
		if v == "" {
			continue
		}
		if !t.Plain && t.From != check.FromLink {
			kind := mask.Token
			if t.From == check.FromCookie {
				kind = mask.Cookie
			}
			r.k.client.mask.Learn(kind, v)
		}
		out[t.Slot], r.slots[t.Slot] = v, v
	}
	return out
}

// endOf is when a token or a cookie that was taken says that it ends.
func endOf(v string, t check.Take, x raw, now time.Time) time.Time {
	if t.From == check.FromCookie {
		return cookieEnd(cookieOf(x.Answer, t.At), now)
	}
	return jwtExpiry(v)
}
