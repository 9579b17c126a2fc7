package view

import (
	"slices"
	"strings"

	"millgate/app/snapshot"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/check/pages"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
)

// Cell is what a cell of the board shows. Rows hold indexes of the few that differ.
type Cell struct {
	// Expect is what is declared: of callers and ways a word of access.Cell, of pages one of
	// origin.Does; Absent where there is no such thing at the route.
	Expect   string
	Found    finding.Kind     // the worst verdict
	Severity finding.Severity // of the gravest finding of that kind; "" without one
	Inferred bool             // another of its class was sent in its place
	Does     string           // of a page: what a browser lets it do; "" where that is not known
	Some     string           // of own: for which records, where it is not for an own one alone
	Status   int              // turns the caller away, where another than 401, 403 and 404 is declared; otherwise 0
}

// Absent is expected where a way or a page means nothing.
const Absent = pages.Absent

// found is what was seen of a cell.
type found struct {
	kind     finding.Kind
	severity finding.Severity
	does     string
	inferred bool
}

// worse says whether one says more than another: a worse kind, or a graver finding of the same.
func (f found) worse(than found) bool {
	if f.kind != than.kind {
		return than.kind == "" || finding.Worse(f.kind, than.kind)
	}
	return f.severity != than.severity && f.severity.AtLeast(than.severity)
}

// of is a cell of which something is expected.
func (f found) of(expect string) Cell {
	if f.kind == "" {
		f.kind = finding.Unprobed
	}
	return Cell{Expect: expect, Found: f.kind, Severity: f.severity, Inferred: f.inferred, Does: f.does}
}

// before is a cell of a caller or a way.
func (f found) before(expect access.Cell) Cell {
	c := f.of(expect.Word())
	c.Status = expect.Status()
	return c
}

// place is a cell, by its route and the key of its column.
type place struct{ route, column string }

// boarding is a board that is put together.
type boarding struct {
	Board
	d     *declaration.Document
	board *access.Board
	pages *pages.Words
	index map[Cell]int

	callers, ways, origins map[place]found
	rows                   map[string]finding.Kind // the worst on a route
	undeclared             []string                // routes with a gap that the inventory does not have
}

func newBoarding(d *declaration.Document, b Board) *boarding {
	x := &boarding{Board: b, d: d, board: access.NewBoard(d), pages: pages.NewWords(d),
		index: map[Cell]int{}, callers: map[place]found{}, ways: map[place]found{}, origins: map[place]found{},
		rows: map[string]finding.Kind{}}
	x.Columns = columns(d, x.board.Classes)
	x.Ways = append([]string{snapshot.WaySound, snapshot.WayAbsent}, check.AllWays(d)...)
	x.Pages = pages.Columns(d)
	x.Kinds = snapshot.KindsOfCaller(d)
	x.Quotas = quotasSeen(d, nil, nil, x.Kinds)
	x.Counts = finding.Counts{Crossings: map[finding.Kind]int{}, Findings: map[finding.Kind]int{}}
	return x
}

// cell is the index of a cell.
func (x *boarding) cell(c Cell) int {
	i, ok := x.index[c]
	if !ok {
		i = len(x.Cells)
		x.index[c] = i
		x.Cells = append(x.Cells, c)
	}
	return i
}

// see takes the verdicts into the cells.
func (x *boarding) see(s *snapshot.Snapshot) {
	graver := map[string]finding.Severity{} // by probe
	for _, f := range s.Findings {
		for _, p := range f.Probes {
			if old := graver[p]; old == "" || f.Severity.AtLeast(old) {
				graver[p] = f.Severity
			}
		}
	}
	put := func(at map[place]found, route, column string, f found) {
		p := place{route, column}
		if old := at[p]; f.worse(old) {
			f.inferred = f.inferred || old.inferred
			at[p] = f
		} else if f.inferred && !old.inferred {
			old.inferred = true
			at[p] = old
		}
	}
	for _, p := range s.Sent() {
		it, ok := s.Items[p.Key()]
		if !ok {
			continue
		}
		f := found{kind: it.Verdict.Kind, severity: graver[p.Key()]}
		if w := snapshot.WayOf(p); w != "" {
			put(x.ways, p.Route, w, f)
		}
		c := s.Plan().Cell(p)
		if c.Lens == check.Origins {
			page := f
			if d, known := origin.DoesOf(it.Verdict.Does); known {
				page.does = d.Word()
			}
			put(x.origins, p.Route, c.Key, page)
		}
		route := p.Route
		if snapshot.KindOf(p) == undeclared.Path {
			route = finding.AnyPath
		}
		put(x.callers, route, c.Column(), f)
		if old, ok := x.rows[route]; !ok || finding.Worse(f.kind, old) {
			x.rows[route] = f.kind
		}
		if p.Is(crossing.Family{}) {
			alike := f
			alike.inferred = true
			for _, n := range p.StandsFor {
				put(x.callers, route, n, alike)
			}
		}
		if f.kind.IsGap() && x.d.RouteNamed(route) < 0 && !slices.Contains(x.undeclared, route) {
			x.undeclared = append(x.undeclared, route)
		}
	}
}

// fill makes the rows: those of the inventory, and what answers beside it.
func (x *boarding) fill() {
	d := x.d
	x.Rows = make([]Row, 0, len(d.Routes)+len(x.undeclared))
	for i, rt := range d.Routes {
		row := Row{Key: rt.Key(), Method: rt.Method(), Host: rt.Host, Path: rt.Path(),
			Prefix: rt.Prefix(), Effect: string(rt.Effect), Sensitivity: string(rt.Sensitivity),
			Group: rt.Group, Summary: rt.Summary, Line: rt.Line, File: rt.File, Declared: true, Counted: d.QuotasAt[i]}
		x.cells(&row, i)
		x.Rows = append(x.Rows, row)
	}
	for _, s := range x.undeclared {
		row := Row{Key: s, Path: s, Prefix: "not in the inventory", Sensitivity: "medium"}
		if m, p, ok := strings.Cut(s, " "); ok && strings.ToUpper(m) == m {
			row.Method, row.Path = m, p
		}
		x.cells(&row, -1)
		x.Rows = append(x.Rows, row)
	}
	x.Whole, x.Total = true, len(x.Rows)
}

// cells are a row's; i is -1 for one that the inventory does not have.
func (x *boarding) cells(row *Row, i int) {
	expect := make([]access.Cell, len(x.Columns))
	row.Access = make([]int, len(x.Columns))
	for c, col := range x.Columns {
		expect[c] = access.Cell(access.Closed)
		if i >= 0 {
			expect[c] = x.board.At(i, c)
		}
		cell := x.callers[place{row.Key, col.Key}].before(expect[c])
		cell.Some = x.board.Some(expect[c])
		row.Access[c] = x.cell(cell)
	}
	if w := x.rows[row.Key]; w.IsGap() {
		row.Worst = w
	}
	row.Tokens, row.Origins = make([]int, len(x.Ways)), make([]int, len(x.Pages))
	meant := func(string) (access.Cell, bool) { return 0, false }
	if i >= 0 {
		row.TokenCaller = soundCaller(x.d, i, x.Columns, expect)
		meant = meaning(x.d, i, expect[0], row.TokenCaller)
	}
	for k, w := range x.Ways {
		c := Cell{Expect: Absent, Found: finding.Unprobed}
		if e, is := meant(w); is {
			c = x.ways[place{row.Key, w}].before(e)
		}
		row.Tokens[k] = x.cell(c)
	}
	declared := x.pages.At(x.Pages, i)
	for k, p := range x.Pages {
		row.Origins[k] = x.cell(x.origins[place{row.Key, p.ID}].of(declared[k]))
	}
}
