// Package view says what is declared and what was seen, for whoever looks: the board with its lenses,
// a crossing, a route, quotas, sessions, findings, and the requests that are not fair yet. It reads
// what the declaration says and a snapshot, and gives plain values.
package view

import (
	"context"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/app/events"
	"millgate/app/snapshot"
	"millgate/app/sweep"
	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/check/pages"
	"millgate/core/check/undeclared"
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
}

func New(st *store.Store, ws *workspace.Workspace, targets *snapshot.Targets, sweeps *sweep.Sweeps) *View {
	return &View{st, ws, targets, sweeps}
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
	Worst       string // the worst kind on the route, also of findings without a cell
	Expect      string // one letter for each column: r f h a d c
	Verdict     string // one letter for each column: the gap's, "=" agrees, "?" unproven, "." unprobed
	Inferred    string // "1" where another of the class was sent
	Declared    bool
	Tokens      string // one letter for each way of the board: the expectation, "-" where the way means nothing here
	TokenSeen   string // one letter for each way, as Verdict
	// one letter for each page of the board: what is declared (n s r u), "-" where there is no such page
	Pages       string
	PageSeen    string // one letter for each page, as Verdict
	PageDoes    string // one letter for each page: what a browser lets it do, "." where that is not known
	Counted     []int  // the quotas that count it, as indexes of the board's
	TokenCaller string // whose sound credential the ways are made of; the caller of the way "sound"
}

// Board is the whole Access lens.
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
	Rows     []Row
	Counts   finding.Counts
	Review   int // messages about the declaration
	Errors   int
	Sweep    *events.Run // the last whole one of the target
	Empty    bool        // there is no declaration yet
}

func verdictLetter(k finding.Kind) byte {
	switch k {
	case finding.Agrees:
		return '='
	case finding.Unproven:
		return '?'
	case finding.Unprobed, "":
		return '.'
	default:
	}
	return k[0]
}

// Board returns the Access lens for a target, the first when it is empty.
func (vw *View) Board(ctx context.Context, target string) (Board, error) {
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
	x := boarding{Board: b, d: d, board: access.NewBoard(d), worst: map[[2]string]finding.Kind{},
		rows: map[string]finding.Kind{}, inferred: map[[2]string]bool{}, ways: map[[2]string]finding.Kind{},
		pages: map[[2]string]finding.Kind{}, does: map[[2]string]string{}}
	x.Columns = columns(d, x.board.Classes)
	x.Ways = append([]string{snapshot.WaySound, snapshot.WayAbsent}, check.AllWays(d)...)
	x.Pages = pages.Columns(d)
	x.Kinds = snapshot.KindsOfCaller(d)
	x.Quotas = quotasSeen(d, nil, nil, x.Kinds)
	x.Counts = finding.Counts{Crossings: map[finding.Kind]int{}, Findings: map[finding.Kind]int{}}
	if t := now.Pick(target); t != nil && x.Errors == 0 {
		x.Target = t.Name
		s, err := vw.targets.Look(ctx, now, t)
		if err != nil {
			return x.Board, err
		}
		x.Counts = s.Counts
		x.Quotas = quotasSeen(d, t, s, x.Kinds)
		x.see(s)
		x.Sweep = vw.sweepOf(ctx, s)
	}
	x.fill()
	return x.Board, nil
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

// boarding is a board that is put together.
type boarding struct {
	Board
	d     *declaration.Document
	board *access.Board

	worst      map[[2]string]finding.Kind // by route and column
	rows       map[string]finding.Kind    // the worst on a route
	inferred   map[[2]string]bool
	ways       map[[2]string]finding.Kind // by route and way
	pages      map[[2]string]finding.Kind // by route and page
	does       map[[2]string]string
	undeclared []string // routes with a gap that the inventory does not have
}

// see takes the verdicts into the cells.
func (x *boarding) see(s *snapshot.Snapshot) {
	put := func(route, col string, k finding.Kind) {
		c := [2]string{route, col}
		if old, ok := x.worst[c]; !ok || finding.Worse(k, old) {
			x.worst[c] = k
		}
		if old, ok := x.rows[route]; !ok || finding.Worse(k, old) {
			x.rows[route] = k
		}
	}
	for _, p := range s.Sent() {
		it, ok := s.Items[p.Key()]
		if !ok {
			continue
		}
		if w := snapshot.WayOf(p); w != "" {
			if k := [2]string{p.Route, w}; x.ways[k] == "" || finding.Worse(it.Verdict.Kind, x.ways[k]) {
				x.ways[k] = it.Verdict.Kind
			}
		}
		c := s.Plan().Cell(p)
		if c.Lens == check.Origins {
			k := [2]string{p.Route, c.Key}
			// Several may be alike in this way.
			if old, ok := x.pages[k]; !ok || finding.Worse(it.Verdict.Kind, old) {
				x.pages[k], x.does[k] = it.Verdict.Kind, it.Verdict.Does
			}
		}
		route := p.Route
		if snapshot.KindOf(p) == undeclared.Path {
			route = finding.AnyPath
		}
		put(route, c.Column(), it.Verdict.Kind)
		for _, n := range p.StandsFor {
			if p.Is(crossing.Family{}) {
				put(route, n, it.Verdict.Kind)
				x.inferred[[2]string{route, n}] = true
			}
		}
		if it.Verdict.Kind.IsGap() && x.d.RouteNamed(route) < 0 && !slices.Contains(x.undeclared, route) {
			x.undeclared = append(x.undeclared, route)
		}
	}
}

// fill makes the rows: those of the inventory, and what answers beside it.
func (x *boarding) fill() {
	d, memo := x.d, &pageMemo{x.d, map[string]string{}}
	for i, rt := range d.Routes {
		row := Row{Key: rt.Key(), Method: rt.Method(), Host: rt.Host, Path: rt.Path(),
			Prefix: rt.Prefix(), Effect: string(rt.Effect), Sensitivity: string(rt.Sensitivity),
			Group: rt.Group, Summary: rt.Summary, Line: rt.Line, File: rt.File, Declared: true}
		x.letters(&row, i)
		row.TokenCaller = soundCaller(d, i, x.Columns, row)
		row.Tokens, row.TokenSeen = wayLetters(d, i, x.Ways, row, x.ways)
		row.Pages, row.PageSeen, row.PageDoes = memo.letters(x.Pages, i, row, x.pages, x.does)
		row.Counted = d.QuotasAt[i]
		x.Rows = append(x.Rows, row)
	}
	for _, s := range x.undeclared {
		row := Row{Key: s, Path: s, Prefix: "not in the inventory", Sensitivity: "medium"}
		if m, p, ok := strings.Cut(s, " "); ok && strings.ToUpper(m) == m {
			row.Method, row.Path = m, p
		}
		x.letters(&row, -1)
		row.Tokens, row.TokenSeen = strings.Repeat("-", len(x.Ways)), strings.Repeat(".", len(x.Ways))
		row.Pages, row.PageSeen, row.PageDoes = memo.letters(x.Pages, -1, row, x.pages, x.does)
		x.Rows = append(x.Rows, row)
	}
}

// letters are a row's cells in the Access lens; i is -1 for one that the inventory does
// not have.
func (x *boarding) letters(row *Row, i int) {
	var e, v, inf strings.Builder
	for c, col := range x.Columns {
		letter := byte('c')
		if i >= 0 {
			letter = x.board.At(i, c).Letter()
		}
		e.WriteByte(letter)
		k := [2]string{row.Key, col.Key}
		v.WriteByte(verdictLetter(x.worst[k]))
		if x.inferred[k] {
			inf.WriteByte('1')
		} else {
			inf.WriteByte('0')
		}
	}
	row.Expect, row.Verdict, row.Inferred = e.String(), v.String(), inf.String()
	if w := x.rows[row.Key]; w.IsGap() {
		row.Worst = string(w)
	}
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
