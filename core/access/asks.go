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
	e := d.Admission(i)
	l := climb{d: d, i: i, e: e}
	if l.closed() || e.Undecided() || l.only() {
		return nil
	}
	var anyRole, some, all bool
	for _, w := range e.Who {
		if w.Kind == declaration.WhoAnyone {
			continue
		}
		anyRole = anyRole || w.Kind == declaration.WhoSignedIn
		all = all || w.Kind == declaration.WhoSignedIn && w.On.Kind == declaration.OnAll
		some = some || w.On.Kind != declaration.OnAll
	}
	if !anyRole {
		out = append(out, theRole)
	}
	if some && !all {
		defer func() { out = append(out, theOwnership) }()
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
// it lacks it where the record is none of those that it is admitted on.
func Lacks(d *declaration.Document, i int, id *declaration.Identity, record Relation) (out []string) {
	e := d.Admission(i)
	on := d.Admits(e, id)
	for _, a := range Asks(d, i) {
		switch {
		case a == theRole && on.None(), a == theOwnership && !on.All && !on.None() && !record.HoldsAny(on.On):
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
