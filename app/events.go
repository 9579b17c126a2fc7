package app

import "sync"

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
	subs map[chan Event]bool
}

// NewHub returns a hub nobody listens to yet.
func NewHub() *Hub { return &Hub{subs: map[chan Event]bool{}} }

// Listen returns a channel of events and what ends it.
func (h *Hub) Listen() (<-chan Event, func()) {
	c := make(chan Event, 4096)
	h.mu.Lock()
	h.subs[c] = true
	h.mu.Unlock()
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.subs[c] {
			delete(h.subs, c)
			close(c)
		}
	}
}

// Send passes an event on.
func (h *Hub) Send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.subs {
		select {
		case c <- e:
		default:
			delete(h.subs, c)
			close(c)
		}
	}
}
