package wire

// Rule: What a script did is undone however it ends.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/core/route"
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
	// Renews says whether a credential that was refused is worth renewing.
	Renews func(c check.Caller, epoch int) bool
	// Intend is told of each call that is unsafe or creates, before it is sent: what it
	// keeps is on disk by then.
	Intend func(c check.Call) error
	// Owe is told before a call is sent that will have to be undone. settle takes what
	// became of it: nothing is owed any more, or why something is left.
	Owe func(c check.Call) (settle func(left string), err error)
}

// undoTime is how long a script that was given up has to undo what it did.
const undoTime = 5 * time.Second

// running is a script under way: its secrets, and how they are masked in its reports.
type running struct {
	Runner
	k       *Keyring
	began   time.Time
	lent    map[string]*loan // by slot
	mu      sync.Mutex
	slots   map[string]string // what was taken, raw; it never leaves this package
	made    map[string]string // what was made up, by its word
	masking *mask.Masking
	unsent  error // why the first call that could not be sent was not
	owed    []debt
	undoing bool // what is undone waits for no room
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
				name = r.madeUp(step.Left.Made)
			}
			r.Left(*step.Left, name)
		}
		if len(step.Send) > 0 {
			var err error
			if last, err = r.send(ctx, step.Send); err != nil {
				return err
			}
		}
		if wait := step.Wait - r.now(); wait > 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(wait):
			}
		}
	}
}

// send sends calls at the same time.
func (r *running) send(ctx context.Context, calls []check.Call) ([]check.Report, error) {
	out, errs := make([]check.Report, len(calls)), make([]error, len(calls))
	var all sync.WaitGroup
	for i := range calls[1:] {
		all.Go(func() { out[i+1], errs[i+1] = r.call(ctx, calls[i+1]) })
	}
	out[0], errs[0] = r.call(ctx, calls[0])
	all.Wait()
	return out, errors.Join(errs...)
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
	r.masking.Use(r.k.client.mask.set.Load())
	report.Exchange = r.k.client.mask.exchange(x, r.k.client.Never, r.masking)
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
		if t.Plain {
			continue
		}
		if end := endOf(v, t, x, r.k.now()); !end.IsZero() {
			report.Ends[t.Slot] = end
		}
	}
	return report, nil
}

// errUnsent is a call that could not be sent; its report says why.
var errUnsent = errors.New("not sent")

// pairTries is how often what is sent twice is tried.
const pairTries = 3

// sent sends a call as often as it may be sent, and gives the last answer. left says that
// a request went out. Each time its credentials are presented anew: what is signed bears its
// time, and may be admitted once.
func (r *running) sent(ctx context.Context, c check.Call, report *check.Report) (x raw, left bool, err error) {
	who, pair := check.Caller{}, false
	if len(c.As) > 0 {
		who, pair = c.As[0].Caller, c.As[0].Way == check.Repeated
	}
	if who.State == access.Broken {
		who.Identity = "" // quotas count nobody
	}
	before := func() error {
		if r.Intend != nil && (c.Effect == check.Unsafe || c.Effect == check.Creates) {
			if err := r.Intend(c); err != nil {
				return err
			}
		}
		left = true
		return nil
	}
	renewed := false
	for try := 0; ; {
		if pair { // what is sent twice has room for both before the first, which goes while it is presented
			o := Outgoing{Method: c.Request.Method, Host: c.Request.Host, Path: c.Request.Path}
			for range 2 {
				if err := r.room(ctx, o, who); err != nil {
					return x, left, err
				}
			}
			if err := before(); err != nil {
				return x, left, err
			}
		}
		o, epoch, err := r.outgoing(ctx, c)
		if ctx.Err() != nil {
			return x, left, ctx.Err()
		}
		var early *Throttled
		if err != nil && !errors.As(err, &early) {
			report.Why = r.k.client.mask.Text(err.Error())
			r.mu.Lock()
			defer r.mu.Unlock()
			if r.unsent == nil {
				r.unsent = err
			}
			return x, left, errUnsent
		}
		o.Before = before
		if !pair {
			if err := r.room(ctx, o, who); err != nil {
				return x, left, err
			}
		}
		if early != nil {
			x = early.raw
		} else if x, err = r.k.client.send(ctx, o); err != nil {
			return x, left, err
		}
		if again := r.again(who); c.Retry && again != nil {
			again, err := again(ctx, o, r.k.client.masked(x), try)
			if err != nil {
				return x, left, err
			}
			if again && (!pair || try+1 < pairTries) {
				try++
				report.Repeats++
				continue
			}
		}
		if !c.Must || renewed || x.Status != 401 || !r.renews(ctx, c, epoch) {
			return x, left, nil
		}
		renewed = true
		report.Repeats++
	}
}

// room waits until the quotas that count a call have room for it; what is undone waits for
// none.
func (r *running) room(ctx context.Context, o Outgoing, who check.Caller) error {
	if r.Room == nil || r.undoing {
		return nil
	}
	return r.Room(ctx, o, who)
}

// renews renews the credential of a call that was refused, where it is worth that.
func (r *running) renews(ctx context.Context, c check.Call, epoch int) bool {
	if len(c.As) != 1 || c.As[0].Slot != "" || c.As[0].Identity == "" {
		return false
	}
	who := c.As[0].Caller
	return (r.Renews == nil || r.Renews(who, epoch)) && r.k.Renew(ctx, who.Identity, who.Scheme, epoch) == nil
}

// again is what decides whether the answer to who asked is one: without more the keyring's.
func (r *running) again(who check.Caller) answered {
	if r.Again == nil {
		return r.k.Answered
	}
	return func(ctx context.Context, o Outgoing, x check.Exchange, try int) (bool, error) {
		return r.Again(ctx, o, who, x, try)
	}
}

// take puts into slots what a call takes out of its raw answer.
func (r *running) take(c check.Call, x raw) map[string]string {
	out := map[string]string{}
	for _, t := range c.Take {
		v := ""
		switch t.From {
		case check.FromBody:
			v, _ = check.Pointer(x.content, t.At)
		case check.FromCookie:
			if k := cookieOf(x.Answer, t.At); k != nil {
				v = k.Value
			}
		case check.FromField:
			v = check.Field(x.Answer, t.At)
		case check.FromPlace:
			if u, err := url.Parse(check.Field(x.Answer, "Location")); err == nil {
				v = u.Path[strings.LastIndexByte(u.Path, '/')+1:]
			}
		}
		if v == "" {
			continue
		}
		if !t.Plain {
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

// outgoing fills a call's template and presents its credentials. epoch is that of the
// first, where it is a caller's own.
func (r *running) outgoing(ctx context.Context, c check.Call) (out Outgoing, epoch int, err error) {
	q := c.Request
	values := map[string]string{}
	for n, f := range q.Fill {
		v, err := r.value(f)
		if err != nil {
			return Outgoing{}, 0, err
		}
		values[n] = v
	}
	o := Outgoing{Params: q.Params, Method: q.Method, Host: q.Host, Path: fillText(q.Path, values, route.EscapeSegment),
		Query: fillText(q.Query, values, url.QueryEscape)}
	if len(q.Params) > 0 {
		o.Params = map[string]string{}
		for n, v := range q.Params {
			o.Params[n] = fillText(v, values, same)
		}
	}
	for _, h := range q.Headers {
		o.Headers = append(o.Headers, [2]string{h[0], fillText(h[1], values, same)})
	}
	if len(q.Needs) > 0 {
		needed, err := r.k.Values(ctx, q.NeedsOf, q.Needs)
		if err != nil {
			return o, 0, err
		}
		for _, n := range q.Needs {
			if v, ok := needed[n]; ok {
				values[n] = v
			}
		}
	}
	if len(q.Body) > 0 {
		o.Body = FillBody(q.Body, check.Field(q.Headers, "Content-Type"), values)
	}
	for i, p := range c.As {
		n, err := r.present(ctx, &o, p)
		if err != nil {
			return o, 0, err
		}
		if i == 0 {
			epoch = n
		}
	}
	return o, epoch, nil
}

// value is what stands for a name.
func (r *running) value(f check.Fill) (string, error) {
	switch {
	case f.Slot != "":
		r.mu.Lock()
		defer r.mu.Unlock()
		v, ok := r.slots[f.Slot]
		if !ok {
			return "", fmt.Errorf("%w: nothing was taken for %s", ErrCredential, f.Slot)
		}
		return v, nil
	case f.Made != "":
		return r.madeUp(f.Made), nil
	case f.Identity != "":
		fill, err := r.k.fill(f.Identity, f.Scheme)
		return fill[f.Name], err
	case f.Name != "":
		return r.k.target.Values[f.Name], nil
	}
	return f.Text, nil
}

// madeUp is what is made up for a word.
func (r *running) madeUp(word string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.made[word] == "" {
		if r.made == nil {
			r.made = map[string]string{}
		}
		r.made[word] = word + "-" + random()[:16]
	}
	return r.made[word]
}

// broken presents a credential that is broken in a way. epoch is that of the sound one where
// there is nothing wrong in what counts.
func (r *running) broken(ctx context.Context, o *Outgoing, p check.Present) (epoch int, err error) {
	s := r.k.doc.SchemeNamed(p.Scheme)
	if s == nil || r.Breaking == nil {
		return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, p.Scheme)
	}
	if check.MustEnter(p.Way) {
		if _, epoch, err = r.k.Token(ctx, p.Identity, p.Scheme); err != nil {
			return 0, err
		}
	}
	return epoch, r.Breaking.Present(ctx, o, Broken{Scheme: s, Donor: p.Identity, Way: p.Way, Role: p.Role,
		Beside: p.Beside.Identity, BesideScheme: cmp.Or(p.Beside.Scheme, p.Other),
		Public: func() token.Keys {
			if r.Public == nil {
				return token.Keys{}
			}
			return r.Public(s)
		}})
}

func (r *running) present(ctx context.Context, o *Outgoing, p check.Present) (epoch int, err error) {
	switch {
	case p.Way != "":
		return r.broken(ctx, o, p)
	case p.Fresh:
		s := r.k.doc.SchemeNamed(p.Scheme)
		if s == nil {
			return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, p.Scheme)
		}
		return 0, r.k.PresentFresh(ctx, o, p.Identity, s)
	case p.Slot == "" && p.Identity == "" && p.State == access.Broken:
		return 0, r.k.PresentBroken(ctx, o, p.Scheme)
	case p.Slot == "":
		return r.k.Present(ctx, o, p.Identity, p.Scheme)
	}
	s := r.k.doc.SchemeNamed(p.Scheme)
	if s == nil {
		return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, p.Scheme)
	}
	v, err := r.value(check.Fill{Slot: p.Slot})
	if err != nil {
		return 0, err
	}
	attach(o, s, v)
	return 0, nil
}
