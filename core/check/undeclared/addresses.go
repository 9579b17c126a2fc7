package undeclared

// Rule: Undeclared addresses are made from the inventory, the likelier first, within a budget.

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/route"
)

// Operational are addresses that services often keep without meaning to publish them.
var Operational = []string{
	"/debug/vars", "/debug/pprof/", "/metrics", "/status", "/server-status", "/health/details", "/env", "/config",
	"/.env", "/.git/HEAD", "/admin", "/internal", "/graphql", "/trace", "/heapdump",
}

// Descriptions are addresses at which services describe their API.
var Descriptions = []string{
	"/openapi.json", "/openapi.yaml", "/swagger.json", "/swagger-ui/index.html", "/api-docs", "/v3/api-docs",
	"/asyncapi.json", "/docs", "/redoc", "/documentation",
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
		"webhooks", "test",
		"backup"}
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
	ask := func(host, path string, signedIn bool) bool {
		if doc.Inventory.Find("GET", host, path) >= 0 {
			return false
		}
		p, root := stray(Address, host, path), stray(Path, host, madeUp)
		p.Control = root.Key()
		added := x.Add(p) != nil
		if signedIn && caller != nil {
			p.Caller = check.Caller{Identity: caller.Caller.Identity, Scheme: caller.Caller.Scheme, State: access.Sound}
			x.Add(p)
		}
		return added
	}
	for _, p := range x.c.Target.AskFor {
		ask("", p, true)
	}
	for _, rt := range doc.Routes {
		if rt.Method() == "GET" && len(rt.Parameters()) == 0 {
			for _, path := range otherVersions(rt) {
				ask(rt.Host, path, true)
			}
		}
	}
	for _, h := range x.hosts() {
		for _, p := range slices.Concat(Operational, Descriptions) {
			ask(h, p, false)
		}
	}
	left, beyond := Budget, map[string]bool{}
	for _, a := range made(doc) {
		key := route.Hosted(a.Host, a.Path)
		if left <= 0 {
			if doc.Inventory.Find("GET", a.Host, a.Path) < 0 {
				beyond[key] = true
			}
		} else if ask(a.Host, a.Path, false) {
			left--
		}
	}
	if len(beyond) > 0 {
		x.Leave(check.Omission{Route: fmt.Sprintf("%d more addresses", len(beyond)),
			What: "an address that is not declared",
			Why: fmt.Sprintf("of those that are made from the inventory %d are asked for; name others in ask_for of "+
				"the target", Budget)})
	}
}

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

// made are addresses that are made from the inventory, the likelier first; some more than once.
func made(d *declaration.Document) (out []Detail) {
	type place struct{ host, path string }
	var prefixes, collections []place
	add := func(list []place, p place) []place {
		if p.path == "" || slices.Contains(list, p) {
			return list
		}
		return append(list, p)
	}
	children := map[place][]string{} // the last names below a collection
	for _, rt := range d.Routes {
		literals := ""
		for _, g := range rt.Segments {
			if g.Any {
				break
			}
			if version.MatchString(g.Literal) || g.Literal == "api" {
				prefixes = add(prefixes, place{rt.Host, literals + "/" + g.Literal})
			}
			literals += "/" + g.Literal
		}
		if len(rt.Parameters()) > 0 {
			continue
		}
		cut := strings.LastIndexByte(rt.Path(), '/')
		if parent := (place{rt.Host, rt.Path()[:cut]}); slices.Contains(collections, parent) {
			children[parent] = append(children[parent], rt.Path()[cut+1:])
		} else if rt.Method() == "GET" {
			collections = add(collections, place{rt.Host, strings.TrimSuffix(rt.Path(), "/")})
		}
	}
	say := func(p place, tail string) { out = append(out, Detail{Host: p.host, Path: p.path + tail}) }
	for _, w := range below {
		for _, p := range prefixes {
			say(p, "/"+w)
		}
	}
	for _, s := range suffixes {
		for _, c := range collections {
			say(c, s)
		}
	}
	for _, from := range collections { // in the inventory's order
		for _, name := range children[from] {
			for _, c := range collections {
				say(c, "/"+name)
			}
		}
	}
	for _, w := range siblings {
		for _, p := range prefixes {
			say(p, "/"+w)
		}
	}
	return out
}

// Describes says in words what an answer is where it describes the API, "" where it does not: a
// description file (OpenAPI, AsyncAPI) or a page that shows one.
func Describes(a check.Answer) string {
	var top map[string]json.RawMessage
	if json.Unmarshal(a.Body, &top) == nil {
		for _, name := range []string{"openapi", "swagger", "asyncapi"} {
			if top[name] != nil {
				return "a description file of the API"
			}
		}
		return ""
	}
	body := string(a.Body)
	switch {
	case startsWith.MatchString(body):
		return "a description file of the API"
	case strings.Contains(a.Header("Content-Type"), "html") && pageOfOne.MatchString(body):
		return "a documentation page of the API"
	}
	return ""
}

var (
	// A file that was cut is no JSON any more.
	startsWith = regexp.MustCompile(`\A\s*(\{\s*"(openapi|swagger|asyncapi)"\s*:|(---\s*)?(openapi|swagger|asyncapi):)`)
	pageOfOne  = regexp.MustCompile(`(?i)openapi|swagger|redoc|asyncapi|api (reference|documentation|docs)`)
)
