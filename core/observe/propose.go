package observe

import (
	"fmt"
	"iter"
	"maps"
	"slices"

	"millgate/core/access"
	"millgate/core/declaration"
)

// propose is the shortest entry by which everybody who was asked gets in, is turned away or depends on the record as
// it was seen at a route.
func propose(d *declaration.Document, a At) (best proposal) {
	least := 0
	for _, c := range candidates(d, a) {
		with := d.Decided(&c.entry, a.Route)
		if len(c.entry.By) == 0 && len(d.Locks(&c.entry)) > 1 || !agrees(with, a) {
			continue
		}
		c.entry.Turned = turned(with, a)
		// How one is turned away is what a sweep compares later; a guess comes after what was seen.
		cost := len(rule(&c.entry)) + 100*wrong(with, a)
		if c.guessed != "" {
			cost += 10000
		}
		for _, w := range c.entry.Who { // a name says less than what tells it from others of its role
			if id := d.IdentityNamed(w.Name); w.Kind == declaration.WhoIdentity && id != nil && len(id.Roles) > 0 {
				cost += 20000
			}
		}
		for _, id := range d.Identities { // who is not known is not let in, where that can be said
			if _, known := a.Marks[id.Name]; !known && expected(with, a.Route, id, access.NoRecord) != Away {
				cost += 1000
			}
		}
		if best.entry == nil || cost < least {
			best, least = proposal{&c.entry, rule(&c.entry), c.guessed}, cost
		}
	}
	return best
}

// turned is with what status callers were turned away, by what the document says turns them away: where it is not the
// default, and the same of all who were.
func turned(d *declaration.Document, a At) (out declaration.TurnedAway) {
	if d.Version == declaration.V1 { // it cannot be said there
		return out
	}
	const several = -1
	said := map[string]int{}
	for s, x := range compared(d, a) {
		switch was, known := said[x.Subject]; {
		case known && was != s.Status, !s.Class.Refuses():
			said[x.Subject] = several
		default:
			said[x.Subject] = s.Status
		}
	}
	for s, x := range compared(d, a) {
		if said[x.Subject] == s.Status && s.Status != x.Status() {
			out.Say(x.Subject, s.Status)
		}
	}
	return out
}

// proposal is an entry with its text, without its routes; the zero proposal is none. guessed says what of it rests on
// more than was tried.
type proposal struct {
	entry         *declaration.Entry
	rule, guessed string
}

// wrong counts the callers who would be turned away in another way than was seen: 401 is for who is not known, 403 for
// who may not, 404 where another's record is hidden.
func wrong(d *declaration.Document, a At) (n int) {
	for s, x := range compared(d, a) {
		if s.Status != x.Status() {
			n++
		}
	}
	return n
}

// compared are the answers to who is to be turned away, each with what is expected.
func compared(d *declaration.Document, a At) iter.Seq2[Seen, access.Expectation] {
	return func(yield func(Seen, access.Expectation) bool) {
		for _, s := range a.Seen {
			c := access.Caller{Identity: d.IdentityNamed(s.Identity), State: access.Sound, Record: s.Relation}
			if _, known := a.Marks[s.Identity]; !known || s.Options { // a credential that opened nothing says nothing
				continue
			}
			if c.Identity == nil {
				c.State = access.Absent
			} else if cr := access.Credential(d, a.Route, c.Identity); cr == nil || cr.Scheme.Name != s.Scheme {
				continue // it would come with another scheme
			}
			if x := access.Decide(d, a.Route, c); x.Status() != 0 && s.Status != 0 && !yield(s, x) {
				return
			}
		}
	}
}

type candidate struct {
	entry   declaration.Entry
	guessed string
}

// candidates are the entries that may say what was seen.
func candidates(d *declaration.Document, a At) (out []candidate) {
	c := callers{d, a}
	some := c.anyone(Some)
	add := func(who []declaration.Who, given map[string]any, scope []string, guessed string) {
		e := entryOf(who)
		e.Given, e.Scope = given, scope
		e.Hide = some && a.Hides
		if some {
			e.OwnerOf = ownerOf(d, a.Route)
		}
		for _, by := range a.bys() {
			x := e
			x.By = by
			out = append(out, candidate{x, guessed})
		}
	}
	switch {
	case a.Marks[nobody] == In:
		return []candidate{{entry: entryOf(whoOf("anyone"))}}
	case !some && !c.anyone(In):
		return []candidate{{entry: entryOf(whoOf("nobody"))}}
	}
	add(whoOf("signed-in"), nil, nil, "")
	for _, words := range subsets(c.words()) {
		if who, ok := c.who(words, telling{}); ok {
			add(who, nil, nil, "")
		}
	}
	// A role of whose holders some are turned away: what tells them apart may be an attribute or a scope.
	for _, what := range tellings(d, a) {
		for _, words := range subsets(c.words()) {
			if who, ok := c.who(words, what); ok {
				add(who, what.given, what.scope, what.says)
			}
		}
		add(whoOf("signed-in"), what.given, what.scope, what.says)
	}
	return out
}

// callers are those who were asked at a route.
type callers struct {
	d *declaration.Document
	a At
}

// anyone says whether somebody meets a mark.
func (c callers) anyone(m Mark) bool {
	for _, x := range c.a.Marks {
		if x == m {
			return true
		}
	}
	return false
}

// may says whether nothing that was seen forbids to let identity k in on the records of a word, or on all with OnAll.
func (c callers) may(k int, on declaration.On) bool {
	m, asked := c.a.Marks[c.d.Identities[k].Name]
	return !asked || m == In || on.Kind != declaration.OnAll && clean(c.a.met[c.d.Identities[k].Name], on.Name)
}

// mostWords is how many words of `on` are tried together.
const mostWords = 5

// words are those that may say on which records somebody is let in.
func (c callers) words() []declaration.On {
	var x declaration.Extent
	for name, m := range c.a.Marks {
		if m != Some {
			continue
		}
		for rel, was := range c.a.met[name] {
			for _, w := range rel.Words() {
				if was == In && clean(c.a.met[name], w) {
					x = x.With(c.d.OnNamed(w))
				}
			}
		}
	}
	return x.On[:min(mostWords, len(x.On))]
}

// subsets are all choices of some words; of none the empty one alone.
func subsets(words []declaration.On) [][]declaration.On {
	out := [][]declaration.On{nil}
	for _, w := range words {
		for _, s := range out {
			out = append(out, append(slices.Clone(s), w))
		}
	}
	return out
}

// who are the alternatives that let everybody in on what it was shown, by these words and no others; ok is false where
// they do not say all of it. Those who lack what else tells callers apart may be among them.
func (c callers) who(words []declaration.On, what telling) (out []declaration.Who, ok bool) {
	left := map[string][]access.Relation{} // what each must be let in on yet
	for name, m := range c.a.Marks {
		for rel, was := range c.a.met[name] {
			if m == Some && was == In {
				left[name] = append(left[name], rel)
			}
		}
	}
	var open, some []declaration.Who
	for _, o := range words {
		holds := func(rel access.Relation) bool { return rel.Holds(o) }
		must := func(name string) bool {
			return slices.ContainsFunc(left[name], holds) && clean(c.a.met[name], o.Name)
		}
		done := func(name string) { left[name] = slices.DeleteFunc(slices.Clone(left[name]), holds) }
		if must(nobody) {
			open = append(open, declaration.Who{Kind: declaration.WhoAnyone, Ref: declaration.Ref{Name: "anyone"},
				On: o})
			for name := range left {
				done(name)
			}
			continue
		}
		list := c.cover(o, must, what)
		for _, id := range c.d.Identities {
			if must(id.Name) {
				done(id.Name)
			}
		}
		some = append(some, list...)
	}
	for _, rels := range left {
		if len(rels) > 0 {
			return nil, false
		}
	}
	all := c.cover(declaration.On{}, func(name string) bool { return c.a.Marks[name] == In }, what)
	return slices.Concat(open, some, all), true
}

// cover are the alternatives that let in who must be, on the records of a word or on all. Who stands in no record of a
// kind was not seen to get in, and is not among them where roles say so.
func (c callers) cover(on declaration.On, must func(identity string) bool, what telling) (out []declaration.Who) {
	may := func(k int) bool { return c.may(k, on) || !what.has(c.d.Identities[k]) }
	each, any, stands := true, false, true
	for k, id := range c.d.Identities {
		each = each && may(k)
		any = any || must(id.Name)
		stands = stands && (on.Kind != declaration.OnWithin || len(id.In(on.Name)) > 0)
	}
	switch {
	case !any:
		return nil
	case each && on.Kind == declaration.OnOwn:
		return whoOf("owner")
	case each && stands && on.Kind != declaration.OnAll:
		out = whoOf("signed-in")
	default:
		out = whoOf(access.Cover(c.d, func(k int) bool { return must(c.d.Identities[k].Name) }, may)...)
	}
	named := slices.ContainsFunc(out, func(w declaration.Who) bool { return w.Kind == declaration.WhoIdentity })
	if named && each && on.Kind != declaration.OnAll {
		out = whoOf("signed-in")
	}
	for k := range out {
		out[k].On = on
	}
	return out
}

// bys are the schemes that an entry may name: none, those that opened it, and those that were known there.
func (a At) bys() [][]declaration.Ref {
	refs := func(names []string) (out []declaration.Ref) {
		for _, n := range names {
			out = append(out, declaration.Ref{Name: n})
		}
		return out
	}
	known := slices.Clone(a.Schemes)
	for _, n := range a.Knows {
		if !slices.Contains(known, n) {
			known = append(known, n)
		}
	}
	return [][]declaration.Ref{nil, refs(a.Schemes), refs(known)}
}

// entryOf is an entry that admits these alternatives.
func entryOf(who []declaration.Who) declaration.Entry {
	return declaration.Entry{Broken: declaration.BrokenEither, Who: who}
}

// whoOf are alternatives, as words.
func whoOf(words ...string) (out []declaration.Who) {
	for _, w := range words {
		out = append(out, declaration.WhoOf(declaration.Ref{Name: w}))
	}
	return out
}

// ownerOf names the record whose owner is meant where several fill the route.
func ownerOf(d *declaration.Document, i int) declaration.Ref {
	if rec := d.Record(i); len(d.FilledBy(i)) > 1 && rec != nil {
		return declaration.Ref{Name: rec.Name}
	}
	return declaration.Ref{}
}

// telling is an attribute or a scope that those who get in have, and some who do not get in have not.
type telling struct {
	given map[string]any
	scope []string
	says  string
}

func (t telling) has(id *declaration.Identity) bool {
	for n, v := range t.given {
		if !access.Holds(id, n, v) {
			return false
		}
	}
	return !slices.ContainsFunc(t.scope, func(s string) bool { return !slices.Contains(id.Scopes, s) })
}

// tellings are those that everybody has who gets in, and somebody lacks who does not.
func tellings(d *declaration.Document, a At) (out []telling) {
	seen := map[string]bool{}
	try := func(t telling) {
		if seen[t.says] {
			return
		}
		seen[t.says] = true
		lacks := false
		for _, id := range d.Identities {
			switch m, asked := a.Marks[id.Name]; {
			case !asked:
			case m == In || m == Some:
				if !t.has(id) {
					return
				}
			case !t.has(id):
				lacks = true
			}
		}
		if lacks {
			out = append(out, t)
		}
	}
	for _, id := range d.Identities {
		if m := a.Marks[id.Name]; m != In && m != Some {
			continue
		}
		for _, n := range slices.Sorted(maps.Keys(id.Attributes)) {
			try(telling{given: map[string]any{n: id.Attributes[n]}, says: fmt.Sprintf("that %s: %v decides", n,
				id.Attributes[n])})
		}
		for _, s := range id.Scopes {
			try(telling{scope: []string{s}, says: "that the scope " + s + " decides"})
		}
	}
	return out
}
