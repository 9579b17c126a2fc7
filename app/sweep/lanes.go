package sweep

import (
	"slices"

	"golang.org/x/sync/errgroup"

	"millgate/app/room"
	"millgate/core/check"
	"millgate/core/check/quotas"
)

// lanes runs lists of probes beside each other, each in its order.
func (r *run) lanes(list [][]*check.Probe) error {
	g := new(errgroup.Group)
	g.SetLimit(Lanes)
	for _, lane := range list {
		if r.stopping.Err() != nil {
			break
		}
		g.Go(func() error {
			for _, p := range lane {
				if r.stopping.Err() != nil {
					return nil
				}
				if err := r.one(p); err != nil {
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
func (r *run) drillLanes(ph check.Phase) (out [][]*check.Probe) {
	counters := room.Counting(r.doc, r.target)
	lane := map[string]int{} // by counter
	for _, p := range r.probes {
		if p.Phase != ph || !p.Is(quotas.Family{}) || r.facts.Of(p.Key()) != nil {
			continue
		}
		at := -1
		names := counters.Counters(counters.Of(p))
		for _, c := range names {
			k, taken := lane[c.Name]
			switch {
			case !taken || k == at:
			case at < 0:
				at = k
			default: // two lanes become one
				out[at] = append(out[at], out[k]...)
				out[k] = nil
				for n, i := range lane {
					if i == k {
						lane[n] = at
					}
				}
			}
		}
		if at < 0 {
			at = len(out)
			out = append(out, nil)
		}
		out[at] = append(out[at], p)
		for _, c := range names {
			lane[c.Name] = at
		}
	}
	return slices.DeleteFunc(out, func(l []*check.Probe) bool { return len(l) == 0 })
}

// lanesOf splits a phase, but for its quota drills, into lists that run beside each
// other. Safe probes stand alone; unsafe ones of a route, or on one record, follow
// each other, so that what is read afterwards can be put down to one of them.
func (r *run) lanesOf(ph check.Phase) [][]*check.Probe {
	var out [][]*check.Probe
	index := map[string]int{}
	for _, p := range r.probes {
		if p.Phase != ph || p.Is(quotas.Family{}) || r.facts.Of(p.Key()) != nil {
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
