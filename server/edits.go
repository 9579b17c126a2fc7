package server

import (
	"context"

	"millgate/app/importing"
	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/declaration/layout"
	"millgate/format/accesslog"
	"millgate/server/contract"
)

func editedOf(e workspace.Edited) contract.Edited {
	return contract.Edited{Text: e.Text, Title: e.Title, Notes: orEmpty(e.Notes)}
}

// EditBoard edits crossings in a text.
func (s *Server) EditBoard(_ context.Context, q contract.EditBoardRequestObject) (contract.EditBoardResponseObject,
	error) {
	c := workspace.BoardChange{Routes: q.Body.Routes, Callers: q.Body.Callers}
	if q.Body.Action != nil {
		c.Action = access.Action(*q.Body.Action)
	}
	if q.Body.On != nil {
		c.On = *q.Body.On
	}
	if q.Body.Set != nil {
		c.Set = *q.Body.Set
	}
	e, err := s.app.Workspace.EditBoard(q.Body.Text, c)
	if err != nil {
		return nil, err
	}
	return contract.EditBoard200JSONResponse(editedOf(e)), nil
}

// EditMembers writes members of a quota or a lifetime into a text.
func (s *Server) EditMembers(_ context.Context,
	q contract.EditMembersRequestObject) (contract.EditMembersResponseObject, error) {
	e, err := s.app.Workspace.EditMembers(q.Body.Text, workspace.Members{Section: string(q.Body.Section),
		Item: q.Body.Item, Set: q.Body.Set})
	if err != nil {
		return nil, err
	}
	return contract.EditMembers200JSONResponse(editedOf(e)), nil
}

// EditRoute sets what is said of a route in a text.
func (s *Server) EditRoute(_ context.Context, q contract.EditRouteRequestObject) (contract.EditRouteResponseObject,
	error) {
	e, err := s.app.Workspace.EditRoute(q.Body.Text, q.Body.Route, workspace.RouteField{Name: q.Body.Field,
		Value: q.Body.Value})
	if err != nil {
		return nil, err
	}
	return contract.EditRoute200JSONResponse(editedOf(e)), nil
}

// FixMessage applies a fix.
func (s *Server) FixMessage(_ context.Context, q contract.FixMessageRequestObject) (contract.FixMessageResponseObject,
	error) {
	e, err := s.app.Workspace.Fix(q.Body.Text, q.Body.Key)
	if err != nil {
		return nil, err
	}
	return contract.FixMessage200JSONResponse(editedOf(e)), nil
}

// WaiveMessage accepts a message.
func (s *Server) WaiveMessage(_ context.Context,
	q contract.WaiveMessageRequestObject) (contract.WaiveMessageResponseObject, error) {
	b := q.Body
	e, err := s.app.Workspace.Waive(b.Text, b.Key, workspace.Accepted{Reason: b.Reason, By: b.By, Until: b.Until})
	if err != nil {
		return nil, err
	}
	return contract.WaiveMessage200JSONResponse(editedOf(e)), nil
}

// Complete lists what can stand at a place.
func (s *Server) Complete(_ context.Context, q contract.CompleteRequestObject) (contract.CompleteResponseObject,
	error) {
	c := s.app.Workspace.Complete(q.Body.Text, max(1, q.Body.Line), max(1, q.Body.Column))
	out := contract.Complete200JSONResponse{From: c.From}
	for _, o := range c.Options {
		out.Options = append(out.Options, struct {
			Detail string `json:"detail"`
			Info   string `json:"info"`
			Insert string `json:"insert"`
			Label  string `json:"label"`
		}{o.Detail, o.Info, o.Insert, o.Label})
	}
	out.Options = orEmpty(out.Options)
	return out, nil
}

// Explain says what stands at a place.
func (s *Server) Explain(_ context.Context, q contract.ExplainRequestObject) (contract.ExplainResponseObject, error) {
	h, ok := s.app.Workspace.Explain(q.Body.Text, max(1, q.Body.Line), max(1, q.Body.Column))
	if !ok {
		return contract.Explain200JSONResponse{}, nil
	}
	out := contract.Explain200JSONResponse{Known: true, Title: &h.Title, Text: &h.Text, Column: &h.Column,
		EndColumn: &h.EndColumn}
	if h.Place.Line > 0 {
		out.File, out.Line = &h.Place.File, &h.Place.Line
	}
	return out, nil
}

// Outline lists the sections of a text.
func (s *Server) Outline(_ context.Context, q contract.OutlineRequestObject) (contract.OutlineResponseObject, error) {
	out := contract.Outline200JSONResponse{}
	for _, h := range layout.Outline(q.Body.Text) {
		out = append(out, contract.Heading{Name: h.Name, Line: h.Line, Depth: h.Depth})
	}
	return out, nil
}

func reachedOf(list []access.Reached) []contract.Reached {
	out := []contract.Reached{}
	for _, r := range list {
		out = append(out, contract.Reached{Route: r.Route, Caller: r.Caller, Admitted: r.Admitted, Depends: r.Depends,
			Outcome: r.Outcome, Why: r.Why, File: r.File, Line: r.Line})
	}
	return out
}

// GetSheet serves everything that a text says of a route.
func (s *Server) GetSheet(_ context.Context, q contract.GetSheetRequestObject) (contract.GetSheetResponseObject,
	error) {
	x, err := s.app.View.RouteSheet(q.Body.Text, q.Body.Route)
	if err != nil {
		return nil, err
	}
	return contract.GetSheet200JSONResponse(sheetOf(x)), nil
}

// GetKeptSheet serves everything that the kept text says of a route.
func (s *Server) GetKeptSheet(_ context.Context,
	q contract.GetKeptSheetRequestObject) (contract.GetKeptSheetResponseObject, error) {
	x, err := s.app.View.RouteSheet("", q.Params.Route)
	if err != nil {
		return nil, err
	}
	return contract.GetKeptSheet200JSONResponse(sheetOf(x)), nil
}

func sheetOf(x view.Sheet) contract.Sheet {
	out := contract.Sheet{Key: x.Key, Summary: x.Summary, Effect: contract.RouteEffect(x.Effect),
		Sensitivity: contract.Sensitivity(x.Sensitivity), Group: x.Group,
		File: x.File, Line: x.Line, From: x.From, Reach: reachedOf(x.Reach), Messages: messagesOf(x.Messages),
		Neighbours: x.Neighbours, Sample: x.Sample, Parameters: x.Parameters}
	for _, p := range x.Parts {
		part := contract.SheetPart{Title: p.Title, Lines: []contract.SheetLine{}, None: p.None}
		for _, l := range p.Lines {
			part.Lines = append(part.Lines, contract.SheetLine{Text: l.Text, Detail: l.Detail, File: l.File,
				Line: l.Line})
		}
		out.Parts = append(out.Parts, part)
	}
	return out
}

// GetReach answers for one route or one identity.
func (s *Server) GetReach(_ context.Context, q contract.GetReachRequestObject) (contract.GetReachResponseObject,
	error) {
	list, err := s.app.Workspace.Reach(word(q.Params.Route), word(q.Params.Identity))
	if err != nil {
		return nil, err
	}
	return contract.GetReach200JSONResponse(reachedOf(list)), nil
}

// CompareRevisions says what lies between two revisions.
func (s *Server) CompareRevisions(ctx context.Context,
	q contract.CompareRevisionsRequestObject) (contract.CompareRevisionsResponseObject, error) {
	c, err := s.app.Workspace.CompareRevisions(ctx, uint(max(0, q.Params.From)), uint(max(0, q.Params.To)))
	if err != nil {
		return nil, err
	}
	return contract.CompareRevisions200JSONResponse{From: c.From, To: c.To, Failed: c.Failed,
		Changes: changesOf(c.Changes), Total: len(c.Changes), Opens: c.Opens, Closes: c.Closes, Other: c.Other,
		Undecided: c.Undecided,
		Added:     orEmpty(c.Added), Gone: orEmpty(c.Gone)}, nil
}

func importOf(q contract.ImportRequest) importing.Request {
	out := importing.Request{Kind: q.Kind, Host: q.Host, Origin: q.Origin, Templates: q.Templates, Said: q.Said,
		Text: q.Text,
		Mapping: accesslog.Mapping{Method: q.Mapping.Method, Path: q.Mapping.Path, Status: q.Mapping.Status,
			Host: q.Mapping.Host}}
	for _, f := range q.Files {
		out.Files = append(out.Files, importing.NamedText{Name: f.Name, Text: f.Text})
	}
	return out
}

// PreviewImport says what an import would do.
func (s *Server) PreviewImport(_ context.Context,
	q contract.PreviewImportRequestObject) (contract.PreviewImportResponseObject, error) {
	p, err := s.app.Imports.Preview(importOf(*q.Body))
	if err != nil {
		return nil, err
	}
	out := contract.ImportPreview{Kind: p.Kind, Name: p.Name, Origins: contract.Numbers{}, Origin: p.Origin,
		Notes: orEmpty(p.Notes)}
	for o, n := range p.Origins {
		out.Origins[o] = n
	}
	for _, i := range p.Items {
		out.Items = append(out.Items, contract.ImportItem{Key: i.Key, State: contract.ImportItemState(i.State),
			Note: i.Note, Under: i.Under, Summary: i.Summary, Effect: optional(contract.RouteEffect(i.Effect)),
			Sensitivity: optional(contract.Sensitivity(i.Sensitivity)), Group: i.Group, Count: i.Count,
			Paths: orEmpty(i.Paths), Line: i.Line, Sample: layout.SampleText(i.Sample)})
	}
	for _, x := range p.Problems {
		out.Problems = append(out.Problems, contract.ImportProblem{Line: x.Line, Text: x.Text})
	}
	for _, x := range p.Proposals {
		out.Proposals = append(out.Proposals, contract.Proposal{Id: x.ID, Title: x.Title, Text: x.Text, Note: x.Note})
	}
	out.Items, out.Problems, out.Proposals = orEmpty(out.Items), orEmpty(out.Problems), orEmpty(out.Proposals)
	return contract.PreviewImport200JSONResponse(out), nil
}

// ImportRoutes serves the text with what was chosen.
func (s *Server) ImportRoutes(_ context.Context,
	q contract.ImportRoutesRequestObject) (contract.ImportRoutesResponseObject, error) {
	var take []importing.Choice
	for _, c := range q.Body.Take {
		take = append(take, importing.Choice{Key: c.Key, Effect: word(c.Effect),
			Sensitivity: word(c.Sensitivity), Group: c.Group,
			Sample: c.Sample})
	}
	text, n, err := s.app.Imports.Import(importOf(q.Body.Request), take, q.Body.Proposals)
	if err != nil {
		return nil, err
	}
	return contract.ImportRoutes200JSONResponse{Text: text, Count: n}, nil
}
