package access

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/declaration"
)

// Class is a set of identities that the declaration cannot tell apart: equal
// in roles, scopes, attributes, schemes, the records they own and the entries
// that mention them by name.
type Class struct {
	Members []int // indexes of identities, those first that may do least
}

// Classes groups the identities, in the order of each class's first member.
func Classes(d *declaration.Document) []Class {
	mentioned := map[string]bool{}
	for _, e := range d.Access {
		for _, w := range e.Who {
			if w.Kind == declaration.WhoIdentity {
				mentioned[w.Name] = true
			}
		}
	}
	var out []Class
	index := map[string]int{}
	for _, i := range d.LeastFirst() {
		id := d.Identities[i]
		k := classKey(d, id)
		if mentioned[id.Name] {
			k = "identity:" + id.Name
		}
		c, ok := index[k]
		if !ok {
			c = len(out)
			index[k] = c
			out = append(out, Class{})
		}
		out[c].Members = append(out[c].Members, i)
	}
	return out
}

func classKey(d *declaration.Document, id *declaration.Identity) string {
	var b strings.Builder
	put := func(list []string) {
		sort.Strings(list)
		fmt.Fprintf(&b, "%q;", list)
	}
	var roles, owns, attrs []string
	for r := range d.RolesOf(id) {
		roles = append(roles, r)
	}
	put(roles)
	put(slices.Clone(id.Scopes))
	for k, v := range id.Attributes {
		attrs = append(attrs, fmt.Sprintf("%s=%v", k, v))
	}
	put(attrs)
	for _, c := range id.Credentials {
		fmt.Fprintf(&b, "%s,", c.Scheme.Name)
	}
	for _, r := range d.Records {
		if len(r.OwnedBy[id.Name]) > 0 {
			owns = append(owns, r.Name)
		}
	}
	put(owns)
	return b.String()
}

// Cell is the expectation of one crossing without its words: the lowest three bits are the Outcome, the next says
// that it depends on the record, and those above are the status that is declared in place of the outcome's own, 0
// where none is.
type Cell uint16

const (
	outcomeBits Cell = 0x7
	dependsBit  Cell = 0x8
	statusShift      = 4
)

// turned is the cell of a caller who is turned away, with another status than the outcome's where one is declared.
func turned(o Outcome, status int) Cell {
	if status == 0 {
		return Cell(o)
	}
	o, status = inPlace(o, status)
	return Cell(o) | Cell(status)<<statusShift
}

// Cell is the expectation without its words.
func (e Expectation) Cell() Cell {
	c := turned(e.Outcome, e.Code)
	if e.Depends {
		c |= dependsBit
	}
	return c
}

func (c Cell) Outcome() Outcome { return Outcome(c & outcomeBits) }
func (c Cell) Depends() bool    { return c&dependsBit != 0 }

// Status turns the caller away, where another than the outcome's own (401, 403, 404) is declared; otherwise 0.
func (c Cell) Status() int { return int(c >> statusShift) }

// Text is the cell in words: an outcome, with a status where it is not the outcome's own.
func (c Cell) Text() string { return OutcomeText(c.Outcome(), c.Depends(), c.Status()) }

// Board is every crossing of the Access lens. Column 0 is nobody, column k is
// identity k-1.
type Board struct {
	Classes []Class
	Columns int
	cells   []Cell
}

// At is the crossing of route r and column c.
func (b *Board) At(r, c int) Cell { return b.cells[r*b.Columns+c] }

// NewBoard evaluates all routes for nobody and all identities.
func NewBoard(d *declaration.Document) *Board {
	b := &Board{Classes: Classes(d), Columns: len(d.Identities) + 1}
	b.cells = make([]Cell, len(d.Routes)*b.Columns)
	ev := newEvaluator(d, b.Classes)
	rows := map[int][]Cell{} // by deciding entry
	for i := range d.Routes {
		e := d.Deciding[i]
		row, ok := rows[e]
		if !ok {
			row = ev.row(e, b.Columns)
			rows[e] = row
		}
		copy(b.cells[i*b.Columns:], row)
	}
	return b
}

// evaluator answers like Evaluate, on bit sets and without words.
type evaluator struct {
	d       *declaration.Document
	classes []Class
	roleBit map[string]int
	roles   []bits // by class
}

type bits []uint64

func (b bits) set(i int) { b[i/64] |= 1 << (i % 64) }
func (b bits) meets(o bits) bool {
	for i := range b {
		if b[i]&o[i] != 0 {
			return true
		}
	}
	return false
}

func newEvaluator(d *declaration.Document, classes []Class) *evaluator {
	ev := &evaluator{d: d, classes: classes, roleBit: map[string]int{}}
	for i, r := range d.Roles {
		ev.roleBit[r.Name] = i
	}
	for _, c := range classes {
		m := make(bits, len(d.Roles)/64+1)
		for r := range d.RolesOf(d.Identities[c.Members[0]]) {
			if k, ok := ev.roleBit[r]; ok {
				m.set(k)
			}
		}
		ev.roles = append(ev.roles, m)
	}
	return ev
}

func (ev *evaluator) row(e, columns int) []Cell {
	row := make([]Cell, columns)
	if e < 0 {
		for i := range row {
			row[i] = Cell(Closed)
		}
		return row
	}
	en := ev.d.Access[e]
	mask := make(bits, len(ev.d.Roles)/64+1)
	var anyone, nobody, undecided, signedIn, owner bool
	named := map[string]bool{}
	for _, w := range en.Who {
		switch w.Kind {
		case declaration.WhoAnyone:
			anyone = true
		case declaration.WhoNobody:
			nobody = true
		case declaration.WhoUndecided:
			undecided = true
		case declaration.WhoSignedIn:
			signedIn = true
		case declaration.WhoOwner:
			owner = true
		case declaration.WhoIdentity:
			named[w.Name] = true
		case declaration.WhoRole:
			if k, ok := ev.roleBit[w.Name]; ok {
				mask.set(k)
			}
		}
	}
	fill := func(c Cell) []Cell {
		for i := range row {
			row[i] = c
		}
		return row
	}
	switch {
	case undecided:
		return fill(Cell(Undecided))
	case nobody || len(en.Who) == 0:
		return fill(Cell(Closed))
	case anyone:
		return fill(Cell(Admit))
	}
	accepted := map[string]bool{}
	accepts := ev.d.Accepted(en)
	for _, s := range accepts {
		accepted[s.Name] = true
	}
	refused := turned(Refuse, cmp.Or(en.Turned.Credential, refusedAlike(accepts)))
	row[0] = refused
	for k, c := range ev.classes {
		id := ev.d.Identities[c.Members[0]]
		cell := refused
		if slices.ContainsFunc(id.Credentials, func(c declaration.Credential) bool { return accepted[c.Scheme.Name] }) {
			cell = ev.cell(en, id, signedIn || mask.meets(ev.roles[k]) || named[id.Name], owner)
		}
		for _, m := range c.Members {
			row[m+1] = cell
		}
	}
	return row
}

// cell is that of an identity that presents what is accepted.
func (ev *evaluator) cell(en *declaration.Entry, id *declaration.Identity, pass, owner bool) Cell {
	if !pass && !owner {
		return turned(Forbid, en.Turned.Role)
	}
	for _, s := range en.Scope {
		if !slices.Contains(id.Scopes, s) {
			return turned(Forbid, en.Turned.Scope)
		}
	}
	for g, want := range en.Given {
		if !Holds(id, g, want) {
			return turned(Forbid, en.Turned.Scope)
		}
	}
	if !pass {
		return Cell(Admit) | dependsBit
	}
	return Cell(Admit)
}
