package server

import (
	"cmp"
	"context"
	"slices"

	openapi_types "github.com/oapi-codegen/runtime/types"

	"millgate/app/events"
	"millgate/app/past"
	"millgate/app/report"
	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/history"
	"millgate/server/contract"
)

// strip is how many points a finding in a list shows.
const strip = 9

// mostFindings is how many findings one page can have: the list is filtered where it is shown.
const mostFindings = 10000

// GetFindings serves the findings of a target.
func (s *Server) GetFindings(ctx context.Context,
	q contract.GetFindingsRequestObject) (contract.GetFindingsResponseObject, error) {
	k, err := s.app.Past.Of(ctx, word(q.Params.Target))
	if err != nil {
		return nil, err
	}
	doc := s.app.Workspace.Present().Doc
	list := slices.Clone(k.Lines)
	slices.SortStableFunc(list, func(a, b *history.Line) int {
		return cmp.Or(slices.Index(history.States, a.Now())-slices.Index(history.States, b.Now()),
			slices.Index(finding.Severities, b.Finding.Severity)-slices.Index(finding.Severities, a.Finding.Severity),
			slices.Index(finding.Order, a.Finding.Kind)-slices.Index(finding.Order, b.Finding.Kind))
	})
	limit := usual
	if q.Params.Limit != nil {
		limit = min(max(1, *q.Params.Limit), mostFindings)
	}
	part, next, err := pageAfter(list, q.Params.After, limit)
	if err != nil {
		return nil, err
	}
	out := contract.GetFindings200JSONResponse{Items: make([]contract.FindingLine, len(part)), Next: next,
		Total: len(list), Points: pointsOf(k.Points[max(0, len(k.Points)-strip):])}
	out.Coverage = coverageOf(k.Figure)
	for i, l := range part {
		out.Items[i] = lineOf(doc, k, l)
	}
	return out, nil
}

func pointsOf(list []past.Point) []contract.Point {
	out := make([]contract.Point, len(list))
	for i, p := range list {
		out[i] = contract.Point{Sweep: int(p.Sweep), Revision: int(p.Revision), At: p.At, Anew: p.Anew,
			Note: optional(p.Note)}
	}
	return out
}

func lineOf(d *declaration.Document, k *past.Known, l *history.Line) contract.FindingLine {
	f, last := l.Finding, len(l.Marks)-1
	out := contract.FindingLine{Id: f.ID, Kind: contract.Kind(f.Kind), Name: f.Kind.Name(), Title: f.Title,
		Where: f.Where(), Place: contract.FindingLinePlaceRoute, Route: f.Route, Routes: f.All(),
		Severity: contract.Severity(f.Severity), Confidence: contract.Confidence(f.Confidence),
		State: contract.State(l.Now()), Why: optional(l.Whys[last]), Marks: []contract.State{},
		Since: int(k.Points[l.First].Sweep), From: int(k.Points[l.From()].Sweep), Seen: int(k.Points[l.Last].Sweep),
		Checked:   int(k.Points[l.Judged].Sweep),
		Crossings: f.Crossings, Callers: slices.Concat([]string{}, f.Callers, f.Inferred), Rung: f.Rung}
	for i := max(l.First, last+1-strip); i <= last; i++ {
		out.Marks = append(out.Marks, contract.State(l.At(i)))
	}
	if f.Scope != nil {
		out.Place = contract.FindingLinePlace(f.Scope.Of)
	}
	if i := d.RouteNamed(f.Route); i >= 0 {
		out.Group = d.Routes[i].Prefix()
	} else {
		out.Group = "not in the inventory"
	}
	if w := f.Waived; w != nil && l.Now() == history.Waived {
		out.Waived = &contract.WaivedBy{Reason: w.Reason, By: optional(w.By), Until: openapi_types.Date{Time: w.Until},
			Line: &w.Line}
	}
	return out
}

// GetFinding serves a finding.
func (s *Server) GetFinding(ctx context.Context, q contract.GetFindingRequestObject) (contract.GetFindingResponseObject,
	error) {
	k, err := s.app.Past.Of(ctx, word(q.Params.Target))
	if err != nil {
		return nil, err
	}
	l, err := k.Find(q.Id)
	if err != nil {
		return nil, err
	}
	first := max(0, l.First-1)
	out := contract.FindingDetail{Finding: findingOf(l.Finding), Line: lineOf(s.app.Workspace.Present().Doc, k, l),
		Points: pointsOf(k.Points[first:]), States: []string{}, Whys: orEmpty(l.Whys[first:]), Turns: []contract.Turn{},
		Crossings: []contract.CrossingSeen{}}
	for i := first; i < len(k.Points); i++ {
		out.States = append(out.States, string(l.At(i)))
	}
	words := func(ids []string) []string {
		out := make([]string, len(ids))
		for i, id := range ids {
			out[i] = k.Words(id)
		}
		return out
	}
	for _, t := range l.Turns {
		out.Turns = append(out.Turns, contract.Turn{Sweep: int(k.Points[t.At].Sweep), Came: words(t.Came),
			Went: words(t.Went)})
	}
	for _, c := range k.Crossings(l.Finding) {
		out.Crossings = append(out.Crossings, contract.CrossingSeen{Probe: c.Probe, Route: c.Route, Column: c.Column,
			Lens: lensOf(c.Column), Who: c.Who, What: c.What, Kind: contract.Kind(c.Verdict.Kind),
			Confidence: optional(contract.Confidence(c.Verdict.Confidence)), Reason: c.Verdict.Reason,
			Status: c.Status})
	}
	return contract.GetFinding200JSONResponse(out), nil
}

// WaiveFindings accepts findings in a text.
func (s *Server) WaiveFindings(ctx context.Context,
	q contract.WaiveFindingsRequestObject) (contract.WaiveFindingsResponseObject, error) {
	b := q.Body
	k, err := s.app.Past.Of(ctx, b.Target)
	if err != nil {
		return nil, err
	}
	list := make([]finding.Finding, len(b.Findings))
	for i, id := range b.Findings {
		l, err := k.Find(id)
		if err != nil {
			return nil, err
		}
		list[i] = l.Finding
	}
	e, err := s.app.Workspace.WaiveFindings(b.Text, list, workspace.Accepted{Reason: b.Reason, By: b.By,
		Until: b.Until})
	if err != nil {
		return nil, err
	}
	return contract.WaiveFindings200JSONResponse(editedOf(e)), nil
}

// CopyFinding serves a finding to hand on.
func (s *Server) CopyFinding(ctx context.Context,
	q contract.CopyFindingRequestObject) (contract.CopyFindingResponseObject, error) {
	c, err := s.app.Reports.Copy(ctx, word(q.Params.Target), q.Id, report.Form(q.Params.As))
	if err != nil {
		return nil, err
	}
	return contract.CopyFinding200JSONResponse{Text: c.Text, Note: c.Note}, nil
}

// CompareSweeps serves what became of findings between two sweeps.
func (s *Server) CompareSweeps(ctx context.Context,
	q contract.CompareSweepsRequestObject) (contract.CompareSweepsResponseObject, error) {
	c, err := past.Between(ctx, s.app.Sweeps, uint(max(0, q.Params.From)), uint(max(0, q.Params.To)))
	if err != nil {
		return nil, err
	}
	point := func(r *events.Run) contract.Point {
		return contract.Point{Sweep: int(r.ID), Revision: int(r.Revision), At: r.StartedAt, Note: optional(r.Note)}
	}
	out := contract.SweepComparison{Target: c.B.Run.Target, Items: []contract.ComparedFinding{}, From: point(c.A.Run),
		To: point(c.B.Run), Stops: len(c.Stops(finding.FailOn{Least: finding.High}))}
	for _, change := range history.Changes {
		for _, l := range c.Of(change) {
			f, waived := l.Finding, l.Now() == history.Waived
			out.Items = append(out.Items, contract.ComparedFinding{Id: f.ID, Kind: contract.Kind(f.Kind),
				Name: f.Kind.Name(), Title: f.Title, Where: f.Where(), Severity: contract.Severity(f.Severity),
				Change: contract.FindingChange(change), Why: c.Why(l), Reason: f.Reason, Waived: &waived,
				First: int(c.Sweep(l.First).ID), Last: int(c.Sweep(l.Last).ID)})
		}
	}
	return contract.CompareSweeps200JSONResponse(out), nil
}

// GetChanged serves the crossings that are otherwise now.
func (s *Server) GetChanged(ctx context.Context, q contract.GetChangedRequestObject) (contract.GetChangedResponseObject,
	error) {
	list, err := s.app.Past.Changed(ctx, word(q.Params.Target), uint(max(0, q.Params.Since)))
	if err != nil {
		return nil, err
	}
	out := contract.GetChanged200JSONResponse{}
	for _, t := range list {
		x := contract.ChangedCrossing{Route: t.Route, Column: t.Column}
		for _, p := range t.Probes {
			x.Probes = append(x.Probes, contract.ChangedProbe{Probe: p.Probe, Was: string(p.Was),
				Is: contract.Kind(p.Is)})
		}
		out = append(out, x)
	}
	return out, nil
}
