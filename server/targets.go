package server

import (
	"context"
	"fmt"
	"maps"
	"strings"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/server/contract"
)

// ListTargets serves the declared targets.
func (s *Server) ListTargets(context.Context, contract.ListTargetsRequestObject) (contract.ListTargetsResponseObject,
	error) {
	d, _ := s.app.Workspace.Document()
	out := contract.ListTargets200JSONResponse{}
	for _, t := range d.Targets {
		out = append(out, contract.Target{Name: t.Name, Base: t.Base, Hosts: maps.Clone(t.Hosts),
			Values: maps.Clone(t.Values), Direct: t.Direct, Pace: t.Pace.String(),
			Unsafe: contract.UnsafePolicy(t.Unsafe),
			AskFor: append([]string{}, t.AskFor...)})
	}
	return out, nil
}

// PutTarget adds or changes one.
func (s *Server) PutTarget(ctx context.Context, q contract.PutTargetRequestObject) (contract.PutTargetResponseObject,
	error) {
	b := q.Body
	pace, err := declaration.ParsePace(b.Pace)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if strings.TrimSpace(b.Name) == "" {
		return nil, fmt.Errorf("%w: the target needs a name", fault.ErrInput)
	}
	d, err := s.app.Workspace.PutTarget(ctx, declaration.Target{Name: strings.TrimSpace(b.Name),
		Base:  strings.TrimSpace(b.Base),
		Hosts: b.Hosts, Values: b.Values, Direct: strings.TrimSpace(b.Direct), Pace: pace,
		Unsafe: declaration.Unsafe(b.Unsafe), AskFor: b.AskFor})
	if err != nil {
		return nil, err
	}
	return contract.PutTarget200JSONResponse(declarationOf(d)), nil
}

// TestTarget tests a connection.
func (s *Server) TestTarget(ctx context.Context, q contract.TestTargetRequestObject) (contract.TestTargetResponseObject,
	error) {
	c, err := s.app.Workspace.TestTarget(ctx, q.Body.Target)
	if err != nil {
		return nil, err
	}
	out := contract.Connection{Ok: c.OK}
	for _, st := range c.Steps {
		out.Steps = append(out.Steps, contract.ConnectionStep{Name: st.Name, Ok: st.OK, Text: st.Text})
	}
	out.Steps = orEmpty(out.Steps)
	return contract.TestTarget200JSONResponse(out), nil
}

// OpenDemo opens the demo.
func (s *Server) OpenDemo(context.Context, contract.OpenDemoRequestObject) (contract.OpenDemoResponseObject, error) {
	if s.demo == nil {
		return nil, fmt.Errorf("%w: this server has no demo", fault.ErrNotFound)
	}
	if err := s.demo(); err != nil {
		return nil, err
	}
	return contract.OpenDemo204Response{}, nil
}
