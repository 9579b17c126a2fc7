package past

import (
	"context"
	"fmt"
	"sync"
	"time"

	"millgate/app/coverage"
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
	day  int
	by   *declaration.Document
}

// Line is a finding by its id, nil without.
func (k *Known) Line(id string) *history.Line {
	for _, l := range k.Lines {
		if l.Finding.ID == id {
			return l
		}
	}
	return nil
}

// May are the findings that there are, or may be still: they were not probed again.
func (k *Known) May() []finding.Finding {
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
	pa.mu.Lock()
	defer pa.mu.Unlock()
	b, newest, err := pa.book(ctx, t.Name)
	if err != nil || now.Failed() { // then nothing can be judged by it
		return &Known{Target: t.Name, Points: b.points, Lines: b.Lines}, err
	}
	s, err := pa.targets.Look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	at := time.Now()
	if k := pa.known[t.Name]; k != nil && k.Now == s && k.read == newest && k.by == now.Doc && k.day == at.YearDay() {
		return k, nil
	}
	k := pa.now(b, newest, now, s, at)
	k.Target = t.Name
	pa.known[t.Name] = k
	if len(k.Points) > 0 {
		pa.ws.Found(t.Name, k.May())
	}
	return k, nil
}

// now adds what is known now to what whole sweeps came to.
func (pa *Past) now(b *book, newest uint, now workspace.Present, s *snapshot.Snapshot, at time.Time) *Known {
	k := &Known{Points: b.points, Lines: b.Lines, Now: s, read: newest, day: at.YearDay(), by: now.Doc}
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
		if same && (len(now.Doc.Waivers) == 0 || last.Ended.YearDay() == k.day) {
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
