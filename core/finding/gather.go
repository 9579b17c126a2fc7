package finding

// Rule: Gaps with one cause, where one mend would be, are one finding.

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"millgate/core/declaration"
)

// Seen is a probe with its gaps, as they are gathered.
type Seen struct {
	Probe     string // its key
	Route     string
	Column    string // its cell's, on the board
	Who       string // the caller in words
	Identity  string // the caller; "" is nobody
	StandsFor []string
	Unsafe    bool
	Follows   string // the key of the probe whose gap this one follows to another route; "" without
	Gaps      []Gap
	// Out are all identities that were sent, or stood for, and should be turned away there for
	// the reason for which this one should.
	Out []string
}

// AnyPath is the route of findings about paths that nobody declared.
const AnyPath = "any unknown path"

// NoRoute is the scope of what no route has to do with.
var NoRoute = Scope{Of: AtNoRoute, Name: AnyPath}

// bundle is what becomes a finding: gaps of one cause in one place.
type bundle struct {
	row   *Row
	cause string
	rung  int
	scope Scope  // zero at the route
	route string // in words where there are several
	seen  []Seen
	gaps  []Gap
}

// place is where a gap belongs: gaps with one kind, place and cause are one finding.
type place struct {
	kind         Kind
	route, cause string
	scope        Scope // zero at the route
}

// cause of a row at a route.
type spot struct{ route, cause string }

// shared is what shows at several routes and may be one fault.
type shared struct {
	cause string
	wide  Scope
}

// gathering is what is known of all gaps while each is put in its place.
type gathering struct {
	shows  map[spot]*Row              // at a route, or behind a scheme, of the worst kind
	wide   map[spot]Scope             // of what shows at a route
	leads  map[string]string          // by probe whose gap others follow: its route
	routes map[shared]map[string]bool // at which something shows by itself
}

// Gather makes findings of the gaps, worst first. Probes must be in the order of the plan.
//
// A gap is part of another finding at its route where its row says so (Row.PartOf); it
// stands where one mend would be (Scope, Wide), and one that was found by following another
// stands with that.
func Gather(d *declaration.Document, list []Seen) []Finding {
	x := gathering{shows: map[spot]*Row{}, wide: map[spot]Scope{}, leads: map[string]string{},
		routes: map[shared]map[string]bool{}}
	x.know(list)
	bundles := map[place]*bundle{}
	var order []*bundle
	for _, s := range list {
		in := map[*bundle]bool{}
		for _, g := range s.Gaps {
			at, row := x.place(s, g)
			b := bundles[at]
			if b == nil {
				b = &bundle{row: row, cause: at.cause, rung: g.Rung, scope: at.scope, route: at.route}
				bundles[at] = b
				order = append(order, b)
			}
			if in[b] {
				continue
			}
			in[b] = true
			b.seen, b.gaps = append(b.seen, s), append(b.gaps, g)
		}
	}
	out := make([]Finding, 0, len(order))
	for _, b := range order {
		out = append(out, b.finding(d))
	}
	out = uncovered(out, order)
	slices.SortStableFunc(out, func(a, b Finding) int {
		switch {
		case a.Severity != b.Severity && a.Severity.AtLeast(b.Severity):
			return -1
		case a.Severity != b.Severity:
			return 1
		}
		return slices.Index(Order, a.Kind) - slices.Index(Order, b.Kind)
	})
	return out
}

// know looks at all gaps once.
func (x gathering) know(list []Seen) {
	for _, s := range list {
		if s.Follows != "" {
			x.leads[s.Follows] = ""
		}
	}
	for _, s := range list {
		if _, led := x.leads[s.Probe]; led {
			x.leads[s.Probe] = s.Route
		}
		for _, g := range s.Gaps {
			if g.Aside {
				continue
			}
			if g.Wide != (Scope{}) {
				x.wide[spot{s.Route, g.Cause()}] = g.Wide
			}
			for _, where := range []string{s.Route, behind(g)} {
				at := spot{where, g.Cause()}
				if old := x.shows[at]; where != "" && (old == nil || Worse(g.Row.Kind, old.Kind)) {
					x.shows[at] = g.Row
				}
			}
		}
	}
	for _, s := range list {
		for _, g := range s.Gaps {
			if g.Wide == (Scope{}) || g.Scope.Of == AtNoRoute || s.Follows != "" || x.comesFrom(g, s.Route) != nil {
				continue
			}
			k := shared{g.Cause(), g.Wide}
			if x.routes[k] == nil {
				x.routes[k] = map[string]bool{}
			}
			x.routes[k][s.Route] = true
		}
	}
}

// behind is the scheme that a gap is about wherever it shows, "" where it is about its route.
func behind(g Gap) string {
	if g.Wide.Of == AtScheme {
		return g.Wide.String()
	}
	return ""
}

// comesFrom is the cause that a gap is part of: at its route, or behind its scheme; nil
// without.
func (x gathering) comesFrom(g Gap, route string) (of *Row) {
	for _, where := range []string{route, behind(g)} {
		for _, cause := range g.Row.PartOf {
			if w := x.shows[spot{where, cause}]; where != "" && w != nil && w != g.Row {
				return w
			}
		}
	}
	return nil
}

// place puts a gap where it belongs, and gives the row that it belongs to.
func (x gathering) place(s Seen, g Gap) (place, *Row) {
	route, of := s.Route, x.comesFrom(g, s.Route)
	if w := x.leads[s.Follows]; of == nil && s.Follows != "" && w != "" {
		// The gap that led to this one, where that is of the same cause.
		if lead := x.comesFrom(g, w); lead != nil || x.shows[spot{w, g.Cause()}] != nil {
			route, of = w, lead
		}
	}
	row, cause, wide := g.Row, g.Cause(), g.Wide
	at := place{scope: g.Scope}
	if of != nil {
		row, cause, at.scope = of, of.Cause, Scope{}
		if w, ok := x.wide[spot{route, cause}]; ok || behind(g) == "" {
			wide = w
		}
	}
	at.kind, at.route, at.cause = row.Kind, route, cause
	if len(x.routes[shared{cause, wide}]) > 1 {
		at.scope = wide
	}
	if at.scope.Name != "" {
		at.route = at.scope.String()
	}
	return at, row
}

// uncovered leaves out what another finding covers: the same kind in the same place, shown
// by no probe that does not show the other as well. The other says so.
func uncovered(list []Finding, from []*bundle) []Finding {
	coveredBy := func(i int) int {
		f := list[i]
		for k, g := range list {
			if g.Kind == f.Kind && g.Where() == f.Where() && slices.Contains(from[k].row.Covers, f.Cause) &&
				!slices.ContainsFunc(f.Probes, func(id string) bool { return !slices.Contains(g.Probes, id) }) {
				return k
			}
		}
		return -1
	}
	also := map[int][]string{}
	var left []int
	for i, f := range list {
		by := coveredBy(i)
		if by < 0 {
			left = append(left, i)
			continue
		}
		for next := coveredBy(by); next >= 0; next = coveredBy(by) {
			by = next // what covers it may be covered itself
		}
		also[by] = append(also[by], strings.ToLower(f.Title[:1])+f.Title[1:])
	}
	out := make([]Finding, 0, len(left))
	for _, i := range left {
		f := list[i]
		if len(also[i]) > 0 {
			f.Reason += " With it: " + strings.Join(also[i], "; ") + "."
		}
		out = append(out, f)
	}
	return out
}

func (b *bundle) finding(d *declaration.Document) Finding {
	row := b.row
	f := Finding{Kind: row.Kind, Cause: b.cause, Rung: cmp.Or(row.Rung, b.rung), Inferred: []string{},
		Confidence: NotSure, Crossings: len(b.seen)}
	b.places(d, &f)
	best, ease := b.shownBy(&f)
	f.Probes[0], f.Probes[best] = f.Probes[best], f.Probes[0]
	shown := b.seen[best]
	f.Confidence, f.At, f.Column = b.gaps[best].Confidence, shown.Route, shown.Column
	f.Severity, f.Weighs = b.severity(d, ease)
	f.OWASP, f.CWE, f.Standard, f.Docs = string(row.OWASP), row.CWE, row.Standard, "docs/findings.md#"+row.Anchor()
	f.Reason = sentence(b.gaps[best].Reason)
	switch rest := len(f.Callers) + len(f.Inferred) - 1; {
	case row.Sums != "" && f.Confidence == Proven:
		f.Reason = fmt.Sprintf("%s (%d crossings).", row.Sums, f.Crossings)
	case row.Sums != "":
		f.Reason = fmt.Sprintf("%s (%d crossings). %s", row.Sums, f.Crossings, f.Reason)
	case len(f.Routes) > 1 && (row.Led || rest == 0):
		f.Reason += fmt.Sprintf(" The same at %d routes.", len(f.Routes))
	case len(f.Routes) > 1:
		f.Reason += fmt.Sprintf(" The same for %d more, at %d routes.", rest, len(f.Routes))
	case rest > 0 && !row.Led:
		f.Reason += fmt.Sprintf(" The same for %d more.", rest)
	}
	f.Advice, f.Title = row.AdviceFor(b.route), row.TitleOf(b.cause)
	named := []string{string(f.Kind), fmt.Sprint(f.Rung), b.route, cmp.Or(row.Same, b.cause)}
	sum := sha256.Sum256([]byte(strings.Join(named, "\x00")))
	f.ID = "mg-" + hex.EncodeToString(sum[:5])
	return f
}

// severity is the gravest of the routes at which it shows, with its reason.
func (b *bundle) severity(d *declaration.Document, ease Ease) (Severity, string) {
	if b.row.Severity != "" {
		return b.row.Severity, "so is its cause, wherever it shows"
	}
	worst, why := cmp.Or(b.row.Least, Low), ""
	for _, s := range b.seen {
		effect, sens := declaration.Read, declaration.Medium
		if i := d.RouteNamed(s.Route); i >= 0 && b.scope.Of != AtNoRoute {
			effect, sens = d.Routes[i].Effect, d.Routes[i].Sensitivity
		} else if s.Unsafe {
			effect = declaration.Update
		}
		w := Weigh(b.row.Kind, effect, sens, ease)
		if r := w.Severity(); r.AtLeast(worst) && (why == "" || r != worst) {
			worst, why = r, w.String()
		}
	}
	return worst, cmp.Or(why, "its cause is that much at least")
}

// shownBy says who shows a finding and by which probes, which of them shows it best, and who
// can use it.
func (b *bundle) shownBy(f *Finding) (best int, ease Ease) {
	anyone, signedIn := b.row.ByAnyone, map[string]bool{}
	for k, s := range b.seen {
		who := s.Who
		if b.gaps[k].Row == b.row {
			who = cmp.Or(b.gaps[k].Who, who)
		}
		if !slices.Contains(f.Callers, who) {
			f.Callers = append(f.Callers, who)
		}
		for _, n := range s.StandsFor {
			if !slices.Contains(f.Inferred, n) {
				f.Inferred = append(f.Inferred, n)
			}
		}
		if s.Identity == "" {
			anyone = true
		} else {
			signedIn[s.Identity] = true
		}
		if b.gaps[k].Confidence == Proven && b.gaps[best].Confidence != Proven {
			best = k
		}
		f.Probes = append(f.Probes, s.Probe)
	}
	switch {
	case b.row.Led:
		return best, ByAFew
	case anyone && b.row.Forges:
		return best, AsAll
	case anyone:
		return best, ByAnyone
	case len(signedIn)+len(f.Inferred) >= ManyFrom || b.everyone(signedIn, f.Inferred):
		return best, ByMany
	}
	return best, ByAFew
}

// everyone says whether all who were sent and should be out got in, at one of the routes.
func (b *bundle) everyone(signedIn map[string]bool, inferred []string) bool {
	return slices.ContainsFunc(b.seen, func(s Seen) bool {
		return len(s.Out) > 0 && !slices.ContainsFunc(s.Out, func(name string) bool {
			return !signedIn[name] && !slices.Contains(inferred, name)
		})
	})
}

// places says at which routes a finding stands, in the inventory's order, and what they
// have in common.
func (b *bundle) places(d *declaration.Document, f *Finding) {
	if f.Route = b.route; b.scope.Of == AtNoRoute {
		return // made-up paths are no routes
	}
	var routes []string
	for _, s := range b.seen {
		if !slices.Contains(routes, s.Route) {
			routes = append(routes, s.Route)
		}
	}
	slices.SortStableFunc(routes, func(x, y string) int {
		return cmp.Compare(uint(d.RouteNamed(x)), uint(d.RouteNamed(y)))
	})
	switch {
	case b.scope.Name != "":
		f.Scope = &b.scope
	case len(routes) == 1:
		return
	default: // what was tried along a guard
		f.Scope = &Scope{Of: AtGuard, Name: b.route}
	}
	f.Routes = routes
	if b.scope.Of != AtService {
		f.Route = routes[0]
	}
}

// sentence begins with a capital and ends with a full stop.
func sentence(s string) string {
	if s != "" && !strings.HasSuffix(s, ".") {
		s += "."
	}
	if s != "" && s[0] >= 'a' && s[0] <= 'z' && strings.HasPrefix(s, "the ") {
		s = "T" + s[1:]
	}
	return s
}
