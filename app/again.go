package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/store"
)

// Crossing names one cell of the board; an empty Caller is nobody, "*" is all.
type CrossingKey struct{ Route, Caller string }

// ProbeAgain sends the probes of some crossings again, with their controls.
func (sw *Sweeps) ProbeAgain(ctx context.Context, target string, keys []CrossingKey) (*Run, error) {
	now := sw.ws.present()
	d, t, err := now.current(target)
	if err != nil {
		return nil, err
	}
	s, err := sw.targets.look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	pl := s.plan().Copy() // with what gaps led to
	want := map[string]bool{}
	for _, k := range keys {
		if kind, ok := strings.CutPrefix(k.Caller, CountedCaller); ok {
			for _, p := range drillsAt(d, pl, k.Route, kind) {
				want[p.Key()] = true
			}
		}
	}
	for _, p := range pl.Probes {
		for _, k := range keys {
			if p.Route == k.Route && (k.Caller == "*" || belongs(pl, p, k.Caller) ||
				slices.Contains(p.StandsFor, k.Caller)) {
				want[p.Key()] = true
				if p.Control != "" {
					want[p.Control] = true
				}
			}
		}
	}
	var only []*check.Probe
	for _, p := range pl.Probes {
		if want[p.Key()] {
			only = append(only, p)
		}
	}
	if len(only) == 0 {
		return nil, fmt.Errorf("%w: no probe is planned there; the plan says why", ErrNotFound)
	}
	o, err := sw.targets.observe(ctx, now, t.Name)
	if err != nil {
		return nil, err
	}
	return sw.start(ctx, d, t, "", pl, only, o.facts, store.Sweep{Planned: len(only), Partial: true,
		RevisionID: now.revision.ID}, nil)
}
