// Package observe says what a service lets happen today, from safe reads, in the words of a declaration.
//
// Nobody knows the language in the first hour, and nobody knows what a service does. So its reads are
// asked for by nobody and by each caller (Plan), what was answered is read into marks (Read), routes
// that let the same callers in are one group with the shortest entry that says exactly that (GroupsOf),
// and what a group says is written when somebody confirms it (Confirm). What looks wrong is shown
// first: it is a hint for whoever decides, and no finding.
//
// # What an answer says
//
// A refusal means something only beside an admission. So a caller is turned away where its credential was let in
// elsewhere; a credential that opened nothing is left out and named. Who has several credentials is turned away only
// where each of those that work is. An answer that nothing is there (404) turns a caller
// away where another was shown something at the same address. Answers about the request (400, 405, 415, 422), about the
// pace (429) and failures (5xx) say nothing about who may call. A route with a caller of whom nothing is known
// is in no group that can be confirmed.
//
// Rule: What was not seen is not proposed.
package observe

import (
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Mark is what a caller meets at a route. The zero Mark says that nothing is known.
type Mark string

const (
	Unknown Mark = ""
	Away    Mark = "away" // turned away
	In      Mark = "in"   // let in, whatever the record
	Some    Mark = "some" // let in for records of which a word of `on` holds, and turned away from others
)

// Seen is what one read was answered.
type Seen struct {
	Route    string          `json:"route"`
	Identity string          `json:"identity"` // "" is nobody
	Scheme   string          `json:"scheme,omitempty"`
	Relation access.Relation `json:"relation,omitempty"`
	Record   string          `json:"record,omitempty"` // the id that stood in the path, and Owner whose it is
	Owner    string          `json:"owner,omitempty"`
	Class    check.Class     `json:"class,omitempty"` // "" where no answer came
	Status   int             `json:"status,omitempty"`
	Why      string          `json:"why,omitempty"` // why no answer came
	// Options: it is no read, but asks which methods there are.
	Options bool `json:"options,omitempty"`
	// Allows are methods that the answer says are allowed there (RFC 9110, section 10.2.1).
	Allows   []string        `json:"allows,omitempty"`
	Exchange *check.Exchange `json:"exchange,omitempty"`
}

// At is one route as it was seen.
type At struct {
	Route int             // in the document
	Marks map[string]Mark // by identity; "" is nobody
	// Schemes are those with which somebody was let in, and Knows those with which somebody was turned
	// away as one who is known and may not: both are accepted there.
	Schemes, Knows []string
	// Hides: another's record is said not to be there (404).
	Hides bool
	Seen  []Seen

	// Why says why nothing can be proposed; "" where it can.
	Why string

	met met
}

// met is what a caller meets, by the relation of the record to it.
type met map[string]map[access.Relation]Mark

// nobody is asked beside the identities.
const nobody = ""

// Read makes of what was answered what each caller meets. Routes are in the order of the document; those of
// which nothing was asked are left out. lost are the identities whose credentials opened nothing that was asked, and
// "NAME with SCHEME" where it is one of several, each with why: a refusal of those means nothing, so that they are left
// out as if they had not been asked.
func Read(d *declaration.Document, seen []Seen) (list []At, lost []string) {
	by := map[string][]Seen{}
	came := map[caller]string{} // what became of those that were asked
	for _, s := range seen {
		by[s.Route] = append(by[s.Route], s)
		switch at := (caller{s.Identity, s.Scheme}); {
		case s.Class != "":
			came[at] = "it opened nothing that was asked"
		case came[at] == "":
			came[at] = s.Why
		}
	}
	r := reading{d: d, works: working(seen)}
	for _, id := range d.Identities {
		var dead []string
		works := false
		for _, c := range id.Credentials {
			switch at := (caller{id.Name, c.Scheme.Name}); {
			case r.works[at]:
				works = true
			case came[at] != "" && len(id.Credentials) > 1:
				dead = append(dead, id.Name+" with "+c.Scheme.Name+": "+came[at])
			case came[at] != "":
				dead = append(dead, id.Name+": "+came[at])
			}
		}
		lost = append(lost, dead...)
		if works {
			r.callers = append(r.callers, id)
		}
	}
	for i, rt := range d.Routes {
		if len(by[rt.Key()]) > 0 {
			a := At{Route: i, Seen: by[rt.Key()], Marks: map[string]Mark{}, met: met{}}
			a.stand(d)
			a.read(r)
			list = append(list, a)
		}
	}
	return list, lost
}

// reading is what all answers say together.
type reading struct {
	d       *declaration.Document
	works   map[caller]bool
	callers []*declaration.Identity // with a credential that works
}

// caller is an identity with one of its schemes.
type caller struct{ identity, scheme string }

// means says whether a refusal means something: of nobody, and of a credential that works.
func (r reading) means(s Seen) bool {
	return s.Identity == nobody || r.works[caller{s.Identity, s.Scheme}]
}

// LetIn are the identities of which a credential is known to work, by what was answered.
func LetIn(seen []Seen) map[string]bool {
	out := map[string]bool{}
	for c, works := range working(seen) {
		if works && c.identity != nobody {
			out[c.identity] = true
		}
	}
	return out
}

// working are the callers whose credential is known to work: it was let in where nobody was not. That it may not
// (403) is said of unknown credentials too, by many services.
func working(seen []Seen) map[caller]bool {
	open := map[string]bool{}
	for _, s := range seen {
		if s.Identity == nobody && s.Class == check.Admitted && !s.Options {
			open[s.Route] = true
		}
	}
	out := map[caller]bool{}
	for _, s := range seen {
		if s.Identity != nobody && s.Class == check.Admitted && !open[s.Route] {
			out[caller{s.Identity, s.Scheme}] = true
		}
	}
	return out
}

// stand finds out how the records that were asked for stand to their callers, by what is declared by now: a group may
// have come in since.
func (a *At) stand(d *declaration.Document) {
	rec := d.Record(a.Route)
	if rec == nil {
		return
	}
	words, ids := d.WordsOf(rec), rec.IDs()
	grouped := slices.ContainsFunc(words, ofGroup)
	a.Seen = slices.Clone(a.Seen)
	for k, s := range a.Seen {
		if id := d.IdentityNamed(s.Identity); len(words) > 0 && (id != nil || grouped) && slices.Contains(ids,
			s.Record) {
			a.Seen[k].Relation = access.RelationTo(words, rec, s.Record, id)
		}
	}
}

func ofGroup(o declaration.On) bool { return o.Kind == declaration.OnGroup }

// read fills in the marks of a route.
func (a *At) read(r reading) {
	shown := shown(a.Seen)
	said := func(s Seen) Mark {
		switch s.Class {
		case check.Admitted:
			return In
		case check.Refused, check.Forbidden, check.ToLogin:
			if r.means(s) {
				return Away
			}
		case check.Hidden:
			if shown[s.Record] && r.means(s) {
				return Away
			}
		default:
		}
		return Unknown
	}
	met := map[access.Relation]Mark{}
	for _, s := range a.Seen {
		if s.Identity == nobody && !s.Options {
			met[s.Relation] = said(s)
		}
	}
	a.Marks[nobody], a.met[nobody] = fold(met), met
	for _, id := range r.callers {
		a.identity(r, id, said)
	}
	for _, id := range append([]string{nobody}, declaration.Names(r.callers,
		func(x *declaration.Identity) string { return x.Name })...) {
		if m, asked := a.Marks[id]; asked && m == Unknown && a.Why == "" {
			a.Why = a.unknown(r, id)
		}
	}
	if a.Why == "" && len(r.callers) == 0 && a.Marks[nobody] == Away {
		a.Why = "it is not open, and no caller is known to get in anywhere, so that who does is not known"
	}
	if a.Why == "" {
		a.Why = a.byLink(r.d)
	}
	inOrder(r.d, a.Schemes)
	inOrder(r.d, a.Knows)
}

// shown are the records, by their id, that somebody was shown.
func shown(seen []Seen) map[string]bool {
	out := map[string]bool{}
	for _, s := range seen {
		if s.Class == check.Admitted && !s.Options {
			out[s.Record] = true
		}
	}
	return out
}

// byLink says that a link may open what everybody is turned away from: what a link does happens, so that none is tried.
func (a *At) byLink(d *declaration.Document) string {
	for _, m := range a.Marks {
		if m != Away {
			return ""
		}
	}
	for _, s := range d.Schemes {
		if s.Kind == declaration.Link {
			return "everybody is turned away, and a link of " + s.Name + " may open it, which is not tried"
		}
	}
	return ""
}

// identity reads what an identity met with each of its credentials that work: the one with which it comes furthest
// counts, and none of which nothing is known could have come further.
func (a *At) identity(r reading, id *declaration.Identity, said func(Seen) Mark) {
	asked, unknown := false, false
	best, bestMet := Unknown, map[access.Relation]Mark(nil)
	for _, c := range id.Credentials {
		if !r.works[caller{id.Name, c.Scheme.Name}] {
			continue
		}
		marks := map[access.Relation]Mark{}
		hidden := false
		for _, s := range a.Seen {
			if s.Identity != id.Name || s.Scheme != c.Scheme.Name {
				continue
			}
			asked = true
			marks[s.Relation] = said(s)
			hidden = hidden || marks[s.Relation] == Away && s.Class == check.Hidden
			if a.recognised(s) && !slices.Contains(a.Knows, c.Scheme.Name) {
				a.Knows = append(a.Knows, c.Scheme.Name)
			}
		}
		m := fold(marks)
		if (m == In || m == Some) && !slices.Contains(a.Schemes, c.Scheme.Name) {
			a.Schemes = append(a.Schemes, c.Scheme.Name)
		}
		a.Hides = a.Hides || m == Some && hidden
		unknown = unknown || m == Unknown
		if bestMet == nil || further(m, best) {
			best, bestMet = m, marks
		}
	}
	if unknown && best != In {
		best = Unknown
	}
	if asked {
		a.Marks[id.Name], a.met[id.Name] = best, bestMet
	}
}

// recognised says whether who was turned away was known: it was told that it may not (403), or that nothing is there
// (404), which nobody was not told.
func (a *At) recognised(s Seen) bool {
	return (s.Class == check.Forbidden || s.Class == check.Hidden) && !slices.ContainsFunc(a.Seen, func(o Seen) bool {
		return o.Identity == nobody && !o.Options && o.Status == s.Status
	})
}

// fold makes one mark of those by relation. Who was let in to all that was asked for is let in everywhere only if that
// was a record of which no word holds, and who was turned away from some is let in on others only if a word says which.
func fold(m map[access.Relation]Mark) Mark {
	in, away := 0, 0
	for _, x := range m {
		switch x {
		case In:
			in++
		case Away:
			away++
		default:
			return Unknown
		}
	}
	switch {
	case away > 0 && in == 0:
		return Away
	case away > 0 && told(m):
		return Some
	case away == 0 && (m[access.NoRecord] == In || m[access.Foreign] == In):
		return In
	}
	return Unknown
}

// told says whether there are words that hold of each record that somebody was let in on, and of none of the others.
func told(m map[access.Relation]Mark) bool {
	for rel, x := range m {
		if x == In && !slices.ContainsFunc(rel.Words(), func(w string) bool { return clean(m, w) }) {
			return false
		}
	}
	return true
}

// clean says whether a word holds of no record from which somebody was turned away.
func clean(m map[access.Relation]Mark, word string) bool {
	for rel, x := range m {
		if x == Away && slices.Contains(rel.Words(), word) {
			return false
		}
	}
	return true
}

func further(a, b Mark) bool { return slices.Index(ranks, a) > slices.Index(ranks, b) }

var ranks = []Mark{Unknown, Away, Some, In}

// unknown says why nothing is known of a caller at the route.
func (a *At) unknown(r reading, id string) string {
	name := id
	if id == nobody {
		name = "nobody"
	}
	some, shown := access.NoRecord, shown(a.Seen)
	for _, s := range a.Seen {
		if s.Identity != id || s.Options || !r.means(s) {
			continue
		}
		if s.Class == check.Admitted && len(s.Relation.Words()) > 0 {
			some = s.Relation
		}
		switch s.Class {
		case check.Admitted, check.Refused, check.Forbidden, check.ToLogin:
		case "":
			return "there was no answer for " + name + ": " + s.Why
		case check.Hidden:
			if shown[s.Record] {
				continue
			}
			return "nothing was there for " + name + " (404), and nobody was shown anything at that address"
		case check.Throttled:
			return name + " was told to slow down (429)"
		case check.Invalid, check.WrongMethod:
			return "the request of " + name + " was not one that it takes; mend the sample"
		default:
			return "it failed for " + name
		}
	}
	if some != access.NoRecord && a.met[id][access.Foreign] == Unknown {
		if some == access.Own {
			return name + " was shown its own record, and none of somebody else's is declared"
		}
		return name + " was shown what is " + strings.Join(some.Words(), " and ") + ", and nothing else is declared"
	}
	return "own records and others' were answered in a way that says nothing for " + name
}

// inOrder sorts names of schemes as they are declared.
func inOrder(d *declaration.Document, names []string) {
	at := func(n string) int {
		return slices.IndexFunc(d.Schemes,
			func(s *declaration.Scheme) bool { return s.Name == n })
	}
	slices.SortFunc(names, func(a, b string) int { return at(a) - at(b) })
}
