package view

// Rule: Whoever has a board is sent what changed of it.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"millgate/app/snapshot"
	"millgate/core/declaration"
)

// versions remembers, for each target, when each row of its board changed last.
type versions struct {
	mu sync.Mutex
	by map[string]*version // by target
	n  uint64              // of the last
}

// moment is what a board was made of.
type moment struct {
	doc  *declaration.Document
	seen *snapshot.Snapshot // nil without a target
}

// before says whether less was known, by the same declaration.
func (m moment) before(o moment) bool {
	return m.doc == o.doc && m.seen != nil && o.seen != nil && m.seen.Facts.Before(&o.seen.Facts)
}

// version is the last board of a target.
type version struct {
	of      moment
	began   string // names the boards whose rows can be told from each other
	board   Board
	index   map[Cell]int
	changed []uint64 // by row: when it did last
	at      uint64
}

// take makes a board the last one of its target, and gives what of it is not in a version.
func (v *versions) take(b Board, of moment, since string) Board {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.by == nil {
		v.by = map[string]*version{}
	}
	last := v.by[b.Target]
	switch {
	case last != nil && of.before(last.of):
		// Somebody else was faster with what came later.
	case last == nil || !alike(last.board, b):
		v.n++
		last = &version{of: of, began: strconv.FormatInt(time.Now().UnixNano(), 36), index: map[Cell]int{}, at: v.n,
			changed: slices.Repeat([]uint64{v.n}, len(b.Rows))}
		for i, c := range b.Cells {
			last.index[c] = i
		}
		last.board = b
		v.by[b.Target] = last
	default:
		last.of = of
		last.follow(b, &v.n)
	}
	return last.since(since)
}

// known is what take would give of a board that is made of the same as the last one of its target.
func (v *versions) known(target string, of moment, since string) (Board, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	last := v.by[target]
	if last == nil || last.of != of {
		return Board{}, false
	}
	return last.since(since), true
}

// since is the board without the rows that did not change since a version of it.
func (v *version) since(since string) Board {
	out := v.board
	out.Version = fmt.Sprintf("%s.%d", v.began, v.at)
	began, at, _ := strings.Cut(since, ".")
	n, err := strconv.ParseUint(at, 10, 64)
	if err != nil || began != v.began {
		return out
	}
	out.Whole, out.Rows = false, nil
	for i, r := range v.board.Rows {
		if v.changed[i] > n {
			out.Rows = append(out.Rows, r)
		}
	}
	return out
}

// follow takes a board that comes after: its cells keep the indexes they had.
func (v *version) follow(b Board, n *uint64) {
	cells := v.board.Cells
	table := make([]int, len(b.Cells))
	for i, c := range b.Cells {
		k, ok := v.index[c]
		if !ok {
			k = len(cells)
			v.index[c] = k
			cells = append(cells, c)
		}
		table[i] = k
	}
	changed := false
	for i := range b.Rows {
		r := &b.Rows[i]
		for _, list := range [][]int{r.Access, r.Tokens, r.Origins} {
			for k := range list {
				list[k] = table[list[k]]
			}
		}
		if !same(r, &v.board.Rows[i]) {
			if !changed {
				*n++
				changed = true
			}
			v.changed[i] = *n
		}
	}
	if b.Cells = cells; changed {
		v.at = *n
	}
	v.board = b
}

// alike says whether the rows and columns of two boards are the same ones.
func alike(a, b Board) bool {
	return a.File == b.File && len(a.Columns) == len(b.Columns) && slices.Equal(a.Ways, b.Ways) &&
		slices.Equal(a.Pages, b.Pages) && slices.Equal(a.Kinds, b.Kinds) &&
		slices.EqualFunc(a.Columns, b.Columns, func(x, y Column) bool { return x.Key == y.Key }) &&
		slices.EqualFunc(a.Rows, b.Rows, func(x, y Row) bool { return x.Key == y.Key })
}

// same says whether two rows show the same.
func same(a, b *Row) bool {
	return slices.Equal(a.Access, b.Access) && slices.Equal(a.Tokens, b.Tokens) && slices.Equal(a.Origins, b.Origins) &&
		slices.Equal(a.Counted, b.Counted) && a.Worst == b.Worst && a.TokenCaller == b.TokenCaller &&
		a.Method == b.Method && a.Host == b.Host && a.Path == b.Path && a.Prefix == b.Prefix && a.Group == b.Group &&
		a.Effect == b.Effect && a.Sensitivity == b.Sensitivity && a.Summary == b.Summary && a.Line == b.Line &&
		a.File == b.File && a.Declared == b.Declared
}
