package undeclared

// Rule: Undeclared addresses are made from the inventory, the likelier first, within a budget.

import (
	"fmt"
	"iter"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Operational are addresses that services often keep without meaning to publish them.
var Operational = []string{
	"/debug/vars", "/debug/pprof/", "/metrics", "/status", "/server-status", "/health/details", "/env", "/config",
	"/.env", "/.git/HEAD", "/admin", "/internal", "/graphql", "/trace", "/heapdump",
}

// Budget is how many addresses are asked for that are made from the inventory, beside other
// versions of its paths.
const Budget = 100

// What is made from the inventory, in the order in which it is asked for: below each prefix,
// behind each collection, beside each collection.
var (
	below    = []string{"docs", "openapi.json", "metrics", "health", "debug", "status", "config", "admin", "internal"}
	suffixes = []string{"/export", "/all", "/search", ".json", "/count", "/admin", ".bak"}
	siblings = []string{"users", "accounts", "keys", "tokens", "settings", "logs", "reports", "jobs",
		"webhooks", "test", "backup"}
)

var version = regexp.MustCompile(`^v(\d+)$`)

// otherVersions are those of a path beside its own: two before at most, and the next.
func otherVersions(rt *declaration.Route) (out []string) {
	for k, g := range rt.Segments {
		m := version.FindStringSubmatch(g.Literal)
		if m == nil {
			continue
		}
		n, err := strconv.Atoi(m[1])
		if err != nil {
			return nil
		}
		for v := max(0, n-2); v <= n+1; v++ {
			if v == n {
				continue
			}
			segments := strings.Split(rt.Path()[1:], "/")
			segments[k] = "v" + strconv.Itoa(v)
			out = append(out, "/"+strings.Join(segments, "/"))
		}
		return out
	}
	return nil
}

// addresses plans those close to the declared ones.
func (x planning) addresses() {
	doc := x.c.Doc
	var caller *check.Probe
	for i := range doc.Routes {
		if c, _ := x.ControlAt(i); c != nil && c.Caller.Identity != "" {
			caller = c
			break
		}
	}
	ask := func(host, path string, as ...check.Caller) bool {
		if doc.Inventory.Find("GET", host, path) >= 0 {
			return false
		}
		p, root := stray(Address, host, path), stray(Path, host, madeUp)
		p.Control = root.Key()
		added := x.Add(p) != nil
		for _, p.Caller = range as {
			x.Add(p)
		}
		return added
	}
	var signedIn []check.Caller
	if caller != nil {
		signedIn = append(signedIn, check.Caller{Identity: caller.Caller.Identity, Scheme: caller.Caller.Scheme,
			State: access.Sound})
	}
	for _, p := range x.c.Target.AskFor {
		ask("", p, signedIn...)
	}
	for _, rt := range doc.Routes {
		if rt.Method() == "GET" && len(rt.Parameters()) == 0 {
			for _, path := range otherVersions(rt) {
				ask(rt.Host, path, signedIn...)
			}
		}
	}
	for _, h := range x.hosts() {
		x.descriptions(h, ask)
		for _, p := range Operational {
			ask(h, p)
		}
	}
	left, beyond := Budget, map[place]bool{}
	for a := range made(doc) {
		switch {
		case left > 0:
			if ask(a.host, a.path) {
				left--
			}
		case doc.Inventory.Find("GET", a.host, a.path) < 0:
			beyond[a] = true
		}
		if len(beyond) == mostBeyond {
			break
		}
	}
	if n := len(beyond); n > 0 {
		which := fmt.Sprintf("%d more addresses", n)
		if n == mostBeyond {
			which = fmt.Sprintf("%d more addresses, and others", n)
		}
		x.Leave(check.Omission{Route: which, What: "an address that is not declared",
			Why: fmt.Sprintf("of those that are made from the inventory %d are asked for; name others in ask_for of "+
				"the target", Budget)})
	}
}

// mostBeyond is how many addresses beyond the budget are counted: of a large inventory millions
// could be made.
const mostBeyond = 10_000

// hosts are those of the target that routes are on, the base first.
func (x planning) hosts() []string {
	out := []string{""}
	for h := range x.c.Target.Hosts {
		if slices.ContainsFunc(x.c.Doc.Routes, func(r *declaration.Route) bool { return r.Host == h }) {
			out = append(out, h)
		}
	}
	sort.Strings(out)
	return out
}

// place is a path on a host of the target.
type place struct{ host, path string }

// collections are what addresses are made from: the prefixes of an inventory, its paths without
// parameters that are read, and the last names below each of them, all in the inventory's order.
type collections struct {
	prefixes, paths []place
	below           map[place][]string
}

func collectionsOf(d *declaration.Document) collections {
	out := collections{below: map[place][]string{}}
	prefix, path := map[place]bool{}, map[place]bool{}
	for _, rt := range d.Routes {
		literals := ""
		for _, g := range rt.Segments {
			if g.Any {
				break
			}
			literals += "/" + g.Literal
			if p := (place{rt.Host, literals}); !prefix[p] && (version.MatchString(g.Literal) || g.Literal == "api") {
				prefix[p] = true
				out.prefixes = append(out.prefixes, p)
			}
		}
		if len(rt.Parameters()) > 0 {
			continue
		}
		cut := strings.LastIndexByte(rt.Path(), '/')
		parent, here := place{rt.Host, rt.Path()[:cut]}, place{rt.Host, strings.TrimSuffix(rt.Path(), "/")}
		switch {
		case path[parent]:
			out.below[parent] = append(out.below[parent], rt.Path()[cut+1:])
		case rt.Method() == "GET" && here.path != "" && !path[here]:
			path[here] = true
			out.paths = append(out.paths, here)
		}
	}
	return out
}

// made are addresses that are made from the inventory, the likelier first; some more than once.
func made(d *declaration.Document) iter.Seq[place] {
	x := collectionsOf(d)
	return func(yield func(place) bool) {
		all := func(list []place, tail string) bool {
			for _, p := range list {
				if !yield(place{p.host, p.path + tail}) {
					return false
				}
			}
			return true
		}
		for _, w := range below {
			if !all(x.prefixes, "/"+w) {
				return
			}
		}
		for _, s := range suffixes {
			if !all(x.paths, s) {
				return
			}
		}
		for _, from := range x.paths {
			for _, name := range x.below[from] {
				if !all(x.paths, "/"+name) {
					return
				}
			}
		}
		for _, w := range siblings {
			if !all(x.prefixes, "/"+w) {
				return
			}
		}
	}
}
