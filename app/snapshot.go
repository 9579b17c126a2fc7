package app

import (
	"maps"
	"slices"
	"sync"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// snapshot is what is known of a target at a moment, judged by a declaration. It never
// changes: whoever has one reads it without a lock, however long.
type snapshot struct {
	doc      *declaration.Document
	target   *declaration.Target
	facts    reading
	sweep    uint // the last whole one; 0 without
	running  bool
	plan     func() *check.Plan    // made when somebody first wants it
	items    map[string]check.Item // by probe
	made     map[string]basis
	findings []finding.Finding
	counts   finding.Counts
}

// basis is what an item is made from; while it stays the same, so does what is said. One that
// asked for further facts is made anew whenever something changes.
type basis struct {
	fact, control *Fact
	further       bool
}

// sent are the planned probes; none where nothing is known of the target.
func (s *snapshot) sent() []*check.Probe {
	if s == nil || s.facts.len() == 0 {
		return nil
	}
	return s.plan().Probes
}

// of says whether it is what is known of its target by a declaration, at a moment at which so
// much had changed.
func (s *snapshot) of(d *declaration.Document, changes uint64, running bool) bool {
	return s != nil && s.doc == d && s.running == running && s.facts.changes >= changes
}

// judge holds what is known against a declaration. What is made from the same facts as last
// time is taken from there.
func (o *observed) judge(d *declaration.Document, t *declaration.Target, l check.Families, running bool) *snapshot {
	s := &snapshot{doc: d, target: t, facts: o.facts.read(), sweep: o.sweep, running: running,
		items: map[string]check.Item{}, made: map[string]basis{}}
	var pl *check.Plan
	last := o.last.Load()
	same := last != nil && last.doc == d && last.target == t
	if s.facts.len() == 0 {
		s.counts = check.Count(l, nil, nil)
		if s.plan = sync.OnceValue(func() *check.Plan { return check.NewPlan(d, t, l) }); same {
			s.plan = last.plan
		}
		return s
	}
	if same {
		pl, s.items, s.made = last.plan().Copy(), maps.Clone(last.items), maps.Clone(last.made)
	} else {
		pl = check.NewPlan(d, t, l)
	}
	s.plan = func() *check.Plan { return pl }
	items := s.judge(newJudge(pl, s.facts.of))
	s.findings = check.Gather(pl.Context, l, items)
	s.counts = check.Count(l, items, s.findings)
	return s
}

// judge judges what is new or has another control than before, and returns all items in the
// order of the plan, to which a gap can add. While a sweep runs, a refusal whose control is
// still to come is left out: it would only look unproven.
func (s *snapshot) judge(j *judge) []check.Item {
	pl := j.plan
	items := make([]check.Item, 0, s.facts.len())
	for i := 0; i < len(pl.Probes); i++ { // a gap can add to them
		p := pl.Probes[i]
		b := basis{fact: s.facts.of(p.Key()), control: s.facts.of(p.Control)}
		if b.fact == nil {
			delete(s.items, p.Key())
			continue
		}
		it, ok := s.items[p.Key()]
		if !ok || s.made[p.Key()] != b { // or it asked for further facts
			var asked []string
			it, asked = j.judging(p)
			b.further = slices.ContainsFunc(asked, func(key string) bool { return key != p.Key() && key != p.Control })
			s.items[p.Key()], s.made[p.Key()] = it, b
		}
		j.widen(it)
		if s.running && it.Verdict.Kind == finding.Unproven && b.control == nil && pl.Find(p.Control) != nil {
			delete(s.items, p.Key())
			continue
		}
		items = append(items, it)
	}
	// What is judged has its fact: a probe that is sent again has none meanwhile.
	maps.DeleteFunc(s.items, func(id string, _ check.Item) bool { return s.facts.of(id) == nil })
	return items
}
