package app

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/review"
	"millgate/store"
)

// present is what the declaration says at a moment, for reading only.
type present struct {
	doc      *declaration.Document
	messages []declaration.Message
	reviewed []review.Message
	revision store.Revision
	text     string
	name     string
	running  *run // nil where no sweep runs
}

// present is what the declaration says now.
func (a *App) present() present {
	a.mu.Lock()
	defer a.mu.Unlock()
	return present{a.doc, a.messages, a.reviewed, a.revision, a.text, a.name, a.running}
}

// failed says whether the declaration has errors, so that nothing can be planned by it.
func (p present) failed() bool { return declaration.Failed(p.messages) }

// pick is a target of the declaration, or else its first; nil without any.
func (p present) pick(target string) *declaration.Target {
	if t := p.doc.TargetNamed(target); t != nil {
		return t
	}
	if len(p.doc.Targets) > 0 {
		return p.doc.Targets[0]
	}
	return nil
}

// runs says whether a sweep of a target runs.
func (p present) runs(target string) bool { return p.running != nil && p.running.target.Name == target }

// observed is what is known of a target since its last whole sweep, and what was made of it
// last.
type observed struct {
	facts *known
	sweep uint // the last whole one; 0 without
	last  atomic.Pointer[snapshot]
}

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

// look is a target as it is now: with all that is known when it is asked for. Those who ask at
// the same time share the work; no sweep waits for it, and it waits for no sweep.
func (a *App) look(ctx context.Context, p present, t *declaration.Target) (*snapshot, error) {
	for {
		o, err := a.observe(ctx, t.Name)
		if err != nil {
			return nil, err
		}
		changes, running := o.facts.changed(), p.runs(t.Name)
		if s := o.last.Load(); s.of(p.doc, changes, running) {
			return s, nil
		}
		v, err, _ := a.looks.Do(fmt.Sprintf("%p %p %s %t", o, p.doc, t.Name, running), func() (any, error) {
			s := o.judge(p.doc, t, a.families, running)
			o.last.Store(s)
			return s, nil
		})
		if err != nil {
			return nil, err
		}
		// The work of who asked before may have begun before the last change.
		if s, _ := v.(*snapshot); s.of(p.doc, changes, running) {
			return s, nil
		}
	}
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

// observe is what is known of a target: its last whole sweep and what was sent again since. It
// is read from the store the first time.
func (a *App) observe(ctx context.Context, target string) (*observed, error) {
	seen := func() *observed {
		a.mu.Lock()
		defer a.mu.Unlock()
		return a.seen[target]
	}
	if o := seen(); o != nil {
		return o, nil
	}
	v, err, _ := a.looks.Do("read "+target, func() (any, error) {
		ctx := context.WithoutCancel(ctx) // others may want it as well
		if o := seen(); o != nil {
			return o, nil
		}
		list, err := a.store.Standing(ctx, target)
		if err != nil {
			return nil, err
		}
		o, ids := &observed{}, []uint{}
		for _, w := range list {
			if ids = append(ids, w.ID); !w.Partial {
				o.sweep = w.ID
			}
		}
		facts, _, err := a.journal(ctx, ids...)
		if err != nil {
			return nil, err
		}
		o.facts = newKnown(facts)
		a.mu.Lock()
		defer a.mu.Unlock()
		if now := a.seen[target]; now != nil { // a sweep began meanwhile
			return now, nil
		}
		a.seen[target] = o
		return o, nil
	})
	if err != nil {
		return nil, err
	}
	o, _ := v.(*observed)
	return o, nil
}
