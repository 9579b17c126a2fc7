package observe

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/route"
)

// Group are routes that let the same callers in, with the entry that says exactly that.
type Group struct {
	ID     string          // stable for the same routes
	Title  string          // "For who signs in"
	Says   string          // what more there is to say
	Odd    string          // what looks wrong; "" where nothing does
	Marks  map[string]Mark // by identity; "" is nobody
	Routes []At
	// Entry says exactly what was observed, and nothing else; nil where none does, and Why then says why.
	Entry *declaration.Entry
	Why   string
	// Guessed: it rests on attributes or scopes, which were not tried one by one.
	Guessed string
	// Confirmed: the declaration says it already, of every route.
	Confirmed bool
}

// Text is the entry as it would be written, "" without.
func (g Group) Text() string {
	if g.Entry == nil {
		return ""
	}
	return g.Entry.Text()
}

// Keys are the routes of the group.
func (g Group) Keys(d *declaration.Document) []string {
	out := make([]string, len(g.Routes))
	for k, a := range g.Routes {
		out[k] = d.Routes[a.Route].Key()
	}
	return out
}

// GroupsOf gathers routes: what looks wrong first, then who gets in from all to nobody, and last that of which nothing
// can be said.
func GroupsOf(d *declaration.Document, list []At) []Group {
	odd := odds(d, list)
	index := map[string]int{}
	proposed := map[string]proposal{}
	var out []Group
	for k, a := range list {
		g := Group{Marks: a.Marks, Odd: odd[k].text}
		sig := signature(d, a)
		var p proposal
		if a.Why == "" {
			same, ok := sig+"\n"+answers(d, a), false
			if p, ok = proposed[same]; !ok {
				p = propose(d, a)
				proposed[same] = p
			}
			if g.Entry, g.Guessed = p.entry, p.guessed; g.Entry == nil {
				a.Why = "no entry of the language says exactly this"
			}
		}
		key := fmt.Sprint(odd[k].kind, "\n", sig, "\n", p.rule, "\n", a.Why)
		at, ok := index[key]
		if !ok {
			at = len(out)
			index[key] = at
			g.Why = a.Why
			out = append(out, g)
		}
		out[at].Routes = append(out[at].Routes, a)
	}
	for k := range out {
		g := &out[k]
		routes := make([]int, len(g.Routes))
		for n, a := range g.Routes {
			routes[n] = a.Route
		}
		g.Title, g.Says = title(d, g)
		if also := notDeclared(d, g.Routes); also != "" && g.Odd == "" {
			g.Says += "; " + also
		}
		g.ID = idOf(g.Odd, rule(g.Entry), g.Keys(d))
		g.Confirmed = g.Entry != nil && !slices.ContainsFunc(g.Routes, func(a At) bool {
			e := d.Entry(a.Route)
			return e == nil || e.Undecided() || !agrees(d, a)
		})
		if g.Entry != nil {
			e := *g.Entry
			e.At = shortest(d, routes)
			g.Entry = &e
		}
	}
	slices.SortStableFunc(out, func(a, b Group) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(open(b), open(a)), strings.Compare(a.Title, b.Title))
	})
	return out
}

// rank puts what looks wrong first, and that of which nothing can be said last.
func rank(g Group) int {
	switch {
	case g.Odd != "":
		return 0
	case g.Why != "":
		return 2
	}
	return 1
}

// open is how many get in.
func open(g Group) (n int) {
	for _, m := range g.Marks {
		switch m {
		case In:
			n += 2
		case Some:
			n++
		default:
		}
	}
	return n
}

// rule is an entry without its routes.
func rule(e *declaration.Entry) string {
	if e == nil {
		return ""
	}
	c := *e
	c.At = nil
	return c.Text()
}

func signature(d *declaration.Document, a At) string {
	var b strings.Builder
	fmt.Fprint(&b, "nobody=", a.Marks[nobody])
	for _, id := range d.Identities {
		if m, ok := a.Marks[id.Name]; ok {
			fmt.Fprint(&b, ";", id.Name, "=", m)
		}
	}
	return b.String()
}

// answers are what decides beside the marks which entry is proposed: what each credential was answered, and the records
// that fill the route.
func answers(d *declaration.Document, a At) string {
	var b strings.Builder
	fmt.Fprint(&b, a.Schemes, a.Knows, a.Hides)
	for _, s := range a.Seen {
		if !s.Options {
			fmt.Fprint(&b, ";", s.Identity, "/", s.Scheme, "/", s.Relation, "=", s.Status)
		}
	}
	for k, r := range d.Records {
		if d.FillParam(a.Route, r) != "" {
			fmt.Fprint(&b, ";", k)
		}
	}
	return b.String()
}

// agrees says whether the declaration expects at a route what was seen.
func agrees(d *declaration.Document, a At) bool {
	for name, m := range a.Marks {
		if m == Unknown {
			continue
		}
		for rel, was := range a.met[name] {
			switch x := expected(d, a.Route, d.IdentityNamed(name), rel); {
			case x == was:
			case x == Some && was == Away && rel == access.NoRecord && !owns(d, a.Route, name):
				// it has no record that could be shown to it
			default:
				return false
			}
		}
	}
	return true
}

// owns says whether an identity has a record of its own at route i.
func owns(d *declaration.Document, i int, identity string) bool {
	rec := d.Record(i)
	return rec != nil && len(rec.OwnedBy[identity]) > 0
}

// expected is what a declaration says of a caller at route i, nil is nobody, on a record that stands so to it.
func expected(d *declaration.Document, i int, id *declaration.Identity, rel access.Relation) Mark {
	c := access.Caller{Identity: id, State: access.Sound, Record: rel}
	if id == nil {
		c.State = access.Absent
	}
	switch x := access.Decide(d, i, c); {
	case x.Outcome != access.Admit:
		return Away
	case x.Depends:
		return Some
	}
	return In
}

// On are the words by which a caller is let in on some records, as the entry says; none where that is not known.
func (g Group) On(d *declaration.Document, caller string) []declaration.On {
	if g.Entry == nil || g.Marks[caller] != Some {
		return nil
	}
	c := access.Caller{Identity: d.IdentityNamed(caller), State: access.Sound}
	if c.Identity == nil {
		c.State = access.Absent
	}
	return access.Decide(d.Decided(g.Entry, g.Routes[0].Route), g.Routes[0].Route, c).On
}

// title says in words who gets in.
func title(d *declaration.Document, g *Group) (title, says string) {
	in, some := []string{}, g.Marks[nobody] == Some
	all := true
	for _, id := range d.Identities {
		switch m, asked := g.Marks[id.Name]; {
		case !asked:
		case m == In:
			in = append(in, id.Name)
		case m == Some:
			some, all = true, false
		default:
			all = false
		}
	}
	switch says = plural(len(g.Routes), "route"); {
	case g.Odd != "":
		if title = g.Odd; g.Why != "" {
			says = g.Why
		}
	case g.Why != "":
		return "Not known", g.Why
	case g.Marks[nobody] == In:
		title = "Open to all"
	case some:
		title, says = "Differs by record", shownText(g.Entry)
		if len(in) > 0 {
			says += "; " + strings.Join(in, ", ") + " see all"
		}
	case len(in) == 0:
		title, says = "Refuses everyone", says+", none of these callers gets in"
	case all:
		title = "For who signs in"
	default:
		title = "For " + whoText(g.Entry, in)
	}
	if g.Guessed != "" {
		says += "; guessed: " + g.Guessed
	}
	return title, says
}

// shownText says which records are shown to whom not all are.
func shownText(e *declaration.Entry) string {
	if e == nil || declaration.OwnAlone(e.Words()) {
		return "an own one is shown, another's refused"
	}
	words := e.Words()
	slices.SortStableFunc(words, func(a, b declaration.On) int { return int(a.Kind) - int(b.Kind) })
	return "what is " + strings.Join(declaration.Names(words, declaration.On.Text), " or ") +
		" is shown, the rest refused"
}

func whoText(e *declaration.Entry, in []string) string {
	if e == nil {
		return strings.Join(in, ", ")
	}
	words := make([]string, len(e.Who))
	for k, w := range e.Who {
		if words[k] = w.Name; w.Kind == declaration.WhoSignedIn && w.On.Kind == declaration.OnAll {
			words[k] = "who signs in"
			if len(e.By) > 0 {
				by := declaration.Names(e.By, func(r declaration.Ref) string { return r.Name })
				words[k] += " with " + strings.Join(by, " or ")
			}
		}
	}
	return strings.Join(words, ", ")
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprint(n, " ", what, "s")
}

// shortest are the selectors that select exactly these routes: a pattern is used only where every route of the
// inventory that it selects is among them.
func shortest(d *declaration.Document, routes []int) (out []route.Selector) {
	among := map[int]bool{}
	for _, i := range routes {
		among[i] = true
	}
	var patterns []route.Selector
	var hits [][]int
	for _, p := range prefixes(d, routes) {
		if h, ok := within(d, p, among); ok && len(h) > 1 {
			patterns, hits = append(patterns, p), append(hits, h)
		}
	}
	left := slices.Clone(routes)
	for {
		best := -1
		for k, p := range patterns {
			hits[k] = slices.DeleteFunc(hits[k], func(i int) bool { return !among[i] })
			if n := len(hits[k]); n > 1 && (best < 0 || n > len(hits[best]) ||
				n == len(hits[best]) && len(p.Segments) > len(patterns[best].Segments)) {
				best = k
			}
		}
		if best < 0 {
			break
		}
		out = append(out, patterns[best])
		for _, i := range hits[best] {
			among[i] = false
		}
		left = slices.DeleteFunc(left, func(i int) bool { return !among[i] })
	}
	for _, i := range left {
		out = append(out, d.Routes[i].Selector)
	}
	return out
}

// prefixes are patterns METHOD /a/b/** above routes.
func prefixes(d *declaration.Document, routes []int) (out []route.Selector) {
	seen := map[string]bool{}
	for _, i := range routes {
		rt := d.Routes[i]
		segments := route.Split(rt.Path())
		for n := 1; n < len(segments); n++ {
			if strings.Contains(segments[n-1], "{") {
				break
			}
			text := rt.Method() + " " + route.Hosted(rt.Host, "/"+strings.Join(segments[:n], "/")+"/**")
			if s, err := route.Parse(text); err == nil && !seen[text] {
				seen[text] = true
				out = append(out, s)
			}
		}
	}
	sort.SliceStable(out, func(a, b int) bool { return len(out[a].Segments) < len(out[b].Segments) })
	return out
}

// within are the routes that a pattern selects; ok is false where it selects another, or a part of one.
func within(d *declaration.Document, p route.Selector, among map[int]bool) (hits []int, ok bool) {
	for i := range d.Routes {
		switch d.Inventory.Relate(p, i) {
		case route.Splits:
			return nil, false
		case route.Covers:
			if !among[i] {
				return nil, false
			}
			hits = append(hits, i)
		default:
		}
	}
	return hits, true
}
