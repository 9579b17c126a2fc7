// Package snapshot is what is known of a target: the facts that sweeps brought, and what they come to
// by a declaration.
//
// Facts stand in a Known, which one sweep at a time changes; a Reading of it stays as it is. A
// Snapshot is a reading judged by a declaration: items, findings, counts. It never changes, and it is
// made when somebody looks, from the one before: what rests on the same facts is not judged again.
package snapshot

import (
	"maps"
	"slices"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Snapshot is what is known of a target at a moment, judged by a declaration. It never
// changes: whoever has one reads it without a lock, however long.
type Snapshot struct {
	doc      *declaration.Document
	target   *declaration.Target
	Facts    Reading
	Sweep    uint // the last whole one; 0 without
	running  bool
	Plan     func() *check.Plan    // made when somebody first wants it
	Items    map[string]check.Item // by probe
	made     map[string]basis
	Findings []finding.Finding
	Counts   finding.Counts
}

// basis is what an item is made from; while it stays the same, so does what is said. One that
// asked for further facts is made anew whenever something changes.
type basis struct {
	fact, control *Fact
	further       bool
}

// Sent are the planned probes; none where nothing is known of the target.
func (s *Snapshot) Sent() []*check.Probe {
	if s == nil || s.Facts.Len() == 0 {
		return nil
	}
	return s.Plan().Probes
}

// of says whether it is what is known of its target by a declaration, at a moment at which so
// much had changed.
func (s *Snapshot) of(d *declaration.Document, changes uint64, running bool) bool {
	return s != nil && s.doc == d && s.running == running && s.Facts.changes >= changes
}

// judge holds what is known against a declaration. What is made from the same facts as last
// time is taken from there.
func (o *Observed) judge(d *declaration.Document, t *declaration.Target, plan func() *check.Plan, l check.Families,
	running bool) *Snapshot {
	s := &Snapshot{doc: d, target: t, Facts: o.Facts.Read(), Sweep: o.sweep, running: running,
		Items: map[string]check.Item{}, made: map[string]basis{}}
	var pl *check.Plan
	last := o.last.Load()
	same := last != nil && last.doc == d && last.target == t
	if s.Facts.Len() == 0 {
		s.Counts = check.Count(l, nil, nil)
		if s.Plan = plan; same {
			s.Plan = last.Plan
		}
		return s
	}
	if same {
		pl, s.Items, s.made = last.Plan().Copy(), maps.Clone(last.Items), maps.Clone(last.made)
	} else {
		pl = plan()
	}
	s.Plan = func() *check.Plan { return pl }
	items := s.judge(NewJudge(pl, s.Facts.Of))
	s.Findings = check.Gather(pl.Context, l, items)
	s.Counts = check.Count(l, items, s.Findings)
	return s
}

// judged is an item that was made anew.
type judged struct {
	item  check.Item
	basis basis
}

// fresh judges those of a list that are new, or made from other facts than before, beside each other.
// It is nil for all others.
func (s *Snapshot) fresh(j *Judge, list []*check.Probe) []*judged {
	out := make([]*judged, len(list))
	beside(len(list), func(i int) {
		p := list[i]
		b := basis{fact: s.Facts.Of(p.Key()), control: s.Facts.Of(p.Control)}
		if _, known := s.Items[p.Key()]; b.fact == nil || known && s.made[p.Key()] == b {
			return
		}
		it, asked := j.judging(p)
		b.further = slices.ContainsFunc(asked, func(k string) bool { return k != p.Key() && k != p.Control })
		out[i] = &judged{it, b}
	})
	return out
}

// judge judges what is new or has another control than before, and returns all items in the
// order of the plan, to which a gap can add. While a sweep runs, a refusal whose control is
// still to come is left out: it would only look unproven.
func (s *Snapshot) judge(j *Judge) []check.Item {
	pl := j.plan
	items := make([]check.Item, 0, s.Facts.Len())
	var fresh []*judged
	for i := 0; i < len(pl.Probes); i++ { // a gap can add to them
		p := pl.Probes[i]
		if i == len(fresh) { // those that were planned to begin with, or since
			fresh = append(fresh, s.fresh(j, pl.Probes[i:])...)
		}
		b := basis{fact: s.Facts.Of(p.Key()), control: s.Facts.Of(p.Control)}
		if b.fact == nil {
			delete(s.Items, p.Key())
			continue
		}
		it := s.Items[p.Key()]
		if f := fresh[i]; f != nil {
			it = f.item
			s.Items[p.Key()], s.made[p.Key()] = it, f.basis
		}
		j.Widen(it)
		if s.running && it.Verdict.Kind == finding.Unproven && b.control == nil && pl.Find(p.Control) != nil {
			delete(s.Items, p.Key())
			continue
		}
		items = append(items, it)
	}
	// What is judged has its fact: a probe that is sent again has none meanwhile.
	maps.DeleteFunc(s.Items, func(id string, _ check.Item) bool { return s.Facts.Of(id) == nil })
	return items
}
