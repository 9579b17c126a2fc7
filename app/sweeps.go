package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/store"
	"millgate/wire"
)

// Ended says how a sweep that is over came to its end.
func (r *Run) Ended() (done, failed bool) { return r.State == store.Done, r.State == store.Failed }

// PlanSummary is a plan in numbers.
type PlanSummary struct {
	Target   string  `json:"target"`
	Base     string  `json:"base"`
	Probes   int     `json:"probes"`
	Requests int     `json:"requests"` // with logins and throwaway records
	Unsafe   int     `json:"unsafe"`
	Made     int     `json:"made"` // probes on throwaway records
	Inferred int     `json:"inferred"`
	Spared   int     `json:"spared"`  // broken credentials that a route with the same guard stands for
	Seconds  float64 `json:"seconds"` // at the target's pace
	Pace     string  `json:"pace"`
	// By the quotas that count the sweep, and the one that holds it up most.
	QuotaSeconds float64             `json:"quotaSeconds,omitempty"`
	Quota        string              `json:"quota,omitempty"`
	Policy       string              `json:"policy"` // the target's `unsafe`
	Kinds        map[string]int      `json:"kinds"`
	Shared       map[string][]string `json:"shared"` // identity → those it stands for
}

func summary(d *declaration.Document, pl *check.Plan, t *declaration.Target) PlanSummary {
	s := PlanSummary{Target: t.Name, Base: t.Base, Probes: len(pl.Probes), Requests: pl.Requests(), Unsafe: pl.Unsafe(),
		Made: pl.Made(), Inferred: pl.Inferred, Spared: pl.Spared,
		Seconds: pl.Duration(t.Pace).Seconds(), Pace: t.Pace.String(), Policy: string(t.Unsafe),
		Kinds: map[string]int{}, Shared: map[string][]string{}}
	long, by := quotaTime(d, t, pl)
	s.QuotaSeconds, s.Quota = long.Seconds(), by
	for _, p := range pl.Probes {
		s.Kinds[KindOf(p)]++
		if len(p.StandsFor) > 0 {
			s.Shared[p.Caller.Identity] = p.StandsFor
		}
	}
	return s
}

// PlanDetail is a plan to look at before anything is sent.
type PlanDetail struct {
	PlanSummary
	Left         []check.Omission
	UnsafeProbes []UnsafeProbe // at most mostListed of them
}

// UnsafeProbe is a planned probe that sends something unsafe.
type UnsafeProbe struct {
	Route, Who, What string
	Expect           access.Expectation
}

// mostListed is how many unsafe probes a plan lists.
const mostListed = 1000

// current is the declaration with a target to sweep.
func (p present) current(target string) (*declaration.Document, *declaration.Target, error) {
	if p.failed() {
		return nil, nil, fmt.Errorf("%w: mend it in the Declaration place first", ErrInvalid)
	}
	t := p.doc.TargetNamed(target)
	if t == nil {
		names := make([]string, len(p.doc.Targets))
		for i, t := range p.doc.Targets {
			names[i] = t.Name
		}
		hint := "declare one under `targets`"
		if near := declaration.Nearest(target, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return nil, nil, fmt.Errorf("%w: there is no target %q; %s", ErrNotFound, target, hint)
	}
	return p.doc, t, nil
}

// Plan plans a sweep of a target, the first when it is empty, without sending
// anything.
func (a *App) Plan(target string) (PlanDetail, error) {
	now := a.present()
	if target == "" && len(now.doc.Targets) > 0 {
		target = now.doc.Targets[0].Name
	}
	d, t, err := now.current(target)
	if err != nil {
		return PlanDetail{}, err
	}
	pl := check.NewPlan(d, t, a.families)
	out := PlanDetail{PlanSummary: summary(d, pl, t), Left: pl.Left}
	for _, p := range pl.Probes {
		if p.Unsafe && len(out.UnsafeProbes) < mostListed {
			out.UnsafeProbes = append(out.UnsafeProbes, UnsafeProbe{p.Route, pl.Who(p), KindOf(p), pl.Expect(p)})
		}
	}
	return out, nil
}

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

// journal reads what sweeps sent: the facts, a later one in place of those before, and the
// unsafe probes that were sent and never answered.
func (a *App) journal(ctx context.Context, sweeps ...uint) (facts map[string]*Fact, lost map[string]bool, err error) {
	rows, err := a.store.Probes(ctx, sweeps...)
	if err != nil {
		return nil, nil, err
	}
	facts, lost = map[string]*Fact{}, map[string]bool{}
	for _, row := range rows {
		if !row.Answered {
			lost[sameProbe(row.ProbeID)] = row.Unsafe
			continue
		}
		f, err := decodeFact(row.ProbeID, row.Identity, row.Fact, a.families)
		if err != nil {
			return nil, nil, fmt.Errorf("probe %s of sweep %d cannot be read: %w", row.ProbeID, row.SweepID, err)
		}
		facts[sameProbe(row.ProbeID)] = f
	}
	for k, unsafe := range lost {
		if !unsafe {
			delete(lost, k)
		}
	}
	return facts, lost, nil
}

// Crossing names one cell of the board; an empty Caller is nobody, "*" is all.
type CrossingKey struct{ Route, Caller string }

// ProbeAgain sends the probes of some crossings again, with their controls.
func (a *App) ProbeAgain(ctx context.Context, target string, keys []CrossingKey) (*Run, error) {
	now := a.present()
	d, t, err := now.current(target)
	if err != nil {
		return nil, err
	}
	s, err := a.look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	pl := s.plan().Copy() // with what gaps led to
	want := map[string]bool{}
	for _, k := range keys {
		if kind, ok := strings.CutPrefix(k.Caller, CountedCaller); ok {
			for _, p := range drillsAt(d, pl, k.Route, kind) {
				want[p.Key()] = true
			}
		}
	}
	for _, p := range pl.Probes {
		for _, k := range keys {
			if p.Route == k.Route && (k.Caller == "*" || belongs(pl, p, k.Caller) ||
				slices.Contains(p.StandsFor, k.Caller)) {
				want[p.Key()] = true
				if p.Control != "" {
					want[p.Control] = true
				}
			}
		}
	}
	var only []*check.Probe
	for _, p := range pl.Probes {
		if want[p.Key()] {
			only = append(only, p)
		}
	}
	if len(only) == 0 {
		return nil, fmt.Errorf("%w: no probe is planned there; the plan says why", ErrNotFound)
	}
	o, err := a.observe(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	return a.start(ctx, d, t, "", pl, only, o.facts, store.Sweep{Planned: len(only), Partial: true,
		RevisionID: now.revision.ID}, nil)
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

// Connection is what a test of a target's connection showed.
type Connection struct {
	OK    bool
	Steps []Step
}

// Step is one part of the test.
type Step struct {
	Name string
	OK   bool
	Text string
}

// TestTarget connects to every host of the target and obtains a credential
// for each identity.
func (a *App) TestTarget(ctx context.Context, target string) (Connection, error) {
	d, t, err := a.present().current(target)
	if err != nil {
		return Connection{}, err
	}
	out := Connection{OK: true}
	add := func(name string, err error, ok string) {
		s := Step{Name: name, OK: err == nil, Text: ok}
		if err != nil {
			s.Text, out.OK = err.Error(), false
		}
		out.Steps = append(out.Steps, s)
	}
	c, err := wire.NewClient(ctx, t, "", wire.NewMasker(a.maskKey), a.dial)
	if err == nil {
		err = c.Reach(ctx)
	}
	add("connect", err, "every host takes connections")
	if err != nil {
		return out, nil
	}
	defer c.Close()
	keys := wire.NewKeyring(d, t, c, a.secrets(ctx))
	for _, id := range d.Identities {
		for _, cr := range id.Credentials {
			s := d.SchemeNamed(cr.Scheme.Name)
			if s == nil {
				continue
			}
			if s.Kind == declaration.Link && s.Issue != nil {
				add(id.Name+", "+s.Name, nil, "is given out where it is used")
				continue
			}
			var o wire.Outgoing
			_, err := keys.Present(ctx, &o, id.Name, s.Name)
			add(id.Name+", "+s.Name, err, "a credential is at hand")
		}
	}
	return out, nil
}
