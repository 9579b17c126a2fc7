package access

// Rule: A check of a service shows only by who lacks that and nothing else.

import (
	"slices"

	"millgate/core/declaration"
)

// Asks are the checks that route i asks of a signed-in caller, rungs 4 to 6, in words: "the
// role", "the scope write", "the attribute checked", "the ownership". None on an open or closed
// route.
func Asks(d *declaration.Document, i int) (out []string) {
	e := d.Entry(i)
	l := climb{d: d, i: i, e: e}
	if l.closed() || e.Undecided() || e.Who[0].Kind == declaration.WhoAnyone {
		return nil
	}
	has := func(k declaration.WhoKind) bool {
		return slices.ContainsFunc(e.Who, func(w declaration.Who) bool { return w.Kind == k })
	}
	switch {
	case has(declaration.WhoSignedIn):
	case has(declaration.WhoOwner):
		defer func() { out = append(out, theOwnership) }()
	default:
		out = append(out, theRole)
	}
	for _, s := range e.Scope {
		out = append(out, "the scope "+s)
	}
	for _, g := range sortedKeys(e.Given) {
		out = append(out, "the attribute "+g)
	}
	return out
}

// The checks that have no name of their own.
const (
	theRole      = "the role"
	theOwnership = "the ownership"
)

// Lacks are those of Asks that an identity does not pass. Of the ownership the record decides:
// it lacks it where the record is somebody else's.
func Lacks(d *declaration.Document, i int, id *declaration.Identity, record Relation) (out []string) {
	e := d.Entry(i)
	pass, onlyOwner := d.Admits(e, id)
	for _, a := range Asks(d, i) {
		switch {
		case a == theRole && !pass, a == theOwnership && onlyOwner && record != Own:
			out = append(out, a)
		}
	}
	for _, s := range e.Scope {
		if !slices.Contains(id.Scopes, s) {
			out = append(out, "the scope "+s)
		}
	}
	for _, g := range sortedKeys(e.Given) {
		if !Holds(id, g, e.Given[g]) {
			out = append(out, "the attribute "+g)
		}
	}
	return out
}
