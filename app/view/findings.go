package view

import (
	"context"
	"errors"
	"sort"

	"millgate/app/events"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Ticks returns the verdicts known of a target, in the order of sending.
func (vw *View) Ticks(ctx context.Context, target string) ([]events.Tick, error) {
	now := vw.ws.Present()
	t := now.Pick(target)
	if t == nil || now.Failed() {
		return []events.Tick{}, nil
	}
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	list := make([]check.Item, 0, len(s.Items))
	for _, it := range s.Items {
		list = append(list, it)
	}
	sort.Slice(list, func(i, j int) bool {
		return s.Facts.Of(list[i].Probe.Key()).Exchange.At.Before(s.Facts.Of(list[j].Probe.Key()).Exchange.At)
	})
	out := make([]events.Tick, len(list))
	for i, it := range list {
		out[i] = events.TickOf(s.Plan(), it)
	}
	return out, nil
}

// Findings returns the findings of a target by the current declaration.
func (vw *View) Findings(ctx context.Context, target string) ([]finding.Finding, error) {
	now := vw.ws.Present()
	t := now.Pick(target)
	if t == nil || now.Failed() {
		return []finding.Finding{}, nil
	}
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	return s.Findings, nil
}

// ErrNoProbe is returned by Curl for a probe that was not planned.
var ErrNoProbe = errors.New("no such probe")

// Planned finds a planned probe by its id.
func (vw *View) Planned(ctx context.Context, target, id string) (*declaration.Document, *declaration.Target,
	*check.Probe, *snapshot.Fact, error) {
	now := vw.ws.Present()
	t := now.Pick(target)
	if t == nil || now.Failed() {
		return nil, nil, nil, nil, ErrNoProbe
	}
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	p := s.Plan().Find(id)
	if p == nil {
		return nil, nil, nil, nil, ErrNoProbe
	}
	return now.Doc, t, p, s.Facts.Of(id), nil
}
