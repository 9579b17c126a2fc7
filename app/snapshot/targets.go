package snapshot

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/singleflight"

	"millgate/app/workspace"
	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/declaration"
	"millgate/store"
)

// Targets is what is known of the targets of a declaration. It is safe for concurrent use.
type Targets struct {
	Families check.Families // what a sweep checks

	store *store.Store
	looks singleflight.Group // of who wants to know the same

	mu    sync.Mutex
	file  string               // of the declaration whose targets they are
	seen  map[string]*Observed // by target
	swept string               // the target that a sweep writes; "" without
}

func NewTargets(st *store.Store) *Targets {
	return &Targets{Families: families.All, store: st, seen: map[string]*Observed{}}
}

// of is what is known of a declaration's targets: of another file's it is something else. The
// caller holds the lock.
func (ts *Targets) of(p workspace.Present) map[string]*Observed {
	if ts.file != p.File() {
		ts.file, ts.seen = p.File(), map[string]*Observed{}
	}
	return ts.seen
}

// running says whether a sweep of a target runs.
func (ts *Targets) running(target string) bool {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	return ts.swept == target && target != ""
}

// Holds says whether facts are still what is known of a target.
func (ts *Targets) Holds(p workspace.Present, target string, facts *Known) bool {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	o := ts.of(p)[target]
	return o != nil && o.Facts == facts
}

// Begin says that a sweep writes a target from now on. Facts of a whole one are all that is known
// of it; without any, those that are known change.
func (ts *Targets) Begin(p workspace.Present, target string, facts *Known, sweep uint) {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	if ts.swept = target; facts != nil {
		ts.of(p)[target] = &Observed{Facts: facts, sweep: sweep}
	}
}

// End says that the sweep has ended. Where it came to nothing, what was known before is read again.
func (ts *Targets) End(nothing bool) {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	if nothing {
		delete(ts.seen, ts.swept)
	}
	ts.swept = ""
}

// Observed is what is known of a target since its last whole sweep, and what was made of it
// last.
type Observed struct {
	Facts *Known
	sweep uint // the last whole one; 0 without
	last  atomic.Pointer[Snapshot]
}

// Look is a target as it is now: with all that is known when it is asked for. Those who ask at
// the same time share the work; no sweep waits for it, and it waits for no sweep.
func (ts *Targets) Look(ctx context.Context, p workspace.Present, t *declaration.Target) (*Snapshot, error) {
	plan := sync.OnceValue(func() *check.Plan { return check.NewPlan(p.Doc, t, ts.Families) })
	for {
		o, err := ts.observe(ctx, p, t.Name, func() { go plan() })
		if err != nil {
			return nil, err
		}
		changes, running := o.Facts.changed(), ts.running(t.Name)
		if s := o.last.Load(); s.of(p.Doc, changes, running) {
			return s, nil
		}
		v, err, _ := ts.looks.Do(fmt.Sprintf("%p %p %s %t", o, p.Doc, t.Name, running), func() (any, error) {
			s := o.judge(p.Doc, t, plan, ts.Families, running)
			o.last.Store(s)
			return s, nil
		})
		if err != nil {
			return nil, err
		}
		// The work of who asked before may have begun before the last change.
		if s, _ := v.(*Snapshot); s.of(p.Doc, changes, running) {
			return s, nil
		}
	}
}

// Observe is what is known of a target: its last whole sweep and what was sent again since. It
// is read from the store the first time.
func (ts *Targets) Observe(ctx context.Context, p workspace.Present, target string) (*Observed, error) {
	return ts.observe(ctx, p, target, func() {})
}

// observe is Observe; meanwhile is called when there is something to read.
func (ts *Targets) observe(ctx context.Context, p workspace.Present, target string,
	meanwhile func()) (*Observed, error) {
	seen := func() *Observed {
		ts.mu.Lock()
		defer ts.mu.Unlock()
		return ts.of(p)[target]
	}
	if o := seen(); o != nil {
		return o, nil
	}
	v, err, _ := ts.looks.Do("read "+p.File()+" "+target, func() (any, error) {
		ctx := context.WithoutCancel(ctx) // others may want it as well
		if o := seen(); o != nil {
			return o, nil
		}
		list, err := ts.store.Standing(ctx, target)
		if err != nil {
			return nil, err
		}
		o, ids := &Observed{}, []uint{}
		for _, w := range list {
			if ids = append(ids, w.ID); !w.Partial {
				o.sweep = w.ID
			}
		}
		if len(ids) > 0 {
			meanwhile()
		}
		facts, _, err := ts.Journal(ctx, ids...)
		if err != nil {
			return nil, err
		}
		o.Facts = NewKnown(facts)
		ts.mu.Lock()
		defer ts.mu.Unlock()
		if now := ts.of(p)[target]; now != nil { // a sweep began meanwhile
			return now, nil
		}
		ts.of(p)[target] = o
		return o, nil
	})
	if err != nil {
		return nil, err
	}
	o, _ := v.(*Observed)
	return o, nil
}
