package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/quota"
	"millgate/core/verdict"
	"millgate/wire"
)

// What a quota drill may use: little within a sweep, more when it is run by
// itself.
const (
	drillLonger    = 25  // times as long when it is run by itself
	drillSpare     = 60  // calls beyond a first stretch, within a sweep
	drillLongSpare = 400 // when run by itself
	drillMost      = 1200
)

// forwarding are header fields in which a gateway says who called. A service
// that believes them from anybody can be told anything; the address is one for
// documentation (RFC 5737).
var forwarding = [][2]string{{"X-Forwarded-For", "198.51.100.7"}, {"Forwarded", "for=198.51.100.7"}, {"X-Real-IP", "198.51.100.7"}}

// quotaDrill runs the quota drill of a probe.
func (r *run) quotaDrill(p *probe.Probe, f *Fact) error {
	q := r.doc.QuotaNamed(p.Way)
	stack := stackFor(r.doc, q, p.Identity)
	o, bare, err := r.drilled(p)
	if err != nil {
		return r.withoutCredential(p, f, err)
	}
	if err := r.intend(p); err != nil {
		return err
	}
	moment, _ := stack.Ceiling(2)
	d := &quota.Drill{Burst: int(min(moment+3, drillMost))}
	d.Budget = quota.Budget{Calls: d.Burst + drillSpare, Ticks: quota.Ticks(r.target.Drill)}
	if r.sweep.Partial { // asked for by itself: it goes on to where several nodes would refuse
		d.Burst = int(min(4*moment+10, drillMost))
		d.Budget = quota.Budget{Calls: 2*d.Burst + drillLongSpare, Ticks: drillLonger * quota.Ticks(r.target.Drill)}
	}
	pace := r.target.Pace.PerSecond()
	d.Budget.Ticks += int64(float64(d.Burst) / pace * 1.2e6) // the first stretch has its time whatever the pace
	x := &drilling{r: r, p: p, q: q, o: o, bare: bare, d: d, m: &quota.Measured{Said: -1, Budget: d.Budget.Calls}}
	// A slow machine has time for the first stretch all the same.
	x.ends = time.Now().Add(quota.Span(d.Budget.Ticks) + time.Second + time.Duration(d.Burst)*slowCall)
	if err := x.run(); err != nil && !errors.Is(err, errLate) {
		if r.ctx.Err() != nil || errors.Is(err, errStopped) {
			return nil // stopped: it is run again as a whole
		}
		return r.withoutCredential(p, f, err)
	}
	d.Finish()
	x.m.Calls, x.m.Fits = d.Calls, quota.Told(d.Fits, len(d.Calls))
	if n := len(d.Calls); n > 0 {
		x.m.Seconds = quota.Span(d.Calls[n-1].At + d.Calls[n-1].Took - d.Calls[0].At).Seconds()
	}
	if x.m.Full {
		if old := r.measuredBefore(p); old != nil {
			x.m = old
		}
	}
	f.Quota = x.m
	f.Exchange = x.last
	return r.keep(p, f)
}

// measuredBefore is what an earlier sweep measured, nil without: a quota that is
// full when the drill begins, perhaps from that one, says nothing itself.
func (r *run) measuredBefore(p *probe.Probe) *quota.Measured {
	rows, err := r.app.store.Past(r.target.Name, p.RouteKey, p.Identity, 200)
	if err != nil {
		return nil // then there is nothing to keep
	}
	for _, row := range rows {
		if row.ProbeID != p.ID {
			continue
		}
		if f, err := decodeFact(row.Fact); err == nil && f.Quota != nil && !f.Quota.Full {
			if f.Quota.Kept == "" {
				f.Quota.Kept = row.Sent.UTC().Format(time.RFC3339)
			}
			return f.Quota
		}
	}
	return nil
}

var (
	errStopped = errors.New("stopped")
	errLate    = errors.New("not answered within the drill's time")
)

// drilled is the request that a drill repeats, with its credential and without.
func (r *run) drilled(p *probe.Probe) (o, bare wire.Outgoing, err error) {
	if p.Donor != "" {
		b := probe.Build(r.doc, p, "")
		v, _, err := r.keys.WrongSecret(p.Donor, p.Scheme, probe.NameUnknown)
		if err != nil {
			return o, bare, err
		}
		o = wire.Outgoing{Method: b.Method, Host: b.Host, Path: b.Path, Query: b.Query, Headers: b.Headers, Body: wire.FillBody(b.Body, header(b.Headers, "Content-Type"), v)}
	} else if o, err = r.outgoing(p, p.Record.ID); err != nil {
		return o, bare, err
	}
	o.Counted = true
	bare = o
	bare.Headers = slices.Clone(o.Headers)
	if p.Scheme != "" && p.Identity != "" {
		_, err = r.keys.Present(r.ctx, &o, p.Identity, p.Scheme)
	}
	return o, bare, err
}

// drilling is one quota drill under way.
type drilling struct {
	r    *run
	p    *probe.Probe
	q    *declaration.Quota
	o    wire.Outgoing
	bare wire.Outgoing // without the credential
	d    *quota.Drill
	m    *quota.Measured
	last wire.Exchange // the first refusal, or the last call
	ends time.Time
	told bool // the ways around were tried
}

// refused says whether an answer turns a call away for coming too often. A
// service that fails only then says it with 503.
func (x *drilling) refused(e wire.Exchange) bool {
	return e.Status == 429 || e.Status == x.q.RefuseWith || e.Status == 503 && x.m.Passes != 0 && x.m.Passes != 503
}

func (x *drilling) run() error {
	for !x.d.Done() {
		s := x.d.Next(time.Now().UnixMicro())
		if s.Many == 0 {
			break
		}
		if wait := time.Until(time.UnixMicro(s.At)); s.At > 0 && wait > 0 {
			select {
			case <-x.r.stopping.Done():
				return errStopped
			case <-time.After(wait):
			}
		}
		full := true
		for range s.Many {
			ok, err := x.call()
			if err != nil {
				return err
			}
			if !ok && len(x.d.Calls) == 1 {
				x.m.Full = true
				return nil
			}
			if !ok && s.Stop {
				full = false
				break
			}
		}
		if s.Stop && full {
			x.d.Filled()
		}
		if !full && !x.told {
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
	ends := x.ends
	if soon := time.Now().Add(x.patience()); x.p != nil && !x.m.Waits && soon.Before(ends) {
		ends = soon // whether calls wait at all
	}
	ctx, cancel := context.WithDeadline(x.r.ctx, ends)
	e, err := x.r.client.Send(ctx, x.o)
	late := ctx.Err() != nil && x.r.ctx.Err() == nil
	cancel()
	if late {
		first := !x.m.Waits
		x.m.Waits = true
		if first && x.p != nil {
			if err := x.overflow(); err != nil {
				return false, err
			}
			if time.Until(x.ends) > longWait {
				time.Sleep(x.patience() / 2) // those that were sent away have left
				return x.call()              // there is time to wait for it
			}
		}
		return false, errLate
	}
	if err != nil {
		return false, err
	}
	if e.Status == 0 {
		return false, fmt.Errorf("a call was not answered: %s", e.Error)
	}
	ok = !x.refused(e)
	x.d.Saw(quota.Seen{At: e.At.UnixMicro(), Took: quota.Ticks(e.Took), OK: ok})
	switch {
	case ok && x.m.Passes == 0:
		x.m.Passes = e.Status
		x.last = e
	case !ok && x.m.Status == 0:
		x.refusedWith(e)
	}
	return ok, nil
}

const (
	slowCall = 25 * time.Millisecond // that a call takes on a slow machine
	// What a call is given before it counts as one that waits: as long as a
	// drill may take, within these.
	leastPatience = 250 * time.Millisecond
	mostPatience  = 600 * time.Millisecond
	longWait      = 8 * time.Second // that must be left to wait for one
)

func (x *drilling) patience() time.Duration {
	return max(leastPatience, min(mostPatience, x.r.target.Drill))
}

// overflow sends, while calls wait, more than may wait, so that one is refused;
// and one of another caller, who must not wait for them.
func (x *drilling) overflow() error {
	ctx, cancel := context.WithTimeout(x.r.ctx, x.patience())
	defer cancel()
	list := make([]wire.Exchange, max(x.q.Queue, 1)+3)
	g := new(errgroup.Group)
	for i := range list {
		g.Go(func() (err error) {
			if list[i], err = x.r.client.Send(ctx, x.o); ctx.Err() != nil && x.r.ctx.Err() == nil {
				return nil // it waited
			}
			return err
		})
	}
	time.Sleep(x.patience() / 6) // until they wait
	if other, status, err := x.asAnother(ctx); x.r.ctx.Err() != nil {
		return err
	} else if other != "" {
		x.m.Other, x.m.OtherStatus = other, status // 0 when it waited too
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for _, e := range list {
		if e.Status != 0 && x.refused(e) {
			x.refusedWith(e)
			return nil
		}
	}
	return nil
}

// refusedWith keeps how the first refusal looks.
func (x *drilling) refusedWith(e wire.Exchange) {
	x.m.Status, x.last = e.Status, e
	for _, h := range e.Answer {
		if n := strings.ToLower(h[0]); strings.HasPrefix(n, "ratelimit") || strings.HasPrefix(n, "x-ratelimit") || n == "retry-after" {
			x.m.Fields = append(x.m.Fields, h[0]+": "+h[1])
		}
	}
	if wait := wire.RetryAfter(e, time.Now()); wait >= 0 {
		x.m.Said = quota.Ticks(wait)
		x.d.Hint = x.m.Said
	}
}

// around tries other ways while calls are refused. A way that passes counts only
// when the next plain call is refused again.
func (x *drilling) around() error {
	type way struct {
		name string
		turn func(o *wire.Outgoing)
	}
	var ways []way
	for _, h := range forwarding {
		ways = append(ways, way{h[0], func(o *wire.Outgoing) { o.Headers = append(o.Headers, h) }})
	}
	ways = append(ways,
		way{"a trailing slash", func(o *wire.Outgoing) { o.Path = strings.TrimSuffix(o.Path, "/") + "/" }},
		way{"upper case", func(o *wire.Outgoing) { o.Path = strings.ToUpper(o.Path) }},
		way{"another parameter", func(o *wire.Outgoing) {
			o.Query = strings.TrimPrefix(o.Query+"&millgate=1", "&")
		}})
	for _, w := range ways {
		a, err := x.try(w.name, func() (wire.Outgoing, error) {
			o := x.o
			o.Headers = slices.Clone(x.o.Headers)
			w.turn(&o)
			return o, nil
		})
		if err != nil {
			return err
		}
		x.m.Around = append(x.m.Around, a)
	}
	return x.others()
}

// others asks, while calls are refused, with a fresh token of the same caller,
// which must be refused as well, and as another one whom the quota counts by
// itself, who must not.
func (x *drilling) others() error {
	s := x.r.doc.SchemeNamed(x.p.Scheme)
	if s == nil || x.p.Identity == "" {
		return nil
	}
	if s.Login != nil {
		a, err := x.try("a fresh token of the same caller", func() (wire.Outgoing, error) {
			o := x.without()
			err := x.r.keys.PresentFresh(x.r.ctx, &o, x.p.Identity, s)
			return o, err
		})
		if err != nil {
			return err
		}
		if a.Status != 0 {
			x.m.Around = append(x.m.Around, a)
		}
	}
	other, status, err := x.asAnother(x.r.ctx)
	if err == nil && status != 0 {
		x.m.Other, x.m.OtherStatus = other, status
	}
	return err
}

// without is the request without its credential, to be given another.
func (x *drilling) without() wire.Outgoing {
	o := x.bare
	o.Headers = slices.Clone(x.bare.Headers)
	return o
}

// asAnother sends one call as another caller, where the quota counts callers by
// themselves; other is "" where nobody could be sent.
func (x *drilling) asAnother(ctx context.Context) (other string, status int, err error) {
	s := x.r.doc.SchemeNamed(x.p.Scheme)
	if s == nil || x.p.Identity == "" || len(x.q.CountedBy) == 0 || x.q.CountedBy[0].By != "identity" && x.q.CountedBy[0].By != "key" {
		return "", 0, nil
	}
	if other = x.another(s); other == "" {
		return "", 0, nil
	}
	o := x.without()
	if _, err := x.r.keys.Present(x.r.ctx, &o, other, s.Name); err != nil {
		return "", 0, nil //nolint:nilerr // then it is not tried
	}
	e, err := x.r.client.Send(ctx, o)
	return other, e.Status, err
}

// confirmed is how often a way must pass while the next plain call is refused:
// among nodes that count alone one may pass by chance.
const confirmed = 3

// try sends a call another way while calls are refused.
func (x *drilling) try(name string, make func() (wire.Outgoing, error)) (quota.Around, error) {
	a := quota.Around{Way: name}
	for n := range confirmed {
		o, err := make()
		if err != nil {
			return a, nil //nolint:nilerr // then it is not tried
		}
		e, err := x.r.client.Send(x.r.ctx, o)
		if err != nil {
			return a, err
		}
		a.Status = e.Status
		if e.Status != x.m.Passes {
			return a, nil
		}
		ok, err := x.call()
		if err != nil || ok {
			return a, err
		}
		a.Passed = n == confirmed-1
	}
	return a, nil
}

// another is an identity of the same scheme whom the route admits and who takes
// part in no other drill, "" without.
func (x *drilling) another(s *declaration.Scheme) string {
	for _, id := range x.r.doc.Identities {
		busy := id.Name == x.p.Identity || x.q.ExemptIdentity(x.r.doc, id) || slices.ContainsFunc(x.r.probes, func(p *probe.Probe) bool { return p.Kind == probe.QuotaDrill && p.Identity == id.Name })
		if busy || !slices.ContainsFunc(id.Credentials, func(c declaration.Credential) bool { return c.Scheme.Name == s.Name }) {
			continue
		}
		if access.Evaluate(x.r.doc, x.p.Route, access.Caller{Identity: id, State: access.Sound}).Outcome == access.Admit {
			return id.Name
		}
	}
	return ""
}

// CountedCaller is put before a kind of counting where a caller is asked for.
const CountedCaller = "counted:"

// QuotaSeen is what is known of a declared quota on a target.
type QuotaSeen struct {
	Name     string
	Column   int   // of the board's kinds of caller
	Declared int64 // calls of its first amount
	Window   time.Duration
	Ceiling  int64 // of that window; quota.Unlimited where nothing limits it
	Most     int64 // seen in one window; -1 when nothing was
	Verdict  string
}

// kindsOfCaller are the columns of the Quotas lens: what quotas count by.
func kindsOfCaller(d *declaration.Document) (out []string) {
	for _, q := range d.Quotas {
		if k := countedBy(q); !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

// quotasSeen is what is known of every declared quota.
func quotasSeen(d *declaration.Document, o *observed, kinds []string) []QuotaSeen {
	out := make([]QuotaSeen, len(d.Quotas))
	for k, q := range d.Quotas {
		s := quota.Of(q, q.Allow)
		out[k] = QuotaSeen{Name: q.Name, Column: slices.Index(kinds, countedBy(q)), Declared: int64(q.Allow[0].Count), Window: q.Allow[0].Per, Ceiling: quota.Unlimited, Most: -1, Verdict: "."}
		if w := quota.Ticks(q.Allow[0].Per); w > 0 {
			out[k].Ceiling, _ = s.Ceiling(w)
		}
		if o == nil {
			continue
		}
		for _, p := range o.sent() {
			it, ok := o.items[p.ID]
			if !ok || p.Kind != probe.QuotaDrill || p.Way != q.Name {
				continue
			}
			out[k].Verdict = string(verdictLetter(it.Verdict.Kind))
			if f := o.view[p.ID]; f != nil && f.Quota != nil {
				out[k].Most = f.Quota.Most(quota.Ticks(out[k].Window))
			}
		}
	}
	return out
}

// drillsAt are the drills of the quotas that count a route by a kind of caller.
func drillsAt(d *declaration.Document, pl *probe.Plan, route, kind string) (out []*probe.Probe) {
	i := d.RouteNamed(route)
	if i < 0 {
		return nil
	}
	for _, p := range pl.Probes {
		if p.Kind != probe.QuotaDrill {
			continue
		}
		if k := slices.IndexFunc(d.Quotas, func(q *declaration.Quota) bool { return q.Name == p.Way }); k >= 0 && slices.Contains(d.QuotasAt[i], k) && countedBy(d.Quotas[k]) == kind {
			out = append(out, p)
		}
	}
	return out
}

// measuredOf is what the drill of a quota saw, for the judge.
func measuredOf(d *declaration.Document, p *probe.Probe, f *Fact) *verdict.QuotaSeen {
	q := d.QuotaNamed(p.Way)
	if f.Quota == nil || q == nil {
		return nil
	}
	return &verdict.QuotaSeen{Measured: f.Quota, Quota: q, Stack: stackFor(d, q, p.Identity)}
}

// stackFor is what a quota allows an identity; "" is nobody.
func stackFor(d *declaration.Document, q *declaration.Quota, identity string) quota.Stack {
	amounts, _ := q.AmountsFor(d, d.IdentityNamed(identity)) // a tie is an error of the declaration
	return quota.Of(q, amounts)
}
