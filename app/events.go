package app

import (
	"slices"
	"sync"
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
