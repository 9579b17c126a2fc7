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
// in roles, scopes, attributes, schemes, the kinds of records they own and
// stand in, and the entries that mention them by name.
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
	put(declaration.Names(id.Within, func(w declaration.Within) string { return w.Name }))
	return b.String()
}

// Cell is the expectation of one crossing without its words: the lowest three bits are the Outcome, the next says
// that it depends on the record. Those above are then which records, as the board counts them (On), and otherwise the
// status that is declared in place of the outcome's own, 0 where none is.
type Cell uint32

const (
	outcomeBits Cell = 0x7
	dependsBit  Cell = 0x8
	aboveShift       = 4
)

// turned is the cell of a caller who is turned away, with another status than the outcome's where one is declared.
func turned(o Outcome, status int) Cell {
	if status == 0 {
		return Cell(o)
	}
	o, status = inPlace(o, status)
	return Cell(o) | Cell(status)<<aboveShift
}

// Cell is the expectation without its words. On which records one depends that does is for a board to say.
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
func (c Cell) Status() int {
	if c.Depends() {
		return 0
	}
	return int(c >> aboveShift)
}

// Board is every crossing of the Access lens. Column 0 is nobody, column k is
// identity k-1.
type Board struct {
	Classes []Class
	Columns int
	cells   []Cell
	on      [][]declaration.On // the sets of records that cells depend on
}

// At is the crossing of route r and column c.
func (b *Board) At(r, c int) Cell { return b.cells[r*b.Columns+c] }

// On are the records that a cell depends on; nil where it depends on none.
func (b *Board) On(c Cell) []declaration.On {
	if !c.Depends() {
		return nil
	}
	return b.on[c>>aboveShift]
}

// Some are the records that a cell depends on in words, where it is not on an own one alone; "" otherwise.
func (b *Board) Some(c Cell) string {
	if on := b.On(c); len(on) > 0 && !declaration.OwnAlone(on) {
		return OnText(on)
	}
	return ""
}

// Text is a cell in words: an outcome, with a status where it is not the outcome's own.
func (b *Board) Text(c Cell) string { return OutcomeText(c.Outcome(), b.On(c), c.Status()) }

// depends is the cell of who is admitted on some records.
func (b *Board) depends(on []declaration.On) Cell {
	k := slices.IndexFunc(b.on, func(o []declaration.On) bool {
		return slices.EqualFunc(o, on, func(a, b declaration.On) bool { return a.Name == b.Name })
	})
	if k < 0 {
		k = len(b.on)
		b.on = append(b.on, on)
	}
	return Cell(Admit) | dependsBit | Cell(k)<<aboveShift
}

// NewBoard evaluates all routes for nobody and all identities.
func NewBoard(d *declaration.Document) *Board {
	b := &Board{Classes: Classes(d), Columns: len(d.Identities) + 1}
	b.cells = make([]Cell, len(d.Routes)*b.Columns)
	ev := newEvaluator(d, b.Classes)
	rows := map[*declaration.Entry][]Cell{} // by deciding entry
	for i := range d.Routes {
		e := d.Admission(i)
		row, ok := rows[e]
		if !ok {
			row = ev.row(b, e)
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

// alternatives are those of an entry that are about the same records.
type alternatives struct {
	on       declaration.On
	signedIn bool
	roles    bits
	named    map[string]bool
}

// alternatives puts those of an entry together that need a credential.
func (ev *evaluator) alternatives(en *declaration.Entry) (out []alternatives) {
	for _, w := range en.Who {
		if w.Kind == declaration.WhoAnyone {
			continue
		}
		k := slices.IndexFunc(out, func(a alternatives) bool { return a.on.Name == w.On.Name })
		if k < 0 {
			k = len(out)
			out = append(out, alternatives{on: w.On, roles: make(bits, len(ev.d.Roles)/64+1), named: map[string]bool{}})
		}
		switch w.Kind {
		case declaration.WhoSignedIn:
			out[k].signedIn = true
		case declaration.WhoIdentity:
			out[k].named[w.Name] = true
		case declaration.WhoRole:
			if r, ok := ev.roleBit[w.Name]; ok {
				out[k].roles.set(r)
			}
		default:
		}
	}
	return out
}

func (ev *evaluator) row(b *Board, en *declaration.Entry) []Cell {
	row := make([]Cell, b.Columns)
	fill := func(c Cell) []Cell {
		for i := range row {
			row[i] = c
		}
		return row
	}
	if en == nil {
		return fill(Cell(Closed))
	}
	l := climb{d: ev.d, e: en}
	open := en.Opens()
	switch {
	case en.Undecided():
		return fill(Cell(Undecided))
	case l.closed():
		return fill(Cell(Closed))
	case open.All:
		return fill(Cell(Admit))
	case l.only():
		return fill(b.depends(open.On))
	}
	accepted := map[string]bool{}
	accepts := ev.d.Accepted(en)
	for _, s := range accepts {
		accepted[s.Name] = true
	}
	refused := turned(Refuse, cmp.Or(en.Turned.Credential, refusedAlike(accepts)))
	if len(open.On) > 0 {
		refused = b.depends(open.On)
	}
	row[0] = refused
	alts := ev.alternatives(en)
	for k, c := range ev.classes {
		id := ev.d.Identities[c.Members[0]]
		cell := refused
		if slices.ContainsFunc(id.Credentials, func(c declaration.Credential) bool { return accepted[c.Scheme.Name] }) {
			cell = ev.cell(b, en, id, ev.extent(alts, k, id), open)
		}
		for _, m := range c.Members {
			row[m+1] = cell
		}
	}
	return row
}

// extent is on which records alternatives admit a class.
func (ev *evaluator) extent(alts []alternatives, class int, id *declaration.Identity) (x declaration.Extent) {
	for _, a := range alts {
		if a.signedIn || a.roles.meets(ev.roles[class]) || a.named[id.Name] {
			x = x.With(a.on)
		}
	}
	return x
}

// cell is that of an identity that presents what is accepted; open are the records that need none of it.
func (ev *evaluator) cell(b *Board, en *declaration.Entry, id *declaration.Identity, x,
	open declaration.Extent) Cell {
	away := func(status int) Cell {
		if len(open.On) > 0 {
			return b.depends(open.On)
		}
		return turned(Forbid, status)
	}
	if x.None() {
		return away(en.Turned.Role)
	}
	for _, s := range en.Scope {
		if !slices.Contains(id.Scopes, s) {
			return away(en.Turned.Scope)
		}
	}
	for g, want := range en.Given {
		if !Holds(id, g, want) {
			return away(en.Turned.Scope)
		}
	}
	if !x.All {
		return b.depends(open.With(x.On...).On)
	}
	return Cell(Admit)
}
