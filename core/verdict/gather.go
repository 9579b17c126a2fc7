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
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/probe"
	"millgate/core/token"
)

// Item is one judged probe.
type Item struct {
	Probe   *probe.Probe
	Verdict Verdict
}

type bundle struct {
	route string
	gap   Gap // of the first, worst item
	cause string
	items []Item
	gaps  []Gap
}

// AnyPath is the route of findings about paths that nobody declared.
const AnyPath = "any unknown path"

// PastAll is the route of the finding that only the gateway has guards.
const PastAll = "everything past the gateway"

// pastGateway counts the routes with a guard that are open at the direct
// address.
func pastGateway(items []Item, open map[string]bool) int {
	n := 0
	for _, it := range items {
		if it.Probe.Way == probe.PastGateway && it.Verdict.Kind == finding.Unprotected && !open[it.Probe.RouteKey] {
			n++
		}
	}
	return n
}

// Gather makes findings of the gaps, worst first. Items must be in the order
// of the plan.
func Gather(d *declaration.Document, items []Item) []finding.Finding {
	open, absent := openRoutes(items)
	done := carriedRoutes(items)
	broken, routes := credentialRoutes(items, open)
	past := pastGateway(items, open)
	pages := pagesPassed(d, items)
	leads := map[string]string{}
	for _, it := range items {
		leads[it.Probe.ID] = it.Probe.RouteKey
	}
	bundles := map[string]*bundle{}
	var order []string
	for _, it := range items {
		seen := map[string]bool{}
		for _, g := range it.Verdict.Gaps {
			route, cause := it.Probe.RouteKey, g.Cause
			if w := leads[it.Probe.Widens]; it.Probe.Widens != "" && w != "" && !open[route] && !broken[route] {
				route = w // the gap that led to this one
			}
			kind := g.Kind
			switch {
			case it.Probe.Kind == probe.QuotaDrill:
				route = "quota " + it.Probe.Way
			case it.Probe.Kind == probe.Origin:
				route, cause = pages.bundle(d, it.Probe, kind, cause)
			case done[route] != "" && (g.Cause == "carried out" || g.Kind == finding.WrongRefusal && g.Subject != "answer" && it.Probe.Unsafe()):
				kind, cause = done[route], "carried out"
			case open[route] && (g.Kind == finding.Unprotected || it.Probe.Kind == probe.Credential || g.Kind == finding.OverPermissive && g.Subject != "body"):
				kind, cause = finding.Unprotected, "no guard"
			case absent[route] && g.Kind == finding.OverPermissive && g.Subject == "credential":
				// Presenting another scheme is presenting none of those accepted.
				kind, cause = finding.Unprotected, "credential absent"
			case absent[route] && g.Kind == finding.Unprotected && (it.Probe.Kind == probe.Around || it.Probe.Way == probe.InQuery):
				// Without a credential it is open anyway, whatever the way.
				cause = "credential absent"
			case g.Cause == "way "+probe.TrailingSlash || g.Cause == "way "+probe.DoubledSlash:
				cause = aSlash
			}
			tok := it.Probe.Kind == probe.Credential && (g.Kind == finding.Unprotected || g.Kind == finding.Lifetime) && cause != "no guard"
			if tok {
				if broken[route] {
					kind, cause = finding.Unprotected, "credential broken"
				} else if unsignedWays[it.Probe.Way] {
					cause = "token unsigned"
				}
			}
			if g.Kind == finding.WrongRefusal && g.Subject == "answer" && it.Probe.Kind != probe.QuotaDrill {
				cause = "answer"
			}
			// How the service answers what it does not serve is one cause,
			// whichever path was asked for.
			stray := it.Probe.Kind == probe.Neighbour || it.Probe.Kind == probe.Around && it.Probe.Way != probe.MethodOverride
			if it.Probe.Kind == probe.UnknownPath || stray && g.Kind == finding.WrongRefusal {
				route = AnyPath
			}
			// A soundness check is one piece of code: what it lets pass on
			// several routes has one cause.
			if tok && cause != "credential broken" && routes[cause+"\x00"+it.Probe.Scheme] > 1 || it.Probe.Kind == probe.Issued || it.Probe.Kind == probe.Session || cause == "afterlife" || cause == "scheme letters" || cause == "stale beside" {
				route = "everything behind " + it.Probe.Scheme
			}
			if cause == "way "+probe.PastGateway && past > 1 {
				route = PastAll
			}
			key := string(kind) + "|" + route + "|" + cause
			if seen[key] {
				continue
			}
			seen[key] = true
			b := bundles[key]
			if b == nil {
				g.Kind = kind
				b = &bundle{route: route, gap: g, cause: cause}
				b.gap.Cause = cause
				bundles[key] = b
				order = append(order, key)
			}
			b.items = append(b.items, it)
			b.gaps = append(b.gaps, g)
		}
	}
	var out []finding.Finding
	for _, k := range order {
		out = append(out, bundles[k].finding(d))
	}
	sort.SliceStable(out, func(i, j int) bool {
		a, b := out[i], out[j]
		if a.Severity != b.Severity {
			return !b.Severity.AtLeast(a.Severity)
		}
		return finding.Worse(a.Kind, b.Kind)
	})
	return out
}

// openRoutes are routes on which nobody got in both without and with a broken
// credential: no guard at all, so whatever else got in has the same cause.
// absent are routes open without a credential, whatever a broken one does.
func openRoutes(items []Item) (open, absent map[string]bool) {
	states := map[string]map[access.State]bool{}
	for _, it := range items {
		if it.Probe.Kind != probe.Crossing || it.Probe.Identity != "" {
			continue
		}
		for _, g := range it.Verdict.Gaps {
			if g.Kind == finding.Unprotected && strings.HasPrefix(g.Cause, "credential ") {
				m := states[it.Probe.RouteKey]
				if m == nil {
					m = map[access.State]bool{}
					states[it.Probe.RouteKey] = m
				}
				m[it.Probe.State] = true
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

// unsignedWays are the ways of one fault: the signature is not asked for.
var unsignedWays = map[string]bool{string(token.Unsigned): true, string(token.UnsignedCase): true, string(token.SignatureRemoved): true}

// credentialRoutes says which routes admit any broken credential, and on how
// many of the others that have a guard each fault of a soundness check shows.
func credentialRoutes(items []Item, open map[string]bool) (broken map[string]bool, routes map[string]int) {
	broken, routes = map[string]bool{}, map[string]int{}
	for _, it := range items {
		for _, g := range it.Verdict.Gaps {
			if it.Probe.Kind == probe.Crossing && g.Cause == "credential broken" {
				broken[it.Probe.RouteKey] = true
			}
		}
	}
	seen := map[string]bool{}
	for _, it := range items {
		route := it.Probe.RouteKey
		if it.Probe.Kind != probe.Credential || it.Probe.Widens != "" || open[route] || broken[route] {
			continue
		}
		for _, g := range it.Verdict.Gaps {
			cause := g.Cause
			if unsignedWays[it.Probe.Way] {
				cause = "token unsigned"
			}
			if k := cause + "\x00" + it.Probe.Scheme; !seen[k+route] {
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
			if g.Cause == "carried out" && (out[it.Probe.RouteKey] == "" || finding.Worse(g.Kind, out[it.Probe.RouteKey])) {
				out[it.Probe.RouteKey] = g.Kind
			}
		}
	}
	return out
}

func (b *bundle) finding(d *declaration.Document) finding.Finding {
	f := finding.Finding{Kind: b.gap.Kind, Cause: b.cause, Route: b.route, Rung: b.gap.Rung, Inferred: []string{}, Confidence: finding.NotSure}
	best := 0
	anyone, signedIn := false, map[string]bool{}
	for k, it := range b.items {
		c := CallerLabel(it.Probe)
		if it.Probe.Kind == probe.Crossing && it.Probe.Record.Relation == access.Foreign && b.gap.Subject == "ownership" {
			c = it.Probe.Identity
		}
		if !slices.Contains(f.Callers, c) {
			f.Callers = append(f.Callers, c)
		}
		for _, s := range it.Probe.StandsFor {
			if !slices.Contains(f.Inferred, s) {
				f.Inferred = append(f.Inferred, s)
			}
		}
		if it.Probe.Identity == "" {
			anyone = true
		} else {
			signedIn[it.Probe.Identity] = true
		}
		if better(b.gaps[k], b.gaps[best]) {
			best = k
		}
		f.Probes = append(f.Probes, it.Probe.ID)
	}
	f.Probes[0], f.Probes[best] = f.Probes[best], f.Probes[0]
	f.Confidence = b.gaps[best].Confidence
	f.Crossings = len(b.items)
	effect, sens := declaration.Read, declaration.Medium
	p := b.items[best].Probe
	if p.Route >= 0 && b.route != AnyPath && p.Kind != probe.OtherMethod {
		effect, sens = d.Routes[p.Route].Effect, d.Routes[p.Route].Sensitivity
	} else if p.Unsafe() {
		effect = declaration.Update
	}
	ease := finding.ByAFew
	switch {
	case anyone || b.gap.Cause == "wrong secret":
		ease = finding.ByAnyone
	case len(signedIn)+len(f.Inferred) >= finding.ManyFrom:
		ease = finding.ByMany
	}
	if p.Kind == probe.Origin {
		ease = finding.ByAFew // somebody must be led to the page
	}
	row, _ := Causes.Row(f.Kind, b.cause)
	f.Severity = cmp.Or(row.Severity, finding.Rate(f.Kind, effect, sens, ease))
	f.OWASP, f.CWE, f.Standard, f.Docs = string(row.OWASP), row.CWE, row.Standard, "docs/findings.md#"+row.Anchor()
	f.Reason = sentence(b.gaps[best].Reason)
	if b.cause == "no guard" {
		f.Rung = 2
		f.Reason = fmt.Sprintf("There is no guard: nobody got in without a credential and with a broken one, and so did everyone who was sent (%d crossings).", f.Crossings)
	} else if n := pageRoutes(b.items); p.Kind == probe.Origin && n > 1 {
		f.Reason += fmt.Sprintf(" The same at %d routes.", n)
	} else if rest := len(f.Callers) + len(f.Inferred) - 1; rest > 0 && p.Kind != probe.Origin {
		f.Reason += fmt.Sprintf(" The same for %d more.", rest)
	}
	f.Advice, f.Title = row.AdviceFor(b.route), row.TitleOf(b.cause)
	sum := sha256.Sum256([]byte(strings.Join([]string{string(f.Kind), fmt.Sprint(f.Rung), b.route, b.cause}, "\x00")))
	f.ID = "mg-" + hex.EncodeToString(sum[:5])
	return f
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

func better(a, b Gap) bool { return a.Confidence == finding.Proven && b.Confidence != finding.Proven }

// Count counts board cells (a caller at a route, its worst verdict) and
// findings by kind.
func Count(items []Item, findings []finding.Finding) finding.Counts {
	c := finding.Counts{Crossings: map[finding.Kind]int{}, Findings: map[finding.Kind]int{}}
	worst := map[string]finding.Kind{}
	for _, it := range items {
		k := it.Probe.RouteKey + "\x00" + it.Probe.Column()
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
