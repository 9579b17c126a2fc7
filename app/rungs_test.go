package app

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/testkit/memnet"
)

// A ruled service has routes with rules that are drawn, and does not look at one of them.
type ruled struct {
	routes  []rule
	missing int    // the route whose check is missing
	what    string // the check
}

// rule is who may enter a route.
type rule struct {
	role         string // "" where the owner is admitted, or everybody
	owner        bool
	scope, given bool
	hide         bool
}

// people are the identities of a ruled service: of each the roles, scopes and attributes.
var people = map[string]struct {
	roles   []string
	scope   bool
	checked bool
}{
	"ann": {[]string{"low"}, true, true}, "bob": {[]string{"low"}, true, false}, "cat": {[]string{"low"}, false, true},
	"dan": {[]string{"mid", "low"}, true, true}, "eve": {[]string{"top", "mid", "low"}, true, true},
	"fay": {nil, true, true}, "gus": {nil, false, false},
}

func (s *ruled) declared(base string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "millgate: 1\ntargets: { t: { base: %q, pace: 9000 per 1s, unsafe: allowed } }\n"+
		"roles: { low: , mid: { includes: low }, top: { includes: mid } }\n"+
		"schemes: { access: { kind: bearer, token: opaque } }\nidentities:\n", base)
	names := []string{"ann", "bob", "cat", "dan", "eve", "fay", "gus"}
	for _, n := range names {
		p := people[n]
		role := ""
		if len(p.roles) > 0 {
			role = "roles: " + p.roles[0] + ", "
		}
		scope := ""
		if p.scope {
			scope = "scopes: [write], "
		}
		fmt.Fprintf(&b,
			"  %s: { %s%sattributes: { checked: %v }, credentials: { access: { token: token-of-%s } } }\n", n,
			role, scope, p.checked, n)
	}
	b.WriteString("records: { thing: { fills: id, owned_by: { ")
	for i, n := range names {
		fmt.Fprintf(&b, "%s: [t-%s]%s", n, n, map[bool]string{true: ", ", false: " } } }\nroutes:\n"}[i+1 < len(names)])
	}
	for i, r := range s.routes {
		fmt.Fprintf(&b, "  - %s\n", s.at(i, r))
	}
	b.WriteString("access:\n")
	for i, r := range s.routes {
		who := r.role
		switch {
		case r.owner && r.role != "":
			who = "[owner, " + r.role + "]"
		case r.owner:
			who = "owner"
		case who == "":
			who = "signed-in"
		}
		fmt.Fprintf(&b, "  - { at: %q, who: %s", s.at(i, r), who)
		if r.scope {
			b.WriteString(", scope: write")
		}
		if r.given {
			b.WriteString(", given: { checked: true }")
		}
		if r.hide {
			b.WriteString(", hide: true")
		}
		b.WriteString(" }\n")
	}
	return b.String()
}

func (s *ruled) at(i int, r rule) string {
	if r.owner {
		return fmt.Sprintf("GET /r%d/{id}", i)
	}
	return fmt.Sprintf("GET /r%d", i)
}

func (s *ruled) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(r.URL.Path, "/")
	i := -1
	_, _ = fmt.Sscanf(parts[1], "r%d", &i)
	if i < 0 || i >= len(s.routes) || parts[1] != fmt.Sprintf("r%d", i) ||
		len(parts) != 2+map[bool]int{true: 1}[s.routes[i].owner] {
		w.WriteHeader(404)
		return
	}
	if r.Method != "GET" && r.Method != "HEAD" {
		w.WriteHeader(405)
		return
	}
	q := s.routes[i]
	looks := func(what string) bool { return s.missing != i || s.what != what }
	list := r.Header.Values("Authorization")
	name := ""
	if len(list) == 1 {
		scheme, tok, _ := strings.Cut(list[0], " ")
		if n, ok := strings.CutPrefix(tok, "token-of-"); ok && strings.EqualFold(scheme, "bearer") {
			name = n
		}
	}
	p, known := people[name]
	switch {
	case len(list) == 0 && looks("credential"), len(list) > 0 && !known && looks("soundness"):
		w.WriteHeader(401)
		return
	}
	if known {
		owns := len(parts) == 3 && parts[2] == "t-"+name
		hasRole := q.role != "" && slices.Contains(p.roles, q.role)
		no := 403
		switch {
		case q.role != "" && !q.owner && !hasRole && looks("role"):
		case q.scope && !p.scope && looks("scope"), q.given && !p.checked && looks("attribute"):
		case q.owner && !owns && !hasRole && looks("ownership"):
			if q.hide {
				no = 404
			}
		default:
			no = 200
		}
		if no != 200 {
			w.WriteHeader(no)
			return
		}
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]string{"path": r.URL.Path, "name": "the content of " + r.URL.Path,
		"note": "kept since the spring, " + r.URL.Path})
}

// drawRules draws routes and a check that one of them asks for and does not look at.
func drawRules(r *rand.Rand) *ruled {
	s := &ruled{}
	for range 3 {
		q := rule{role: []string{"", "low", "mid", "top"}[r.IntN(4)], owner: r.IntN(3) == 0, scope: r.IntN(3) == 0,
			given: r.IntN(3) == 0}
		q.hide = q.owner && r.IntN(2) == 0
		s.routes = append(s.routes, q)
	}
	s.missing = r.IntN(len(s.routes))
	q := s.routes[s.missing]
	can := []string{"credential", "soundness"}
	if q.role != "" && !q.owner {
		can = append(can, "role", "role")
	}
	if q.scope {
		can = append(can, "scope", "scope")
	}
	if q.given {
		can = append(can, "attribute", "attribute")
	}
	if q.owner {
		can = append(can, "ownership", "ownership")
	}
	s.what = can[r.IntN(len(can))]
	return s
}

// A check that is missing is found, or it is said that it could not be tried: never is a service
// without it said to agree.
func TestEachMissingRungIsFoundOrSaid(t *testing.T) {
	rounds, found := 120, 0
	if testing.Short() {
		rounds = 20
	}
	for seed := range rounds {
		s := drawRules(rand.New(rand.NewPCG(uint64(seed), 15)))
		virtually(t, func(t *testing.T, n *memnet.Net) {
			base, end := n.Serve(s)
			defer end()
			text := s.declared(base)
			a := openIn(t, n, text)
			run, err := a.Sweeps.Start(t.Context(), "t", "")
			require.NoError(t, err)
			a.Sweeps.Wait(run.ID)
			_, res, err := a.Sweeps.Result(t.Context(), run.ID)
			require.NoError(t, err)
			route := s.at(s.missing, s.routes[s.missing])
			shown := false
			for _, f := range res.Findings {
				here := f.Route == route || slices.Contains(f.Routes, route)
				assert.True(t, here, "a false alarm at %s: %s", f.Where(), f.Reason)
				shown = shown || here
			}
			if shown {
				found++
				return
			}
			said := slices.ContainsFunc(res.Left, func(o check.Omission) bool {
				return o.Route == route && strings.HasPrefix(o.What, "the check of "+s.what)
			})
			for _, u := range res.Unproven {
				for _, c := range u.Crossings {
					said = said || c.Route == route
				}
			}
			assert.True(t, said, "seed %d: %s of %s is missing\n%s", seed, s.what, route, text)
		})
	}
	assert.Greater(t, found, rounds*3/4, "most can be tried")
}
