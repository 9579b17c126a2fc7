package past

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/snapshot"
	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/history"
	"millgate/store"
)

// Past follows the findings of a workspace's targets over their sweeps up to what is known now. It is safe
// for concurrent use.
type Past struct {
	ws      *workspace.Workspace
	targets *snapshot.Targets
	sweeps  Sweeps

	mu    sync.Mutex // held while sweeps are read, so that they are read once
	books map[string]*book
	known map[string]*Known
}

func New(ws *workspace.Workspace, targets *snapshot.Targets, sweeps Sweeps) *Past {
	return &Past{ws: ws, targets: targets, sweeps: sweeps, books: map[string]*book{}, known: map[string]*Known{}}
}

// book is what whole sweeps of a target came to.
type book struct {
	history.Book
	points []Point
}

// Point is a moment to which findings are followed: a whole sweep, or what is known now.
type Point struct {
	Sweep    uint
	Revision uint // of the declaration
	At       time.Time
	Ended    time.Time // zero while it runs
	// Anew: it is the sweep before it, read anew with probes that were sent again or by another revision.
	Anew bool
	Note string // where it was not done whole
}

// Known are the findings of a target up to now.
type Known struct {
	Target string
	Points []Point // the first first; none where nothing was swept
	Lines  []*history.Line
	Now    *snapshot.Snapshot // nil without a target
	Figure *coverage.Figure   // how much of it is checked; nil where nothing is known

	read uint // sweeps that were read
	day  time.Time
	by   *declaration.Document
}

// Find is a finding by its id.
func (k *Known) Find(id string) (*history.Line, error) {
	i := slices.IndexFunc(k.Lines, func(l *history.Line) bool { return l.Finding.ID == id })
	if i < 0 {
		return nil, fmt.Errorf("%w: no sweep of %s that is kept has a finding %s", fault.ErrNotFound, k.Target, id)
	}
	return k.Lines[i], nil
}

// Possible are the findings that there are, or may be still: they were not probed again.
func (k *Known) Possible() []finding.Finding {
	out := []finding.Finding{}
	for _, l := range k.Lines {
		if s := l.Now(); s != history.Mended && s != history.MovedOn {
			out = append(out, l.Finding)
		}
	}
	return out
}

// Of follows the findings of a target, or of the first one, up to now.
func (pa *Past) Of(ctx context.Context, target string) (*Known, error) {
	now := pa.ws.Present()
	t := now.Pick(target)
	if t == nil {
		return &Known{}, nil
	}
	var s *snapshot.Snapshot
	if !now.Failed() { // else nothing can be judged by it
		var err error
		if s, err = pa.targets.Look(ctx, now, t); err != nil {
			return nil, err
		}
	}
	pa.mu.Lock()
	defer pa.mu.Unlock()
	b, newest, err := pa.book(ctx, t.Name)
	if err != nil || s == nil {
		return &Known{Target: t.Name, Points: b.points, Lines: b.Lines}, err
	}
	at := time.Now()
	if k := pa.known[t.Name]; k != nil && k.Now == s && k.read == newest && k.by == now.Doc && k.day.Equal(dayOf(at)) {
		return k, nil
	}
	k := pa.now(b, newest, now, s, at)
	k.Target = t.Name
	pa.known[t.Name] = k
	if len(k.Points) > 0 {
		pa.ws.Found(t.Name, k.Possible())
	}
	return k, nil
}

// Watch follows the findings of all targets whenever a sweep ends, as long as ctx lasts: the review holds waivers
// of findings against what there is, whether or not somebody looks.
func (pa *Past) Watch(ctx context.Context, hub *events.Hub) {
	c, end := hub.Listen(events.Sweeping, events.Declared)
	defer func() { end() }()
	for {
		d := pa.ws.Present().Doc
		held := slices.ContainsFunc(d.Waivers, func(w *declaration.Waiver) bool { return w.Check == "" })
		for _, t := range d.Targets {
			if !held {
				break
			}
			if _, err := pa.Of(ctx, t.Name); err != nil && ctx.Err() == nil {
				slog.WarnContext(ctx, "waivers are not held against findings", "target", t.Name, "why", err)
			}
		}
		for {
			select {
			case <-ctx.Done():
				return
			case e, ok := <-c:
				if !ok { // it was too slow to listen
					c, end = hub.Listen(events.Sweeping, events.Declared)
				}
				if ok && e.Sweep != nil && e.Sweep.EndedAt == nil {
					continue
				}
			}
			break
		}
	}
}

// dayOf is the day of an instant, as waivers count them.
func dayOf(t time.Time) time.Time { return t.UTC().Truncate(24 * time.Hour) }

// now adds what is known now to what whole sweeps came to.
func (pa *Past) now(b *book, newest uint, now workspace.Present, s *snapshot.Snapshot, at time.Time) *Known {
	k := &Known{Points: b.points, Lines: b.Lines, Now: s, read: newest, day: dayOf(at), by: now.Doc}
	if s.Facts.Len() == 0 {
		return k
	}
	swept := coverage.Swept{Doc: now.Doc, Plan: s.Plan(), Probes: s.Sent(), Facts: &s.Facts, Items: s.Items}
	figure := swept.Figure()
	k.Figure = &figure
	p := Point{Sweep: s.Sweep, Revision: now.Revision.ID, At: at}
	if n := len(b.points); n > 0 && b.points[n-1].Sweep == s.Sweep {
		last := b.points[n-1]
		same := newest == s.Sweep && last.Revision == now.Revision.ID
		if same && (len(now.Doc.Waivers) == 0 || dayOf(last.Ended).Equal(k.day)) {
			return k
		}
		p.Anew = true
	} else {
		p.Note = "it has not ended"
	}
	k.Points = append(append([]Point{}, b.points...), p)
	k.Lines = b.With(history.Sweep{ID: p.Sweep, Revision: p.Revision, At: at, Anew: p.Anew,
		Findings: finding.Waive(now.Doc, s.Findings, at), Probed: swept.Probed()})
	return k
}

// book reads the whole sweeps of a target that ended since it was asked for last, and says which sweep is the
// newest of all.
func (pa *Past) book(ctx context.Context, target string) (*book, uint, error) {
	b := pa.books[target]
	if b == nil {
		b = &book{}
	}
	runs, err := Runs(ctx, pa.sweeps, target)
	if err != nil {
		return b, 0, err
	}
	whole := runs[:0:0]
	newest := uint(0)
	for _, r := range runs {
		newest = max(newest, r.ID)
		if Whole(r) {
			whole = append(whole, r)
		}
	}
	for i, p := range b.points { // a stopped one may have gone on
		if i >= len(whole) || whole[i].ID != p.Sweep || !whole[i].EndedAt.Equal(p.Ended) {
			b = &book{}
			break
		}
	}
	for _, r := range whole[len(b.points):] {
		_, res, err := pa.sweeps.Result(ctx, r.ID)
		if err != nil {
			return b, newest, fmt.Errorf("sweep %d: %w", r.ID, err)
		}
		b.Add(Of("", r, res).Of)
		p := Point{Sweep: r.ID, Revision: r.Revision, At: r.StartedAt, Ended: *r.EndedAt}
		if r.State != store.Done {
			p.Note = r.Note
		}
		b.points = append(b.points, p)
	}
	pa.books[target] = b
	return b, newest, nil
}

// Seen is a crossing of a finding as it is now.
type Seen struct {
	Probe, Route, Column string
	Who, What            string // in words
	Verdict              finding.Verdict
	Status               int // 0 where nothing answered
}

// Crossings are those of a finding as they are now: one whose probe is not planned any more has no more than its
// route and its name.
func (k *Known) Crossings(f finding.Finding) []Seen {
	out := make([]Seen, len(f.Probes))
	for i, id := range f.Probes {
		out[i] = Seen{Probe: id, Route: f.Route, What: id, Verdict: finding.Verdict{Kind: finding.Unprobed,
			Reason: "its probe is not planned"}}
		if k.Now == nil {
			continue
		}
		pl := k.Now.Plan()
		p := pl.Find(id)
		if p == nil {
			continue
		}
		out[i] = Seen{Probe: id, Route: p.Route, Column: pl.Cell(p).Column(), Who: pl.Who(p), What: snapshot.KindOf(p),
			Verdict: finding.Verdict{Kind: finding.Unprobed, Reason: "it was not sent"}}
		if it, ok := k.Now.Items[id]; ok {
			out[i].Verdict = it.Verdict
		}
		if fact := k.Now.Facts.Of(id); fact != nil && fact.Exchange != nil {
			out[i].Status = fact.Exchange.Status
		}
	}
	return out
}

// Words names a probe: its route, and who sends what.
func (k *Known) Words(id string) string {
	if k.Now != nil {
		if p := k.Now.Plan().Find(id); p != nil {
			return coverage.Crossing{Route: p.Route, Caller: k.Now.Plan().Who(p), What: snapshot.KindOf(p)}.String()
		}
	}
	return id
}

// Became is what became of each finding by a whole sweep that has ended; none where it is not one.
func (pa *Past) Became(ctx context.Context, target string, sweep uint) (map[string]Became, error) {
	pa.mu.Lock()
	defer pa.mu.Unlock()
	b, _, err := pa.book(ctx, target)
	if err != nil {
		return nil, err
	}
	at := b.at(sweep)
	if at < 0 {
		return nil, nil
	}
	return becoming(b.Lines, at, func(i int) uint { return b.points[i].Sweep }), nil
}

// at is the index of a sweep, -1 without.
func (b *book) at(sweep uint) int {
	return slices.IndexFunc(b.points, func(p Point) bool { return p.Sweep == sweep })
}

// Turned is a crossing with probes whose verdicts are others now than they were in an earlier sweep.
type Turned struct {
	Route, Column string
	Probes        []TurnedProbe
}

// TurnedProbe is a probe whose verdict is another now; Was is "" where it was not planned then.
type TurnedProbe struct {
	Probe   string
	Was, Is finding.Kind
}

// Changed are the crossings of a target that are otherwise now than in an earlier whole sweep of it, in the
// order of the plan. What was not judged on either side has not changed.
func (pa *Past) Changed(ctx context.Context, target string, since uint) ([]*Turned, error) {
	k, err := pa.Of(ctx, target)
	if err != nil {
		return nil, err
	}
	r, res, err := pa.sweeps.Result(ctx, since)
	switch {
	case err != nil:
		return nil, err
	case !Whole(r) || r.Target != k.Target:
		return nil, fmt.Errorf("%w: sweep %d is no whole one of %s that has ended", fault.ErrInput, since, k.Target)
	case res.Probed == nil:
		return nil, fmt.Errorf("%w: sweep %d was kept by a version that did not keep what each probe found out",
			fault.ErrInput, since)
	case k.Now == nil:
		return nil, nil
	}
	var out []*Turned
	by := map[[2]string]*Turned{}
	pl := k.Now.Plan()
	for _, p := range pl.Probes {
		it, ok := k.Now.Items[p.Key()]
		was := res.Probed[p.Key()].Kind
		if !ok || was == it.Verdict.Kind || was == finding.Unprobed || was == "" && it.Verdict.Kind == finding.Agrees {
			continue
		}
		at := [2]string{p.Route, pl.Cell(p).Column()}
		if by[at] == nil {
			by[at] = &Turned{Route: at[0], Column: at[1]}
			out = append(out, by[at])
		}
		by[at].Probes = append(by[at].Probes, TurnedProbe{p.Key(), was, it.Verdict.Kind})
	}
	return out, nil
}
