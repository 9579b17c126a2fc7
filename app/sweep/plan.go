package sweep

import (
	"slices"

	"millgate/app/planning"
	"millgate/core/check"
)

// Plan plans a sweep of a target, the first when it is empty, without sending
// anything.
func (sw *Sweeps) Plan(target string) (planning.Detail, error) {
	return sw.PlanPart(target, planning.Part{})
}

// PlanPart is Plan for a part of it.
func (sw *Sweeps) PlanPart(target string, part planning.Part) (planning.Detail, error) {
	now := sw.ws.Present()
	if target == "" && len(now.Doc.Targets) > 0 {
		target = now.Doc.Targets[0].Name
	}
	d, t, err := now.Current(target)
	if err != nil {
		return planning.Detail{}, err
	}
	pl := check.NewPlan(d, t, sw.targets.Families)
	chosen, err := part.Choose(d, t, pl)
	if err != nil {
		return planning.Detail{}, err
	}
	pl.Probes = slices.DeleteFunc(chosen.Probes, func(p *check.Probe) bool { return chosen.Leave[p.Key()] != "" })
	return planning.InDetail(d, pl, part.Shard.Paced(t), chosen.Shares), nil
}
