package issued

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/session"
	"millgate/core/token"
	"millgate/testkit/play"
)

const text = `
millgate: 1
targets: { t: { base: "http://h" } }
routes: [GET /a, "GET /files/{id}", POST /in]
roles: { r: , q: }
lifetimes: { short: { max: 10m } }
schemes:
  s: { kind: bearer, token: jwt, lifetime: { access: short }, login: { send: POST /in, json: { u: "{u}", p: "{p}" }, take: { access: /t } } }
  page: { kind: cookie, name: sid, http_only: true, login: { send: POST /page, json: { p: "{p}" } } }
  k: { kind: api-key, in: header, name: X-K }
  link: { kind: link, signature: sig, expires: end, lifetime: { access: short }, issue: { send: "POST /a/{id}/link", take: { link: /u } } }
identities:
  ann: { roles: r, credentials: { s: { u: ann, p: env:A }, page: { p: env:A }, link: {} } }
  bob: { roles: r, credentials: { s: { u: bob, p: env:B }, page: { p: env:B }, link: {} } }
  kim: { roles: q, credentials: { k: { key: env:K } } }
access: [{ at: "GET /files/{id}", who: r, by: link }, { at: GET /a, who: r }, { at: POST /in, who: anyone }]
`

type params map[string]string

func (p params) Parameters() map[string]string { return p }

type crossings struct {
	play.Crossings
	d    *declaration.Document
	lent bool
}

func (x crossings) Classes() []access.Class { return access.Classes(x.d) }

func (x crossings) ControlAt(i int) (*check.Probe, string) {
	p := &check.Probe{ID: check.ID{Family: "crossing", Route: x.d.Routes[i].Key(),
		Caller: check.Caller{Identity: "ann", Scheme: "s", State: access.Sound}}}
	if i == 1 {
		p.Caller.Scheme, p.Detail = "link", params{"v": "1"}
		p.Record = check.Record{Name: "file", Param: "id", Owner: "ann", Value: "f-1"}
		if x.lent {
			p.Record.Value = ""
		}
	}
	return p, "ann"
}

func planned(t *testing.T, lent bool) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.Targets[0]}, check.NewPlanning(crossings{d: d, lent: lent})
	Family{}.Plan(c, p)
	return c, p
}

func TestWhatIsLookedAt(t *testing.T) {
	c, p := planned(t, false)
	var keys []string
	for _, x := range p.Probes {
		keys = append(keys, x.Key())
		step := Family{}.Script(c, x).Next(0, nil)
		require.NotNil(t, step.Look)
		assert.Equal(t, x.Caller, step.Look.Caller)
		if x.Caller.Scheme == "link" {
			assert.Equal(t, map[string]string{"v": "1", "id": "f-1"}, step.Look.Params)
			assert.Nil(t, step.Look.Call(c), "no login gives it")
		} else {
			assert.Equal(t, "POST", step.Look.Call(c).Request.Method)
		}
		assert.Zero(t, Family{}.Cost(c, x).Requests)
	}
	assert.Equal(t, []string{"issued|POST /in|ann|s|sound||", "issued|POST /page|ann|page|sound||",
		"issued|GET /files/{id}|ann|link|sound||"}, keys, "once for each class, and one link")
	_, p = planned(t, true)
	assert.Len(t, p.Probes, 2, "of a link to a record that is made its own control shows that it works")
}

func TestJudge(t *testing.T) {
	c, p := planned(t, false)
	at := time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)
	raw := token.Decode("x")
	for name, x := range map[string]struct {
		probe int
		given *check.Given
		want  []string
		says  string
	}{
		"nothing": {0, nil, nil, "no token was obtained"},
		"a text": {0, &check.Given{At: at, Shown: token.Look(raw, token.Context{Now: at})},
			[]string{"token form-jwt-wanted"}, ""},
		"a loose one": {1, &check.Given{At: at, Cookie: &session.Cookie{}}, []string{"token cookie-script"}, ""},
		"a tight one": {1, &check.Given{At: at, Cookie: &session.Cookie{HTTPOnly: true, Secure: true,
			SameSite: "lax"}}, nil, "as declared"},
		"a long link": {2, &check.Given{At: at, Link: &check.GivenLink{Ends: at.Add(time.Hour), Said: "x"}},
			[]string{"token link-too-long"}, ""},
		"a link for another": {2, &check.Given{At: at, Link: &check.GivenLink{Ends: at, Said: "x", Path: "/files/f-2"}},
			[]string{"token link-elsewhere"}, ""},
		"a link for it, behind a gateway": {2, &check.Given{At: at, Link: &check.GivenLink{Ends: at, Said: "x",
			Path: "/api/files/f-1/"}}, nil, "as declared"},
		"a short link": {2, &check.Given{At: at, Link: &check.GivenLink{Ends: at.Add(time.Minute), Said: "x"}},
			nil, "as declared"},
		"of before": {0, &check.Given{At: at, Judged: []session.Judged{{ID: "alg-undeclared"}}},
			[]string{"token alg-undeclared"}, ""},
		"not asked for": {0, &check.Given{At: at, Judged: []session.Judged{{ID: "typ-missing"}}}, nil,
			"1 more are worth knowing"},
	} {
		f := &check.Fact{Reports: []check.Report{{Fate: check.Answered, Given: x.given}}}
		v := Family{}.Judge(c, p.Probes[x.probe], f, nil)
		var got []string
		for _, g := range v.Gaps {
			got = append(got, g.Cause.Cause)
			assert.Equal(t, finding.Scope{Of: finding.AtScheme, Name: p.Probes[x.probe].Caller.Scheme}, g.Scope)
			assert.Equal(t, []any{3, finding.Proven}, []any{g.Rung, g.Proof.Confidence()})
			assert.Contains(t, g.Says, "that ann is given")
		}
		if x.want != nil {
			assert.Subset(t, got, x.want, name)
			continue
		}
		assert.Empty(t, got, name)
		assert.Contains(t, v.Says, x.says, name)
		assert.Equal(t, name == "nothing", v.Proof.Confidence() == finding.NotSure, name)
	}
	f := Before(&check.Given{At: at, Fingerprint: "ab"})
	assert.Equal(t, "ab", f.Reports[0].Given.Fingerprint)
	_, err := Family{}.Decode(version, nil)
	require.NoError(t, err)
	_, err = Family{}.Decode(version+1, nil)
	assert.Error(t, err)
}
