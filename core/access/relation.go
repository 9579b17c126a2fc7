package access

import (
	"slices"
	"strings"

	"millgate/core/declaration"
)

// Relation of the caller to the record behind the route's parameter: which words of `on` hold of it, of those that
// count at the route. It is a value that probes are told apart by, and that stands in their ids.
type Relation string

const (
	NoRecord Relation = ""        // the route has none, or it does not matter which
	Own      Relation = "own"     // the caller's
	Foreign  Relation = "foreign" // somebody else's: no word holds
)

// plus stands between words; no name of the declaration has it.
const plus = "+"

// RelationOf is that of a record of which words hold.
func RelationOf(words []declaration.On) Relation {
	if len(words) == 0 {
		return Foreign
	}
	return Relation(strings.Join(declaration.OnNames(words), plus))
}

// Words are the names of the words that hold.
func (r Relation) Words() []string {
	if r == NoRecord || r == Foreign {
		return nil
	}
	return strings.Split(string(r), plus)
}

// Holds says whether a word holds.
func (r Relation) Holds(o declaration.On) bool { return slices.Contains(r.Words(), o.Name) }

// HoldsAny says whether one of several does.
func (r Relation) HoldsAny(words []declaration.On) bool { return slices.ContainsFunc(words, r.Holds) }

// Text is a record of a kind that stands so to its caller, in words: own proposal, somebody else's proposal,
// published proposal.
func (r Relation) Text(kind string) string {
	if r == Foreign {
		return "somebody else's " + kind
	}
	return strings.Join(append(r.Words(), kind), " ")
}

// Counting are the words of `on` that count at route i: those of its entry, or ownership where it uses none.
func Counting(d *declaration.Document, i int) []declaration.On {
	if e := d.Admission(i); e != nil {
		if words := e.Words(); len(words) > 0 {
			return words
		}
	}
	return []declaration.On{declaration.Own}
}

// Standing is the relation of an identity (nil is nobody) to a record of a kind at route i, by its id.
func Standing(d *declaration.Document, i int, rec *declaration.Record, record string,
	id *declaration.Identity) Relation {
	return RelationTo(Counting(d, i), rec, record, id)
}

// RelationTo is the relation of an identity (nil is nobody) to a record of a kind, where these words count.
func RelationTo(words []declaration.On, rec *declaration.Record, record string, id *declaration.Identity) Relation {
	return relates(words, func(o declaration.On) bool { return o.Holds(rec, record, id) })
}

// StandingMade is the relation to a record that an owner makes.
func StandingMade(d *declaration.Document, i int, rec *declaration.Record, owner,
	id *declaration.Identity) Relation {
	return relates(Counting(d, i), func(o declaration.On) bool { return o.HoldsMade(rec, owner, id) })
}

func relates(words []declaration.On, holds func(declaration.On) bool) Relation {
	return RelationOf(slices.DeleteFunc(slices.Clone(words), func(o declaration.On) bool { return !holds(o) }))
}

// OnText says on which records somebody is admitted, in words.
func OnText(words []declaration.On) string {
	if declaration.OwnAlone(words) {
		return "for an own record"
	}
	return "for a record that is " + join(declaration.Names(words, declaration.On.Text), "or")
}
