package verdict

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/probe"
	"millgate/core/session"
)

func doc(t *testing.T, schemes string) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, POST /a]\n"+schemes), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return d
}

func reply(status int, kind, body string) check.Answer {
	return check.Answer{Status: status, Headers: [][2]string{{"Content-Type", kind}}, Body: []byte(body)}
}

const asJSON, asHTML = "application/json", "text/html; charset=utf-8"

func goodControl(body string) *Control {
	return &Control{Caller: "ann", Answer: reply(200, asJSON, body), Class: check.Admitted}
}

// Every way around a guard: what gets through, and what only looks so.
func TestWaysAround(t *testing.T) {
	d := doc(t, "")
	for _, c := range []struct {
		way     string
		answer  check.Answer
		control *Control
		want    finding.Kind
		sure    finding.Confidence
	}{
		{probe.HeadMethod, reply(200, asJSON, ""), goodControl(`{"n":"lamp oil"}`), finding.Unprotected, finding.Proven},
		{probe.HeadMethod, reply(401, asJSON, ""), goodControl(`{"n":"lamp oil"}`), finding.Agrees, finding.Proven},
		{probe.HeadMethod, reply(405, asJSON, ""), goodControl(`{"n":"lamp oil"}`), finding.Agrees, finding.Proven},
		{probe.OptionsMethod, reply(200, asJSON, `{"allow":["GET"]}`), goodControl(`{"n":"lamp oil"}`), finding.Agrees, finding.Proven},
		{probe.OptionsMethod, reply(204, "", ""), goodControl(`{"n":"lamp oil"}`), finding.Agrees, finding.Proven},
		{probe.OptionsMethod, reply(200, asJSON, `{"n":"lamp oil"}`), goodControl(`{"n":"lamp oil"}`), finding.Unprotected, finding.Proven},
		{probe.OptionsMethod, reply(200, "text/plain", "12 barrels"), &Control{Caller: "ann", Answer: reply(200, "text/plain", "12 barrels"), Class: check.Admitted}, finding.Unprotected, finding.Proven},
		{probe.OptionsMethod, reply(200, asJSON, `{"n":"lamp oil"}`), nil, finding.Unproven, finding.NotSure},
		{probe.PercentEncoded, reply(200, asJSON, `{}`), goodControl(`{"n":"lamp oil"}`), finding.Unprotected, finding.Proven},
		{probe.PercentEncoded, reply(200, asHTML, `<p>`), goodControl(`{"n":"lamp oil"}`), finding.Unprotected, finding.Likely},
		{probe.DotSegments, reply(301, "", ""), goodControl(`{}`), finding.Agrees, finding.Proven},
		{probe.DotSegments, reply(404, asJSON, ""), nil, finding.Unproven, finding.NotSure},
		{probe.PastGateway, reply(200, asJSON, `{}`), goodControl(`{}`), finding.Unprotected, finding.Proven},
		{probe.PastGateway, check.Answer{Error: "connection refused"}, goodControl(`{}`), finding.Agrees, finding.Likely},
		{probe.PercentEncoded, check.Answer{Error: "connection refused"}, goodControl(`{}`), finding.Unproven, finding.NotSure},
		{probe.PastGateway, reply(502, asHTML, ""), goodControl(`{}`), finding.Unproven, finding.NotSure},
	} {
		p := &probe.Probe{Kind: probe.Around, RouteKey: "GET /a", Way: c.way, State: access.Absent, Expect: access.Expectation{Outcome: access.Closed, Decider: 2, Subject: "credential"}}
		v := Judge(Input{Doc: d, Probe: p, Answer: c.answer, Control: c.control})
		assert.Equal(t, c.want, v.Kind, "%s answered %d: %s", c.way, c.answer.Status, v.Reason)
		assert.Equal(t, c.sure, v.Confidence, "%s answered %d: %s", c.way, c.answer.Status, v.Reason)
	}
}

// A refusal that depends on what kind of answer is asked for.
func TestRefusalsOfOtherKinds(t *testing.T) {
	d := doc(t, "answers: { 401: { type: application/problem+json }, login_page: { location: \"**/login**\" }, never: { text: [hush] } }\n")
	refuse := access.Expectation{Outcome: access.Refuse, Decider: 2, Subject: "credential", Ladder: []access.Rung{{Number: 1}, {Number: 2, Text: "needs a token"}}}
	to := reply(302, "", "")
	to.Headers = append(to.Headers, [2]string{"Location", "/login?next=/a"})
	for _, c := range []struct {
		way    string
		answer check.Answer
		want   finding.Kind
	}{
		{probe.AcceptHTML, reply(401, asHTML, "<p>no"), finding.Agrees}, // who asks for a page may get one
		{probe.AcceptHTML, reply(401, asHTML, "hush"), finding.Leaking}, // but not with what must never be shown
		{probe.AcceptNone, reply(401, asHTML, "<p>no"), finding.WrongRefusal},
		{probe.AcceptNone, reply(401, "application/problem+json", "{}"), finding.Agrees},
		{probe.AcceptHTML, to, finding.WrongRefusal},
		{probe.AcceptHTML, reply(200, asHTML, "<form>"), finding.WrongRefusal}, // a page in place of a refusal opens nothing
		{probe.AcceptHTML, reply(200, asJSON, `{"n":1}`), finding.Unprotected},
	} {
		p := &probe.Probe{Kind: probe.Accept, RouteKey: "GET /a", Way: c.way, State: access.Absent, Expect: refuse}
		v := Judge(Input{Doc: d, Probe: p, Answer: c.answer, Control: goodControl(`{"n":1}`)})
		assert.Equal(t, c.want, v.Kind, "%s answered %d %s: %s", c.way, c.answer.Status, c.answer.Header("Content-Type"), v.Reason)
	}
}

// What must be admitted although it looks unusual, and what may be admitted
// for another reason.
func TestCredentialsThatAreNotSimplyBroken(t *testing.T) {
	d := doc(t, "")
	for _, c := range []struct {
		name   string
		way    string
		status int
		change func(*Input)
		want   finding.Kind
	}{
		{"the word in other letters", probe.SchemeCase, 200, nil, finding.Agrees},
		{"the word in other letters is refused", probe.SchemeCase, 401, nil, finding.OverRestrictive},
		{"the service fails", probe.SchemeCase, 500, nil, finding.Unproven},
		{"no control", probe.SchemeCase, 401, func(in *Input) { in.Control = nil }, finding.Unproven},
		{"a stale cookie beside", probe.OtherBroken, 200, nil, finding.Agrees},
		{"a stale cookie beside turns away", probe.OtherBroken, 403, nil, finding.OverRestrictive},
		{"neither would do", probe.BesideFirst, 200, nil, finding.Unprotected},
		{"neither would do, and does not", probe.BesideFirst, 403, nil, finding.Agrees},
		{"the sound one does alone", probe.BesideFirst, 200, func(in *Input) { in.BesideEnters = true }, finding.Agrees},
		{"a write from another site", probe.CrossSite, 201, nil, finding.Unprotected},
		{"no browser would send the cookie", probe.CrossSite, 201, func(in *Input) { in.SameSite = "lax" }, finding.Agrees},
		{"SameSite none is none", probe.CrossSite, 201, func(in *Input) { in.SameSite = "none" }, finding.Unprotected},
		{"a write from another site is refused", probe.CrossSite, 403, nil, finding.Agrees},
		{"repeated", probe.Repeated, 202, nil, finding.Unprotected},
		{"another record", probe.OtherRecord, 200, nil, finding.Unprotected},
	} {
		p := &probe.Probe{Kind: probe.Credential, Route: 0, RouteKey: "GET /a", Way: c.way, Donor: "ann", Beside: "bob", BesideScheme: "page", Scheme: "s", State: access.Broken, Expect: access.Expectation{Outcome: access.Refuse, Decider: 3}}
		in := Input{Doc: d, Probe: p, Answer: check.Answer{Status: c.status}, Control: goodControl("{}")}
		if c.change != nil {
			c.change(&in)
		}
		v := Judge(in)
		assert.Equal(t, c.want, v.Kind, "%s: %s", c.name, v.Reason)
		assert.NotEmpty(t, v.Reason)
	}
}

func TestUnknownNames(t *testing.T) {
	d := doc(t, "schemes:\n  s: { kind: bearer, login: { send: POST /a, json: { n: \"{n}\" }, take: { access: /t } } }\n  page: { kind: cookie, name: sid, login: { send: POST /a, form: { n: \"{n}\" } } }\n")
	wrong := func(body string) *Control {
		return &Control{Caller: "ann", Answer: reply(401, asJSON, body), Class: check.Refused}
	}
	p := &probe.Probe{Kind: probe.WrongSecret, Route: 1, RouteKey: "POST /a", Way: probe.NameUnknown, Identity: "ann", Scheme: "s", Expect: access.Expectation{Outcome: access.Refuse, Decider: 3}}
	judge := func(a check.Answer, c *Control) Verdict {
		return Judge(Input{Doc: d, Probe: p, Answer: a, Control: c, LoginWorks: true})
	}
	assert.Equal(t, finding.Unproven, Judge(Input{Doc: d, Probe: p, Answer: reply(401, asJSON, ``), Control: wrong(``)}).Kind, "the right secret was not admitted either")
	assert.Equal(t, finding.Agrees, Judge(Input{Doc: d, Probe: p, Answer: reply(200, asJSON, `{"t":"x"}`), SignedUp: true}).Kind, "a sign-up as well")
	assert.Equal(t, finding.Agrees, judge(reply(401, asJSON, `{"error":"no","id":"a81f-22"}`), wrong(`{"error":"no","id":"93bc-17"}`)).Kind, "what differs in every answer tells nothing")
	v := judge(reply(401, asJSON, `{"error":"nobody of that name"}`), wrong(`{"error":"that does not fit"}`))
	assert.Equal(t, finding.Leaking, v.Kind)
	row, _ := Causes.Row(v.Kind, v.Gaps[0].Cause)
	assert.Equal(t, 204, row.CWE)
	assert.Equal(t, finding.Leaking, judge(reply(404, asJSON, ``), wrong(``)).Kind)
	assert.Equal(t, finding.Agrees, judge(reply(401, asJSON, ``), &Control{Answer: reply(429, asJSON, ``), Class: check.Throttled}).Kind, "a throttled answer cannot be compared with")
	assert.Equal(t, finding.Agrees, judge(reply(401, asJSON, ``), nil).Kind)

	p = &probe.Probe{Kind: probe.WrongSecret, Route: 1, RouteKey: "POST /a", Way: probe.SecretEmpty, Identity: "ann", Scheme: "page", Expect: access.Expectation{Outcome: access.Refuse, Decider: 3}}
	in := reply(200, asJSON, "{}")
	assert.Equal(t, finding.Likely, judge(in, nil).Confidence, "no cookie was set")
	in.Headers = append(in.Headers, [2]string{"Set-Cookie", "sid=····; Path=/"})
	v = judge(in, nil)
	assert.Equal(t, finding.Unprotected, v.Kind)
	assert.Equal(t, finding.Proven, v.Confidence)
	assert.Contains(t, v.Reason, "an empty secret")
}

// A drill becomes gaps of the kinds that people look for.
func TestDrillVerdicts(t *testing.T) {
	d := doc(t, "schemes:\n  s: { kind: bearer, lifetime: { access: a, refresh: r }, login: { send: POST /a, json: { n: \"{n}\" }, take: { access: /t, refresh: /r } }, refresh: { send: POST /a, json: { r: \"{refresh}\" }, take: { access: /t } }, logout: { send: POST /a, json: { r: \"{refresh}\" } } }\nlifetimes: { a: { max: 10m }, r: { max: 1d, rotates: true } }\n")
	p := &probe.Probe{Kind: probe.Session, Route: 1, RouteKey: "POST /a", Identity: "ann", Scheme: "s"}
	assert.Equal(t, finding.Unproven, Judge(Input{Doc: d, Probe: p}).Kind)
	step := func(name string, status int, worked bool) session.Step {
		return session.Step{Name: name, Status: status, Worked: worked}
	}
	x := &session.Drilled{Rotated: true, Steps: []session.Step{step(session.LogIn, 200, true), step(session.Use, 403, false)}}
	assert.Equal(t, finding.Unproven, Judge(Input{Doc: d, Probe: p, Drill: x}).Kind, "a session that never worked shows nothing")
	x.Steps[1] = step(session.Use, 200, true)
	assert.Equal(t, finding.Agrees, Judge(Input{Doc: d, Probe: p, Drill: x}).Kind)
	for want, change := range map[finding.Kind]func(*session.Drilled){
		finding.Lifetime: func(x *session.Drilled) {
			x.Steps = append(x.Steps, step(session.LogOut, 204, true), step(session.UseAfterLogout, 200, true))
			x.After, x.Waited, x.Outlived = 2*time.Second, 2*time.Second, true
		},
		finding.WrongRefusal: func(x *session.Drilled) { x.Steps = append(x.Steps, step(session.LogOutNobody, 204, true)) },
		finding.OverPermissive: func(x *session.Drilled) {
			x.Steps = append(x.Steps, step(session.LogOutOther, 204, true), step(session.NeighbourRefresh, 401, false))
		},
		finding.OverRestrictive: func(x *session.Drilled) { x.Steps = append(x.Steps, step(session.AskIssuer, 200, false)) },
	} {
		y := *x
		y.Steps = append([]session.Step{}, x.Steps...)
		change(&y)
		v := Judge(Input{Doc: d, Probe: p, Drill: &y})
		assert.Equal(t, want, v.Kind, v.Reason)
		fs := Gather(d, []Item{{Probe: p, Verdict: v}})
		require.Len(t, fs, 1)
		assert.Equal(t, "everything behind s", fs[0].Route)
		assert.NotContains(t, fs[0].Title, "Another refusal", "each has a title of its own")
		assert.False(t, strings.HasPrefix(fs[0].Title, "session "))
	}
}

// What follows a gap along its guard belongs to the finding that led to it.
func TestWidenedGapsAreOneFinding(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, \"GET /a/{id}\", GET /b]\n"), nil)
	item := func(id string, route int, widens string) Item {
		return Item{Probe: &probe.Probe{ID: id, Widens: widens, Kind: probe.Credential, Route: route, RouteKey: d.Routes[route].Key(), Way: "foreign key", Donor: "ann", Scheme: "s", State: access.Broken},
			Verdict: Verdict{Kind: finding.Unprotected, Gaps: []Gap{{Kind: finding.Unprotected, Rung: 3, Subject: "soundness", Cause: "token foreign key", Confidence: finding.Proven}}}}
	}
	fs := Gather(d, []Item{item("1", 0, ""), item("2", 1, "1")})
	require.Len(t, fs, 1)
	assert.Equal(t, "GET /a", fs[0].Route)
	assert.Equal(t, 2, fs[0].Crossings)
	fs = Gather(d, []Item{item("1", 0, ""), item("3", 2, ""), item("2", 1, "1")})
	require.Len(t, fs, 1)
	assert.Equal(t, "everything behind s", fs[0].Route, "at two guards it is the check that they share")
	past := func(id string, route int) Item {
		return Item{Probe: &probe.Probe{ID: id, Kind: probe.Around, Way: probe.PastGateway, Route: route, RouteKey: d.Routes[route].Key()},
			Verdict: Verdict{Kind: finding.Unprotected, Gaps: []Gap{{Kind: finding.Unprotected, Rung: 2, Subject: "credential", Cause: "way " + probe.PastGateway, Confidence: finding.Proven}}}}
	}
	fs = Gather(d, []Item{past("4", 0)})
	require.Len(t, fs, 1)
	assert.Equal(t, "GET /a", fs[0].Route)
	fs = Gather(d, []Item{past("4", 0), past("5", 1)})
	require.Len(t, fs, 1)
	assert.Equal(t, PastAll, fs[0].Route)
}
