package app

import (
	"context"
	"errors"
	"sort"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Ticks returns the verdicts known of a target, in the order of sending.
func (vw *View) Ticks(ctx context.Context, target string) ([]Tick, error) {
	now := vw.ws.present()
	t := now.pick(target)
	if t == nil || now.failed() {
		return []Tick{}, nil
	}
	s, err := vw.targets.look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	list := make([]check.Item, 0, len(s.items))
	for _, it := range s.items {
		list = append(list, it)
	}
	sort.Slice(list, func(i, j int) bool {
		return s.facts.of(list[i].Probe.Key()).Exchange.At.Before(s.facts.of(list[j].Probe.Key()).Exchange.At)
	})
	out := make([]Tick, len(list))
	for i, it := range list {
		out[i] = tickOf(s.plan(), it)
	}
	return out, nil
}

// Findings returns the findings of a target by the current declaration.
func (vw *View) Findings(ctx context.Context, target string) ([]finding.Finding, error) {
	now := vw.ws.present()
	t := now.pick(target)
	if t == nil || now.failed() {
		return []finding.Finding{}, nil
	}
	s, err := vw.targets.look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	return s.findings, nil
}

// ErrNoProbe is returned by Curl for a probe that was not planned.
var ErrNoProbe = errors.New("no such probe")

// Planned finds a planned probe by its id.
func (vw *View) Planned(ctx context.Context, target, id string) (*declaration.Document, *declaration.Target,
	*check.Probe, *Fact, error) {
	now := vw.ws.present()
	t := now.pick(target)
	if t == nil || now.failed() {
		return nil, nil, nil, nil, ErrNoProbe
	}
	s, err := vw.targets.look(ctx, now, t)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	p := s.plan().Find(id)
	if p == nil {
		return nil, nil, nil, nil, ErrNoProbe
	}
	return now.doc, t, p, s.facts.of(id), nil
}
