package sweep

import (
	"context"
	"fmt"

	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/wire"
)

// Send sends one call to a target by itself, under the target's rules, and gives its report. It
// belongs to no sweep: nothing of it is kept, and what it makes is not removed.
func (sw *Sweeps) Send(ctx context.Context, target string, c check.Call) (check.Report, error) {
	d, t, err := sw.ws.Present().Current(target)
	if err != nil {
		return check.Report{}, err
	}
	if declaration.UnsafeMethod(c.Request.Method) && t.Unsafe != declaration.UnsafeAllowed {
		return check.Report{}, fmt.Errorf("%w: the target does not allow %s by hand (unsafe: %s); "+
			"write  unsafe: allowed", fault.ErrInput, c.Request.Method, t.Unsafe)
	}
	if sw.busy() {
		return check.Report{}, fmt.Errorf("%w: wait for it, or stop it first", fault.ErrBusy)
	}
	r, err := sw.newRun(ctx, d, t, "", &check.Plan{}, planning.Chosen{}, snapshot.NewKnown(nil))
	if err != nil {
		return check.Report{}, err
	}
	defer func() {
		r.cancel()
		r.stop()
		r.client.Close()
	}()
	if err := r.client.Reach(ctx); err != nil {
		return check.Report{}, err
	}
	c.Makes, c.Take, c.Undo, c.Retry = nil, nil, nil, false
	fact, err := wire.Runner{Keys: r.keys, Breaking: r.breaking, Public: r.keysOf}.Run(ctx,
		check.Tell(func(t *check.Telling) { t.One(c) }))
	if len(fact.Reports) == 0 { // it was given up
		return check.Report{}, err
	}
	report := fact.Reports[0]
	if report.Fate == check.Unsent {
		return check.Report{}, fmt.Errorf("%w: %s", fault.ErrInput, report.Why)
	}
	return report, nil
}
