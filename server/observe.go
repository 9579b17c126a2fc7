package server

import (
	"cmp"
	"context"
	"time"

	"millgate/app/observing"
	"millgate/core/access"
	"millgate/core/observe"
	"millgate/server/contract"
)

// StartObserving begins to ask a target.
func (s *Server) StartObserving(ctx context.Context,
	q contract.StartObservingRequestObject) (contract.StartObservingResponseObject, error) {
	err := s.app.Observing.Start(ctx, q.Body.Target, observe.Choice{Callers: q.Body.Callers, Also: q.Body.Also,
		All: q.Body.All})
	return contract.StartObserving204Response{}, err
}

// StopObserving ends what is asked of a target.
func (s *Server) StopObserving(_ context.Context,
	q contract.StopObservingRequestObject) (contract.StopObservingResponseObject, error) {
	s.app.Observing.Stop(q.Body.Target)
	return contract.StopObserving204Response{}, nil
}

// LookObserved serves what was observed, in groups.
func (s *Server) LookObserved(ctx context.Context,
	q contract.LookObservedRequestObject) (contract.LookObservedResponseObject, error) {
	l, err := s.app.Observing.Look(ctx, q.Body.Target, q.Body.Text)
	if err != nil {
		return nil, err
	}
	return contract.LookObserved200JSONResponse(observationOf(l)), nil
}

// ConfirmObserved writes what groups say into a text.
func (s *Server) ConfirmObserved(ctx context.Context,
	q contract.ConfirmObservedRequestObject) (contract.ConfirmObservedResponseObject, error) {
	text, wrote, err := s.app.Observing.Confirm(ctx, q.Body.Target, q.Body.Text, q.Body.Groups, q.Body.Guesses,
		time.Now())
	return contract.ConfirmObserved200JSONResponse{Text: text, Wrote: orEmpty(wrote)}, err
}

// ListObservedReads serves what was answered at one route.
func (s *Server) ListObservedReads(ctx context.Context,
	q contract.ListObservedReadsRequestObject) (contract.ListObservedReadsResponseObject, error) {
	o, err := s.app.Observing.Of(ctx, q.Params.Target)
	if err != nil {
		return nil, err
	}
	out := contract.ListObservedReads200JSONResponse{}
	for _, x := range o.Seen {
		if x.Route != q.Params.Route {
			continue
		}
		r := contract.ObservedRead{Identity: x.Identity, Scheme: x.Scheme, Relation: string(x.Relation),
			Record: x.Record,
			Owner:  x.Owner, Status: x.Status, Why: x.Why, Options: x.Options}
		if x.Exchange != nil {
			e := exchangeOf(*x.Exchange)
			r.Exchange = &e
		}
		out = append(out, r)
	}
	return out, nil
}

// observationOf has a column for each caller of whom something is known.
func observationOf(l observing.Look) contract.Observation {
	out := contract.Observation{Target: l.Target, State: contract.ObservationState(cmp.Or(l.State, "none")),
		Note:    l.Note,
		Planned: l.Planned, Done: l.Done, Callers: []string{""}, Groups: []contract.ObservedGroup{},
		Guesses: []contract.ObservedGuess{}, Left: []contract.ObservedLeft{}, Lost: orEmpty(l.Lost), Decided: l.Decided,
		Routes: l.Routes}
	if !l.At.IsZero() {
		out.At = &l.At
	}
	for _, id := range l.Doc.Identities {
		for _, g := range l.Groups {
			if _, asked := g.Marks[id.Name]; asked {
				out.Callers = append(out.Callers, id.Name)
				break
			}
		}
	}
	for _, g := range l.Groups {
		x := contract.ObservedGroup{Id: g.ID, Title: g.Title, Says: g.Says, Odd: g.Odd, Why: g.Why,
			Routes: g.Keys(l.Doc),
			Entry:  g.Text(), Guessed: g.Guessed, Confirmed: g.Confirmed}
		for _, c := range out.Callers {
			x.Marks = append(x.Marks, contract.ObservedMark(cmp.Or(string(g.Marks[c]), "unknown")))
			on := ""
			if words := g.On(l.Doc, c); len(words) > 0 {
				on = access.OnText(words)
			}
			x.On = append(x.On, on)
		}
		out.Groups = append(out.Groups, x)
	}
	for _, e := range l.Guesses {
		out.Guesses = append(out.Guesses, contract.ObservedGuess{Routes: e.Routes, Entry: e.Rule.Text(), How: e.How})
	}
	for _, x := range l.Left {
		out.Left = append(out.Left, contract.ObservedLeft{Route: x.Route, Caller: x.Caller, Why: x.Why,
			Doubtful: x.Doubtful})
	}
	return out
}
