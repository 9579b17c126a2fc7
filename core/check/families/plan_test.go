package families

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/check/logins"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
)

const text = `millgate: 1
targets:
  all: { base: "http://h", pace: 10 per 1s, unsafe: allowed, ask_for: [/extra] }
  made: { base: "http://h", unsafe: made-records-only }
  safe: { base: "http://h" }
routes:
  - GET /v2/things
  - { at: POST /v2/things, send: { json: { name: x } } }
  - GET /v2/things/{id}
  - DELETE /v2/things/{id}
  - { at: POST /v2/lamp, effect: command }
  - GET /v2/other/{x}
  - { at: GET /v2/signed, summary: link }
  - POST /login
roles: { reader: , boss: { includes: reader } }
schemes:
  access: { kind: bearer, token: jwt, claims: { roles: /roles }, login: { send: POST /login, json: { u: "{u}", p: "{p}" }, take: { access: /t } } }
  link: { kind: link, expires: e, signature: s }
identities:
  ann: { roles: reader, credentials: { access: { u: ann, p: env:A } } }
  amy: { roles: reader, credentials: { access: { u: amy, p: env:B } } }
  boss: { roles: boss, credentials: { access: { u: boss, p: env:C } } }
records:
  thing:
    fills: "/v2/things/{id}"
    owned_by: { ann: [t-1], amy: [t-2] }
    make: { send: POST /v2/things, json: { name: made }, id: /id }
    remove: DELETE /v2/things/{id}
access:
  - { at: GET /v2/things, who: reader }
  - { at: POST /v2/things, who: reader }
  - { at: "GET /v2/things/{id}", who: [owner, boss] }
  - { at: "DELETE /v2/things/{id}", who: owner }
  - { at: POST /v2/lamp, who: boss }
  - { at: "GET /v2/other/*", who: reader }
  - { at: GET /v2/signed, who: signed-in, by: link }
  - { at: POST /login, who: anyone }
`

func plan(t testing.TB, target string) (*declaration.Document, *check.Plan) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs)
	return d, check.NewPlan(d, d.TargetNamed(target), All)
}

// kind is the family of a probe, and of what is not declared what that is.
func kind(p *check.Probe) string {
	if _, ok := p.Detail.(undeclared.Detail); ok {
		return p.Of
	}
	return p.Family
}

// way is what tells a probe from others of its kind.
func way(p *check.Probe) string {
	if d, ok := p.Detail.(credential.Detail); ok {
		return d.Way
	}
	return p.Of
}

func labels(pl *check.Plan, route string, of string) (out []string) {
	for _, p := range pl.Probes {
		if p.Route == route && kind(p) == of && (of != "crossing" || way(p) == "") {
			who := p.Caller.Identity
			if who == "" {
				who = "nobody"
			}
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", who, p.Caller.State, p.Relation)))
		}
	}
	slices.Sort(out)
	return out
}

func TestCrossingsOfARoute(t *testing.T) {
	_, pl := plan(t, "all")
	assert.Equal(t, []string{"amy sound", "boss sound", "nobody absent", "nobody broken"},
		labels(pl, "GET /v2/things", "crossing"), "ann cannot be told from amy")
	assert.Equal(t, []string{"amy sound foreign", "amy sound own", "ann sound own", "boss sound", "nobody absent",
		"nobody broken"},
		labels(pl, "GET /v2/things/{id}", "crossing"))
	assert.Empty(t, labels(pl, "GET /v2/other/{x}", "crossing"), "no sample")
	for _, p := range pl.Probes {
		if p.Caller.Identity == "amy" && p.Route == "GET /v2/things" && kind(p) == "crossing" {
			assert.Equal(t, []string{"ann"}, p.StandsFor)
		}
		if p.Relation == access.Foreign {
			assert.NotEqual(t, p.Caller.Identity, p.Record.Owner)
		}
	}
	assert.Positive(t, pl.Inferred)
	assert.Contains(t, fmt.Sprint(pl.Left), "no sample for {x}")
	assert.Contains(t, fmt.Sprint(pl.Left), "no caller that must be admitted can be presented")
}

func TestEveryVerdictHasItsControl(t *testing.T) {
	_, pl := plan(t, "all")
	for _, p := range pl.Probes {
		if p.Control != "" {
			c := pl.Find(p.Control)
			require.NotNil(t, c, p.Key())
			assert.NotEqual(t, p.Key(), p.Control)
		}
		if kind(p) == "crossing" && p.Route != "GET /v2/signed" {
			assert.True(t, p.IsControl != (p.Control != ""), p.Key())
		}
		if p.IsControl {
			assert.Equal(t, access.Admit, pl.Expect(p).Outcome, p.Key())
		}
	}
}

func TestOrder(t *testing.T) {
	_, pl := plan(t, "all")
	last := check.Phase(0)
	for _, p := range pl.Probes {
		require.GreaterOrEqual(t, p.Phase, last, p.Key())
		last = p.Phase
		switch p.Phase {
		case check.SafeFirst:
			assert.False(t, p.Unsafe, p.Key())
		case check.ThenTurnedAway:
			assert.NotEqual(t, access.Admit, pl.Expect(p).Outcome, p.Key())
		case check.ThenDeleting:
			assert.True(t, strings.HasPrefix(p.Route, "DELETE "))
			assert.True(t, p.Record.Lent(), "what must be deleted was made for it")
		default:
		}
	}
	assert.Equal(t, check.ThenRaising, last)
}

func TestUnsafeAsTheTargetAllows(t *testing.T) {
	_, safe := plan(t, "safe")
	assert.Zero(t, safe.Unsafe())
	_, made := plan(t, "made")
	assert.Positive(t, made.Unsafe())
	for _, p := range made.Probes {
		if p.Unsafe {
			ok := p.Record.Lent() || p.Route == "POST /v2/things" || p.Route == "POST /login"
			assert.True(t, ok, p.Key())
		}
	}
	assert.Empty(t, labels(made, "POST /v2/lamp", "crossing"))
	assert.Contains(t, fmt.Sprint(made.Left), "POST /v2/lamp")
}

func TestBesideTheRoutes(t *testing.T) {
	_, pl := plan(t, "all")
	keys := map[string]string{}
	for _, p := range pl.Probes {
		if !slices.Contains([]string{"crossing", "around", "order"}, kind(p)) && pl.Cell(p).Lens != check.Origins {
			keys[p.Route] = kind(p)
		}
	}
	for key, of := range map[string]string{
		"GET /v1/things": undeclared.Address, "GET /v0/things": undeclared.Address,
		"GET /debug/vars": undeclared.Address, "GET /extra": undeclared.Address,
		"PUT /v2/things/{id}": undeclared.Method, "PATCH /v2/things": undeclared.Method,
		"GET /v2/things/{id}":            "malformed",
		"GET /no-such-place-4f1d/at-all": undeclared.Path, "GET /v2/things/no-such-place-4f1d/at-all": undeclared.Path,
		"POST /v2/things": "raised-role",
	} {
		assert.Equal(t, of, keys[key], key)
	}
	var ways []string
	for _, p := range pl.Probes {
		if kind(p) == "around" && p.Route == "GET /v2/things" {
			d, _ := p.Detail.(detour.Detail)
			ways = append(ways, d.Method+" "+d.Path)
		}
	}
	slices.Sort(ways)
	// POST with an override is not tried: it would be the creation itself only
	// for callers who may create, and nobody may.
	assert.Equal(t, []string{"GET //v2/things", "GET /V2/THINGS", "GET /v2/%74hings",
		"GET /v2/no-such-place-4f1d/.././things", "GET /v2/things/", "HEAD /v2/things", "OPTIONS /v2/things",
		"POST /v2/things"}, ways)
	assert.Empty(t, labels(pl, "POST /login", "around"), "an open route has no guard to step around")
}

func TestPlanIsDeterministic(t *testing.T) {
	_, a := plan(t, "all")
	_, b := plan(t, "all")
	require.Equal(t, len(a.Probes), len(b.Probes))
	seen := map[string]bool{}
	for i := range a.Probes {
		assert.Equal(t, a.Probes[i].Key(), b.Probes[i].Key())
		assert.False(t, seen[a.Probes[i].Key()], a.Probes[i].Key())
		seen[a.Probes[i].Key()] = true
	}
}

// What shows that a login's credential works are probes of families that vouch for it, with
// it as it should be: a sound caller's crossings, and what was given out.
func TestWhatShowsThatACredentialWorks(t *testing.T) {
	_, pl := plan(t, "all")
	n := 0
	for _, p := range pl.Probes {
		d, ok := p.Detail.(logins.Detail)
		if !ok {
			continue
		}
		n++
		require.NotEmpty(t, d.Works, p.Key())
		for _, k := range d.Works {
			by := pl.Find(k)
			require.NotNil(t, by, k)
			assert.Contains(t, []string{"crossing", "issued"}, by.Family)
			assert.True(t, by.Family == "issued" || by.Caller.State == access.Sound, k)
		}
	}
	assert.Positive(t, n)
}

// A sweep is counted with one login for each identity that is sent, and three requests for what is made.
func TestRequestsOfASweep(t *testing.T) {
	_, pl := plan(t, "all")
	n, who := 0, map[string]bool{}
	for _, x := range pl.Probes {
		n += pl.Family(x).Cost(pl.Context, x).Requests
		who[x.Caller.Identity] = true
	}
	delete(who, "")
	require.ElementsMatch(t, []string{"amy", "ann", "boss"}, slices.Collect(maps.Keys(who)))
	require.Positive(t, pl.Made())
	assert.Equal(t, n+3+3*pl.Made(), pl.Requests())
}

func TestRequestsOfCrossings(t *testing.T) {
	_, pl := plan(t, "all")
	get := func(f func(*check.Probe) bool) check.Request {
		i := slices.IndexFunc(pl.Probes, f)
		require.GreaterOrEqual(t, i, 0)
		return crossing.Request(pl.Context, pl.Probes[i]).OnID("a b/c")
	}
	q := get(func(p *check.Probe) bool { return p.Route == "DELETE /v2/things/{id}" && p.Relation == access.Own })
	assert.Equal(t, "/v2/things/a%20b%2Fc", q.Path, "on a record that is lent")
	q = get(func(p *check.Probe) bool { return p.Route == "POST /login" && kind(p) == "crossing" })
	assert.Equal(t, `{"u":"{u}","p":"{p}"}`, string(q.Body), "a login route's sample is the scheme's own login")
}
