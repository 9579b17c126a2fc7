package access

import (
	"fmt"
	"slices"

	"millgate/core/declaration"
)

// Reached says of one crossing whether it is open, and why.
type Reached struct {
	Route    string `json:"route"`
	Caller   string `json:"caller"` // "nobody" is who is not signed in
	Admitted bool   `json:"admitted"`
	Depends  bool   `json:"depends"` // for some records only
	Outcome  string `json:"outcome"`
	Why      string `json:"why"`
	File     string `json:"file"`
	Line     int    `json:"line"` // of the deciding entry, or of the route
}

func reached(d *declaration.Document, i int, id *declaration.Identity) Reached {
	c := Caller{Identity: id, State: Sound}
	r := Reached{Route: d.Routes[i].Key(), Caller: "nobody"}
	if id == nil {
		c.State = Absent
	} else {
		r.Caller = id.Name
	}
	x := Evaluate(d, i, c)
	r.Admitted, r.Depends, r.Outcome, r.Why = x.Outcome == Admit, x.Depends, OutcomeText(x.Outcome, x.On, x.Code),
		x.Reason()
	at := d.Routes[i].Place
	if x.Entry != nil {
		at = x.Entry.Place
	}
	r.File, r.Line = at.File, at.Line
	return r
}

// OutcomeText is an outcome in words, with the records that it depends on, or the status where another than its own is
// declared.
func OutcomeText(o Outcome, on []declaration.On, status int) string {
	switch {
	case len(on) > 0:
		return "admit " + OnText(on)
	case status != 0:
		return fmt.Sprintf("%s (%d)", o, status)
	}
	return o.String()
}

// WhoReaches answers for one route and every caller, those who get in first.
func WhoReaches(d *declaration.Document, i int) []Reached {
	out := []Reached{reached(d, i, nil)}
	for _, id := range d.Identities {
		out = append(out, reached(d, i, id))
	}
	slices.SortStableFunc(out, byAdmitted)
	return out
}

// ReachOf answers for one identity, or nobody, and every route, those that
// open first.
func ReachOf(d *declaration.Document, name string) ([]Reached, error) {
	id, err := callerNamed(d, name)
	if err != nil {
		return nil, err
	}
	out := make([]Reached, 0, len(d.Routes))
	for i := range d.Routes {
		out = append(out, reached(d, i, id))
	}
	slices.SortStableFunc(out, byAdmitted)
	return out, nil
}

// callerNamed is an identity, nil for nobody. The error names the nearest one.
func callerNamed(d *declaration.Document, name string) (*declaration.Identity, error) {
	id := d.IdentityNamed(name)
	if id != nil || name == "nobody" || name == "" {
		return id, nil
	}
	known := declaration.Names(d.Identities, func(x *declaration.Identity) string { return x.Name })
	if near := declaration.Nearest(name, known); near != "" {
		return nil, fmt.Errorf("there is no identity %q; did you mean %q?", name, near)
	}
	return nil, fmt.Errorf("there is no identity %q", name)
}

func byAdmitted(a, b Reached) int {
	rank := func(r Reached) int {
		switch {
		case r.Depends:
			return 1
		case r.Admitted:
			return 0
		}
		return 2
	}
	return rank(a) - rank(b)
}

// Turn is how a crossing changes.
type Turn string

const (
	Opens  Turn = "opens"
	Closes Turn = "closes"
	Other  Turn = "other" // refused another way
	// Undecides: it was decided, and no longer is.
	Undecides Turn = "undecides"
)

// Turned is one crossing whose expectation differs between two declarations.
type Turned struct {
	Route  string `json:"route"`
	Caller string `json:"caller"` // "" is nobody
	From   string `json:"from"`
	To     string `json:"to"`
	Expect string `json:"expect"`           // the new expectation as the board has it: Cell.Word
	Status int    `json:"status,omitempty"` // and Cell.Status
	Some   string `json:"some,omitempty"`   // and Board.Some
	Turn   Turn   `json:"turn"`
}

// Diff is what changes on the board between two declarations.
type Diff struct {
	Changes []Turned `json:"changes"`
	Opens   int      `json:"opens"`
	Closes  int      `json:"closes"`
	Other   int      `json:"other"`
	// Undecided were decided, and no longer are. Nothing checks them from then on.
	Undecided int      `json:"undecided"`
	Added     []string `json:"added"` // routes
	Gone      []string `json:"gone"`
}

var words = []string{Refuse: "refuse", Forbid: "forbid", Hide: "hide", Admit: "admit", Either: "admit", Closed: "shut",
	Undecided: "undecided"}

// Word is one word for a cell: refuse, forbid, hide, admit, own (admit for some records, such as
// its own), shut (for nobody), undecided.
func (c Cell) Word() string {
	if c.Depends() {
		return "own"
	}
	return words[c.Outcome()]
}

// Compare lists the crossings that two declarations expect different things of. One that nobody had
// decided opens or closes when somebody does.
// A route or an identity that one of them has alone counts where it opens.
func Compare(old, doc *declaration.Document) Diff {
	d := Diff{Changes: []Turned{}, Added: []string{}, Gone: []string{}}
	ob, nb := NewBoard(old), NewBoard(doc)
	rows := func(x *declaration.Document) map[string]int {
		m := make(map[string]int, len(x.Routes))
		for i, r := range x.Routes {
			m[r.Key()] = i
		}
		return m
	}
	oldRow, newRow := rows(old), rows(doc)
	oldCol := map[string]int{"": 0}
	for c, id := range old.Identities {
		oldCol[id.Name] = c + 1
	}
	cols := []string{""}
	for _, id := range doc.Identities {
		cols = append(cols, id.Name)
	}
	for i, r := range doc.Routes {
		key := r.Key()
		k, there := oldRow[key]
		if !there {
			d.Added = append(d.Added, key)
		}
		for c, name := range cols {
			to := nb.At(i, c)
			from := Cell(Closed)
			oc, known := oldCol[name]
			if there && known {
				from = ob.At(k, oc)
			}
			on, was := nb.On(to), []declaration.On(nil)
			if there && known {
				was = ob.On(from)
			}
			same := from == to
			if from.Depends() && to.Depends() { // each board counts for itself
				same = len(on) == len(was) && within(on, was)
			}
			if same || (!there || !known) && to.Outcome() != Admit {
				continue
			}
			t := Turned{Route: key, Caller: name, From: OutcomeText(from.Outcome(), was, from.Status()),
				To: nb.Text(to), Expect: to.Word(), Status: to.Status(), Some: nb.Some(to), Turn: Other}
			did, does := from.Outcome() == Admit, to.Outcome() == Admit
			switch {
			case to.Outcome() == Undecided:
				t.Turn = Undecides
				d.Undecided++
			case does && (!did || from.Depends() && (!to.Depends() || !within(on, was))):
				t.Turn = Opens
				d.Opens++
			case did || from.Outcome() == Undecided:
				t.Turn = Closes
				d.Closes++
			default:
				d.Other++
			}
			d.Changes = append(d.Changes, t)
		}
	}
	for _, r := range old.Routes {
		if _, ok := newRow[r.Key()]; !ok {
			d.Gone = append(d.Gone, r.Key())
		}
	}
	return d
}

// within says whether all of some words are among others.
func within(words, others []declaration.On) bool {
	names := declaration.OnNames(others)
	return !slices.ContainsFunc(words, func(o declaration.On) bool { return !slices.Contains(names, o.Name) })
}
