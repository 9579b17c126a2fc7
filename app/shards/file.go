// Package shards joins what several runners saw, each of which sent a part of one sweep, to the sweep that it is.
//
// A shard's file has the facts, not what they came to: its exchanges, with secrets masked, and the declaration that
// they were sent by. Merge plans the whole sweep from that anew, puts the facts in their places and judges all of
// them beside each other, as one runner would have done. Before that it tries to refute them by each other:
//
//   - a control that two runners sent and that came to two things is neither: what rests on it is unproven;
//   - a quota that was drilled while another runner sent calls which it counts, or less than its window after them,
//     was not measured: that is said in place of a measurement.
//
// What no file has was not sent, and a file that is missing makes the sweep one that did not end.
package shards

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"millgate/app/coverage"
	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/workspace"
	"millgate/core/check"
	"millgate/core/route"
	"millgate/store"
)

// version is that of the form of files.
const version = 1

// File is what one shard of a sweep saw.
type File struct {
	Version     int                        `json:"shardVersion"`
	Shard       planning.Shard             `json:"shard"`
	Sweep       Sweep                      `json:"sweep"`
	Only        []string                   `json:"only,omitempty"` // selectors that were asked for
	Kinds       []string                   `json:"kinds,omitempty"`
	Controls    bool                       `json:"onlyControls,omitempty"`
	Plan        string                     `json:"plan"` // SHA-256 of the whole plan, in hex
	Declaration workspace.Source           `json:"declaration"`
	Left        []check.Omission           `json:"left,omitempty"` // what the runner could not do
	Made        []coverage.Leftover        `json:"made,omitempty"`
	Unanswered  []string                   `json:"unanswered,omitempty"` // unsafe probes that were sent
	Facts       map[string]json.RawMessage `json:"facts"`                // by probe

	name string
}

// Sweep is the run that sent a shard.
type Sweep struct {
	Target    string    `json:"target"`
	Base      string    `json:"base,omitempty"`
	State     string    `json:"state"`
	Note      string    `json:"note,omitempty"`
	StartedAt time.Time `json:"startedAt"`
	EndedAt   time.Time `json:"endedAt"`
}

// Shards writes and joins the files of a workspace's shards.
type Shards struct {
	ws       *workspace.Workspace
	store    *store.Store
	families check.Families
}

func New(st *store.Store, ws *workspace.Workspace, families check.Families) *Shards {
	return &Shards{ws, st, families}
}

// digest names a plan: two that send the same have the same.
func digest(pl *check.Plan) string {
	h := sha256.New()
	for _, p := range pl.Probes {
		fmt.Fprintf(h, "%s %d %s\n", p.Key(), p.Phase, p.Control)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Export is what a shard saw that was sent by a part. The error of a run that was none, or has not ended, says so.
func (s *Shards) Export(ctx context.Context, id uint, part planning.Part) (*File, error) {
	w, err := s.store.SweepByID(ctx, id)
	switch {
	case err != nil:
		return nil, err
	case w.Shard == "" || w.Shard != part.Shard.String():
		return nil, fmt.Errorf("%w: sweep %d is not shard %s", fault.ErrInput, id, part.Shard)
	case w.EndedAt == nil:
		return nil, fmt.Errorf("%w: sweep %d has not ended", fault.ErrInput, id)
	}
	by, err := s.ws.AtRevision(ctx, w.RevisionID)
	if err != nil {
		return nil, err
	}
	source, err := s.ws.SourceOf(ctx, w.RevisionID)
	if err != nil {
		return nil, err
	}
	var res coverage.Result
	if err := json.Unmarshal(w.Result, &res); err != nil {
		return nil, fmt.Errorf("the result of sweep %d cannot be read: %w", id, err)
	}
	t := by.Doc.TargetNamed(w.Target)
	if t == nil {
		return nil, fmt.Errorf("%w: there is no target %q", fault.ErrNotFound, w.Target)
	}
	pl := check.NewPlan(by.Doc, t, s.families)
	plan := digest(pl)
	if _, err := part.Choose(by.Doc, t, pl); err != nil {
		return nil, err
	}
	f := &File{Version: version, Shard: part.Shard, Sweep: Sweep{w.Target, w.Base, w.State, w.Note, w.StartedAt,
		*w.EndedAt}, Kinds: part.Kinds, Controls: part.Controls, Made: res.Made, Facts: map[string]json.RawMessage{},
		Plan: plan, Declaration: source}
	for _, at := range part.At {
		f.Only = append(f.Only, at.String())
	}
	for _, o := range res.Left {
		if !slices.Contains(pl.Left, o) {
			f.Left = append(f.Left, o)
		}
	}
	err = s.store.EachProbe(ctx, []uint{id}, readAtOnce, func(rows []store.Probe) error {
		for _, row := range rows {
			if row.Answered {
				f.Facts[row.ProbeID] = row.Fact
			} else if row.Unsafe {
				f.Unanswered = append(f.Unanswered, row.ProbeID)
			}
		}
		return nil
	})
	return f, err
}

// readAtOnce is how many facts are read in one go.
const readAtOnce = 512

// Write writes a file.
func (f *File) Write(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(f)
}

// Read reads a file that Write wrote. The error of one that is none says what it is.
func Read(path string) (*File, error) {
	b, err := os.ReadFile(path) //nolint:gosec // it is what the caller names
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	f := &File{name: path}
	d := json.NewDecoder(bytes.NewReader(b))
	err = d.Decode(f)
	switch {
	case err == nil && f.Version == 0:
		err = errors.New("it is what a whole sweep came to, or something else")
	case err == nil && f.Version != version:
		err = fmt.Errorf("it has version %d of shards, %d is read", f.Version, version)
	case err == nil && (f.Shard.Number < 1 || f.Shard.Number > f.Shard.Of || f.Shard.Of > planning.MostShards):
		err = fmt.Errorf("it says that it is shard %s", f.Shard)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s is no shard that sweep --shard wrote with --save: %w", fault.ErrInput, path, err)
	}
	return f, nil
}

// part is what all shards of a sweep send together.
func (f *File) part() (p planning.Part, err error) {
	p = planning.Part{Controls: f.Controls, Kinds: f.Kinds}
	for _, text := range f.Only {
		at, err := route.Parse(text)
		if err != nil {
			return p, fmt.Errorf("%w: %s: %w", fault.ErrInput, f.name, err)
		}
		p.At = append(p.At, at)
	}
	return p, nil
}

// fits says why two shards are not of one sweep.
func fits(a, b *File) error {
	why := ""
	switch {
	case a.Shard.Of != b.Shard.Of:
		why = fmt.Sprintf("they are %s and %s", a.Shard, b.Shard)
	case a.Shard.Number == b.Shard.Number:
		why = fmt.Sprintf("both are %s", a.Shard)
	case a.Sweep.Target != b.Sweep.Target:
		why = fmt.Sprintf("they are of %s and %s", a.Sweep.Target, b.Sweep.Target)
	case !a.Declaration.Equal(b.Declaration):
		why = "they were sent by two declarations"
	case !slices.Equal(a.Only, b.Only) || !slices.Equal(a.Kinds, b.Kinds) || a.Controls != b.Controls:
		why = "--only, --kinds or --only-controls were not the same"
	case a.Plan != b.Plan:
		why = "they were planned by two versions of Mill Gate"
	default:
		return nil
	}
	return fmt.Errorf("%w: %s and %s are not shards of one sweep: %s", fault.ErrInput, a.name, b.name, why)
}
