// Package view says what is declared and what was seen, for whoever looks: the board with its lenses,
// a crossing, a route, quotas, sessions, findings, and the requests that are not fair yet. It reads
// what the declaration says and a snapshot, and gives plain values.
package view

import (
	"context"
	"sort"
	"strings"
	"time"

	"millgate/app/events"
	"millgate/app/snapshot"
	"millgate/app/sweep"
	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/core/review"
	"millgate/store"
)

// View says what is declared and what was seen, for whoever looks. It changes nothing.
type View struct {
	store   *store.Store
	ws      *workspace.Workspace
	targets *snapshot.Targets
	sweeps  *sweep.Sweeps

	versions versions
}

func New(st *store.Store, ws *workspace.Workspace, targets *snapshot.Targets, sweeps *sweep.Sweeps) *View {
	return &View{store: st, ws: ws, targets: targets, sweeps: sweeps}
}

// Column is one caller of the Access lens.
type Column struct {
	Key     string // "" is nobody
	Label   string
	Sub     string
	Class   int      // columns of one class cannot be told apart
	Roles   []string // with all that they include
	Members int      // of its class
}

// Row is one route of the board.
type Row struct {
	Key         string
	Method      string
	Host        string
	Path        string
	Prefix      string
	Group       string
	Effect      string
	Sensitivity string
	Summary     string
	Line        int
	File        string
	Worst       finding.Kind // on the route, also of findings without a cell; "" without
	Declared    bool         // the inventory has it
	Access      []int        // a cell for each column of the board, as indexes of its cells
	Tokens      []int        // for each of its ways
	Origins     []int        // for each of its pages
	Counted     []int        // the quotas that count it, as indexes of the board's
	TokenCaller string       // whose sound credential the ways are made of; the caller of the way "sound"
}

// Board is the board of a target, with all its lenses.
type Board struct {
	Title    string
	File     string
	Revision uint
	KeptAt   time.Time
	Target   string
	Targets  []string
	Columns  []Column
	Ways     []string      // the columns of the Tokens lens: sound, absent, and every way of being broken
	Pages    []origin.Page // the columns of the Origins lens
	Kinds    []string      // the columns of the Quotas lens: what quotas count by
	Quotas   []QuotaSeen
	Cells    []Cell // what the cells of rows are indexes of
	Rows     []Row  // all, or those that changed since a version
	Version  string // of this board
	Whole    bool   // Rows are all there are
	Total    int    // rows there are
	NotFair  int    // requests that are not fair yet
	Counts   finding.Counts
	Review   int // messages about the declaration
	Errors   int
	Sweep    *events.Run // the last whole one of the target
	Empty    bool        // there is no declaration yet
}

// Board is the board of a target, the first when it is empty. since is the version that somebody
// has: only the rows that changed since are given, or all where it is not known any more.
func (vw *View) Board(ctx context.Context, target, since string) (Board, error) {
	now := vw.ws.Present()
	d := now.Doc
	b := Board{Title: d.Title, File: now.Name, Revision: now.Revision.ID, KeptAt: now.Revision.At,
		Empty: strings.TrimSpace(now.Text) == "", Review: len(review.Open(now.Reviewed))}
	for _, m := range now.Messages {
		if m.Level == declaration.Error {
			b.Errors++
		}
	}
	for _, t := range d.Targets {
		b.Targets = append(b.Targets, t.Name)
	}
	of := moment{doc: d}
	t := now.Pick(target)
	if t == nil || b.Errors > 0 {
		x := newBoarding(d, b)
		x.fill()
		return vw.versions.take(x.Board, of, since), nil
	}
	s, err := vw.targets.Look(ctx, now, t)
	if err != nil {
		return b, err
	}
	of.seen = s
	if known, ok := vw.versions.known(t.Name, of, since); ok { // nothing that it is made of has changed
		known.Sweep = vw.sweepOf(ctx, s)
		return known, nil
	}
	x := newBoarding(d, b)
	x.Target, x.Counts = t.Name, s.Counts
	x.Quotas = quotasSeen(d, t, s, x.Kinds)
	x.NotFair = len(unfair(d, s))
	x.see(s)
	x.Sweep = vw.sweepOf(ctx, s)
	x.fill()
	return vw.versions.take(x.Board, of, since), nil
}

// sweepOf is the last whole sweep of what is known, nil without.
func (vw *View) sweepOf(ctx context.Context, s *snapshot.Snapshot) *events.Run {
	if s.Sweep == 0 {
		return nil
	}
	if r := vw.sweeps.Running(s.Sweep); r != nil {
		return r
	}
	w, err := vw.store.SweepByID(ctx, s.Sweep)
	if err != nil {
		return nil
	}
	return events.RunOf(w)
}

func columns(d *declaration.Document, classes []access.Class) []Column {
	class := make([]int, len(d.Identities))
	for c, cl := range classes {
		for _, m := range cl.Members {
			class[m] = c
		}
	}
	out := []Column{{Label: "nobody", Sub: "signed out", Class: -1, Members: 1, Roles: []string{}}}
	for i, id := range d.Identities {
		c := Column{Key: id.Name, Label: id.Name, Class: class[i], Members: len(classes[class[i]].Members),
			Roles: []string{}}
		var roles []string
		for _, r := range id.Roles {
			roles = append(roles, r.Name)
		}
		c.Sub = strings.Join(roles, ", ")
		if c.Sub == "" && len(id.Credentials) > 0 {
			c.Sub = id.Credentials[0].Scheme.Name
		}
		for r := range d.RolesOf(id) {
			c.Roles = append(c.Roles, r)
		}
		sort.Strings(c.Roles)
		out = append(out, c)
	}
	return out
}
