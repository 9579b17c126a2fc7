package shards

// Rule: What runners saw is tried to be refuted by what the others saw.

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"millgate/app/coverage"
	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/check/quotas"
	"millgate/core/declaration"
	"millgate/core/quota"
	"millgate/store"
)

// merging is a sweep that is put together.
type merging struct {
	files []*File // the first first
	plan  *check.Plan
	own   []map[string]*snapshot.Fact // of each file
	facts map[string]*snapshot.Fact   // of all
}

// Merge keeps the sweep that files are the shards of, and says by which number. Apart: each runner sent to a service
// of its own, so that none was counted with another.
func (s *Shards) Merge(ctx context.Context, files []*File, apart bool) (uint, error) {
	if len(files) == 0 {
		return 0, fmt.Errorf("%w: name the files that sweep --shard wrote with --save", fault.ErrInput)
	}
	files = slices.Clone(files)
	slices.SortStableFunc(files, func(a, b *File) int { return a.Shard.Number - b.Shard.Number })
	for i := range files[1:] {
		if err := fits(files[i], files[i+1]); err != nil {
			return 0, err
		}
	}
	first := files[0]
	part, err := first.part()
	if err != nil {
		return 0, err
	}
	by := s.ws.ReadSource(first.Declaration)
	t := by.Doc.TargetNamed(first.Sweep.Target)
	if by.Failed() || t == nil {
		return 0, fmt.Errorf("%w: the declaration in %s cannot be read here", fault.ErrInvalid, first.name)
	}
	m := merging{files: files, plan: check.NewPlan(by.Doc, t, s.families), facts: map[string]*snapshot.Fact{}}
	if digest(m.plan) != first.Plan {
		return 0, fmt.Errorf("%w: %s was planned by another version of Mill Gate; merge with the one that swept",
			fault.ErrInput, first.name)
	}
	chosen, err := part.Choose(by.Doc, t, m.plan)
	if err != nil {
		return 0, err
	}
	if err := m.read(s.families); err != nil {
		return 0, err
	}
	m.meet()
	if !apart {
		m.inTurn()
		if t.Pass.Header == "" {
			m.undisturbed()
		}
	}
	w := m.sweep()
	w.Partial = part.Narrow()
	if w.RevisionID, err = s.ws.KeepSource(ctx, first.Declaration, "Read from the shards of a sweep"); err != nil {
		return 0, err
	}
	err = s.keep(ctx, &m, &w, chosen.Probes)
	return w.ID, err
}

// read reads the facts of all files.
func (m *merging) read(l check.Families) error {
	for _, f := range m.files {
		own := make(map[string]*snapshot.Fact, len(f.Facts))
		for id, b := range f.Facts {
			fact, err := snapshot.Decode(id, "", b, l)
			if err != nil {
				return fmt.Errorf("%w: probe %s in %s cannot be read: %w", fault.ErrInput, id, f.name, err)
			}
			fact.Beside = false // nothing stood before
			own[id] = fact
		}
		for _, id := range f.Unanswered {
			own[id] = lost("sent and never answered; an unsafe request is not sent twice")
		}
		m.own = append(m.own, own)
		for _, o := range f.Left {
			if !slices.Contains(m.plan.Left, o) {
				m.plan.Left = append(m.plan.Left, o)
			}
		}
	}
	return nil
}

// sent says whether a fact is of a probe that was sent.
func sent(f *snapshot.Fact) bool { return f != nil && !strings.HasPrefix(f.Lost, coverage.NotSent) }

// meet puts the facts of all files beside each other. A control that runners saw come to different things was seen by
// none of them.
func (m *merging) meet() {
	at := map[string]int{} // the file that a fact is from
	for i, own := range m.own {
		for id, f := range own {
			k, met := at[id]
			switch {
			case !met || !sent(m.own[k][id]):
				m.facts[id], at[id] = f, i
			case sent(f) && m.facts[id].Lost == "" && m.class(k, id) != m.class(i, id):
				m.facts[id] = lost("shard %s was answered otherwise than shard %s: %s, not %s", m.files[i].Shard,
					m.files[k].Shard, m.class(i, id), m.class(k, id))
			}
		}
	}
}

// lost is a fact of which nothing can be said, and why.
func lost(format string, args ...any) *snapshot.Fact {
	return &snapshot.Fact{Exchange: &check.Exchange{}, Lost: fmt.Sprintf(format, args...)}
}

// class is what a probe was answered in a file.
func (m *merging) class(file int, id string) check.Class {
	f := m.own[file][id]
	if f.Lost != "" {
		return check.Unreachable
	}
	return check.Classify(check.AnswerOf(*f.Exchange), m.plan.Context.Doc.Answers)
}

// inTurn says where the last shard, or one that was to be alone, was sent while others were.
func (m *merging) inTurn() {
	leave := func(what, format string, args ...any) {
		m.plan.Left = append(m.plan.Left, check.Omission{Route: "every shard", What: what,
			Why: fmt.Sprintf(format, args...)})
	}
	for _, of := range m.files {
		var beside []string
		for _, f := range m.files {
			if f != of && of.Sweep.StartedAt.Before(f.Sweep.EndedAt) && f.Sweep.StartedAt.Before(of.Sweep.EndedAt) {
				beside = append(beside, f.Shard.String())
			}
		}
		if others := strings.Join(beside, ", "); others != "" {
			if of.Shard.Number == of.Shard.Of {
				leave("what the last one changes and ends", "%s was sent while %s was, which may have seen it; "+
					"start it when the others have ended", of.Shard, others)
			}
			if of.Shard.Alone {
				leave("the declared pace", "%s was sent as the only one while %s was: together they went beyond it",
					of.Shard, others)
			}
		}
	}
}

// undisturbed takes away what drills measured of quotas that counted other runners meanwhile.
func (m *merging) undisturbed() {
	d, t := m.plan.Context.Doc, m.plan.Context.Target
	snapshot.NewJudge(m.plan, func(key string) *snapshot.Fact { return m.facts[key] }).All() // gaps led to more
	counters := make([]map[string]string, len(m.files))
	for i, own := range m.own {
		var list []*check.Probe
		for id := range own {
			if p := m.plan.Find(id); p != nil {
				list = append(list, p)
			}
		}
		counters[i] = planning.Counters(m.plan, list)
	}
	for i, own := range m.own {
		for id, f := range own {
			p := m.plan.Find(id)
			if p == nil || !p.Is(quotas.Family{}) || f.Check == nil {
				continue
			}
			q, _ := t.Quota(d.QuotaNamed(p.Of))
			began, ended := f.Check.Began.Add(-longest(d, q, p)), m.files[i].Sweep.EndedAt
			for k, o := range m.files {
				if k == i || o.Sweep.EndedAt.Before(began) || o.Sweep.StartedAt.After(ended) ||
					!meets(planning.Counters(m.plan, []*check.Probe{p}), counters[k], p.Of) {
					continue
				}
				drill := m.files[i].Shard
				m.facts[id] = lost("shard %s sent what quota %s counts while shard %s drilled it, or less than its "+
					"window before; sweep shard %s again when no other runs", o.Shard, p.Of, drill, drill)
			}
		}
	}
}

// meets says whether one of the counters of a quota that count a drill counts another runner. Of what cannot be told
// from outside (calls at the same time, the account of a login) it is assumed.
func meets(mine, theirs map[string]string, of string) bool {
	told := false
	for name, by := range mine {
		if told = told || by == of; by == of && theirs[name] != "" {
			return true
		}
	}
	return !told && len(theirs) > 0
}

// longest is the longest window of a quota.
func longest(d *declaration.Document, q *declaration.Quota, p *check.Probe) (w time.Duration) {
	for _, l := range quota.StackFor(d, q, p.Caller.Identity) {
		w = max(w, quota.Span(l.W))
	}
	return w
}

// sweep is the run that all were together. One that has no file, or did not end, makes it one that did not.
func (m *merging) sweep() store.Sweep {
	first := m.files[0]
	w := store.Sweep{Target: first.Sweep.Target, Base: first.Sweep.Base, State: store.Done,
		StartedAt: first.Sweep.StartedAt}
	ended := first.Sweep.EndedAt
	var notes []string
	next := 1
	missing := func(until int) {
		for ; next < until; next++ {
			notes = append(notes, fmt.Sprintf("shard %d/%d is missing", next, first.Shard.Of))
		}
		next++
	}
	for _, f := range m.files {
		missing(f.Shard.Number)
		if f.Sweep.StartedAt.Before(w.StartedAt) {
			w.StartedAt = f.Sweep.StartedAt
		}
		if f.Sweep.EndedAt.After(ended) {
			ended = f.Sweep.EndedAt
		}
		if f.Sweep.Base != w.Base {
			w.Base = ""
		}
		if f.Sweep.State != store.Done {
			notes = append(notes, strings.TrimSuffix(fmt.Sprintf("shard %s is %s: %s", f.Shard, f.Sweep.State,
				f.Sweep.Note),
				": "))
		}
	}
	missing(first.Shard.Of + 1)
	if w.EndedAt = &ended; len(notes) > 0 {
		w.State, w.Note = store.Stopped, strings.Join(notes, "; ")
	}
	return w
}

// keep judges all facts and writes the sweep down.
func (s *Shards) keep(ctx context.Context, m *merging, w *store.Sweep, asked []*check.Probe) error {
	known := snapshot.NewKnown(m.facts)
	items := snapshot.NewJudge(m.plan, known.Of).All()
	probes := slices.Clip(asked)
	for _, p := range m.plan.Probes { // with what gaps led to, where a sweep tries that
		if p.Widens != "" && (known.Of(p.Key()) != nil || m.plan.Find(p.Widens).Phase <= check.ThenEnding) {
			probes = append(probes, p)
		}
	}
	var made []coverage.Leftover
	for _, f := range m.files {
		made = append(made, f.Made...)
	}
	res := coverage.Conclude(m.plan, probes, known, items, w.Partial, *w.EndedAt, made)
	w.Planned = len(probes)
	var err error
	if w.Result, err = json.Marshal(res); err == nil {
		w.Counts, err = json.Marshal(res.Counts)
	}
	if err == nil {
		err = s.store.AddSweep(ctx, w)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", fault.ErrNotStored, err)
	}
	var rows []store.Probe
	for _, id := range slices.Sorted(maps.Keys(m.facts)) {
		p, f := m.plan.Find(id), *m.facts[id]
		if p == nil { // a gap led to it that is none, beside what the others saw
			continue
		}
		f.Sweep = w.ID
		row, err := snapshot.Row(w.ID, p, &f)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		err = s.store.Record(ctx, rows)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", fault.ErrNotStored, err)
	}
	return nil
}
