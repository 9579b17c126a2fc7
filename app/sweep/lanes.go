package sweep

import (
	"sync"

	"golang.org/x/sync/errgroup"

	"millgate/app/room"
	"millgate/core/check"
	"millgate/core/check/quotas"
)

// lanes runs lists of probes beside each other, each in its order. One that waits for room in a
// quota lets the next begin: how many requests are under way is for the client to bound.
func (r *run) lanes(list [][]*check.Probe) error {
	g := new(errgroup.Group)
	slots := make(chan struct{}, Lanes)
	for _, lane := range list {
		slots <- struct{}{}
		park := sync.OnceFunc(func() { <-slots })
		if r.stopping.Err() != nil {
			park()
			break
		}
		g.Go(func() error {
			defer park()
			for _, p := range lane {
				if r.stopping.Err() != nil {
					return nil
				}
				if err := r.one(p, park); err != nil {
					r.failed.Store(true)
					r.stop() // the other lanes begin nothing more
					return err
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// drillLanes are the quota drills that are still to run: those that share a counter
// follow each other.
func (r *run) drillLanes(ph check.Phase) [][]*check.Probe {
	var drills []*check.Probe
	for _, p := range r.probes {
		if p.Phase == ph && p.Is(quotas.Family{}) && r.facts.Of(p.Key()) == nil {
			drills = append(drills, p)
		}
	}
	return room.Lanes(r.doc, r.target, drills)
}

// lanesOf splits a phase, but for its quota drills, into lists that run beside each
// other. Safe probes stand alone; unsafe ones of a route, or on one record, follow
// each other, so that what is read afterwards can be put down to one of them. What ends sessions
// goes alone.
func (r *run) lanesOf(ph check.Phase) [][]*check.Probe {
	var out [][]*check.Probe
	index := map[string]int{}
	for _, p := range r.probes {
		if p.Phase != ph || p.Is(quotas.Family{}) || r.facts.Of(p.Key()) != nil {
			continue
		}
		if ph == check.ThenEnding { // one after the other: each may end what the next one uses
			if len(out) == 0 {
				out = append(out, nil)
			}
			out[0] = append(out[0], p)
			continue
		}
		if ph == check.SafeFirst || !p.Unsafe {
			out = append(out, []*check.Probe{p})
			continue
		}
		k := p.Route
		if p.Record.Value != "" {
			k = p.Record.Name + "\x00" + p.Record.Value
		}
		i, ok := index[k]
		if !ok {
			i = len(out)
			index[k] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], p)
	}
	return out
}
