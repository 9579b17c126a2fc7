package wire

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"time"

	"millgate/core/check"
	"millgate/core/mask"
)

// running is a script under way: its secrets, and how they are masked in its reports.
type running struct {
	k       *Keyring
	began   time.Time
	mu      sync.Mutex
	slots   map[string]string // what was taken, raw; it never leaves this package
	masking *mask.Masking
	unsent  error // why the first call that could not be sent was not
}

// Run runs a script to its end. The fact is what was seen, masked. The error is that of a
// cancelled context, where the script was given up; or why nothing of it could be sent.
func (k *Keyring) Run(ctx context.Context, s check.Script) (check.Fact, error) {
	r := &running{k: k, began: k.now(), slots: map[string]string{}, masking: k.client.mask.begin()}
	f := check.Fact{Began: r.began}
	err := r.steps(ctx, s)
	if err != nil {
		f.Cut = err.Error()
	}
	f.Data, f.Reports = s.Data()
	if err == nil && !slices.ContainsFunc(f.Reports, func(x check.Report) bool { return x.Fate != check.Unsent }) {
		err = r.unsent
	}
	return f, err
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

// call sends one call. The error is that of a cancelled context.
func (r *running) call(ctx context.Context, c check.Call) (check.Report, error) {
	report := check.Report{Name: c.Name, Begin: r.now(), End: r.now()}
	o, err := r.outgoing(ctx, c)
	if ctx.Err() != nil {
		return report, ctx.Err()
	}
	if err != nil {
		report.Why = r.k.client.mask.Text(err.Error())
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.unsent == nil {
			r.unsent = err
		}
		return report, nil
	}
	var x raw
	if c.Retry {
		x, report.Repeats, err = r.k.patiently(ctx, o)
	} else {
		x, err = r.k.client.send(ctx, o)
	}
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
		if end := endOf(v, t, x, r.k.now()); !end.IsZero() {
			report.Ends[t.Slot] = end
		}
	}
	return report, nil
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
		}
		if v != "" {
			kind := mask.Token
			if t.From == check.FromCookie {
				kind = mask.Cookie
			}
			r.k.client.mask.Learn(kind, v)
			out[t.Slot], r.slots[t.Slot] = v, v
		}
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

// outgoing fills a call's template and presents its credentials.
func (r *running) outgoing(ctx context.Context, c check.Call) (Outgoing, error) {
	q := c.Request
	values := map[string]string{}
	for n, f := range q.Fill {
		v, err := r.value(f)
		if err != nil {
			return Outgoing{}, err
		}
		values[n] = v
	}
	o := Outgoing{Method: q.Method, Host: q.Host, Path: fillText(q.Path, values, url.PathEscape), Query: fillText(q.Query, values, url.QueryEscape)}
	for _, h := range q.Headers {
		o.Headers = append(o.Headers, [2]string{h[0], fillText(h[1], values, same)})
	}
	if len(q.Body) > 0 {
		o.Body = FillBody(q.Body, check.Field(q.Headers, "Content-Type"), values)
	}
	for _, p := range c.As {
		if err := r.present(ctx, &o, p); err != nil {
			return o, err
		}
	}
	return o, nil
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
	case f.Identity != "":
		fill, err := r.k.fill(f.Identity, f.Scheme)
		return fill[f.Name], err
	case f.Name != "":
		return r.k.target.Values[f.Name], nil
	}
	return f.Text, nil
}

func (r *running) present(ctx context.Context, o *Outgoing, p check.Present) error {
	if p.Slot == "" {
		_, err := r.k.Present(ctx, o, p.Identity, p.Scheme)
		return err
	}
	s := r.k.doc.SchemeNamed(p.Scheme)
	if s == nil {
		return fmt.Errorf("%w: there is no scheme %q", ErrCredential, p.Scheme)
	}
	v, err := r.value(check.Fill{Slot: p.Slot})
	if err != nil {
		return err
	}
	attach(o, s, v)
	return nil
}
