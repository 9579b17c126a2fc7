// Package events is the stream of what happens while somebody looks: a sweep that moves, a verdict
// that lands, something that is waited for, a declaration that changes. Whoever makes one sends it to
// the Hub; the terminal and each browser listen there, each to the types that it wants.
package events

import (
	"encoding/json"
	"time"

	"millgate/core/check"
	"millgate/core/finding"
	"millgate/store"
)

// Type of an event.
type Type string

// The types.
const (
	Sweeping Type = "sweep"       // a sweep began, goes on, or ended
	Landed   Type = "verdict"     // a verdict landed
	Waiting  Type = "wait"        // something is waited for
	Declared Type = "declaration" // another text is what is declared
	Auditing Type = "audit"       // how far an audit of tokens is
	// Observing: how far an observation of a target is.
	Observing Type = "observe"
)

// Event is one message of the stream that the terminal and the browser read.
type Event struct {
	ID    string         `json:"-"` // by which a listener goes on
	Type  Type           `json:"type"`
	Sweep *Run           `json:"sweep,omitempty"`
	Tick  *Tick          `json:"tick,omitempty"`
	Text  string         `json:"text,omitempty"`
	Audit *AuditProgress `json:"audit,omitempty"`
	// Progress is that of an observation.
	Progress *Progress `json:"progress,omitempty"`
}

// Tick is one verdict landing.
type Tick struct {
	At     int    `json:"at"` // its turn among the verdicts of its target, -1 while a sweep runs
	Probe  string `json:"probe"`
	Route  string `json:"route"`
	Caller string `json:"caller"` // the board's column
	Who    string `json:"who"`    // in words
	Kind   string `json:"kind"`
	Reason string `json:"reason"`
}

// Run is what is told about a sweep.
type Run struct {
	ID        uint            `json:"id"`
	Target    string          `json:"target"`
	Revision  uint            `json:"revision"`
	State     string          `json:"state"`
	Partial   bool            `json:"partial"`
	Shard     string          `json:"shard,omitempty"`  // "2/5": what one of several runners sent
	Pruned    bool            `json:"pruned,omitempty"` // its exchanges were taken away
	Planned   int             `json:"planned"`
	Done      int             `json:"done"`
	Pace      float64         `json:"pace"` // probes per second over the last seconds
	Left      float64         `json:"left"` // seconds
	StartedAt time.Time       `json:"startedAt"`
	EndedAt   *time.Time      `json:"endedAt,omitempty"`
	Note      string          `json:"note"`
	Counts    *finding.Counts `json:"counts,omitempty"`
}

func RunOf(w store.Sweep) *Run {
	i := &Run{ID: w.ID, Target: w.Target, Revision: w.RevisionID, State: w.State, Partial: w.Partial, Pruned: w.Pruned,
		Shard:   w.Shard,
		Planned: w.Planned, Done: w.Planned, StartedAt: w.StartedAt, EndedAt: w.EndedAt, Note: w.Note}
	var counts finding.Counts
	if len(w.Counts) > 0 && json.Unmarshal(w.Counts, &counts) == nil {
		i.Counts = &counts
	}
	return i
}

func TickOf(pl *check.Plan, it check.Item) Tick {
	p, v := it.Probe, it.Verdict
	return Tick{At: -1, Probe: p.Key(), Route: p.Route, Caller: pl.Cell(p).Column(), Who: pl.Who(p),
		Kind:   string(v.Kind),
		Reason: v.Reason}
}

// Ended says how a sweep that is over came to its end.
func (r *Run) Ended() (done, failed bool) { return r.State == store.Done, r.State == store.Failed }

// Progress is how far an observation of a target has come.
type Progress struct {
	Target  string `json:"target"`
	Done    int    `json:"done"`
	Planned int    `json:"planned"`
	Ended   bool   `json:"ended,omitempty"`
}

// AuditProgress is how far an audit has come.
type AuditProgress struct {
	ID     string `json:"id"` // as the caller named it
	Bytes  int64  `json:"bytes"`
	Tokens int    `json:"tokens"`
}
