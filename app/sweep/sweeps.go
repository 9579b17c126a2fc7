// Package sweep runs sweeps: it begins one, sends its probes in their phases, journals what came of
// each, removes what was made, and ends it with a result that says how far it can be built on.
//
// There is one sweep at a time. It can be stopped, and goes on later with what was not sent: what is
// unsafe is in the journal before it is sent, and is never sent twice. The runner of package wire
// sends the steps of a probe's script; a run gives it what it asks for: room in quotas, records,
// credentials that are renewed, and what to do with a target that begins to fail.
package sweep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"sync"
	"time"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/room"
	"millgate/app/snapshot"
	"millgate/app/workspace"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/store"
)

// Sweeps begins, stops and tells of sweeps. It is safe for concurrent use.
type Sweeps struct {
	// Ask asks a person a question that can be answered with yes; nil is nobody.
	Ask func(question string) bool
	// KeepGoing goes on when a target begins to fail.
	KeepGoing bool
	// Retention is what of earlier sweeps is kept once another one has ended.
	Retention Retention

	store   *store.Store
	events  *events.Hub
	ws      *workspace.Workspace
	targets *snapshot.Targets
	spent   room.Spent // what drills used of other quotas
	began   time.Time

	mu       sync.Mutex
	running  *run
	starting string // the target of a sweep that is about to run; "" without
	closed   bool
	restarts map[[2]string]*restarting // checks between their two halves
	ended    map[uint]ended            // sweeps of this process
}

func New(st *store.Store, events *events.Hub, ws *workspace.Workspace, targets *snapshot.Targets) *Sweeps {
	return &Sweeps{store: st, events: events, ws: ws, targets: targets, restarts: map[[2]string]*restarting{},
		ended: map[uint]ended{}, began: time.Now()}
}

// ticks is how long the process has run: a clock that jumps does not change it.
func (sw *Sweeps) ticks() int64 { return time.Since(sw.began).Microseconds() }

// Close stops what runs.
func (sw *Sweeps) Close() {
	sw.mu.Lock()
	r := sw.running
	sw.closed = true
	for k, w := range sw.restarts {
		w.end()
		delete(sw.restarts, k)
	}
	sw.mu.Unlock()
	if r != nil {
		r.stop()
		<-r.done
	}
}

// current is the sweep that runs, nil without.
func (sw *Sweeps) current() *run {
	sw.mu.Lock()
	defer sw.mu.Unlock()
	return sw.running
}

// Running is a sweep as it stands, nil where it is not running.
func (sw *Sweeps) Running(id uint) *events.Run {
	if r := sw.current(); r != nil && r.sweep.ID == id {
		return r.info()
	}
	return nil
}

// busy says whether a sweep runs or is about to.
func (sw *Sweeps) busy() bool {
	sw.mu.Lock()
	defer sw.mu.Unlock()
	return sw.running != nil || sw.starting != ""
}

// Hold lets no sweep begin until it is released.
func (sw *Sweeps) Hold(target string) (release func(), err error) {
	if err := sw.begin(target, nil); err != nil {
		return nil, err
	}
	return func() {
		sw.mu.Lock()
		defer sw.mu.Unlock()
		sw.starting = ""
	}, nil
}

// Start begins a whole sweep. base replaces the target's base when it is not empty.
func (sw *Sweeps) Start(ctx context.Context, target, base string) (*events.Run, error) {
	return sw.StartPart(ctx, target, base, planning.Part{})
}

// StartPart is Start for a part of the plan.
func (sw *Sweeps) StartPart(ctx context.Context, target, base string, part planning.Part) (*events.Run, error) {
	now := sw.ws.Present()
	d, t, err := now.Current(target)
	if err != nil {
		return nil, err
	}
	pl := check.NewPlan(d, t, sw.targets.Families)
	if err := sw.secretsOf(ctx, d, pl); err != nil {
		return nil, err
	}
	if len(pl.Probes) == 0 {
		return nil, fmt.Errorf("%w: there is nothing to send: no route of the inventory can be probed", fault.ErrInput)
	}
	chosen, err := part.Choose(d, t, pl)
	if err != nil {
		return nil, err
	}
	known := snapshot.NewKnown(nil)
	if part.Narrow() && part.Shard.Of == 0 { // what is known of the rest stays
		o, err := sw.targets.Observe(ctx, now, t.Name)
		if err != nil {
			return nil, err
		}
		known = o.Facts
	}
	return sw.start(ctx, d, t, base, pl, chosen, known, store.Sweep{Planned: len(chosen.Probes),
		RevisionID: now.Revision.ID, Partial: part.Narrow(), Shard: part.Shard.String()}, nil)
}

// start begins a sweep: there is one at a time.
func (sw *Sweeps) start(ctx context.Context, d *declaration.Document, t *declaration.Target, base string,
	pl *check.Plan, only planning.Chosen, facts *snapshot.Known, w store.Sweep,
	lost map[string]bool) (*events.Run, error) {
	var again *snapshot.Known // what probes that are sent again belong to
	if w.Again() {
		again = facts
	}
	if err := sw.begin(t.Name, again); err != nil {
		return nil, err
	}
	now := sw.ws.Present()
	r, err := sw.newRun(context.WithoutCancel(ctx), d, t, base, pl, only, facts)
	if err == nil {
		if w.ID == 0 {
			w.Target, w.Base, w.StartedAt = t.Name, base, time.Now()
		}
		w.State, w.EndedAt, w.Note = store.Running, nil, ""
		if err = sw.store.SaveSweep(ctx, &w); err != nil {
			err = fmt.Errorf("%w: %w", fault.ErrNotStored, err)
		}
	}
	sw.mu.Lock()
	defer sw.mu.Unlock()
	sw.starting = ""
	switch {
	case err != nil:
		return nil, err
	case sw.closed:
		r.client.Close()
		return nil, fmt.Errorf("%w: the workspace was closed meanwhile", fault.ErrNotStored)
	}
	r.sweep = w
	delete(sw.ended, w.ID)
	for id := range lost {
		r.lost[id] = true
	}
	if w.Again() {
		// What is sent again is forgotten first, so that it is sent; it comes
		// back if it is not.
		r.before = map[string]*snapshot.Fact{}
		for _, p := range only.Probes {
			if f := facts.Put(p.Key(), nil); f != nil {
				r.before[p.Key()] = f
			}
		}
	}
	if w.Partial {
		sw.targets.Begin(now, t.Name, nil, 0)
	} else {
		for _, p := range only.Probes {
			if facts.Of(p.Key()) != nil {
				r.counted.Add(1)
			}
		}
		sw.targets.Begin(now, t.Name, facts, w.ID)
	}
	sw.running = r
	i := r.info()
	go r.work() //nolint:contextcheck // a sweep lasts longer than the question
	return i, nil
}

// begin makes sure that no other sweep begins meanwhile, and that none came since again was
// read, unless that is nil.
func (sw *Sweeps) begin(target string, again *snapshot.Known) error {
	sw.mu.Lock()
	defer sw.mu.Unlock()
	busy := sw.starting
	if sw.running != nil {
		busy = sw.running.target.Name
	}
	if busy != "" {
		return fmt.Errorf("%w against %s; stop it first", fault.ErrBusy, busy)
	}
	if again != nil && !sw.targets.Holds(sw.ws.Present(), target, again) {
		return fmt.Errorf("%w: another sweep came between; send them again", fault.ErrBusy)
	}
	sw.starting = target
	return nil
}

// secretsOf looks up every secret that the plan needs, so that a sweep does not
// begin only to find them missing. All that are missing are said at once.
func (sw *Sweeps) secretsOf(ctx context.Context, d *declaration.Document, pl *check.Plan) error {
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
			for n, v := range c.Fill {
				text, err := sw.ws.Secret(ctx, v)
				switch {
				case err != nil:
					missing = append(missing, id.Name+": "+err.Error())
				case c.Secret(n) && len(text) < mask.Everywhere:
					why := fmt.Sprintf("it is shorter than %d characters, so that it is masked only where it is a "+
						"whole value, and not inside other text", mask.Everywhere)
					pl.Left = append(pl.Left, check.Omission{Route: "what is kept", Caller: id.Name,
						What: "masking of " + n, Why: why})
				}
			}
		}
	}
	if len(missing) == 0 {
		return nil
	}
	sort.Strings(missing)
	return fmt.Errorf("%w: nothing was sent, because secrets are missing: %s", fault.ErrInput,
		strings.Join(missing, "; "))
}

// Stop ends the running sweep; it returns when it has ended.
func (sw *Sweeps) Stop(id uint) error {
	r := sw.current()
	if r == nil || r.sweep.ID != id {
		return fmt.Errorf("%w: sweep %d is not running", fault.ErrNotFound, id)
	}
	r.stop()
	<-r.done
	return nil
}

// Wait returns when the sweep has ended.
func (sw *Sweeps) Wait(id uint) {
	r := sw.current()
	if r != nil && r.sweep.ID == id {
		<-r.done
	}
}

// Resume goes on with a sweep that was interrupted or stopped, with the
// declaration it was begun with.
func (sw *Sweeps) Resume(ctx context.Context, id uint) (*events.Run, error) {
	w, err := sw.store.SweepByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("%w: there is no sweep %d", fault.ErrNotFound, id)
	}
	if err != nil {
		return nil, err
	}
	if w.State != store.Interrupted && w.State != store.Stopped {
		return nil, fmt.Errorf("%w: sweep %d is %s; only a stopped or interrupted one can go on",
			fault.ErrInput, id, w.State)
	}
	if w.Pruned {
		return nil, fmt.Errorf("%w: what sweep %d sent was pruned, so that it cannot go on; begin a new one",
			fault.ErrInput,
			id)
	}
	if w.Partial {
		return nil, fmt.Errorf("%w: probes that were sent again cannot be gone on with; send them again",
			fault.ErrInput)
	}
	now := sw.ws.Present()
	d := now.Doc
	if w.RevisionID != now.Revision.ID {
		rev, _, err := sw.store.RevisionByID(ctx, w.RevisionID)
		if err != nil {
			return nil, err
		}
		var msgs []declaration.Message
		if d, msgs = sw.ws.Parse(rev.Text); declaration.Failed(msgs) {
			return nil, fmt.Errorf("%w: revision %d, with which it began, can no longer be read", fault.ErrInvalid,
				w.RevisionID)
		}
	}
	t := d.TargetNamed(w.Target)
	if t == nil {
		return nil, fmt.Errorf("%w: there is no target %q", fault.ErrNotFound, w.Target)
	}
	pl := check.NewPlan(d, t, sw.targets.Families)
	facts, lost, err := sw.targets.Journal(ctx, id)
	if err != nil {
		return nil, err
	}
	return sw.start(ctx, d, t, w.Base, pl, planning.Chosen{Probes: pl.Probes}, snapshot.NewKnown(facts), w,
		lost)
}

// List lists the newest sweeps, those before one when that is not 0.
func (sw *Sweeps) List(ctx context.Context, before uint, limit int) ([]*events.Run, error) {
	running := sw.current()
	list, err := sw.store.Sweeps(ctx, "", before, limit)
	if err != nil {
		return nil, err
	}
	out := make([]*events.Run, len(list))
	for i, w := range list {
		out[i] = events.RunOf(w)
		if running != nil && running.sweep.ID == w.ID {
			out[i] = running.info()
		}
	}
	return out, nil
}

// SweepResult returns what an ended sweep came to.
func (sw *Sweeps) Result(ctx context.Context, id uint) (*events.Run, coverage.Result, error) {
	var res coverage.Result
	sw.mu.Lock()
	e, here := sw.ended[id]
	sw.mu.Unlock()
	if here {
		return e.run, e.res, nil
	}
	w, err := sw.store.SweepByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, res, fmt.Errorf("%w: there is no sweep %d", fault.ErrNotFound, id)
	}
	if err != nil {
		return nil, res, err
	}
	if len(w.Result) > 0 {
		err = json.Unmarshal(w.Result, &res)
	}
	return events.RunOf(w), res, err
}
