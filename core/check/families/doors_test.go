package families

import (
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
	"millgate/core/check/sessions"
	"millgate/core/declaration"
	"millgate/core/token"
)

// doorsText has a door of every kind.
const doorsText = `millgate: 1
targets:
  all: { base: "http://h", direct: "http://d", unsafe: allowed }
  safe: { base: "http://h", direct: "http://d" }
routes:
  - GET /desk/board
  - { at: POST /desk/notes, send: { json: { text: x } } }
  - POST /desk/out
  - { at: POST /hook, send: { json: { n: 1 } } }
  - { at: "GET /files/{id}", send: { path: { id: f-1 } } }
  - GET /staff
  - GET /things
  - { at: "GET /things/{id}", send: { path: { id: t-1 } } }
  - { at: POST /things, send: { json: { n: 1 } } }
  - "DELETE /things/{id}"
  - POST /end
roles: { r: , s: }
schemes:
  access:
    kind: bearer
    login: { send: POST /in, json: { u: "{u}" }, take: { access: /t, refresh: /r } }
    refresh: { send: POST /again, json: { r: "{refresh}" }, take: { access: /t, refresh: /r } }
    logout: { send: POST /end, json: { r: "{refresh}" } }
  desk: { kind: cookie, name: sid, login: { send: POST /desk/in, json: { u: "{u}" } }, logout: POST /desk/out }
  hook: { kind: signature, algorithm: hmac-sha256, header: X-S, timestamp: X-T, covers: "{timestamp}.{body}" }
  plain: { kind: signature, algorithm: hmac-sha256, header: X-P, covers: "{body}" }
  file: { kind: link, expires: e, signature: s, issue: { send: "POST /files/{id}/link", take: { link: /url } } }
  staff: { kind: basic }
identities:
  ann: { roles: r, credentials: { access: { u: ann }, file: {} } }
  bob: { roles: s, credentials: { access: { u: bob } } }
  cat: { credentials: { desk: { u: cat } } }
  bot: { credentials: { hook: { secret: env:H } } }
  dee: { credentials: { staff: { username: dee, password: env:D } } }
records:
  file: { fills: "/files/{id}", owned_by: { ann: [f-1], bob: [f-2] } }
access:
  - { at: /desk/**, who: signed-in, by: desk }
  - { at: POST /hook, who: signed-in, by: hook }
  - { at: "GET /files/{id}", who: signed-in, by: file }
  - { at: GET /staff, who: signed-in, by: staff }
  - { at: /things/**, who: r, by: access }
  - { at: POST /end, who: signed-in, by: access }
`

func doors(t *testing.T, target string) (*declaration.Document, *check.Plan) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(doorsText), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return d, check.NewPlan(d, d.TargetNamed(target), All)
}

func TestEveryKindOfCredentialIsBroken(t *testing.T) {
	_, pl := doors(t, "all")
	got := broken(pl)
	assert.ElementsMatch(t, []string{check.NoToken, check.Empty, check.Ended, check.OtherScheme,
		check.BesideOther, check.OtherBroken},
		got["GET /desk/board"])
	assert.Contains(t, got["POST /desk/notes"], check.CrossSite, "writing is what a page of another site must not do")
	assert.NotContains(t, got["GET /desk/board"], check.CrossSite, "reading is the browser's to refuse")
	assert.NotContains(t, got, "POST /desk/out")
	assert.ElementsMatch(t, []string{check.NoToken, string(token.SignatureRemoved), check.OtherBody,
		check.OldTime, check.Repeated,
		check.OtherScheme}, got["POST /hook"])
	assert.ElementsMatch(t, []string{check.NoToken, string(token.SignatureRemoved), check.ChangedEnd,
		check.OtherRecord},
		got["GET /files/{id}"], "there is no expired link at hand")
	assert.ElementsMatch(t, []string{check.NoToken, check.Empty, check.OtherScheme}, got["GET /staff"])
	assert.ElementsMatch(t, []string{check.NoToken, check.Empty, check.OtherKind, check.Ended,
		check.OtherScheme, check.InQuery, check.SchemeCase, check.BesideFirst,
		check.BesideLast, check.BesideOther, check.OtherBroken}, got["GET /things"])
	assert.Contains(t, leftOut(pl), "a credential: "+check.Expired)
	for _, p := range pl.Probes {
		if kind(p) != "credential" {
			continue
		}
		of := credential.Of(p)
		switch way(p) {
		case check.OtherRecord:
			assert.Equal(t, "id f-1 f-2", of.Param+" "+of.Params["id"]+" "+of.OtherID)
		case check.BesideFirst, check.BesideLast:
			assert.Equal(t, "ann bob access", of.Donor+" "+of.Beside.Identity+" "+of.Beside.Scheme,
				"bob may not enter, ann may")
		case check.BesideOther:
			assert.NotEqual(t, p.Caller.Scheme, of.Beside.Scheme)
		case check.OtherBroken:
			assert.Empty(t, of.Beside)
			assert.NotEmpty(t, of.Other)
			assert.Equal(t, access.Admit, pl.Expect(p).Outcome)
		}
	}
	d, safe := doors(t, "safe")
	for _, p := range safe.Probes {
		assert.False(t, p.Unsafe, p.Key())
		assert.NotEqual(t, "session", kind(p), "a drill ends sessions")
	}
	assert.Contains(t, leftOut(safe), "the session drill")
	assert.Len(t, check.Ways(d.SchemeNamed("plain")), 5, "without a timestamp nothing is old and repeating is allowed")
}

func leftOut(pl *check.Plan) (out []string) {
	for _, l := range pl.Left {
		out = append(out, l.What)
	}
	return out
}

func TestDrillsAndWhatTheyUse(t *testing.T) {
	_, pl := doors(t, "all")
	drills := map[string]*check.Probe{}
	for _, p := range pl.Probes {
		if kind(p) == "session" && p.Of == "" {
			drills[p.Caller.Identity+" "+p.Caller.Scheme] = p
		}
	}
	require.Len(t, drills, 2, "bob's token opens nothing that shows whether it works")
	a := drills["ann access"]
	require.NotNil(t, a)
	detail := a.Detail.(sessions.Detail)
	assert.Equal(t, "/things", detail.Use.Path)
	assert.Equal(t, "bob", detail.Neighbour, "the logout needs a credential, so a neighbour's refresh token is tried "+
		"there")
	assert.Equal(t, check.ThenFollowing, a.Phase)
	assert.False(t, a.Unsafe)
	c := drills["cat desk"]
	require.NotNil(t, c)
	detail = c.Detail.(sessions.Detail)
	assert.Equal(t, "/desk/board", detail.Use.Path)
	assert.Empty(t, detail.Neighbour)
	assert.Equal(t, "cat", pl.Cell(c).Column())
	assert.Equal(t, "session drill", pl.Says(c))
	assert.Equal(t, c, pl.Find("session|POST /desk/in|cat|desk|sound||"), "the id stands in databases")
	why := ""
	for _, l := range pl.Left {
		if l.Caller == "bob" && l.What == "the session drill" {
			why = l.Why
		}
	}
	assert.Contains(t, why, "no safe route admits it")
	drilled := slices.DeleteFunc(slices.Clone(pl.Probes),
		func(p *check.Probe) bool { return p.Phase == check.LastPhase })
	assert.Equal(t, a, drilled[len(drilled)-2], "drills come last, but for what is tried again")
}

func TestPastTheGatewayAndOtherAnswers(t *testing.T) {
	d, pl := doors(t, "all")
	direct, asked := map[string]bool{}, map[string][]string{}
	for _, p := range pl.Probes {
		if way(p) == detour.PastGateway {
			direct[p.Route] = true
			d, _ := p.Detail.(detour.Detail)
			assert.Equal(t, check.DirectHost, d.Host)
			assert.Equal(t, p.Caller.Identity == "", p.Caller.State == access.Absent)
		}
		if kind(p) == "crossing" && way(p) != "" {
			asked[p.Route] = append(asked[p.Route], way(p))
			h := crossing.Request(pl.Context, p).Headers
			i := slices.IndexFunc(h, func(kv [2]string) bool { return kv[0] == "Accept" })
			require.GreaterOrEqual(t, i, 0)
			assert.Equal(t, way(p) == crossing.AcceptHTML, strings.Contains(h[i][1], "text/html"))
			assert.Equal(t, way(p) == crossing.AcceptNone, h[i][1] == "")
		}
	}
	assert.Len(t, direct, 10, "every protected route that can be asked for")
	assert.NotContains(t, direct, "DELETE /things/{id}", "nothing is known that could be deleted")
	assert.Equal(t, []string{crossing.AcceptHTML, crossing.AcceptNone}, asked["GET /things"])
	assert.Equal(t, []string{crossing.AcceptHTML}, asked["GET /things/{id}"], "a page is shown route by route")
	assert.NotContains(t, asked, "POST /things", "one route stands for its guard")

	d.TargetNamed("all").Direct = ""
	for _, p := range check.NewPlan(d, d.TargetNamed("all"), All).Probes {
		assert.NotEqual(t, detour.PastGateway, way(p))
	}
}

func TestWiden(t *testing.T) {
	_, pl := doors(t, "all")
	var first *check.Probe
	for _, p := range pl.Probes {
		if p.Route == "GET /things" && way(p) == check.NoToken {
			first = p
		}
	}
	n := len(pl.Probes)
	more := pl.Widen(first, nil)
	var routes []string
	for _, p := range more {
		routes = append(routes, p.Route)
		assert.Equal(t, first.Key(), p.Widens)
		assert.Equal(t, way(first), way(p))
		assert.Equal(t, p, pl.Find(p.Key()))
		assert.NotNil(t, pl.Find(p.Control))
	}
	assert.Equal(t, []string{"GET /things/{id}", "POST /things"}, routes,
		"the others of its guard, but none that deletes")
	assert.Len(t, pl.Probes, n+2)
	assert.Empty(t, pl.Widen(first, nil), "once")
	assert.Empty(t, pl.Widen(more[0], nil), "what was widened to leads no further")
	_, again := doors(t, "all")
	assert.Equal(t, more[1].Key(), again.Widen(again.Find(first.Key()), nil)[1].Key(),
		"ids are stable, so that an interrupted sweep finds them")
}

func TestWithoutMembers(t *testing.T) {
	assert.JSONEq(t, `{"user":"{u}","n":1}`,
		string(check.WithoutMembers([]byte(`{"user":"{u}","password":"{p}","n":1}`), "application/json",
			[]string{"p"})))
	assert.Equal(t, "user={u}&n=1",
		string(check.WithoutMembers([]byte("user={u}&password={p}&n=1"), "application/x-www-form-urlencoded",
			[]string{"p"})))
	assert.Equal(t, "no json", string(check.WithoutMembers([]byte("no json"), "application/json", []string{"p"})),
		"what cannot be read stays")
	assert.Equal(t, `{"a":"x{p}"}`,
		string(check.WithoutMembers([]byte(`{"a":"x{p}"}`), "application/json", []string{"p"})))
}

// What ends sessions comes behind all that uses them, and before what is drilled.
func TestWhatEndsSessionsComesLast(t *testing.T) {
	_, pl := doors(t, "all")
	ends := 0
	for _, p := range pl.Probes {
		if p.Route != "POST /end" && p.Route != "POST /desk/out" && way(p) != check.Ended {
			assert.NotEqual(t, check.ThenEnding, p.Phase, p.Key())
			continue
		}
		assert.GreaterOrEqual(t, p.Phase, check.ThenEnding, p.Key())
		ends++
	}
	assert.Positive(t, ends)
}
