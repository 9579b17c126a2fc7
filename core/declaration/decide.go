package declaration

import (
	"cmp"
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"sort"
	"strings"

	"millgate/core/route"
)

type candidate struct {
	entry int
	sel   route.Selector
	named bool
}

// contains says whether a's selector holds all of b's. An entry that names a
// template speaks for that route alone, so it never contains a pattern.
func (a candidate) contains(b candidate) bool {
	return a.sel.Contains(b.sel) && (!a.named || b.named)
}

// rule is one entry with selectors, of access, origins or quotas.
type rule struct {
	at    []route.Selector
	place Place
}

// matched finds for each route the rules that select it. A pattern that takes
// only a part of a route is an error, a rule that selects nothing a warning.
func (d *Document) matched(r *reader, rules []rule) (found [][]candidate, touched []bool) {
	found = make([][]candidate, len(d.Routes))
	touched = make([]bool, len(rules))
	var patterns []route.Selector
	var owners []int
	split := make([]bool, len(rules))
	for e, en := range rules {
		for _, s := range en.at {
			if hits := d.Inventory.Named(s); len(hits) > 0 {
				touched[e] = true
				for _, i := range hits {
					found[i] = append(found[i], candidate{e, s, true})
				}
				continue
			}
			patterns = append(patterns, s)
			owners = append(owners, e)
		}
	}
	ix := route.NewIndex(patterns)
	for i, rt := range d.Routes {
		for _, p := range ix.Near(rt.Selector) {
			e := owners[p]
			switch d.Inventory.Relate(patterns[p], i) {
			case route.Covers:
				touched[e] = true
				found[i] = append(found[i], candidate{e, patterns[p], false})
			case route.Splits:
				touched[e] = true
				if !split[e] {
					split[e] = true
					r.sayAt(rules[e].place, len(patterns[p].String()), Error, "splits",
						fmt.Sprintf("%s takes only a part of the route %s", patterns[p], rt.Key()),
						"name the template, or declare that part as a route of its own")
				}
			default:
			}
		}
	}
	keys := Names(d.Routes, func(x *Route) string { return x.Key() })
	for e, en := range rules {
		if touched[e] || len(en.at) == 0 || len(d.Routes) == 0 {
			continue
		}
		hint := "add the route to the inventory, or remove the entry"
		if near := Nearest(en.at[0].String(), keys); near != "" && len(keys) < 2000 {
			hint = fmt.Sprintf("did you mean %s?", near)
		}
		r.sayAt(en.place, len(en.at[0].String()), Warning, "selects-nothing",
			fmt.Sprintf("%s selects no route of the inventory", en.at[0]), hint)
	}
	return found, touched
}

// normal is equal for entries that permit the same.
func (e *OriginEntry) normal() string {
	parts := make([]string, len(e.Allow))
	for i, p := range e.Allow {
		sorted := func(list []string) []string { c := slices.Clone(list); sort.Strings(c); return c }
		parts[i] = fmt.Sprint(p.Origin, sorted(p.Methods), sorted(p.Headers), sorted(p.Expose), p.Credentials, p.MaxAge)
	}
	sort.Strings(parts)
	return strings.Join(parts, ";")
}

// DecidingWithout is the entry that would decide route i if entry e were not
// there; -1 when none would, or none alone.
func (d *Document) DecidingWithout(i, e int) int {
	var rest []candidate
	for _, c := range d.candidates[i] {
		if c.entry != e {
			rest = append(rest, c)
		}
	}
	return d.decide(&reader{}, i, rest, d.rules, func(e int) string { return d.Access[e].normal() })
}

// SaysTheSame says whether two entries mean the same, whatever they select.
func (e *Entry) SaysTheSame(o *Entry) bool { return e.normal() == o.normal() }

// NamesRoute says whether entry e names the template of route i, in place of
// selecting it by a pattern.
func (d *Document) NamesRoute(e, i int) bool {
	return slices.ContainsFunc(d.candidates[i], func(c candidate) bool { return c.entry == e && c.named })
}

// decide picks the most specific candidate for route i; -1 without.
func (d *Document) decide(r *reader, i int, cands []candidate, rules []rule, normal func(int) string) int {
	var least []candidate
	for x, c := range cands {
		beaten := false
		for y, o := range cands {
			if x != y && c.contains(o) && !o.contains(c) {
				beaten = true
				break
			}
		}
		if !beaten {
			least = append(least, c)
		}
	}
	if len(least) == 0 {
		return -1
	}
	// Where nothing is contained in everything, candidates may still agree.
	first := least[0]
	for _, c := range least[1:] {
		if first.entry == c.entry || normal(first.entry) == normal(c.entry) {
			continue
		}
		a, b := rules[first.entry].place, rules[c.entry].place
		if a.File == b.File && b.Line < a.Line {
			a, b = b, a
		}
		from := fmt.Sprintf("line %d", a.Line)
		if a.File != b.File {
			from = fmt.Sprintf("%s line %d", a.File, a.Line)
		}
		r.sayAt(b, len(c.sel.String()), Error, "ambiguous",
			fmt.Sprintf("%s is decided by two entries that say different things, in %s and line %d, and neither is "+
				"more specific", d.Routes[i].Key(), from, b.Line),
			fmt.Sprintf("add an entry  at: %s  that says what holds", d.Routes[i].Key()))
		return -1
	}
	return first.entry
}

// LeastFirst are the identities by their index: those of the commonest scheme first, and of these who
// may do least, which is who comes to the fewest roles, is admitted by the fewest entries and has the
// fewest scopes; then by name. What a sweep sends follows it, so that the order of the text decides
// nothing, and what is broken is a credential that opens little.
func (d *Document) LeastFirst() []int {
	if len(d.leastFirst) == len(d.Identities) {
		return d.leastFirst
	}
	return d.ranked()
}

// Ranked are the identities as LeastFirst has them.
func (d *Document) Ranked() iter.Seq[*Identity] {
	return func(yield func(*Identity) bool) {
		for _, i := range d.LeastFirst() {
			if !yield(d.Identities[i]) {
				return
			}
		}
	}
}

// Holder is the first of them with a credential of a scheme; nil without.
func (d *Document) Holder(scheme string) *Identity {
	for id := range d.Ranked() {
		if id.Credential(scheme) != nil {
			return id
		}
	}
	return nil
}

func (d *Document) ranked() []int {
	common := map[string]int{}
	scheme := func(id *Identity) string {
		if len(id.Credentials) == 0 {
			return ""
		}
		return id.Credentials[0].Scheme.Name
	}
	for _, id := range d.Identities {
		common[scheme(id)]++
	}
	ranks := make([][4]int, len(d.Identities))
	out := make([]int, len(d.Identities))
	for i, id := range d.Identities {
		out[i] = i
		ranks[i] = [4]int{-common[scheme(id)], len(d.RolesOf(id)), 0, len(id.Scopes)}
		for _, e := range d.Access {
			if d.Comes(e, id) {
				ranks[i][2]++
			}
		}
	}
	slices.SortStableFunc(out, func(a, b int) int {
		return cmp.Or(slices.Compare(ranks[a][:], ranks[b][:]),
			strings.Compare(d.Identities[a].Name, d.Identities[b].Name))
	})
	return out
}

// Owns says whether an identity owns a record of any kind.
func (d *Document) Owns(id *Identity) bool { return d.owners[id.Name] }

// Comes says whether rung 4 lets an identity pass on some record: an owner can only be one who owns something, and
// one of a team who stands in one.
func (d *Document) Comes(e *Entry, id *Identity) bool {
	x := d.Admits(e, id)
	return x.All || slices.ContainsFunc(x.On, func(o On) bool {
		switch o.Kind {
		case OnOwn:
			return d.Owns(id)
		case OnWithin:
			return len(id.In(o.Name)) > 0
		default:
		}
		return true
	})
}

// defaultSchemes are the first schemes of the identities that the entry could
// admit.
func (d *Document) defaultSchemes(e *Entry) []*Scheme {
	var out []*Scheme
	for _, id := range d.Identities {
		if len(id.Credentials) == 0 {
			continue
		}
		if !d.Comes(e, id) {
			continue
		}
		if s := d.SchemeNamed(id.Credentials[0].Scheme.Name); s != nil && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	if len(out) > 1 { // in the order of the schemes: that of the identities decides nothing
		slices.SortFunc(out, func(a, b *Scheme) int { return slices.Index(d.Schemes, a) - slices.Index(d.Schemes, b) })
	}
	return out
}

// Locks are the first schemes of the callers that an entry admits, one for each lock: where there are several, the
// entry must say which of them the route accepts.
func (d *Document) Locks(e *Entry) (out []*Scheme) {
	if e.Open() {
		return nil
	}
	for _, s := range d.defaultSchemes(e) {
		if !slices.ContainsFunc(out, s.SameLock) {
			out = append(out, s)
		}
	}
	return out
}

// Accepted are the schemes that a route with this entry accepts: those of
// `by`, or else the first schemes of the callers it admits and every scheme
// behind the same lock.
func (d *Document) Accepted(e *Entry) []*Scheme {
	if e.of != nil {
		return d.Accepted(e.of)
	}
	if out, ok := d.accepted[e]; ok {
		return out
	}
	if len(e.By) > 0 {
		var out []*Scheme
		for _, b := range e.By {
			if s := d.SchemeNamed(b.Name); s != nil {
				out = append(out, s)
			}
		}
		return out
	}
	base := d.defaultSchemes(e)
	out := slices.Clone(base)
	for _, s := range d.Schemes {
		if !slices.Contains(out, s) && slices.ContainsFunc(base, s.SameLock) {
			out = append(out, s)
		}
	}
	return out
}

// normal is equal for entries that say the same, whatever they select.
func (e *Entry) normal() string {
	who := Names(e.Who, func(w Who) string { return fmt.Sprint(w.Kind, w.Name, w.On.Name) })
	by := Names(e.By, func(b Ref) string { return b.Name })
	scope := slices.Clone(e.Scope)
	sort.Strings(who)
	sort.Strings(by)
	sort.Strings(scope)
	given, _ := json.Marshal(e.Given) // scalars; keys come sorted
	return fmt.Sprint(who, by, scope, string(given), e.Broken, e.Hide, e.Turned, e.OwnerOf.Name)
}
