package probe

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/families"
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

func plan(t testing.TB, target string) (*declaration.Document, *Plan) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs)
	return d, Make(d, d.TargetNamed(target), families.All)
}

func labels(pl *Plan, route string, kind Kind) (out []string) {
	for _, p := range pl.Probes {
		if p.RouteKey == route && p.Kind == kind && (kind != Crossing || p.Way == "") {
			who := p.Identity
			if who == "" {
				who = "nobody"
			}
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", who, p.State, p.Record.Relation)))
		}
	}
	slices.Sort(out)
	return out
}

func TestCrossingsOfARoute(t *testing.T) {
	_, pl := plan(t, "all")
	assert.Equal(t, []string{"ann sound", "boss sound", "nobody absent", "nobody broken"},
		labels(pl, "GET /v2/things", Crossing), "amy cannot be told from ann")
	assert.Equal(t, []string{"ann sound foreign", "ann sound own", "boss sound", "nobody absent", "nobody broken"},
		labels(pl, "GET /v2/things/{id}", Crossing))
	assert.Empty(t, labels(pl, "GET /v2/other/{x}", Crossing), "no sample")
	for _, p := range pl.Probes {
		if p.Identity == "ann" && p.RouteKey == "GET /v2/things" && p.Kind == Crossing {
			assert.Equal(t, []string{"amy"}, p.StandsFor)
		}
		if p.Record.Relation == access.Foreign {
			assert.NotEqual(t, p.Identity, p.Record.Owner)
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
			require.NotNil(t, c, p.ID)
			assert.NotEqual(t, p.ID, p.Control)
		}
		if p.Kind == Crossing && p.RouteKey != "GET /v2/signed" {
			assert.True(t, p.IsControl != (p.Control != ""), p.ID)
		}
		if p.IsControl {
			assert.Equal(t, access.Admit, p.Expect.Outcome, p.ID)
		}
	}
}

func TestOrder(t *testing.T) {
	_, pl := plan(t, "all")
	last := Phase(0)
	for _, p := range pl.Probes {
		require.GreaterOrEqual(t, p.Phase, last, p.ID)
		last = p.Phase
		switch p.Phase {
		case Safe:
			assert.False(t, p.Unsafe(), p.ID)
		case UnsafeTurnedAway:
			assert.NotEqual(t, access.Admit, p.Expect.Outcome, p.ID)
		case UnsafeDeleting:
			assert.Equal(t, "DELETE", p.Method)
			assert.True(t, p.Record.Made, "what must be deleted was made for it")
		default:
		}
	}
	assert.Equal(t, Raising, last)
}

func TestUnsafeAsTheTargetAllows(t *testing.T) {
	_, safe := plan(t, "safe")
	assert.Zero(t, safe.Unsafe())
	_, made := plan(t, "made")
	assert.Positive(t, made.Unsafe())
	for _, p := range made.Probes {
		if p.Unsafe() {
			ok := p.Record.Made || p.RouteKey == "POST /v2/things" || p.RouteKey == "POST /login"
			assert.True(t, ok, p.ID)
		}
	}
	assert.Empty(t, labels(made, "POST /v2/lamp", Crossing))
	assert.Contains(t, fmt.Sprint(made.Left), "POST /v2/lamp")
}

func TestBesideTheRoutes(t *testing.T) {
	_, pl := plan(t, "all")
	keys := map[string]Kind{}
	for _, p := range pl.Probes {
		if p.Kind != Crossing && p.Kind != Around && p.Cell().Lens != check.Origins {
			keys[p.RouteKey] = p.Kind
		}
	}
	for key, kind := range map[string]Kind{
		"GET /v1/things": Neighbour, "GET /v0/things": Neighbour, "GET /debug/vars": Neighbour, "GET /extra": Neighbour,
		"PUT /v2/things/{id}": OtherMethod, "PATCH /v2/things": OtherMethod, "GET /v2/things/{id}": Malformed,
		"GET /no-such-place-4f1d/at-all": UnknownPath, "GET /v2/things/no-such-place-4f1d/at-all": UnknownPath,
		"POST /v2/things": RaisedRole,
	} {
		assert.Equal(t, kind, keys[key], key)
	}
	var ways []string
	for _, p := range pl.Probes {
		if p.Kind == Around && p.RouteKey == "GET /v2/things" {
			ways = append(ways, p.Method+" "+p.Path)
		}
	}
	slices.Sort(ways)
	// POST with an override is not tried: it would be the creation itself only
	// for callers who may create, and nobody may.
	assert.Equal(t, []string{"GET //v2/things", "GET /V2/THINGS", "GET /v2/%74hings",
		"GET /v2/no-such-place-4f1d/.././things", "GET /v2/things/", "HEAD /v2/things", "OPTIONS /v2/things",
		"POST /v2/things"}, ways)
	assert.Empty(t, labels(pl, "POST /login", Around), "an open route has no guard to step around")
}

func TestPlanIsDeterministic(t *testing.T) {
	_, a := plan(t, "all")
	_, b := plan(t, "all")
	require.Equal(t, len(a.Probes), len(b.Probes))
	seen := map[string]bool{}
	for i := range a.Probes {
		assert.Equal(t, a.Probes[i].ID, b.Probes[i].ID)
		assert.False(t, seen[a.Probes[i].ID], a.Probes[i].ID)
		seen[a.Probes[i].ID] = true
	}
	assert.Equal(t, time.Duration(float64(a.Requests())/10*float64(time.Second)).Round(time.Second/10),
		a.Duration(declaration.Pace{Count: 10, Per: time.Second}))
}

func TestBuild(t *testing.T) {
	d, pl := plan(t, "all")
	get := func(f func(*Probe) bool) Request {
		i := slices.IndexFunc(pl.Probes, f)
		require.GreaterOrEqual(t, i, 0)
		return Build(d, pl.Probes[i], "a b/c")
	}
	q := get(func(p *Probe) bool { return p.RouteKey == "GET /v2/things/{id}" && p.Record.Relation == access.Own })
	assert.Equal(t, "/v2/things/a%20b%2Fc", q.Path)
	q = get(func(p *Probe) bool { return p.RouteKey == "POST /login" && p.Kind == Crossing })
	assert.Equal(t, `{"u":"{u}","p":"{p}"}`, string(q.Body), "a login route's sample is the scheme's own login")
}
