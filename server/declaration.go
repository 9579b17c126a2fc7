package server

import (
	"context"

	openapi_types "github.com/oapi-codegen/runtime/types"

	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/review"
	"millgate/server/contract"
)

func messagesOf(list []review.Message) []contract.Message {
	out := []contract.Message{}
	for _, m := range list {
		c := contract.Message{File: m.File, Line: m.Line, Column: m.Column, EndColumn: m.EndColumn,
			Level: contract.MessageLevel(m.Level), Code: m.Code, Text: m.Text, Hint: m.Hint,
			Severity: optional(contract.Severity(m.Severity)), Key: m.Key(), Subject: m.Subject, Route: m.Route,
			Owasp: m.OWASP, Cwe: m.CWE}
		if k := review.Find(m.Code); k != nil {
			c.Why = &k.Why
		}
		if m.Fix != nil {
			c.Fix = &m.Fix.Title
		}
		if w := m.Waived; w != nil {
			c.Waived = &contract.Waiver{By: w.By, Reason: w.Reason, Until: openapi_types.Date{Time: w.Until}}
		}
		out = append(out, c)
	}
	return out
}

func declarationOf(d workspace.Declaration) contract.Declaration {
	return contract.Declaration{Name: d.Name, Text: d.Text, Title: d.Title, Revision: int(d.Revision), KeptAt: d.KeptAt,
		Messages: messagesOf(d.Messages)}
}

// GetDeclaration serves the current text.
func (s *Server) GetDeclaration(ctx context.Context,
	_ contract.GetDeclarationRequestObject) (contract.GetDeclarationResponseObject, error) {
	if err := s.app.Workspace.Sync(ctx); err != nil {
		return nil, err
	}
	return contract.GetDeclaration200JSONResponse(declarationOf(s.app.Workspace.Declaration())), nil
}

// KeepDeclaration keeps a text.
func (s *Server) KeepDeclaration(ctx context.Context,
	q contract.KeepDeclarationRequestObject) (contract.KeepDeclarationResponseObject, error) {
	d, err := s.app.Workspace.Keep(ctx, q.Body.Text, q.Body.Message, uint(max(0, q.Body.Base)))
	if err != nil {
		return nil, err
	}
	return contract.KeepDeclaration200JSONResponse(declarationOf(d)), nil
}

// maxChanges is how many crossings are listed; more are only counted.
const maxChanges = 5000

func changesOf(list []access.Turned) []contract.Change {
	out := []contract.Change{}
	for _, c := range list[:min(maxChanges, len(list))] {
		out = append(out, contract.Change{Route: c.Route, Caller: c.Caller, From: c.From, To: c.To,
			Expect: contract.Expect(c.Expect), Status: optional(c.Status), Some: optional(c.Some),
			Turn: contract.ChangeTurn(c.Turn)})
	}
	return out
}

// CheckDeclaration says what a text would change.
func (s *Server) CheckDeclaration(_ context.Context,
	q contract.CheckDeclarationRequestObject) (contract.CheckDeclarationResponseObject, error) {
	e := s.app.Workspace.Check(q.Body.Text)
	return contract.CheckDeclaration200JSONResponse{Messages: messagesOf(e.Messages), Fresh: orEmpty(e.NewMessages),
		Failed: e.Failed, Changes: changesOf(e.Changes), Total: len(e.Changes),
		Opens: e.Opens, Closes: e.Closes, Other: e.Other,
		Undecided: e.Undecided, Pages: e.Pages, Added: orEmpty(e.Added), Gone: orEmpty(e.Gone),
		Waived: orEmpty(e.Waived), Reopened: orEmpty(e.Reopened)}, nil
}

// ListRevisions serves the kept revisions.
func (s *Server) ListRevisions(ctx context.Context,
	q contract.ListRevisionsRequestObject) (contract.ListRevisionsResponseObject, error) {
	list, next, err := newestFirst(q.Params.After, q.Params.Limit, func(before uint,
		limit int) ([]workspace.RevisionInfo, error) {
		return s.app.Workspace.Revisions(ctx, before, limit)
	}, func(x workspace.RevisionInfo) uint { return x.ID })
	if err != nil {
		return nil, err
	}
	out := contract.ListRevisions200JSONResponse{Items: make([]contract.Revision, len(list)), Next: next}
	for i, r := range list {
		out.Items[i] = contract.Revision{Id: int(r.ID), At: r.At, Message: r.Message}
	}
	return out, nil
}

// GetRevision serves the text of one.
func (s *Server) GetRevision(ctx context.Context,
	q contract.GetRevisionRequestObject) (contract.GetRevisionResponseObject, error) {
	t, err := s.app.Workspace.RevisionText(ctx, uint(max(0, q.Id)))
	if err != nil {
		return nil, err
	}
	return contract.GetRevision200JSONResponse{Text: t}, nil
}

// PutSample changes what is sent to a route.
func (s *Server) PutSample(ctx context.Context, q contract.PutSampleRequestObject) (contract.PutSampleResponseObject,
	error) {
	d, err := s.app.Workspace.PutSample(ctx, q.Body.Route, q.Body.Body)
	if err != nil {
		return nil, err
	}
	return contract.PutSample200JSONResponse(declarationOf(d)), nil
}
