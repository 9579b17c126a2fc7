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
	return contract.ListTargets200JSONResponse(targetsOf(d)), nil
}

// LookAtTargets serves those of a text.
func (s *Server) LookAtTargets(_ context.Context,
	q contract.LookAtTargetsRequestObject) (contract.LookAtTargetsResponseObject, error) {
	d, _ := s.app.Workspace.Document()
	if q.Body.Text != "" {
		d, _ = s.app.Workspace.Parse(q.Body.Text)
	}
	return contract.LookAtTargets200JSONResponse(targetsOf(d)), nil
}

func targetsOf(d *declaration.Document) []contract.Target {
	out := []contract.Target{}
	for _, t := range d.Targets {
		out = append(out, contract.Target{Name: t.Name, Base: t.Base, Hosts: maps.Clone(t.Hosts),
			Values: maps.Clone(t.Values), Direct: t.Direct, Pace: t.Pace.String(),
			Unsafe: contract.UnsafePolicy(t.Unsafe),
			AskFor: append([]string{}, t.AskFor...)})
	}
	return out
}

// EditTarget adds one to a text, or changes it there.
func (s *Server) EditTarget(_ context.Context, q contract.EditTargetRequestObject) (contract.EditTargetResponseObject,
	error) {
	b := q.Body.Target
	pace, err := declaration.ParsePace(b.Pace)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	e, err := s.app.Workspace.EditTarget(q.Body.Text, declaration.Target{Name: strings.TrimSpace(b.Name),
		Base:  strings.TrimSpace(b.Base),
		Hosts: b.Hosts, Values: b.Values, Direct: strings.TrimSpace(b.Direct), Pace: pace,
		Unsafe: declaration.Unsafe(b.Unsafe), AskFor: b.AskFor})
	if err != nil {
		return nil, err
	}
	return contract.EditTarget200JSONResponse(editedOf(e)), nil
}

// PlanByPolicy says what a target would be sent, by what it allows.
func (s *Server) PlanByPolicy(_ context.Context,
	q contract.PlanByPolicyRequestObject) (contract.PlanByPolicyResponseObject, error) {
	list, err := s.app.View.WouldSend(q.Body.Target, q.Body.Text)
	if err != nil {
		return nil, err
	}
	out := contract.PlanByPolicy200JSONResponse{}
	for _, p := range list {
		x := contract.PolicyPlan{Policy: contract.UnsafePolicy(p.Unsafe), Probes: p.Probes,
			OnMade: p.OnMade, Begin: p.Begin, OnThere: p.OnThere, Left: p.Left,
			Routes: []contract.UnsafeRoute{}}
		for _, r := range p.Routes {
			x.Routes = append(x.Routes, contract.UnsafeRoute{Route: r.Route, OnMade: r.OnMade, Begin: r.Begin,
				OnThere: r.OnThere})
		}
		out = append(out, x)
	}
	return out, nil
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
