package app

import (
	"context"
	"fmt"
	"sync/atomic"

	"millgate/core/declaration"
)

// observed is what is known of a target since its last whole sweep, and what was made of it
// last.
type observed struct {
	facts *known
	sweep uint // the last whole one; 0 without
	last  atomic.Pointer[snapshot]
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
