package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
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

func (a *App) current(target string) (*declaration.Document, *declaration.Target, error) {
	if declaration.Failed(a.messages) {
		return nil, nil, fmt.Errorf("%w: mend it in the Declaration place first", ErrInvalid)
	}
	t := a.doc.TargetNamed(target)
	if t == nil {
		names := make([]string, len(a.doc.Targets))
		for i, t := range a.doc.Targets {
			names[i] = t.Name
		}
		hint := "declare one under `targets`"
		if near := declaration.Nearest(target, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return nil, nil, fmt.Errorf("%w: there is no target %q; %s", ErrNotFound, target, hint)
	}
	return a.doc, t, nil
}

// Plan plans a sweep of a target, the first when it is empty, without sending
// anything.
func (a *App) Plan(target string) (PlanDetail, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if target == "" && len(a.doc.Targets) > 0 {
		target = a.doc.Targets[0].Name
	}
	d, t, err := a.current(target)
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
func (a *App) StartSweep(target, base string) (*Run, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	d, t, err := a.current(target)
	if err != nil {
		return nil, err
	}
	pl := check.NewPlan(d, t, a.families)
	if err := a.secretsOf(d, pl); err != nil {
		return nil, err
	}
	if len(pl.Probes) == 0 {
		return nil, fmt.Errorf("%w: there is nothing to send: no route of the inventory can be probed", ErrInput)
	}
	facts := map[string]*Fact{}
	return a.start(d, t, base, pl, pl.Probes, facts, store.Sweep{Planned: len(pl.Probes)}, nil)
}

func (a *App) start(d *declaration.Document, t *declaration.Target, base string, pl *check.Plan, only []*check.Probe,
	facts map[string]*Fact, w store.Sweep, lost map[string]bool) (*Run, error) {
	if a.running != nil {
		return nil, fmt.Errorf("%w against %s; stop it first", ErrBusy, a.running.target.Name)
	}
	r, err := a.newRun(context.Background(), d, t, base, pl, only, facts)
	if err != nil {
		return nil, err
	}
	if w.ID == 0 {
		w.RevisionID, w.Target, w.Base, w.StartedAt = a.revision.ID, t.Name, base, time.Now()
	}
	w.State, w.EndedAt, w.Note = store.Running, nil, ""
	if err := a.store.SaveSweep(&w); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotStored, err)
	}
	r.sweep = w
	delete(a.ended, w.ID)
	for id := range lost {
		r.lost[id] = true
	}
	for _, p := range only {
		if facts[p.Key()] != nil && !w.Partial {
			r.counted.Add(1)
		}
	}
	a.running = r
	if !w.Partial {
		a.seen[t.Name] = &observed{facts: facts, sweep: w.ID}
	} else {
		// What is sent again is forgotten first, so that it is sent; it comes
		// back if it is not.
		r.before = map[string]*Fact{}
		for _, p := range only {
			if f := facts[p.Key()]; f != nil {
				r.before[p.Key()] = f
				delete(facts, p.Key())
			}
		}
		if o := a.seen[t.Name]; o != nil {
			o.judged = false
		}
	}
	i := r.info()
	go r.work()
	return i, nil
}

// secretsOf looks up every secret that the plan needs, so that a sweep does not
// begin only to find them missing. All that are missing are said at once.
func (a *App) secretsOf(d *declaration.Document, pl *check.Plan) error {
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
				if _, err := a.secret(v); err != nil {
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
	a.mu.Lock()
	r := a.running
	a.mu.Unlock()
	if r == nil || r.sweep.ID != id {
		return fmt.Errorf("%w: sweep %d is not running", ErrNotFound, id)
	}
	r.stop()
	<-r.done
	return nil
}

// Wait returns when the sweep has ended.
func (a *App) Wait(id uint) {
	a.mu.Lock()
	r := a.running
	a.mu.Unlock()
	if r != nil && r.sweep.ID == id {
		<-r.done
	}
}

// Resume goes on with a sweep that was interrupted or stopped, with the
// declaration it was begun with.
func (a *App) Resume(id uint) (*Run, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	w, err := a.store.SweepByID(id)
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
	d := a.doc
	if w.RevisionID != a.revision.ID {
		rev, _, err := a.store.RevisionByID(w.RevisionID)
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
	facts, lost, err := a.journal(id)
	if err != nil {
		return nil, err
	}
	return a.start(d, t, w.Base, pl, pl.Probes, facts, w, lost)
}

// journal reads what a sweep sent: the facts, and the unsafe probes that were
// sent and never answered.
func (a *App) journal(id uint) (facts map[string]*Fact, lost map[string]bool, err error) {
	rows, err := a.store.Probes(id)
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
			return nil, nil, fmt.Errorf("probe %s of sweep %d cannot be read: %w", row.ProbeID, id, err)
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
func (a *App) ProbeAgain(target string, keys []CrossingKey) (*Run, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	d, t, err := a.current(target)
	if err != nil {
		return nil, err
	}
	pl := check.NewPlan(d, t, a.families)
	if o, err := a.judged(t); err == nil {
		j := newJudge(d, t, pl, o.view)
		for _, p := range slices.Clone(pl.Probes) {
			if it, ok := o.items[p.Key()]; ok {
				j.widen(it)
			}
		}
	}
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
	o, err := a.observe(t.Name)
	if err != nil {
		return nil, err
	}
	return a.start(d, t, "", pl, only, o.facts, store.Sweep{Planned: len(only), Partial: true}, nil)
}

// observe loads what is known of a target: its last whole sweep and what was
// sent again since.
func (a *App) observe(target string) (*observed, error) {
	if o := a.seen[target]; o != nil {
		return o, nil
	}
	o := &observed{facts: map[string]*Fact{}}
	list, err := a.store.Standing(target)
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		facts, _, err := a.journal(w.ID)
		if err != nil {
			return nil, err
		}
		if !w.Partial {
			o.sweep = w.ID
		}
		maps.Copy(o.facts, facts)
	}
	a.seen[target] = o
	return o, nil
}

// forget makes the next look at a target judge again.
func (a *App) forget(target string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if o := a.seen[target]; o != nil {
		o.judged = false
	}
}

// judged returns what is known of a target, judged by the current declaration.
func (a *App) judged(target *declaration.Target) (*observed, error) {
	o, err := a.observe(target.Name)
	if err != nil || o.judged {
		return o, err
	}
	// A sweep changes the facts while what is seen here is read.
	r := a.running
	if r != nil {
		r.mu.Lock()
	}
	facts := maps.Clone(o.facts)
	if r != nil {
		r.mu.Unlock()
	}
	o.view = facts
	if o.doc != a.doc {
		o.doc, o.plan, o.items, o.made, o.asked = a.doc, nil, map[string]check.Item{}, map[string]basis{},
			map[string]bool{}
	}
	if o.plan == nil {
		if len(facts) == 0 {
			clear(o.items)
			o.findings, o.counts, o.judged = nil, check.Count(a.families, nil, nil), true
			return o, nil
		}
		o.plan = check.NewPlan(a.doc, target, a.families)
	}
	items := o.judgeAll(a.doc, target, facts, a.running != nil)
	o.findings = check.Gather(o.plan.Context, o.plan.Families, items)
	o.counts = check.Count(a.families, items, o.findings)
	o.judged = true
	return o, nil
}

// judgeAll judges what is new or has another control than before, and returns
// all items in the order of the plan. While a sweep runs, a refusal whose
// control is still to come is left out: it would only look unproven.
func (o *observed) judgeAll(d *declaration.Document, t *declaration.Target, facts map[string]*Fact,
	running bool) []check.Item {
	j := newJudge(d, t, o.plan, facts)
	items := make([]check.Item, 0, len(facts))
	for i := 0; i < len(o.plan.Probes); i++ { // a gap can add to them
		p := o.plan.Probes[i]
		b := basis{facts[p.Key()], facts[p.Control]}
		open := o.asked[p.Key()]
		if b.fact == nil {
			delete(o.items, p.Key())
			continue
		}
		it, ok := o.items[p.Key()]
		// What a family asks for is known from further answers than these two.
		if !ok || o.made[p.Key()] != b || open {
			var asked []string
			it, asked = j.judging(p)
			o.items[p.Key()], o.made[p.Key()] = it, b
			o.asked[p.Key()] = slices.ContainsFunc(asked, func(key string) bool {
				return key != p.Key() && key != p.Control
			})
		}
		j.widen(it)
		if running && it.Verdict.Kind == finding.Unproven && b.control == nil && o.plan.Find(p.Control) != nil {
			delete(o.items, p.Key())
			continue
		}
		items = append(items, it)
	}
	// What is judged has its fact: a probe that is sent again has none meanwhile.
	maps.DeleteFunc(o.items, func(id string, _ check.Item) bool { return facts[id] == nil })
	return items
}

// planned is the plan of a target by the current declaration.
func (a *App) planned(o *observed, target *declaration.Target) *check.Plan {
	if o.plan == nil {
		o.plan = check.NewPlan(a.doc, target, a.families)
	}
	return o.plan
}

// Sweeps lists the newest sweeps.
func (a *App) Sweeps() ([]*Run, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	list, err := a.store.Sweeps("", 100)
	if err != nil {
		return nil, err
	}
	out := make([]*Run, len(list))
	for i, w := range list {
		out[i] = runInfo(w)
		if r := a.running; r != nil && r.sweep.ID == w.ID {
			out[i] = r.info()
		}
	}
	return out, nil
}

// SweepResult returns what an ended sweep came to.
func (a *App) SweepResult(id uint) (*Run, Result, error) {
	var res Result
	a.mu.Lock()
	e, here := a.ended[id]
	a.mu.Unlock()
	if here {
		return e.run, e.res, nil
	}
	w, err := a.store.SweepByID(id)
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
	a.mu.Lock()
	d, t, err := a.current(target)
	a.mu.Unlock()
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
	keys := wire.NewKeyring(d, t, c, a.secret)
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
