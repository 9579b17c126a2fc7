package verdict

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Item is one judged probe.
type Item struct {
	Probe   *check.Probe
	Verdict Verdict
}

type bundle struct {
	route string // in words where there are several
	scope finding.Scope
	gap   Gap // of the first, worst item
	cause string
	items []Item
	gaps  []Gap
}

// AnyPath is the route of findings about paths that nobody declared.
const AnyPath = "any unknown path"

// PastAll is the route of the finding that only the gateway has guards.
const PastAll = "everything " + pastGate

const pastGate = "past the gateway"

// pastGateway counts the routes with a guard that are open at the direct
// address.
func pastGateway(items []Item, open map[string]bool) int {
	n := 0
	for _, it := range items {
		if isDetour(it.Probe) && it.Probe.Of == detour.PastGateway &&
			it.Verdict.Kind == finding.Unprotected && !open[it.Probe.Route] {
			n++
		}
	}
	return n
}

// gathering is what is known of all items while the gaps of each are put in their place.
type gathering struct {
	d *declaration.Document
	// open routes have no guard at all, absent ones are open without a credential, and
	// broken ones admit any broken credential.
	open, absent, broken map[string]bool
	done                 map[string]finding.Kind // routes that do what they refuse
	routes               map[string]int          // on which a fault of a soundness check shows
	past                 int                     // routes that are open past the gateway
	leads                map[string]string       // the routes of probes whose gap others follow
}

// place is where a gap belongs: gaps with one kind, place and cause are one finding.
type place struct {
	kind         finding.Kind
	route, cause string
	scope        finding.Scope // zero at the route
}

func (p place) key() string { return string(p.kind) + "|" + p.route + "|" + p.cause }

// Gather makes findings of the gaps, worst first. Items must be in the order
// of the plan.
func Gather(c *check.Context, list check.Families, items []Item) []finding.Finding {
	items = together(c, list, items)
	d := c.Doc
	x := gathering{d: d, done: carriedRoutes(items), leads: map[string]string{}}
	x.open, x.absent = openRoutes(items)
	x.broken, x.routes = credentialRoutes(items, x.open)
	x.past = pastGateway(items, x.open)
	for _, it := range items {
		if it.Probe.Widens != "" {
			x.leads[it.Probe.Widens] = ""
		}
	}
	for _, it := range items {
		if _, led := x.leads[it.Probe.Key()]; led {
			x.leads[it.Probe.Key()] = it.Probe.Route
		}
	}
	bundles := map[string]*bundle{}
	var order []string
	for _, it := range items {
		seen := map[string]bool{}
		for _, g := range it.Verdict.Gaps {
			at := x.place(it.Probe, g)
			key := at.key()
			if seen[key] {
				continue
			}
			seen[key] = true
			b := bundles[key]
			if b == nil {
				if at.kind != g.Kind || at.cause != g.Cause {
					g.Row = nil // it comes from something else than it seems to
				}
				g.Kind = at.kind
				b = &bundle{route: at.route, scope: at.scope, gap: g, cause: at.cause}
				b.gap.Cause = at.cause
				bundles[key] = b
				order = append(order, key)
			}
			b.items = append(b.items, it)
			b.gaps = append(b.gaps, g)
		}
	}
	var out []finding.Finding
	for _, k := range order {
		out = append(out, bundles[k].finding(d, list))
	}
	out = uncovered(out)
	sort.SliceStable(out, func(i, j int) bool {
		a, b := out[i], out[j]
		if a.Severity != b.Severity {
			return !b.Severity.AtLeast(a.Severity)
		}
		return finding.Worse(a.Kind, b.Kind)
	})
	return out
}

// together lets families say which of their gaps are one fault. Items stay as they are:
// what it changes is a copy.
func together(c *check.Context, list check.Families, items []Item) []Item {
	items = slices.Clone(items)
	for _, f := range list {
		g, ok := f.(check.Gathering)
		if !ok {
			continue
		}
		var all []check.Judged
		var at []int
		for i, it := range items {
			if len(it.Verdict.Gaps) == 0 || it.Probe.Family != f.Name() {
				continue
			}
			j := check.Judged{Probe: it.Probe}
			for _, x := range it.Verdict.Gaps {
				j.Gaps = append(j.Gaps, &check.Gap{Cause: x.Row, What: strings.TrimPrefix(x.Cause, x.Row.Cause),
					Rung: x.Rung, Scope: x.Scope, Says: x.Reason})
			}
			all, at = append(all, j), append(at, i)
		}
		g.Gather(c, all)
		for k, i := range at {
			gaps := slices.Clone(items[i].Verdict.Gaps)
			for n, x := range all[k].Gaps {
				gaps[n].Row, gaps[n].Kind, gaps[n].Cause, gaps[n].Scope = x.Cause, x.Cause.Kind, x.Cause.Cause+x.What,
					x.Scope
			}
			items[i].Verdict.Gaps = gaps
		}
	}
	return items
}

// place puts a gap where it belongs.
func (x gathering) place(p *check.Probe, g Gap) place {
	at := place{kind: g.Kind, route: p.Route, cause: g.Cause}
	if w := x.leads[p.Widens]; p.Widens != "" && w != "" && !x.open[at.route] && !x.broken[at.route] {
		at.route = w // the gap that led to this one
	}
	x.cause(&at, p, g)
	tok := isCredential(p) && (g.Kind == finding.Unprotected || g.Kind == finding.Lifetime) &&
		at.cause != "no guard"
	if tok && x.broken[at.route] {
		at.kind, at.cause = finding.Unprotected, "credential broken"
	}
	// How the service answers what it does not serve is one cause,
	// whichever path was asked for.
	stray := isUndeclared(p, undeclared.Address) || isDetour(p) && p.Of != detour.MethodOverride
	if isUndeclared(p, undeclared.Path) || stray && g.Kind == finding.WrongRefusal {
		at.route = AnyPath
	}
	// A soundness check is one piece of code: what it lets pass on
	// several routes has one cause.
	if tok && at.cause != "credential broken" && x.routes[at.cause+"\x00"+p.Caller.Scheme] > 1 ||
		at.cause == "afterlife" || at.cause == "scheme letters" || at.cause == "stale beside" {
		at.scope = finding.Scope{Of: finding.AtScheme, Name: p.Caller.Scheme}
	}
	if at.cause == "way "+detour.PastGateway && x.past > 1 {
		at.scope = finding.Scope{Of: finding.AtService, Name: pastGate}
	}
	if at.scope.Name != "" {
		at.route = at.scope.String()
	}
	return at
}

// ofRoutes are kinds whose gaps may come from what others at their route come from.
var ofRoutes = map[string]bool{crossing.Family{}.Name(): true, detour.Family{}.Name(): true,
	undeclared.Family{}.Name(): true, credential.Family{}.Name(): true}

func isCrossing(p *check.Probe) bool { return p.Family == crossing.Family{}.Name() }

func isDetour(p *check.Probe) bool { return p.Family == detour.Family{}.Name() }

func isCredential(p *check.Probe) bool { return p.Family == credential.Family{}.Name() }

func isUndeclared(p *check.Probe, what string) bool {
	return p.Family == undeclared.Family{}.Name() && p.Of == what
}

// cause says what a gap comes from where other gaps show that it comes from more than
// itself.
func (x gathering) cause(at *place, p *check.Probe, g Gap) {
	route := at.route
	switch {
	case g.Row != nil && !ofRoutes[p.Family]:
		at.scope = g.Scope
	case x.done[route] != "" && (g.Cause == "carried out" || g.Kind == finding.WrongRefusal && g.Subject != "answer" &&
		p.Unsafe):
		at.kind, at.cause = x.done[route], "carried out"
	case x.open[route] && (g.Kind == finding.Unprotected || isCredential(p) ||
		g.Kind == finding.OverPermissive):
		at.kind, at.cause = finding.Unprotected, "no guard"
	case x.absent[route] && g.Kind == finding.OverPermissive && g.Subject == "credential":
		// Presenting another scheme is presenting none of those accepted.
		at.kind, at.cause = finding.Unprotected, "credential absent"
	case x.absent[route] && g.Kind == finding.Unprotected && (isDetour(p) || credential.Of(p).Way == check.InQuery):
		// Without a credential it is open anyway, whatever the way.
		at.cause = "credential absent"
	}
}

// uncovered leaves out what another finding covers: the same kind in the same place, shown
// by no probe that does not show the other as well. The other says so.
func uncovered(list []finding.Finding) []finding.Finding {
	coveredBy := func(f finding.Finding) int {
		return slices.IndexFunc(list, func(g finding.Finding) bool {
			row, _ := Causes.Row(g.Kind, g.Cause)
			return g.Kind == f.Kind && g.Where() == f.Where() && slices.Contains(row.Covers, f.Cause) &&
				!slices.ContainsFunc(f.Probes, func(id string) bool { return !slices.Contains(g.Probes, id) })
		})
	}
	also := map[int][]string{}
	var left []int
	for i, f := range list {
		by := coveredBy(f)
		if by < 0 {
			left = append(left, i)
			continue
		}
		for next := coveredBy(list[by]); next >= 0; next = coveredBy(list[by]) {
			by = next // what covers it may be covered itself
		}
		also[by] = append(also[by], strings.ToLower(f.Title[:1])+f.Title[1:])
	}
	out := make([]finding.Finding, 0, len(left))
	for _, i := range left {
		f := list[i]
		if len(also[i]) > 0 {
			f.Reason += " With it: " + strings.Join(also[i], "; ") + "."
		}
		out = append(out, f)
	}
	return out
}

// openRoutes are routes on which nobody got in both without and with a broken
// credential: no guard at all, so whatever else got in has the same cause.
// absent are routes open without a credential, whatever a broken one does.
func openRoutes(items []Item) (open, absent map[string]bool) {
	states := map[string]map[access.State]bool{}
	for _, it := range items {
		if !isCrossing(it.Probe) || it.Probe.Caller.Identity != "" || it.Probe.Of != "" {
			continue
		}
		for _, g := range it.Verdict.Gaps {
			if g.Kind == finding.Unprotected && strings.HasPrefix(g.Cause, "credential ") {
				m := states[it.Probe.Route]
				if m == nil {
					m = map[access.State]bool{}
					states[it.Probe.Route] = m
				}
				m[it.Probe.Caller.State] = true
			}
		}
	}
	open, absent = map[string]bool{}, map[string]bool{}
	for r, m := range states {
		open[r] = m[access.Absent] && m[access.Broken]
		absent[r] = m[access.Absent]
	}
	return open, absent
}

// credentialRoutes says which routes admit any broken credential, and on how
// many of the others that have a guard each fault of a soundness check shows.
func credentialRoutes(items []Item, open map[string]bool) (broken map[string]bool, routes map[string]int) {
	broken, routes = map[string]bool{}, map[string]int{}
	for _, it := range items {
		for _, g := range it.Verdict.Gaps {
			if isCrossing(it.Probe) && g.Cause == "credential broken" {
				broken[it.Probe.Route] = true
			}
		}
	}
	seen := map[string]bool{}
	for _, it := range items {
		route := it.Probe.Route
		if !isCredential(it.Probe) || it.Probe.Widens != "" || open[route] || broken[route] {
			continue
		}
		for _, g := range it.Verdict.Gaps {
			if k := g.Cause + "\x00" + it.Probe.Caller.Scheme; !seen[k+route] {
				seen[k+route] = true
				routes[k]++
			}
		}
	}
	return broken, routes
}

// carriedRoutes are routes that do what they refuse, with the worst kind.
func carriedRoutes(items []Item) map[string]finding.Kind {
	out := map[string]finding.Kind{}
	for _, it := range items {
		for _, g := range it.Verdict.Gaps {
			if g.Cause == "carried out" && (out[it.Probe.Route] == "" ||
				finding.Worse(g.Kind, out[it.Probe.Route])) {
				out[it.Probe.Route] = g.Kind
			}
		}
	}
	return out
}

func (b *bundle) finding(d *declaration.Document, list check.Families) finding.Finding {
	f := finding.Finding{Kind: b.gap.Kind, Cause: b.cause, Rung: b.gap.Rung, Inferred: []string{},
		Confidence: finding.NotSure}
	b.places(d, &f)
	best := 0
	anyone, signedIn := false, map[string]bool{}
	for k, it := range b.items {
		c := list.Who(it.Probe)
		if isCrossing(it.Probe) && it.Probe.Relation == access.Foreign &&
			b.gap.Subject == "ownership" {
			c = it.Probe.Caller.Identity
		}
		if !slices.Contains(f.Callers, c) {
			f.Callers = append(f.Callers, c)
		}
		for _, s := range it.Probe.StandsFor {
			if !slices.Contains(f.Inferred, s) {
				f.Inferred = append(f.Inferred, s)
			}
		}
		if it.Probe.Caller.Identity == "" {
			anyone = true
		} else {
			signedIn[it.Probe.Caller.Identity] = true
		}
		if better(b.gaps[k], b.gaps[best]) {
			best = k
		}
		f.Probes = append(f.Probes, it.Probe.Key())
	}
	f.Probes[0], f.Probes[best] = f.Probes[best], f.Probes[0]
	f.Confidence = b.gaps[best].Confidence
	f.Crossings = len(b.items)
	f.At, f.Column = b.items[best].Probe.Route, columnOf(list, b.items[best].Probe)
	effect, sens := declaration.Read, declaration.Medium
	p := b.items[best].Probe
	if i := d.RouteNamed(p.Route); i >= 0 && b.route != AnyPath {
		effect, sens = d.Routes[i].Effect, d.Routes[i].Sensitivity
	} else if p.Unsafe {
		effect = declaration.Update
	}
	ease := finding.ByAFew
	switch {
	case anyone || b.gap.Cause == "wrong secret":
		ease = finding.ByAnyone
	case len(signedIn)+len(f.Inferred) >= finding.ManyFrom:
		ease = finding.ByMany
	}
	row := b.gap.Row
	if row == nil {
		row, _ = Causes.Row(f.Kind, b.cause)
	}
	if row.Led {
		ease = finding.ByAFew
	}
	f.Severity = cmp.Or(row.Severity, finding.Rate(f.Kind, effect, sens, ease))
	f.OWASP, f.CWE, f.Standard, f.Docs = string(row.OWASP), row.CWE, row.Standard, "docs/findings.md#"+row.Anchor()
	f.Reason = sentence(b.gaps[best].Reason)
	if b.cause == "no guard" {
		f.Rung = 2
		f.Reason = fmt.Sprintf("There is no guard: nobody got in without a credential and with a broken one, and so "+
			"did everyone who was sent (%d crossings).", f.Crossings)
	} else if n := len(f.Routes); row.Led && n > 1 {
		f.Reason += fmt.Sprintf(" The same at %d routes.", n)
	} else if rest := len(f.Callers) + len(f.Inferred) - 1; rest > 0 && !row.Led {
		f.Reason += fmt.Sprintf(" The same for %d more.", rest)
	}
	f.Advice, f.Title = row.AdviceFor(b.route), row.TitleOf(b.cause)
	sum := sha256.Sum256([]byte(strings.Join([]string{string(f.Kind), fmt.Sprint(f.Rung), b.route, b.cause}, "\x00")))
	f.ID = "mg-" + hex.EncodeToString(sum[:5])
	return f
}

// places says at which routes a finding stands, in the inventory's order, and what they
// have in common.
func (b *bundle) places(d *declaration.Document, f *finding.Finding) {
	if f.Route = b.route; b.route == AnyPath {
		return // made-up paths are no routes
	}
	var routes []string
	for _, it := range b.items {
		if k := it.Probe.Route; !slices.Contains(routes, k) {
			routes = append(routes, k)
		}
	}
	slices.SortStableFunc(routes, func(x, y string) int {
		return cmp.Compare(uint(d.RouteNamed(x)),
			uint(d.RouteNamed(y)))
	})
	switch {
	case b.scope.Name != "":
		f.Scope = &b.scope
	case len(routes) == 1:
		return
	default: // what was tried along a guard
		f.Scope = &finding.Scope{Of: finding.AtGuard, Name: b.route}
	}
	f.Routes = routes
	if b.scope.Of != finding.AtService {
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

func columnOf(list check.Families, p *check.Probe) string {
	cell, _ := list.Cell(p)
	return cell.Column()
}

func better(a, b Gap) bool { return a.Confidence == finding.Proven && b.Confidence != finding.Proven }

// Count counts board cells (a caller at a route, its worst verdict) and
// findings by kind.
func Count(list check.Families, items []Item, findings []finding.Finding) finding.Counts {
	c := finding.Counts{Crossings: map[finding.Kind]int{}, Findings: map[finding.Kind]int{}}
	type cell struct{ route, column string }
	worst := map[cell]finding.Kind{}
	for _, it := range items {
		k := cell{it.Probe.Route, columnOf(list, it.Probe)}
		if old, ok := worst[k]; !ok || finding.Worse(it.Verdict.Kind, old) {
			worst[k] = it.Verdict.Kind
		}
	}
	for _, k := range worst {
		c.Crossings[k]++
	}
	for _, f := range findings {
		c.Findings[f.Kind]++
	}
	return c
}
