// Package past reads what sweeps came to, out of the store and out of result files, as a history, and says
// what became of findings from one to another.
package past

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/core/finding"
	"millgate/core/history"
	"millgate/store"
)

// Version is that of the form in which a result is written as JSON. It changes when a member changes its
// meaning or goes; new ones come without.
const Version = 1

// Swept is a sweep whose result is at hand.
type Swept struct {
	Name string // "sweep 12", or the file's
	Run  *events.Run
	Of   history.Sweep
}

// Sweeps is where results are kept.
type Sweeps interface {
	List(ctx context.Context, before uint, limit int) ([]*events.Run, error)
	Result(ctx context.Context, id uint) (*events.Run, coverage.Result, error)
}

// atOnce is how many sweeps are listed at once.
const atOnce = 100

// Runs are the sweeps of a target, the first first; of every target where it is "".
func Runs(ctx context.Context, sw Sweeps, target string) (out []*events.Run, err error) {
	for before := uint(0); ; {
		list, err := sw.List(ctx, before, atOnce)
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			if before = r.ID; target == "" || r.Target == target {
				out = append(out, r)
			}
		}
		if len(list) < atOnce {
			slices.Reverse(out)
			return out, nil
		}
	}
}

// Whole says whether a run is a sweep that has a result of its own: it was no part, and has ended.
func Whole(r *events.Run) bool {
	return !r.Partial && r.EndedAt != nil && (r.State == store.Done || r.State == store.Stopped)
}

// Stored are the whole sweeps of a target, the first first, up to one.
func Stored(ctx context.Context, sw Sweeps, target string, last uint) (out []Swept, err error) {
	runs, err := Runs(ctx, sw, target)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		if !Whole(r) || r.ID > last {
			continue
		}
		_, res, err := sw.Result(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		out = append(out, Of(nameOf(r.ID), r, res))
	}
	return out, nil
}

func nameOf(n uint) string { return fmt.Sprint("sweep ", n) }

// Of is a sweep with its result.
func Of(name string, r *events.Run, res coverage.Result) Swept {
	return Swept{name, r, history.Sweep{ID: r.ID, Revision: r.Revision, At: r.StartedAt, Findings: res.Findings,
		Probed: res.Probed}}
}

// file is a result as it is written.
type file struct {
	Version int `json:"version"`
	Sweep   struct {
		ID        uint       `json:"id"`
		Target    string     `json:"target"`
		State     string     `json:"state"`
		Revision  uint       `json:"revision"`
		StartedAt time.Time  `json:"startedAt"`
		EndedAt   *time.Time `json:"endedAt"`
	} `json:"sweep"`
	Findings []finding.Finding         `json:"findings"`
	Counts   *finding.Counts           `json:"counts"`
	Probed   map[string]history.Probed `json:"probed"`
}

// Decode reads a result file into v. The error of one that is none, or of another version, says so.
func Decode(path string, v any) error {
	b, err := os.ReadFile(path) //nolint:gosec // it is what the caller names
	if err != nil {
		return fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	var of struct{ Version, ShardVersion int }
	err = json.Unmarshal(b, &of)
	if err == nil && of.Version == Version {
		err = json.Unmarshal(b, v)
	}
	switch {
	case err != nil:
		return fmt.Errorf("%w: %s is no result of a sweep: %w", fault.ErrInput, path, err)
	case of.ShardVersion != 0:
		return fmt.Errorf("%w: %s is a shard of a sweep; join it with the others by millgate merge", fault.ErrInput,
			path)
	case of.Version != Version:
		return fmt.Errorf("%w: %s has version %d of results, %d is read", fault.ErrInput, path, of.Version, Version)
	}
	return nil
}

// Read reads a result file to compare with. The error of one that is none says what it should be.
func Read(path string) (Swept, error) {
	var f file
	if err := Decode(path, &f); err != nil {
		return Swept{}, err
	}
	if f.Probed == nil {
		return Swept{}, fmt.Errorf("%w: %s does not say what each probe found out, so that nothing can be said to be "+
			"mended; write it anew with --save", fault.ErrInput, path)
	}
	r := &events.Run{ID: f.Sweep.ID, Target: f.Sweep.Target, State: f.Sweep.State, Revision: f.Sweep.Revision,
		StartedAt: f.Sweep.StartedAt, EndedAt: f.Sweep.EndedAt, Counts: f.Counts}
	return Swept{path, r, history.Sweep{ID: r.ID, Revision: r.Revision, At: r.StartedAt, Findings: f.Findings,
		Probed: f.Probed}}, nil
}

// Number is the sweep that a word names: 12, or sweep:12; 0 for a file.
func Number(word string) uint {
	n, err := strconv.ParseUint(strings.TrimPrefix(word, "sweep:"), 10, 32)
	if err != nil {
		return 0
	}
	return uint(n)
}

// Run is a whole sweep that has ended, by its number.
func Run(ctx context.Context, sw Sweeps, n uint) (*events.Run, error) {
	r, _, err := sw.Result(ctx, n)
	switch {
	case err != nil:
		return nil, err
	case r.Partial:
		return nil, fmt.Errorf("%w: sweep %d sent some probes again; name a whole one", fault.ErrInput, n)
	case !Whole(r):
		return nil, fmt.Errorf("%w: sweep %d is %s", fault.ErrInput, n, r.State)
	}
	return r, nil
}

// Find is what a word names, a stored sweep or a result file, at the end of all that is known before it.
func Find(ctx context.Context, sw Sweeps, word string) ([]Swept, error) {
	n := Number(word)
	if n == 0 {
		s, err := Read(word)
		return []Swept{s}, err
	}
	r, err := Run(ctx, sw, n)
	if err != nil {
		return nil, err
	}
	return Stored(ctx, sw, r.Target, n)
}

// Comparison is what became of findings from one sweep to another.
type Comparison struct {
	A, B  Swept
	Lines []*history.Line // up to the later one
	a, b  int
	list  []Swept // that were followed
}

// fits says why two sweeps cannot be compared, a as the earlier one.
func fits(a, b Swept) error {
	switch {
	case a.Run.Target != b.Run.Target:
		return fmt.Errorf("%w: %s is of %s, %s of %s; sweeps of one target can be compared", fault.ErrInput, a.Name,
			a.Run.Target, b.Name, b.Run.Target)
	case b.Of.At.Before(a.Of.At):
		return fmt.Errorf("%w: %s is earlier than %s; name the earlier one first", fault.ErrInput, b.Name, a.Name)
	case a.Name == b.Name:
		return fmt.Errorf("%w: %s cannot be compared with itself", fault.ErrInput, a.Name)
	}
	return nil
}

// compared follows findings through sweeps, the first first, and compares one of them with the last.
func compared(list []Swept, a int) Comparison {
	sweeps := make([]history.Sweep, len(list))
	for i, s := range list {
		sweeps[i] = s.Of
	}
	b := len(list) - 1
	return Comparison{list[a], list[b], history.Follow(sweeps), a, b, list}
}

// Compare follows findings through sweeps, from the one at the end of before to the one at the end of after.
// What stands in both is the same; after comes later.
func Compare(before, after []Swept) (c Comparison, err error) {
	a, b := before[len(before)-1], after[len(after)-1]
	if err := fits(a, b); err != nil {
		return c, err
	}
	list := before
	for _, s := range after {
		if !slices.ContainsFunc(before, func(o Swept) bool { return o.Name == s.Name }) && !s.Of.At.Before(a.Of.At) {
			list = append(list, s)
		}
	}
	return compared(list, len(before)-1), nil
}

// Between compares two stored sweeps by their numbers.
func Between(ctx context.Context, sw Sweeps, from, to uint) (c Comparison, err error) {
	var ends [2]Swept
	for i, n := range []uint{from, to} {
		r, err := Run(ctx, sw, n)
		if err != nil {
			return c, err
		}
		ends[i] = Of(nameOf(n), r, coverage.Result{})
	}
	if err := fits(ends[0], ends[1]); err != nil {
		return c, err
	}
	list, err := Stored(ctx, sw, ends[0].Run.Target, to)
	if err != nil {
		return c, err
	}
	return compared(list, placeOf(list, from)), nil
}

// Since compares a sweep with a stored one of its target, or with the last whole one before it where that is 0; nil
// where there is none.
func Since(ctx context.Context, sw Sweeps, from uint, this Swept) (*Comparison, error) {
	list, err := Stored(ctx, sw, this.Run.Target, this.Run.ID-1)
	if err != nil || len(list) == 0 && from == 0 {
		return nil, err
	}
	a := len(list) - 1
	if from > 0 {
		r, err := Run(ctx, sw, from)
		if err != nil {
			return nil, err
		}
		if err := fits(Of(nameOf(from), r, coverage.Result{}), this); err != nil {
			return nil, err
		}
		a = placeOf(list, from)
	}
	c := compared(append(list, this), a)
	return &c, nil
}

func placeOf(list []Swept, n uint) int {
	return slices.IndexFunc(list, func(s Swept) bool { return s.Run.ID == n })
}

// Sweep is one that was followed, by its index.
func (c Comparison) Sweep(i int) *events.Run { return c.list[i].Run }

// Of are the findings with a change, the gravest first.
func (c Comparison) Of(change history.Change) (out []*history.Line) {
	for _, l := range c.Lines {
		if l.Between(c.a, c.b) == change {
			out = append(out, l)
		}
	}
	slices.SortStableFunc(out, func(x, y *history.Line) int {
		return slices.Index(finding.Severities, y.Finding.Severity) -
			slices.Index(finding.Severities, x.Finding.Severity)
	})
	return out
}

// Why says why a finding is marked as it is in the later sweep.
func (c Comparison) Why(l *history.Line) string { return l.Whys[c.b] }

// Stops are the findings that a pipeline stops for: of those that are new or back.
func (c Comparison) Stops(on finding.FailOn) []*history.Line {
	return history.Stops(c.Lines, c.a, c.b, on)
}

// Differs says whether anything became of findings: one came, went, or was not checked.
func (c Comparison) Differs() bool {
	return slices.ContainsFunc(history.Changes, func(change history.Change) bool {
		return change != history.Unchanged && len(c.Of(change)) > 0
	})
}

// Summary counts the changes in words: "2 new, 1 back, 9 unchanged".
func (c Comparison) Summary() string {
	var parts []string
	for _, change := range history.Changes {
		if n := len(c.Of(change)); n > 0 {
			parts = append(parts, fmt.Sprint(n, " ", change))
		}
	}
	if parts == nil {
		return "no findings in either"
	}
	return strings.Join(parts, ", ")
}

// Became is what became of a finding by a sweep.
type Became struct {
	State history.State
	Since uint // the sweep that saw it first
	Why   string
}

// becoming is what became of the findings of lines by a sweep, an index; id gives the sweeps' numbers.
func becoming(lines []*history.Line, at int, id func(i int) uint) map[string]Became {
	out := map[string]Became{}
	for _, l := range lines {
		if s := l.At(at); s != history.Unknown {
			out[l.Finding.ID] = Became{s, id(l.First), l.Whys[at]}
		}
	}
	return out
}

// Became is what became of each finding by the later sweep.
func (c Comparison) Became() map[string]Became {
	return becoming(c.Lines, c.b, func(i int) uint { return c.list[i].Run.ID })
}
