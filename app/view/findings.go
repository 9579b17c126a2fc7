package view

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"millgate/app/events"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Wanted says which of many verdicts are asked for.
type Wanted struct {
	From  int  // the turn of the first
	Limit int  // how many at most; 0 is all
	Gaps  bool // gaps alone
}

// Ticks are verdicts known of a target, in the order of sending.
type Ticks struct {
	List  []events.Tick
	Next  int // the turn from which to go on, -1 after the last
	Total int // verdicts there are
}

// Ticks returns verdicts known of a target.
func (vw *View) Ticks(ctx context.Context, target string, w Wanted) (Ticks, error) {
	now, out := vw.ws.Present(), Ticks{List: []events.Tick{}, Next: -1}
	t := now.Pick(target)
	if t == nil || now.Failed() {
		return out, nil
	}
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return out, err
	}
	type sent struct {
		it check.Item
		at time.Time
	}
	list := make([]sent, 0, len(s.Items))
	for key, it := range s.Items {
		list = append(list, sent{it, s.Facts.Of(key).Exchange.At})
	}
	slices.SortFunc(list, func(a, b sent) int {
		return cmp.Or(a.at.Compare(b.at), cmp.Compare(a.it.Probe.Key(), b.it.Probe.Key()))
	})
	out.Total = len(list)
	for i := max(0, w.From); i < len(list); i++ {
		if w.Gaps && !list[i].it.Verdict.Kind.IsGap() {
			continue
		}
		if w.Limit > 0 && len(out.List) == w.Limit {
			out.Next = i
			break
		}
		tick := events.TickOf(s.Plan(), list[i].it)
		tick.At = i
		out.List = append(out.List, tick)
	}
	return out, nil
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
