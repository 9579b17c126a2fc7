package server

import (
	"context"

	"millgate/core/finding"
	"millgate/server/contract"
)

// GetBoard serves the Access lens.
func (s *Server) GetBoard(ctx context.Context, q contract.GetBoardRequestObject) (contract.GetBoardResponseObject,
	error) {
	if err := s.app.Workspace.Sync(ctx); err != nil {
		return nil, err
	}
	b, err := s.app.View.Board(ctx, word(q.Params.Target), word(q.Params.Since))
	if err != nil {
		return nil, err
	}
	out := contract.Board{Title: b.Title, File: b.File, Revision: int(b.Revision), KeptAt: b.KeptAt, Target: b.Target,
		Targets: append([]string{}, b.Targets...), Counts: countsOf(b.Counts),
		Review: b.Review, Errors: b.Errors, Empty: b.Empty, Columns: []contract.Column{}, Ways: orEmpty(b.Ways),
		Pages: []contract.Page{}, Kinds: orEmpty(b.Kinds), Quotas: []contract.QuotaSeen{},
		Cells: make([]contract.Cell, len(b.Cells)), Rows: make([]contract.Row, len(b.Rows)), Version: b.Version,
		Whole: b.Whole, Total: b.Total, NotFair: b.NotFair, Sweep: sweepOf(b.Sweep)}
	for _, c := range b.Columns {
		out.Columns = append(out.Columns, contract.Column{Key: c.Key, Label: c.Label, Sub: c.Sub, Class: c.Class,
			Members: c.Members, Roles: c.Roles})
	}
	for _, p := range b.Pages {
		out.Pages = append(out.Pages, contract.Page{Id: p.ID, Origin: p.Origin, Hostile: p.Hostile, Says: p.Says})
	}
	for _, q := range b.Quotas {
		out.Quotas = append(out.Quotas, contract.QuotaSeen{Name: q.Name, Column: q.Column, Declared: q.Declared,
			Window: q.Window.Seconds(), Ceiling: limitOf(q.Ceiling), Most: q.Most, Found: contract.Kind(q.Found)})
	}
	for i, c := range b.Cells {
		out.Cells[i] = contract.Cell{Expect: contract.Expect(c.Expect), Found: contract.Kind(c.Found),
			Severity: optional(contract.Severity(c.Severity)), Inferred: c.Inferred,
			Does: optional(contract.Expect(c.Does)), Status: optional(c.Status), Some: optional(c.Some)}
	}
	for i, r := range b.Rows {
		out.Rows[i] = contract.Row{Key: r.Key, Method: r.Method, Host: r.Host, Path: r.Path,
			Prefix: r.Prefix, Group: r.Group, Effect: optional(contract.RouteEffect(r.Effect)),
			Sensitivity: contract.Sensitivity(r.Sensitivity), Summary: r.Summary, Line: r.Line, File: r.File,
			Worst: optional(contract.Kind(r.Worst)), Declared: r.Declared, Access: r.Access, Tokens: r.Tokens,
			Origins: r.Origins, Counted: orEmpty(r.Counted), TokenCaller: r.TokenCaller}
	}
	return contract.GetBoard200JSONResponse(out), nil
}

func countsOf(c finding.Counts) contract.Counts {
	out := contract.Counts{Crossings: contract.Numbers{}, Findings: contract.Numbers{}}
	for k, n := range c.Crossings {
		out.Crossings[string(k)] = n
	}
	for k, n := range c.Findings {
		out.Findings[string(k)] = n
	}
	return out
}
