package view

import (
	"context"
	"sort"
	"strings"

	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/finding"
)

// Unfair is a control that is not admitted yet.
type Unfair struct {
	Route     string
	Caller    string
	Status    int
	Complaint string // the service's own words
	Body      string // what was sent
	Type      string
	Line      int
	File      string
	Waiting   int // verdicts that wait for it
}

// Worklist lists the requests that are not fair yet.
func (vw *View) Worklist(ctx context.Context, target string) ([]Unfair, error) {
	now, out := vw.ws.Present(), []Unfair{}
	t := now.Pick(target)
	if t == nil || now.Failed() {
		return out, nil
	}
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	waiting := map[string]int{}
	for _, it := range s.Items {
		if it.Verdict.Kind == finding.Unproven && it.Probe.Control != "" {
			waiting[it.Probe.Control]++
		}
	}
	for _, p := range unfair(s) {
		f := s.Facts.Of(p.Key())
		u := Unfair{Route: p.Route, Caller: p.Caller.Identity, Status: f.Exchange.Status, Complaint: f.Exchange.Content,
			Body: f.Exchange.Body, Waiting: waiting[p.Key()]}
		if f.Lost != "" || f.Exchange.Error != "" {
			u.Complaint = strings.TrimSpace(f.Lost + " " + f.Exchange.Error)
		}
		if i := now.Doc.RouteNamed(p.Route); i >= 0 {
			rt := now.Doc.Routes[i]
			u.Line, u.File = rt.Line, rt.File
		}
		u.Type = f.Exchange.Headers.Get("Content-Type")
		out = append(out, u)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Waiting > out[j].Waiting })
	return out, nil
}

// unfair are the controls that were sent and are not admitted.
func unfair(s *snapshot.Snapshot) (out []*check.Probe) {
	for _, p := range s.Sent() {
		if it, ok := s.Items[p.Key()]; p.IsControl && ok && it.Class != check.Admitted && s.Facts.Of(p.Key()) != nil {
			out = append(out, p) // one without a fact is being sent again
		}
	}
	return out
}
