package view

import (
	"context"

	"millgate/app/coverage"
	"millgate/app/snapshot"
	"millgate/core/declaration"
)

// Worklist lists the requests that are not fair yet.
func (vw *View) Worklist(ctx context.Context, target string) ([]coverage.Unfair, error) {
	now, out := vw.ws.Present(), []coverage.Unfair{}
	t := now.Pick(target)
	if t == nil || now.Failed() {
		return out, nil
	}
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	return unfair(now.Doc, s), nil
}

// unfair are the controls that were sent and are not admitted.
func unfair(d *declaration.Document, s *snapshot.Snapshot) []coverage.Unfair {
	sent := s.Sent()
	if len(sent) == 0 {
		return []coverage.Unfair{}
	}
	return coverage.Swept{Doc: d, Plan: s.Plan(), Probes: sent, Facts: &s.Facts, Items: s.Items}.Unfair()
}
