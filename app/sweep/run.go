package sweep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"millgate/app/buried"
	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/planning"
	"millgate/app/room"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/store"
	"millgate/wire"
)

const (
	Lanes        = 8                // requests in flight
	repeats      = 3                // of a throttled probe
	longestWait  = 60 * time.Second // that a Retry-After may ask for, where no quota explains it
	stopGrace    = 400 * time.Millisecond
	progressStep = 250 * time.Millisecond
)

type run struct {
	sweeps   *Sweeps
	doc      *declaration.Document
	target   *declaration.Target
	paced    *declaration.Target // with the pace that is the run's
	plan     *check.Plan
	client   *wire.Client
	keys     *wire.Keyring
	breaking *wire.Breaking
	sweep    store.Sweep
	judge    *snapshot.Judge
	probes   []*check.Probe // those to send

	room     *room.Room      // nil where the target does not count the sweep
	stopping context.Context // done: begin nothing new
	stop     context.CancelFunc
	ctx      context.Context // done: drop what is in flight
	cancel   context.CancelFunc
	done     chan struct{}

	facts   *snapshot.Known
	mu      sync.Mutex                // pending, since, worked, sweep
	pending map[string][]*check.Probe // by control
	since   map[string][]*check.Probe // refused since the credential's last success
	worked  map[string]bool
	tried   map[string]int // the epoch of the credential that was renewed first
	lender  wire.Lender
	counted atomic.Int64
	extra   atomic.Int64    // probes that joined the plan under way
	lost    map[string]bool // sent by an earlier process, never answered
	journal journal
	alike   alike                     // what many exchanges have in common
	public  map[string]token.Keys     // of schemes
	before  map[string]*snapshot.Fact // of what is sent again: what was known
	health  health
	graves  buried.Graves
	turns   turns
	expect  time.Duration   // that it takes, by its plan
	chosen  planning.Chosen // with what it leaves out
	madeMu  sync.Mutex
	unkept  []store.Made        // made, and not in the journal
	failed  atomic.Bool         // it ends because of an error
	goOn    atomic.Bool         // somebody said so, when the target began to fail
	made    map[uint]store.Made // what became of what was made, by its id in the journal
	broken  string              // why the sweep was given up
}

// newRun makes a run, which lasts as long as ctx.
func (sw *Sweeps) newRun(ctx context.Context, d *declaration.Document, t *declaration.Target, base string,
	pl *check.Plan,
	only planning.Chosen, facts *snapshot.Known) (*run, error) {
	paced := only.Shard.Paced(t)
	c, err := sw.ws.Client(ctx, paced, base)
	if err != nil {
		return nil, err
	}
	c.Hear(d)
	r := &run{sweeps: sw, doc: d, target: t, paced: paced, plan: pl, client: c, probes: only.Probes,
		chosen: only, facts: facts, pending: map[string][]*check.Probe{}, since: map[string][]*check.Probe{},
		worked: map[string]bool{}, tried: map[string]int{}, done: make(chan struct{}),
		lost: map[string]bool{}, public: map[string]token.Keys{}, made: map[uint]store.Made{},
		graves: buried.Graves{Store: sw.store, Target: t.Name}}
	r.journal.write = func(list []store.Probe) error { //nolint:contextcheck // the run has its own
		return sw.store.Record(r.lasting(), list)
	}
	r.room = room.New(d, t, time.Now()).Among(only.Shares)
	part := *pl
	part.Probes = only.Probes
	r.expect = planning.TimesOf(d, paced, &part, only.Shares).Whole
	r.keys = wire.NewKeyring(d, t, c, sw.ws.Secrets(ctx))
	r.keys.Answered = r.sessionAnswered
	r.keys.Room = func(_ context.Context, o wire.Outgoing) error { return r.roomFor(o, "", "", func() {}) }
	c.AtOnce(Lanes)
	r.breaking = wire.NewBreaking(r.keys)
	r.judge = snapshot.NewJudge(pl, facts.Of)
	r.stopping, r.stop = context.WithCancel(ctx)
	r.ctx, r.cancel = context.WithCancel(ctx)
	return r, nil
}

// lasting is the run's context for what is written down however it ends.
func (r *run) lasting() context.Context { return context.WithoutCancel(r.ctx) }

// info is the run as told to listeners.
func (r *run) info() *events.Run {
	n := int(r.counted.Load())
	r.mu.Lock()
	w := r.sweep
	r.mu.Unlock()
	i := events.RunOf(w)
	i.Done, i.Planned = n, i.Planned+int(r.extra.Load())
	if el := time.Since(w.StartedAt).Seconds(); el > 0 && w.State == store.Running {
		i.Pace = float64(n) / el
		switch left := r.expect.Seconds() - el; {
		case left > 0:
			i.Left = left
		case i.Pace > 0:
			i.Left = float64(i.Planned-n) / i.Pace
		}
	}
	return i
}

// work sends everything and ends the sweep.
func (r *run) work() {
	defer close(r.done)
	defer r.client.Close()
	defer r.cancel()
	defer r.stop()
	go func() { // a stop lets what is in flight come home, for a moment
		select {
		case <-r.done:
			return
		case <-r.stopping.Done():
		}
		select {
		case <-r.done:
		case <-time.After(stopGrace):
			r.cancel()
		}
	}()
	told := r.tellProgress()
	r.sweeps.events.Send(events.Event{Type: events.Sweeping, Sweep: r.info()})
	err := r.client.Reach(r.ctx)
	if err == nil {
		err = r.phases()
	}
	if jerr := r.journal.flush(); err == nil {
		err = jerr
	}
	r.cleanUp()
	told() // the last word about the sweep is that it has ended
	r.finish(err)
}

// tellProgress sends the sweep's progress now and then. The function it
// returns ends that, and returns when nothing more is sent.
func (r *run) tellProgress() (end func()) {
	stop, ended := make(chan struct{}), make(chan struct{})
	tick := time.NewTicker(progressStep)
	go func() {
		defer close(ended)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				r.sweeps.events.Send(events.Event{Type: events.Sweeping, Sweep: r.info()})
			}
		}
	}()
	return func() { close(stop); <-ended }
}

func (r *run) phases() error {
	for ph := check.SafeFirst; ph <= check.LastPhase; ph++ {
		if err := r.phase(ph); err != nil {
			return err
		}
		// Before anything is deleted, and once more for what ended sessions.
		if (ph == check.ThenAdmitted || ph == check.ThenEnding) && r.stopping.Err() == nil {
			if err := r.widen(ph); err != nil {
				return err
			}
		}
		if ph == check.ThenEnding || ph == check.ThenFollowing {
			r.keys.Forget() // the sessions that were held may be among those that were ended
		}
	}
	return nil
}

// widen tries what got in at the route that stands for its guard on the other
// routes behind it, in the phases up to one.
func (r *run) widen(last check.Phase) error {
	if r.sweep.Again() { // somebody asked for these alone
		return nil
	}
	var more []*check.Probe
	for _, p := range r.probes {
		if r.judge.Widens(p) && r.facts.Of(p.Key()) != nil {
			more = append(more, r.judge.Widen(r.judge.Judge(p))...)
		}
	}
	more = append(more, r.lacking(more)...)
	r.probes = append(slices.Clip(r.probes), more...)
	r.extra.Add(int64(len(more)))
	for ph := check.SafeFirst; len(more) > 0 && ph <= last; ph++ {
		if err := r.phase(ph); err != nil {
			return err
		}
	}
	return nil
}

// lacking are the controls of probes that the sweep does not send: they are another shard's.
func (r *run) lacking(list []*check.Probe) (out []*check.Probe) {
	sends := make(map[*check.Probe]bool, len(r.probes)+len(list))
	for _, p := range append(slices.Clip(r.probes), list...) {
		sends[p] = true
	}
	for _, p := range list {
		for q := r.plan.Find(p.Control); q != nil && !sends[q]; q = r.plan.Find(q.Control) {
			sends[q] = true
			out = append(out, q)
		}
	}
	return out
}

// phase sends the probes of one phase that have no fact yet.
func (r *run) phase(ph check.Phase) error {
	drills, rest := r.drillLanes(ph), r.lanesOf(ph)
	if r.counts() { // a drill goes before what else its counters count
		if err := r.lanes(drills); err != nil {
			return err
		}
		drills = nil
	}
	return r.lanes(append(drills, rest...))
}

// one sends a probe and keeps what came of it; park is called before it waits for room in a
// quota. The error ends the sweep.
func (r *run) one(p *check.Probe, park func()) error {
	f := &snapshot.Fact{Sweep: r.sweep.ID}
	if why := r.chosen.Left(p, time.Since(r.sweep.StartedAt)); why != "" {
		f.Exchange, f.Lost = &check.Exchange{}, coverage.NotSent+why
		return r.keep(p, f)
	}
	if r.lost[p.Key()] {
		f.Exchange = &check.Exchange{}
		f.Lost = "sent before the sweep was interrupted, and never answered; an unsafe request is not sent twice"
		r.tellUnseen(p)
		return r.keep(p, f)
	}
	return r.script(p, f, park)
}

// keep writes the fact and tells of every verdict that it settles.
func (r *run) keep(p *check.Probe, f *snapshot.Fact) error {
	f.Sick = failing(f.Exchange.Status) && f.Lost == "" && r.health.isSick()
	if before := r.before[p.Key()]; before != nil && f.Void() {
		r.facts.Put(p.Key(), before)
		f.Beside = r.judge.Judge(p).Verdict.Kind.IsGap()
	}
	row, err := snapshot.Row(r.sweep.ID, p, f)
	if err != nil {
		return fmt.Errorf("%w: %v", errJournal, err)
	}
	if err := r.journal.add(row, p.Unsafe); err != nil {
		return err
	}
	r.counted.Add(1)
	r.alike.share(f.Exchange)
	if f.Check != nil {
		for i := range f.Check.Reports {
			r.alike.share(&f.Check.Reports[i].Exchange)
		}
	}
	if !f.Beside {
		r.facts.Put(p.Key(), f)
	}
	told := r.sweeps.events.Wanted(events.Landed)
	for _, q := range r.settled(p) {
		if told && r.facts.Of(q.Key()) != nil {
			t := events.TickOf(r.plan, r.judge.Judge(q))
			r.sweeps.events.Send(events.Event{Type: events.Landed, Tick: &t})
		}
	}
	return nil
}

// settled are the probes that can be judged now that the fact of one is known: itself, and
// those that waited for it. Those that wait for another are put there.
func (r *run) settled(p *check.Probe) (out []*check.Probe) {
	r.mu.Lock()
	defer r.mu.Unlock()
	list := append(r.pending[p.Key()], p)
	delete(r.pending, p.Key())
	for _, q := range list {
		if !r.judge.Ready(q) && r.plan.Find(q.Control) != nil {
			r.pending[q.Control] = append(r.pending[q.Control], q)
			continue
		}
		out = append(out, q)
	}
	return out
}

// finish writes the result.
func (r *run) finish(err error) {
	state, note := store.Done, ""
	switch {
	case errors.Is(err, errStopped) || err == nil && r.stopping.Err() != nil:
		state, note = store.Stopped, fmt.Sprintf("stopped after %d of %d probes", r.counted.Load(), len(r.probes))
		if r.broken != "" {
			note += ": " + r.broken
		}
	case err != nil:
		state, note = store.Failed, err.Error()
	}
	now := time.Now()
	for id, f := range r.before {
		if r.facts.Of(id) == nil {
			r.facts.Put(id, f)
		}
	}
	items := r.judge.All()
	res := coverage.Conclude(r.plan, r.probes, r.facts, items, r.sweep.Partial, now, r.leftovers())
	sw := r.sweeps
	w := r.sweep
	w.State, w.Note, w.EndedAt = state, note, &now
	w.Planned += int(r.extra.Load())
	var serr error
	if w.Result, serr = json.Marshal(res); serr == nil {
		w.Counts, serr = json.Marshal(res.Counts)
	}
	if serr == nil {
		serr = sw.store.SaveSweep(r.lasting(), &w)
	}
	if serr == nil && sw.store.ReadOnly() != "" {
		serr = errors.New(sw.store.ReadOnly())
	}
	if serr != nil {
		res.NotStored = "the result could not be stored: " + serr.Error()
		w.Note = strings.TrimPrefix(w.Note+"; "+res.NotStored, "; ")
	}
	r.mu.Lock()
	r.sweep.State, r.sweep.Note, r.sweep.EndedAt = w.State, w.Note, w.EndedAt
	r.sweep.Planned, r.sweep.Result, r.sweep.Counts = w.Planned, w.Result, w.Counts
	r.extra.Store(0)
	r.mu.Unlock()
	info := events.RunOf(w)
	info.Counts = &res.Counts
	sw.mu.Lock()
	sw.ended[w.ID] = ended{info, res}
	known := r.facts.Read()
	sw.targets.End(state == store.Failed && known.Len() == 0 || w.Shard != "")
	sw.running = nil
	sw.mu.Unlock()
	if _, err := sw.Prune(r.lasting()); err != nil {
		slog.WarnContext(r.ctx, "exchanges of earlier sweeps were not pruned", "why", err)
	}
	sw.events.Send(events.Event{Type: events.Sweeping, Sweep: r.info()})
}

// ended is a sweep of this process that is over: it is told from here, whatever
// became of the disk.
type ended struct {
	run *events.Run
	res coverage.Result
}
