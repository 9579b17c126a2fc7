package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/store"
)

// StartSweep begins a whole sweep. base replaces the target's base when it is
// not empty.
func (a *App) StartSweep(ctx context.Context, target, base string) (*Run, error) {
	now := a.present()
	d, t, err := now.current(target)
	if err != nil {
		return nil, err
	}
	pl := check.NewPlan(d, t, a.families)
	if err := a.secretsOf(ctx, d, pl); err != nil {
		return nil, err
	}
	if len(pl.Probes) == 0 {
		return nil, fmt.Errorf("%w: there is nothing to send: no route of the inventory can be probed", ErrInput)
	}
	return a.start(ctx, d, t, base, pl, pl.Probes, newKnown(nil), store.Sweep{Planned: len(pl.Probes),
		RevisionID: now.revision.ID}, nil)
}

// start begins a sweep: there is one at a time.
func (a *App) start(ctx context.Context, d *declaration.Document, t *declaration.Target, base string,
	pl *check.Plan, only []*check.Probe, facts *known, w store.Sweep, lost map[string]bool) (*Run, error) {
	var again *known // what probes that are sent again belong to
	if w.Partial {
		again = facts
	}
	if err := a.begin(t.Name, again); err != nil {
		return nil, err
	}
	r, err := a.newRun(context.WithoutCancel(ctx), d, t, base, pl, only, facts)
	if err == nil {
		if w.ID == 0 {
			w.Target, w.Base, w.StartedAt = t.Name, base, time.Now()
		}
		w.State, w.EndedAt, w.Note = store.Running, nil, ""
		if err = a.store.SaveSweep(ctx, &w); err != nil {
			err = fmt.Errorf("%w: %w", ErrNotStored, err)
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.starting = ""
	switch {
	case err != nil:
		return nil, err
	case a.closed:
		r.client.Close()
		return nil, fmt.Errorf("%w: the workspace was closed meanwhile", ErrNotStored)
	}
	r.sweep = w
	delete(a.ended, w.ID)
	for id := range lost {
		r.lost[id] = true
	}
	if w.Partial {
		// What is sent again is forgotten first, so that it is sent; it comes
		// back if it is not.
		r.before = map[string]*Fact{}
		for _, p := range only {
			if f := facts.put(p.Key(), nil); f != nil {
				r.before[p.Key()] = f
			}
		}
	} else {
		for _, p := range only {
			if facts.of(p.Key()) != nil {
				r.counted.Add(1)
			}
		}
		a.seen[t.Name] = &observed{facts: facts, sweep: w.ID}
	}
	a.running = r
	i := r.info()
	go r.work() //nolint:contextcheck // a sweep lasts longer than the question
	return i, nil
}

// begin makes sure that no other sweep begins meanwhile, and that none came since again was
// read, unless that is nil.
func (a *App) begin(target string, again *known) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	busy := a.starting
	if a.running != nil {
		busy = a.running.target.Name
	}
	if busy != "" {
		return fmt.Errorf("%w against %s; stop it first", ErrBusy, busy)
	}
	if o := a.seen[target]; again != nil && (o == nil || o.facts != again) {
		return fmt.Errorf("%w: another sweep came between; send them again", ErrBusy)
	}
	a.starting = target
	return nil
}

// secretsOf looks up every secret that the plan needs, so that a sweep does not
// begin only to find them missing. All that are missing are said at once.
func (a *App) secretsOf(ctx context.Context, d *declaration.Document, pl *check.Plan) error {
	need := map[string]bool{}
	for _, p := range pl.Probes {
		if p.Caller.Identity != "" {
			need[p.Caller.Identity] = true
		}
	}
	var missing []string
	for _, id := range d.Identities {
		if !need[id.Name] {
			continue
		}
		for _, c := range id.Credentials {
			if s := d.SchemeNamed(c.Scheme.Name); s == nil {
				continue
			}
			for _, v := range c.Fill {
				if _, err := a.secret(ctx, v); err != nil {
					missing = append(missing, id.Name+": "+err.Error())
				}
			}
		}
	}
	if len(missing) == 0 {
		return nil
	}
	sort.Strings(missing)
	return fmt.Errorf("%w: nothing was sent, because secrets are missing: %s", ErrInput, strings.Join(missing, "; "))
}

// Stop ends the running sweep; it returns when it has ended.
func (a *App) Stop(id uint) error {
	r := a.present().running
	if r == nil || r.sweep.ID != id {
		return fmt.Errorf("%w: sweep %d is not running", ErrNotFound, id)
	}
	r.stop()
	<-r.done
	return nil
}

// Wait returns when the sweep has ended.
func (a *App) Wait(id uint) {
	r := a.present().running
	if r != nil && r.sweep.ID == id {
		<-r.done
	}
}

// Resume goes on with a sweep that was interrupted or stopped, with the
// declaration it was begun with.
func (a *App) Resume(ctx context.Context, id uint) (*Run, error) {
	w, err := a.store.SweepByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("%w: there is no sweep %d", ErrNotFound, id)
	}
	if err != nil {
		return nil, err
	}
	if w.State != store.Interrupted && w.State != store.Stopped {
		return nil, fmt.Errorf("%w: sweep %d is %s; only a stopped or interrupted one can go on", ErrInput, id, w.State)
	}
	if w.Pruned {
		return nil, fmt.Errorf("%w: what sweep %d sent was pruned, so that it cannot go on; begin a new one", ErrInput,
			id)
	}
	if w.Partial {
		return nil, fmt.Errorf("%w: probes that were sent again cannot be gone on with; send them again", ErrInput)
	}
	now := a.present()
	d := now.doc
	if w.RevisionID != now.revision.ID {
		rev, _, err := a.store.RevisionByID(ctx, w.RevisionID)
		if err != nil {
			return nil, err
		}
		var msgs []declaration.Message
		if d, msgs = a.parse(rev.Text); declaration.Failed(msgs) {
			return nil, fmt.Errorf("%w: revision %d, with which it began, can no longer be read", ErrInvalid,
				w.RevisionID)
		}
	}
	t := d.TargetNamed(w.Target)
	if t == nil {
		return nil, fmt.Errorf("%w: there is no target %q", ErrNotFound, w.Target)
	}
	pl := check.NewPlan(d, t, a.families)
	facts, lost, err := a.journal(ctx, id)
	if err != nil {
		return nil, err
	}
	return a.start(ctx, d, t, w.Base, pl, pl.Probes, newKnown(facts), w, lost)
}

// Sweeps lists the newest sweeps.
func (a *App) Sweeps(ctx context.Context) ([]*Run, error) {
	running := a.present().running
	list, err := a.store.Sweeps(ctx, "", 100)
	if err != nil {
		return nil, err
	}
	out := make([]*Run, len(list))
	for i, w := range list {
		out[i] = runInfo(w)
		if running != nil && running.sweep.ID == w.ID {
			out[i] = running.info()
		}
	}
	return out, nil
}

// SweepResult returns what an ended sweep came to.
func (a *App) SweepResult(ctx context.Context, id uint) (*Run, Result, error) {
	var res Result
	a.mu.Lock()
	e, here := a.ended[id]
	a.mu.Unlock()
	if here {
		return e.run, e.res, nil
	}
	w, err := a.store.SweepByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, res, fmt.Errorf("%w: there is no sweep %d", ErrNotFound, id)
	}
	if err != nil {
		return nil, res, err
	}
	if len(w.Result) > 0 {
		err = json.Unmarshal(w.Result, &res)
	}
	return runInfo(w), res, err
}
