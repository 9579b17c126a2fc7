package sweep

import (
	"context"
	"fmt"
	"time"

	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/check/quotas"
	"millgate/core/declaration"
	"millgate/core/quota"
	"millgate/wire"
)

// Restarted is how far a restart check is, and what came of it.
type Restarted struct {
	Quota   string
	Calls   int           // until one was refused
	Refused bool          // now it is full: restart the service, then compare
	Left    time.Duration // until it has room by itself
	Done    bool
	Forgets bool // after the restart a call was admitted that should have been refused
	Late    bool // the window had ended meanwhile, so that nothing can be said
}

// restarting is a restart check between its two halves.
type restarting struct {
	r      *run
	p      *check.Probe
	c      check.Context
	status int // of its refusals
	passes int // of admitted calls
	until  time.Time
	drop   *time.Timer // gives it up
}

// restartWaits is how long a restart check is held beyond its quota's window, for who
// restarts the service slowly.
const RestartWaits = 10 * time.Minute

// FillForRestart calls until a quota refuses. Then the person restarts the
// service, and CompareAfterRestart sends one call more.
func (sw *Sweeps) FillForRestart(ctx context.Context, target, name string) (Restarted, error) {
	out := Restarted{Quota: name}
	d, t, err := sw.ws.Present().Current(target)
	if err != nil {
		return out, err
	}
	if sw.busy() {
		return out, fmt.Errorf("%w: its calls would be part of what is counted", fault.ErrBusy)
	}
	p := drillOf(check.NewPlan(d, t, sw.targets.Families), name)
	q := d.QuotaNamed(name)
	if p == nil || q == nil {
		return out, fmt.Errorf("%w: no drill of quota %q is planned; the plan of a sweep says why",
			fault.ErrNotFound, name)
	}
	q, _ = t.Quota(q)
	if q.Model == declaration.Concurrency {
		return out, fmt.Errorf("%w: %s counts what runs, which a restart ends anyway", fault.ErrInput, name)
	}
	if q.Queue > 0 {
		return out, fmt.Errorf("%w: calls beyond %s wait in place of being refused, so that a restart does not show "+
			"at once", fault.ErrInput, name)
	}
	r, err := sw.newRun(context.WithoutCancel(ctx), d, t, "", &check.Plan{}, planning.Chosen{}, snapshot.NewKnown(nil))
	if err != nil {
		return out, err
	}
	kept := false
	defer func() {
		if !kept {
			r.client.Close()
		}
	}()
	if err := r.client.Reach(ctx); err != nil {
		return out, err
	}
	c := check.Context{Doc: d, Target: t}
	fact, err := r.runner(p, func() {}).Run(ctx, quotas.Fill(&c, p)) //nolint:contextcheck // the run has its own
	if err != nil {
		return out, err
	}
	m, _ := fact.Data.(*quotas.Measured)
	for _, s := range m.Calls {
		if s.OK {
			out.Calls++
		}
	}
	switch out.Refused = m.Status != 0; {
	case m.Broke != "":
		return out, fmt.Errorf("%w: %s", fault.ErrInput, m.Broke)
	case !out.Refused:
		return out, fmt.Errorf("%w: %d calls were admitted, so that there is nothing to forget", fault.ErrInput,
			out.Calls)
	}
	out.Left = quota.Span(max(0, m.Said))
	if m.Said < 0 {
		out.Left = quota.Span(m.ShutFor(quota.StackFor(d, q, p.Caller.Identity)))
	}
	if out.Left == 0 {
		return out, fmt.Errorf("%w: after %d calls one was refused, as %s does not yet, or no longer; when it "+
			"admits again the service does not say, so that a restart shows nothing", fault.ErrInput, out.Calls, name)
	}
	kept = true
	sw.mu.Lock()
	key := [2]string{target, name}
	if old := sw.restarts[key]; old != nil {
		old.end()
	}
	w := &restarting{r: r, p: p, c: c, status: m.Status, passes: m.Passes, until: time.Now().Add(out.Left)}
	w.drop = time.AfterFunc(out.Left+RestartWaits, func() {
		sw.mu.Lock()
		defer sw.mu.Unlock()
		if sw.restarts[key] == w {
			delete(sw.restarts, key)
			w.end()
		}
	})
	sw.restarts[key] = w
	sw.mu.Unlock()
	return out, nil
}

// end lets go of what it holds.
func (w *restarting) end() {
	w.drop.Stop()
	w.r.cancel()
	w.r.stop()
	w.r.client.Close()
}

func drillOf(pl *check.Plan, name string) *check.Probe {
	for _, p := range pl.Probes {
		if p.Is(quotas.Family{}) && p.Of == name {
			return p
		}
	}
	return nil
}

// CompareAfterRestart sends one call, after the service was started again. A
// count that was kept still refuses it.
func (sw *Sweeps) CompareAfterRestart(ctx context.Context, target, name string) (Restarted, error) {
	out := Restarted{Quota: name, Done: true}
	sw.mu.Lock()
	w := sw.restarts[[2]string{target, name}]
	delete(sw.restarts, [2]string{target, name})
	sw.mu.Unlock()
	if w == nil {
		return out, fmt.Errorf("%w: fill the quota first", fault.ErrInput)
	}
	defer w.end()
	more := quotas.OneMore(&w.c, w.p)
	fact, err := w.r.runner(w.p, func() {}).Run(ctx, more) //nolint:contextcheck // the run has its own
	if err != nil {
		return out, err
	}
	last := fact.Reports[0]
	if last.Fate != check.Answered {
		return out, fmt.Errorf("%w: %s", wire.ErrUnreachable, last.Why)
	}
	if !time.Now().Before(w.until) {
		out.Late = true
		return out, nil
	}
	switch st := last.Exchange.Status; st {
	case w.passes:
		out.Forgets = true
	case w.status:
	default:
		return out, fmt.Errorf("%w: after the restart the call was answered %d, admitted ones were answered %d and "+
			"those beyond the quota %d: whether the count was kept is not known", fault.ErrInput, st, w.passes,
			w.status)
	}
	return out, nil
}
