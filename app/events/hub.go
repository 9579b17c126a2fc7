package events

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// remembered is how many events there are to go on from.
const remembered = 4096

// Hub passes events on to all who listen. A listener that does not keep up
// loses events, never blocks the sweep, and is told by a closed channel; it goes on
// with Resume.
type Hub struct {
	began string // names the ids of this hub

	mu   sync.Mutex
	subs map[chan Event][]Type // the types that each wants, none for all
	n    uint64                // of the last event
	kept []Event               // the last ones, in their order
	mute uint64                // after this one something was not worked out, since nobody listened
}

// NewHub returns a hub nobody listens to yet.
func NewHub() *Hub {
	return &Hub{began: strconv.FormatInt(time.Now().UnixNano(), 36), subs: map[chan Event][]Type{}}
}

// Listen returns a channel of events of some types, of all where none is given, and what
// ends it.
func (h *Hub) Listen(types ...Type) (<-chan Event, func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.listen(types)
}

// Heard is what somebody who listens has missed.
type Heard struct {
	Missed []Event // those that came since the event that was heard last
	Known  bool    // false: they are not known any more, so that whoever listens must ask anew
	At     string  // the id of the last event there was, from which to go on
}

// Resume is Listen for who has heard all up to an event.
func (h *Hub) Resume(id string, types ...Type) (heard Heard, c <-chan Event, end func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	c, end = h.listen(types)
	heard.At = h.id(h.n)
	began, number, _ := strings.Cut(id, "-")
	n, err := strconv.ParseUint(number, 10, 64)
	if err != nil || began != h.began || n > h.n || n+uint64(len(h.kept)) < h.n || n < h.mute {
		return heard, c, end
	}
	for _, e := range h.kept[len(h.kept)-int(h.n-n):] { //nolint:gosec // no more than are kept
		if wants(types, e.Type) {
			heard.Missed = append(heard.Missed, e)
		}
	}
	heard.Known = true
	return heard, c, end
}

func (h *Hub) id(n uint64) string { return fmt.Sprintf("%s-%d", h.began, n) }

func wants(types []Type, t Type) bool { return len(types) == 0 || slices.Contains(types, t) }

// listen is Listen for who holds the lock.
func (h *Hub) listen(types []Type) (<-chan Event, func()) {
	c := make(chan Event, remembered)
	h.subs[c] = types
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
func (h *Hub) Wanted(t Type) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, types := range h.subs {
		if wants(types, t) {
			return true
		}
	}
	h.mute = h.n + 1
	return false
}

// Send passes an event on.
func (h *Hub) Send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.n++
	e.ID = h.id(h.n)
	if len(h.kept) >= 2*remembered {
		h.kept = slices.Clone(h.kept[len(h.kept)-remembered:])
	}
	h.kept = append(h.kept, e)
	for c, types := range h.subs {
		if !wants(types, e.Type) {
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
