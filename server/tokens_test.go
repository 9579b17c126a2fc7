package server

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/server/contract"
)

const tokenGate = `millgate: 1
title: Tokens
targets: { t: { base: "http://127.0.0.1:1" } }
routes: [GET /a, POST /b, POST /login]
roles: { reader: , boss: { includes: reader } }
schemes:
  access:
    kind: bearer
    token: jwt
    issuer: i
    claims: { roles: /roles }
    lifetime: { access: short }
    login: { send: POST /login, json: { u: "{u}" }, take: { access: /t } }
lifetimes: { short: { max: 15m, ended_within: 0s } }
identities: { ann: { roles: reader, credentials: { access: { u: ann } } } }
access:
  - { at: GET /a, who: reader }
  - { at: POST /b, who: boss }
  - { at: POST /login, who: anyone }
`

// unsigned is {"alg":"none"}.{"iss":"i","sub":"ann","roles":["boss"]}.
const unsigned = "eyJhbGciOiJub25lIn0.eyJpc3MiOiJpIiwic3ViIjoiYW5uIiwicm9sZXMiOlsiYm9zcyJdfQ."

func body(t *testing.T, v any) string {
	t.Helper()
	b, err := json.Marshal(v)
	require.NoError(t, err)
	return string(b)
}

func query(text, kept string) map[string]any {
	return map[string]any{"text": text, "target": "", "identity": "", "scheme": "", "obtain": false, "kept": kept,
		"refresh": false}
}

func TestTokensAreJudgedAndForgotten(t *testing.T) {
	s, _ := serve(t, tokenGate)
	v := ask[contract.TokenView](t, "POST", s.URL+"/api/tokens/judge", body(t, query("Bearer "+unsigned, "")))
	assert.Equal(t, "ann", v.Identity)
	assert.Equal(t, "access", v.Scheme)
	assert.Equal(t, contract.TokenViewOutcomeRefuses, v.Outcome)
	require.NotEmpty(t, v.Judgements)
	assert.Equal(t, "alg-none", v.Judgements[0].Id)
	assert.Equal(t, contract.SeverityCritical, v.Judgements[0].Severity)
	assert.Equal(t, "/alg", *v.Judgements[0].Pointer)
	require.NotNil(t, v.Axis.Afterlife)
	assert.Zero(t, *v.Axis.Afterlife)
	assert.Nil(t, v.Axis.Ends)
	opens := map[string]bool{}
	for _, o := range v.Reach {
		opens[o.Route] = o.Granted
	}
	assert.Equal(t, map[string]bool{"GET /a": true, "POST /b": false, "POST /login": true}, opens)

	resp, text := call(t, "PUT", s.URL+"/api/tokens/kept", body(t, map[string]string{"name": "one", "text": unsigned}))
	require.Equal(t, http.StatusNoContent, resp.StatusCode, text)
	assert.Equal(t, []string{"one"}, ask[[]string](t, "GET", s.URL+"/api/tokens/kept", ""))
	again := ask[contract.TokenView](t, "POST", s.URL+"/api/tokens/judge", body(t, query("", "one")))
	assert.Equal(t, v.Fingerprint, again.Fingerprint)
	resp, _ = call(t, "DELETE", s.URL+"/api/tokens/kept?name=one", "")
	assert.Equal(t, http.StatusNoContent, resp.StatusCode)
	resp, text = call(t, "DELETE", s.URL+"/api/tokens/kept?name=one", "")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
	assert.Contains(t, text, "no token is kept")
	resp, text = call(t, "POST", s.URL+"/api/tokens/judge", body(t, query(" ", "")))
	assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode)
	assert.Contains(t, text, "there is no token in it")
}

func TestTokensAreMintedGuessedAndAudited(t *testing.T) {
	s, _ := serve(t, strings.Replace(tokenGate, "issuer: i\n", "issuer: i\n    algorithms: [HS256]\n", 1))
	made := ask[struct{ Token string }](t, "POST", s.URL+"/api/tokens/mint",
		`{"identity":"ann","scheme":"","target":"","key":"under the ridge","minutes":5}`)
	v := ask[contract.TokenView](t, "POST", s.URL+"/api/tokens/judge", body(t, query(made.Token, "")))
	assert.Equal(t, "ann", v.Subject)
	require.NotNil(t, v.Axis.Ends)
	require.NotNil(t, v.Axis.DeclaredEnd)
	assert.Equal(t, 10.0, v.Axis.DeclaredEnd.Sub(*v.Axis.Ends).Minutes())
	found := ask[struct {
		Found bool
		Word  string
		Tried int
	}](t, "POST", s.URL+"/api/tokens/guess",
		body(t, map[string]string{"text": made.Token, "words": "one\nunder the ridge\nthree\n"}))
	assert.True(t, found.Found)
	assert.Equal(t, "under the ridge", found.Word)
	assert.Equal(t, 3, found.Tried)

	list := ask[contract.Audited](t, "POST", s.URL+"/api/tokens/audit?id=x",
		made.Token+"\n"+unsigned+"\n"+unsigned+"\n")
	assert.Equal(t, 3, list.Tokens)
	assert.Equal(t, 2, list.Distinct)
	assert.Equal(t, 1, list.Endless)
	assert.Equal(t, "alg-none", list.Tallies[0].Id)
	assert.Len(t, list.Lifetimes, 12)
	empty := ask[contract.Audited](t, "POST", s.URL+"/api/tokens/audit?id=x", "")
	assert.NotNil(t, empty.Offenders)

	for _, bad := range []string{
		`{"identity":"zed","scheme":"","target":"","key":"k","minutes":5}`,
		`{"identity":"ann","scheme":"","target":"","key":"k","minutes":-1}`,
		`{"identity":"ann","scheme":"","target":"","key":"","minutes":5}`,
	} {
		resp, text := call(t, "POST", s.URL+"/api/tokens/mint", bad)
		assert.GreaterOrEqual(t, resp.StatusCode, 400, bad)
		assert.Less(t, resp.StatusCode, 500, text)
	}
}

func TestSessionsAreServed(t *testing.T) {
	s, _ := serve(t, tokenGate)
	list := ask[[]contract.Session](t, "POST", s.URL+"/api/sessions/look", `{"text":"","target":"","logouts":60}`)
	require.Len(t, list, 1)
	assert.Equal(t, float64(900), list[0].Access)
	assert.Equal(t, 15, list[0].Size)
	assert.True(t, list[0].NeedsList)
	assert.False(t, list[0].Renewed)
	resp, _ := call(t, "POST", s.URL+"/api/sessions/look", `{"text":"","target":"","logouts":-1}`)
	assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode)
}

// The board's Tokens lens goes along with the board, and its cells are opened
// by their way.
func TestTheTokensLensIsServed(t *testing.T) {
	s, _ := serve(t, strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "POST /login]", `POST /login, "GET /n/{id}"]
records: { note: { fills: "/n/{id}", owned_by: { ann: n-1 }, groups: { shown: n-2 } } }`,
		"access:\n  - ", "access:\n  - { at: \"GET /n/{id}\", who: [{ who: anyone, on: shown }, owner] }\n  - ").
		Replace(tokenGate))
	b := ask[contract.Board](t, "GET", s.URL+"/api/board", "")
	require.Greater(t, len(b.Ways), 10)
	assert.Equal(t, []string{"sound", "absent", "malformed"}, b.Ways[:3])
	for _, r := range b.Rows {
		assert.Len(t, r.Tokens, len(b.Ways))
		var first []contract.Expect
		for _, c := range r.Tokens[:3] {
			first = append(first, b.Cells[c].Expect)
		}
		const admit, refuse, absent = contract.ExpectAdmit, contract.ExpectRefuse, contract.ExpectAbsent
		switch r.Key {
		case "GET /a":
			assert.Equal(t, []contract.Expect{admit, refuse, refuse}, first)
			assert.Equal(t, "ann", r.TokenCaller)
		case "GET /n/{id}":
			assert.Equal(t, []contract.Expect{admit, contract.ExpectOwn, refuse}, first, "open on some records")
			assert.Equal(t, "ann", r.TokenCaller)
		case "POST /login":
			assert.Equal(t, []contract.Expect{absent, admit, absent}, first, "an open route asks for no token")
		}
	}
	x := ask[contract.Crossing](t, "GET", s.URL+"/api/crossing?route=GET%20/a&caller=credential:unsigned", "")
	require.Len(t, x.Probes, 1)
	assert.Contains(t, x.Probes[0].Label, "unsigned")
	assert.Contains(t, x.Expected, "refuse")
	plan := ask[contract.Plan](t, "GET", s.URL+"/api/plan", "")
	assert.GreaterOrEqual(t, plan.Spared, 0)
	assert.NotEmpty(t, plan.Left)
}
