package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"millgate/app/events"
	"millgate/server/contract"
)

const (
	gathered = 250 * time.Millisecond // verdicts are told together
	mostTold = 1000                   // so many of them at most
	beating  = 15 * time.Second       // of a stream that is quiet
)

// stream writes events to one who listens.
type stream struct {
	w     http.ResponseWriter
	rc    *http.ResponseController
	ticks []contract.Tick // that landed and are not told yet
	last  string          // the id of the last event that is told or gathered
}

// events streams what happens (server-sent events, WHATWG HTML section 9.2). Who comes back with
// the id of the last event that was heard goes on from there.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	out := &stream{w: w, rc: http.NewResponseController(w)}
	last := r.Header.Get("Last-Event-ID")
	heard, c, end := s.app.Events.Resume(last)
	defer end()
	// An id without data is remembered and nothing more: so whoever hears nothing can go on as well.
	hello := ": hello\n\n"
	if len(heard.Missed) == 0 {
		hello += "id: " + heard.At + "\n\n"
	}
	if err := out.text(hello); err != nil {
		return
	}
	if last != "" && !heard.Known {
		if err := out.send(heard.At, contract.Event{Type: contract.EventTypeMissed}); err != nil {
			return
		}
	}
	for _, e := range heard.Missed {
		if err := out.take(e); err != nil {
			return
		}
	}
	if err := out.follow(r.Context(), c); err != nil {
		s.log.DebugContext(r.Context(), "a listener went away", "why", err.Error())
	}
}

// follow tells what comes until somebody goes away.
func (s *stream) follow(ctx context.Context, c <-chan events.Event) error {
	beat, due := time.NewTicker(beating), time.NewTicker(gathered)
	defer beat.Stop()
	defer due.Stop()
	for {
		var err error
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-beat.C:
			err = s.text(": still here\n\n")
		case <-due.C:
			err = s.flush()
		case e, ok := <-c:
			if !ok {
				return s.flush() // too slow; the browser connects again and goes on
			}
			err = s.take(e)
		}
		if err != nil {
			return err
		}
	}
}

// take tells an event, or gathers it with others of its like.
func (s *stream) take(e events.Event) error {
	if e.Tick != nil {
		s.ticks, s.last = append(s.ticks, tickOf(*e.Tick)), e.ID
		if len(s.ticks) < mostTold {
			return nil
		}
		return s.flush()
	}
	if err := s.flush(); err != nil {
		return err
	}
	out := contract.Event{Type: contract.EventType(e.Type), Sweep: sweepOf(e.Sweep), Text: optional(e.Text)}
	if p := e.Audit; p != nil {
		out.Audit = &contract.AuditProgress{Id: p.ID, Bytes: p.Bytes, Tokens: p.Tokens}
	}
	if p := e.Progress; p != nil {
		out.Progress = &contract.ObserveProgress{Target: p.Target, Done: p.Done, Planned: p.Planned, Ended: p.Ended}
	}
	return s.send(e.ID, out)
}

// flush tells the verdicts that were gathered.
func (s *stream) flush() error {
	if len(s.ticks) == 0 {
		return nil
	}
	list := s.ticks
	s.ticks = nil
	return s.send(s.last, contract.Event{Type: contract.EventTypeVerdicts, Ticks: &list})
}

func (s *stream) send(id string, e contract.Event) error {
	b, err := json.Marshal(e)
	if err != nil {
		return fmt.Errorf("an event cannot be written: %w", err)
	}
	if id != "" {
		id = "id: " + id + "\n"
	}
	return s.text(id + "data: " + string(b) + "\n\n")
}

func (s *stream) text(t string) error {
	if _, err := fmt.Fprint(s.w, t); err != nil {
		return err
	}
	return s.rc.Flush()
}
