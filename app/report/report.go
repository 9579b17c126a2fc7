// Package report turns what a sweep came to into something to hand on: to people as a page, a text or a table,
// to machines as SARIF, JUnit, JSON and HAR.
//
// A Report has all that its forms say, so that each can be written from a stored sweep and from a file that
// holds one. It is put together once, and masked there: secrets were masked before anything was kept, and values of
// answers, which are somebody's data, are shown as their type unless somebody asks for them.
package report

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/past"
	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/history"
)

// Report is what a sweep came to.
type Report struct {
	Version     int                       `json:"version"`
	Sweep       Sweep                     `json:"sweep"`
	Declaration Declared                  `json:"declaration"`
	Checked     coverage.Checked          `json:"checked"`
	Coverage    *coverage.Figure          `json:"coverage,omitempty"`
	Doubts      []coverage.Doubt          `json:"doubts"`
	Findings    []Item                    `json:"findings"`
	Stops       []string                  `json:"stops"` // ids of the findings that a pipeline stops for
	Counts      finding.Counts            `json:"counts"`
	Callers     []string                  `json:"callers"` // columns of the board; "" is nobody
	Routes      []Route                   `json:"routes"`
	Plan        planning.Summary          `json:"plan"`
	Left        []check.Omission          `json:"left"`
	Made        []coverage.Leftover       `json:"made"`
	Unsent      []coverage.Unseen         `json:"unsent"`
	Unproven    []coverage.Unseen         `json:"unproven"`
	NotFair     []coverage.Unfair         `json:"notFair"`
	Probed      map[string]history.Probed `json:"probed"`
}

// Sweep is the one that is reported.
type Sweep struct {
	ID        uint       `json:"id"`
	Target    string     `json:"target"`
	Base      string     `json:"base,omitempty"`
	Revision  uint       `json:"revision"`
	State     string     `json:"state"`
	Shard     string     `json:"shard,omitempty"` // "2/5": what one of several runners sent
	Note      string     `json:"note"`
	StartedAt time.Time  `json:"startedAt"`
	EndedAt   *time.Time `json:"endedAt"`
}

// Declared names what the sweep was held against.
type Declared struct {
	Title string `json:"title"`
	File  string `json:"file"`
	Hash  string `json:"hash"` // SHA-256 of its text, in hex
}

// Item is a finding with all that is said of it.
type Item struct {
	finding.Finding
	Name     string        `json:"name"` // of its kind
	State    history.State `json:"state,omitempty"`
	Since    uint          `json:"since,omitempty"` // the sweep that saw it first
	Why      string        `json:"why,omitempty"`   // why it has that state
	Owners   []string      `json:"owners,omitempty"`
	File     string        `json:"file,omitempty"` // of the declaration, where what decides stands
	Line     int           `json:"line,omitempty"`
	Means    string        `json:"means,omitempty"`
	Shown    string        `json:"shown,omitempty"`
	Refuted  string        `json:"refuted,omitempty"`
	Evidence []Evidence    `json:"evidence,omitempty"`
}

// Evidence is a crossing that shows a finding.
type Evidence struct {
	Probe     string  `json:"probe"`
	Route     string  `json:"route"`
	Who       string  `json:"who"`
	What      string  `json:"what"`
	Exchanges []Named `json:"exchanges,omitempty"`
}

// Named is an exchange and what it was for.
type Named struct {
	Name string `json:"name"`
	check.Exchange
}

// Route is a route of the inventory with what was seen of it.
type Route struct {
	Key      string   `json:"route"`
	Owner    string   `json:"owner,omitempty"`
	Group    string   `json:"group"`
	Proven   int      `json:"proven"`   // crossings that agree or are a gap
	Unproven int      `json:"unproven"` // and that were sent in vain
	Unsent   int      `json:"unsent"`
	Findings []string `json:"findings,omitempty"` // their ids
	// Cells are the worst verdicts by caller of the Access lens.
	Cells map[string]finding.Kind `json:"cells,omitempty"`
}

// Source is what a report is made of.
type Source struct {
	Doc    *declaration.Document
	Text   string // of the declaration
	Plan   *check.Plan
	Facts  func(probe string) *snapshot.Fact // nil where exchanges are not at hand
	Run    *events.Run
	Base   string
	Result coverage.Result
	Most   float64                    // share of crossings that may be unproven, in percent
	Became map[string]past.Became     // of findings among sweeps, by id; nil without a history
	Values bool                       // of answers are shown
	AtMost int                        // crossings of a finding that are shown with their exchanges
	Stops  func(finding.Finding) bool // whether a pipeline stops for it; nil for none
}

// From puts a report together.
func From(s Source) *Report {
	hash := sha256.Sum256([]byte(s.Text))
	run, res := s.Run, s.Result
	r := &Report{Version: past.Version, Sweep: Sweep{run.ID, run.Target, s.Base, run.Revision, run.State, run.Shard,
		run.Note, run.StartedAt, run.EndedAt}, Declaration: Declared{s.Doc.Title, s.Doc.Name,
		hex.EncodeToString(hash[:])},
		Checked: res.Checked, Coverage: res.Figure, Stops: []string{}, Callers: []string{""},
		Doubts: res.Doubts(run, s.Most), Findings: []Item{}, Counts: res.Counts, Plan: res.Plan,
		Left: orEmpty(res.Left), Made: orEmpty(res.Made), Unsent: orEmpty(res.Unsent), Unproven: orEmpty(res.Unproven),
		NotFair: orEmpty(res.NotFair), Probed: res.Probed}
	for _, f := range res.Findings {
		it := s.item(f)
		if st, ok := s.Became[f.ID]; ok {
			if it.State, it.Since, it.Why = st.State, st.Since, st.Why; st.State.Asks() {
				it.Waived = nil // it grew beyond what was accepted
			}
		} else if f.Waived != nil {
			it.State = history.Waived
		}
		r.Findings = append(r.Findings, it)
		if s.Stops != nil && s.Stops(it.Finding) {
			r.Stops = append(r.Stops, f.ID)
		}
	}
	for _, id := range s.Doc.Identities {
		r.Callers = append(r.Callers, id.Name)
	}
	r.Routes = s.routes(r.Findings)
	return r
}

// Owners are those that routes have, in the order of the alphabet.
func (r *Report) Owners() []string {
	of := make([]string, len(r.Routes))
	for i, rt := range r.Routes {
		of[i] = rt.Owner
	}
	return named(of)
}

// named are owners of routes, each once, in the order of the alphabet.
func named(of []string) []string {
	owners := slices.DeleteFunc(slices.Clone(of), func(name string) bool { return name == "" })
	slices.Sort(owners)
	return slices.Compact(owners)
}

// Owned says why no report of a declaration can be an owner's: no route is.
func Owned(d *declaration.Document, name string) error {
	of := make([]string, len(d.Routes))
	for i, rt := range d.Routes {
		of[i] = rt.Owner
	}
	return owned(named(of), name)
}

func owned(owners []string, name string) error {
	if slices.Contains(owners, name) {
		return nil
	}
	hint := "no route has an owner"
	if len(owners) > 0 {
		hint = "there are " + strings.Join(owners, ", ")
	}
	return fmt.Errorf("%w: no route has the owner %q; %s", fault.ErrInput, name, declaration.HintAt(name, owners, hint))
}

// Brief is a report without exchanges, to compare with later.
func (r *Report) Brief() *Report {
	out := *r
	out.Findings = slices.Clone(r.Findings)
	for i := range out.Findings {
		out.Findings[i].Evidence = nil
	}
	return &out
}

// ForOwner is the part of a report that is an owner's: the findings and the routes that have this owner.
func (r *Report) ForOwner(name string) (*Report, error) {
	out := *r
	out.Findings, out.Stops, out.Routes = []Item{}, []string{}, []Route{}
	for _, rt := range r.Routes {
		if rt.Owner == name {
			out.Routes = append(out.Routes, rt)
		}
	}
	if err := owned(r.Owners(), name); err != nil {
		return nil, err
	}
	for _, it := range r.Findings {
		if slices.Contains(it.Owners, name) {
			out.Findings = append(out.Findings, it)
			if slices.Contains(r.Stops, it.ID) {
				out.Stops = append(out.Stops, it.ID)
			}
		}
	}
	return &out, nil
}

func orEmpty[T any](list []T) []T { return append([]T{}, list...) }

// item is a finding with what is said of it.
func (s Source) item(f finding.Finding) Item {
	it := Item{Finding: f, Name: f.Kind.Name()}
	if row, ok := families.Causes.Row(f.Kind, f.Cause); ok {
		it.Means, it.Shown, it.Refuted = row.Means, families.Causes.Shown(row), families.Causes.Refuted(row)
	}
	for _, key := range f.All() {
		i := s.Doc.RouteNamed(key)
		if i < 0 {
			continue
		}
		if rt := s.Doc.Routes[i]; rt.Owner != "" && !slices.Contains(it.Owners, rt.Owner) {
			it.Owners = append(it.Owners, rt.Owner)
		}
		if it.Line == 0 {
			it.File, it.Line = s.place(i)
		}
	}
	if it.Line == 0 {
		it.File, it.Line = s.Doc.Name, 1
	}
	for _, id := range f.Probes[:min(len(f.Probes), cmp.Or(s.AtMost, usualCrossings))] {
		if e, ok := s.evidence(id, f.Reason); ok {
			it.Evidence = append(it.Evidence, e)
		}
	}
	return it
}

// place is where the declaration decides of a route.
func (s Source) place(i int) (file string, line int) {
	if e := s.Doc.Entry(i); e != nil {
		return e.File, e.Line
	}
	return s.Doc.Routes[i].File, s.Doc.Routes[i].Line
}

// routes are those of the inventory, with what was seen of them.
func (s Source) routes(list []Item) []Route {
	out := make([]Route, len(s.Doc.Routes))
	for i, rt := range s.Doc.Routes {
		out[i] = Route{Key: rt.Key(), Owner: rt.Owner, Group: rt.Prefix(), Cells: map[string]finding.Kind{}}
	}
	for _, it := range list {
		for _, key := range it.All() {
			if i := s.Doc.RouteNamed(key); i >= 0 {
				out[i].Findings = append(out[i].Findings, it.ID)
			}
		}
	}
	for _, p := range s.Plan.Probes {
		i := s.Doc.RouteNamed(p.Route)
		if i < 0 {
			continue
		}
		x, ok := s.Result.Probed[p.Key()]
		switch {
		case !ok:
			continue
		case x.Kind == finding.Unprobed:
			out[i].Unsent++
		case x.Kind == finding.Unproven:
			out[i].Unproven++
		default:
			out[i].Proven++
		}
		cell := s.Plan.Cell(p)
		if cell.Lens != check.Access {
			continue
		}
		for _, who := range append([]string{cell.Key}, p.StandsFor...) {
			if old, had := out[i].Cells[who]; !had || finding.Worse(x.Kind, old) {
				out[i].Cells[who] = x.Kind
			}
		}
	}
	return out
}
