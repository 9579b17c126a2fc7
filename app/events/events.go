// Package events is the stream of what happens while somebody looks: a sweep that moves, a verdict
// that lands, something that is waited for, a declaration that changes. Whoever makes one sends it to
// the Hub; the terminal and each browser listen there, each to the types that it wants.
package events

import (
	"encoding/json"
	"slices"
	"sync"
	"time"

	"millgate/core/check"
	"millgate/core/finding"
	"millgate/store"
)

// Event is one message of the stream that the terminal and the browser read.
type Event struct {
	Type  string         `json:"type"` // sweep, verdict, wait, declaration, audit
	Sweep *Run           `json:"sweep,omitempty"`
	Tick  *Tick          `json:"tick,omitempty"`
	Text  string         `json:"text,omitempty"`
	Audit *AuditProgress `json:"audit,omitempty"`
}

// Tick is one verdict landing.
type Tick struct {
	Probe  string `json:"probe"`
	Route  string `json:"route"`
	Caller string `json:"caller"` // the board's column
	Who    string `json:"who"`    // in words
	Kind   string `json:"kind"`
	Reason string `json:"reason"`
}

// Hub passes events on to all who listen. A listener that does not keep up
// loses events, never blocks the sweep, and is told by a closed channel.
type Hub struct {
	mu   sync.Mutex
	subs map[chan Event][]string // the types that each wants, none for all
}

// NewHub returns a hub nobody listens to yet.
func NewHub() *Hub { return &Hub{subs: map[chan Event][]string{}} }

// Listen returns a channel of events of some types, of all where none is given, and what
// ends it.
func (h *Hub) Listen(types ...string) (<-chan Event, func()) {
	c := make(chan Event, 4096)
	h.mu.Lock()
	h.subs[c] = types
	h.mu.Unlock()
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if _, there := h.subs[c]; there {
			delete(h.subs, c)
			close(c)
		}
	}
}

// Wanted says whether anybody listens to events of a type: what nobody hears need not be
// worked out.
func (h *Hub) Wanted(kind string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, types := range h.subs {
		if len(types) == 0 || slices.Contains(types, kind) {
			return true
		}
	}
	return false
}

// Send passes an event on.
func (h *Hub) Send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c, types := range h.subs {
		if len(types) > 0 && !slices.Contains(types, e.Type) {
			continue
		}
		select {
		case c <- e:
		default:
			delete(h.subs, c)
			close(c)
		}
	}
}

// Run is what is told about a sweep.
type Run struct {
	ID        uint            `json:"id"`
	Target    string          `json:"target"`
	Revision  uint            `json:"revision"`
	State     string          `json:"state"`
	Partial   bool            `json:"partial"`
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
		Planned: w.Planned, Done: w.Planned, StartedAt: w.StartedAt, EndedAt: w.EndedAt, Note: w.Note}
	var counts finding.Counts
	if len(w.Counts) > 0 && json.Unmarshal(w.Counts, &counts) == nil {
		i.Counts = &counts
	}
	return i
}

func TickOf(pl *check.Plan, it check.Item) Tick {
	p, v := it.Probe, it.Verdict
	return Tick{Probe: p.Key(), Route: p.Route, Caller: pl.Cell(p).Column(), Who: pl.Who(p), Kind: string(v.Kind),
		Reason: v.Reason}
}

// Ended says how a sweep that is over came to its end.
func (r *Run) Ended() (done, failed bool) { return r.State == store.Done, r.State == store.Failed }

// AuditProgress is how far an audit has come.
type AuditProgress struct {
	ID     string `json:"id"` // as the caller named it
	Bytes  int64  `json:"bytes"`
	Tokens int    `json:"tokens"`
}
