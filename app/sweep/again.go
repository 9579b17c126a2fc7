package sweep

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/store"
)

// Crossing names one cell of the board; an empty Caller is nobody, "*" is all.
type CrossingKey struct{ Route, Caller string }

// ProbeAgain sends the probes of some crossings again, and some by their ids, with their controls.
func (sw *Sweeps) ProbeAgain(ctx context.Context, target string, keys []CrossingKey, probes ...string) (*events.Run,
	error) {
	now := sw.ws.Present()
	d, t, err := now.Current(target)
	if err != nil {
		return nil, err
	}
	s, err := sw.targets.Look(ctx, now, t)
	if err != nil {
		return nil, err
	}
	pl := s.Plan().Copy() // with what gaps led to
	want := map[string]bool{}
	for _, id := range probes {
		want[id] = true
	}
	for _, k := range keys {
		if kind, ok := strings.CutPrefix(k.Caller, snapshot.CountedCaller); ok {
			for _, p := range snapshot.DrillsAt(d, pl, k.Route, kind) {
				want[p.Key()] = true
			}
		}
	}
	for _, p := range pl.Probes {
		for _, k := range keys {
			if p.Route == k.Route && (k.Caller == "*" || snapshot.Belongs(pl, p, k.Caller) ||
				slices.Contains(p.StandsFor, k.Caller)) {
				want[p.Key()] = true
			}
		}
	}
	only := planning.Chosen{Probes: planning.Among(pl, want)}
	if len(only.Probes) == 0 {
		return nil, fmt.Errorf("%w: no probe is planned there; the plan says why", fault.ErrNotFound)
	}
	o, err := sw.targets.Observe(ctx, now, t.Name)
	if err != nil {
		return nil, err
	}
	return sw.start(ctx, d, t, "", pl, only, o.Facts, store.Sweep{Planned: len(only.Probes), Partial: true,
		RevisionID: now.Revision.ID}, nil)
}
