package sweep

import (
	"millgate/app/planning"
	"millgate/core/check"
)

// Plan plans a sweep of a target, the first when it is empty, without sending
// anything.
func (sw *Sweeps) Plan(target string) (planning.Detail, error) {
	now := sw.ws.Present()
	if target == "" && len(now.Doc.Targets) > 0 {
		target = now.Doc.Targets[0].Name
	}
	d, t, err := now.Current(target)
	if err != nil {
		return planning.Detail{}, err
	}
	return planning.InDetail(d, check.NewPlan(d, t, sw.targets.Families), t), nil
}
