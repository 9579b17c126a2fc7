package app

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/fault"
	"millgate/app/importing"
	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/review"
)

func empty(t *testing.T) (*App, string) {
	dir := t.TempDir()
	a, err := Open(t.Context(), "", filepath.Join(dir, "x.gate.yaml"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	return a, dir
}

func states(p importing.Preview) string {
	var out []string
	for _, i := range p.Items {
		out = append(out, string(i.State)+" "+i.Key)
	}
	return strings.Join(out, ", ")
}

const api = `openapi: 3.0.0
info: { title: x, version: '1' }
security: [{ token: [] }]
paths:
  /a: { get: { summary: All, responses: {} }, post: { summary: More, security: [], responses: {} } }
components: { securitySchemes: { token: { type: http, scheme: bearer, bearerFormat: JWT } } }
`

func TestImportOpenAPI(t *testing.T) {
	a, dir := empty(t)
	q := importing.Request{Files: []importing.NamedText{{Name: "../../api.yaml", Text: api}}}
	p, err := a.Imports.Preview(q)
	require.NoError(t, err)
	assert.Equal(t, importing.KindOpenAPI, p.Kind)
	assert.Equal(t, "new GET /a, new POST /a", states(p))
	require.Len(t, p.Proposals, 3)
	assert.Equal(t, "token: { kind: bearer, token: jwt }", p.Proposals[0].Text)
	text, n, err := a.Imports.Import(q, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Contains(t, text, "  - from: api.yaml\n")
	assert.NotContains(t, text, "signed-in", "security is never believed unless it is chosen")
	kept, err := os.ReadFile(filepath.Join(dir, "api.yaml"))
	require.NoError(t, err, "a name with a path stays beside the declaration")
	assert.Equal(t, api, string(kept))

	text, _, err = a.Imports.Import(q, []importing.Choice{{Key: "POST /a", Effect: "command", Sensitivity: "high"}},
		[]string{"scheme token", "access token", "access "})
	require.NoError(t, err)
	d, err := a.Workspace.Keep(t.Context(), text, "", 0)
	require.NoError(t, err, text)
	doc, _ := a.Workspace.Document()
	assert.Equal(t, declaration.High, doc.Routes[doc.RouteNamed("POST /a")].Sensitivity)
	assert.Equal(t, declaration.WhoAnyone, doc.Entry(doc.RouteNamed("POST /a")).Who[0].Kind)
	assert.Equal(t, "token", doc.Entry(doc.RouteNamed("GET /a")).By[0].Name)

	// The next version of the file: what is gone is said, and the old file stays.
	q = importing.Request{Files: []importing.NamedText{{Name: "api.yaml",
		Text: strings.Replace(strings.Replace(api, "get: { summary: All", "put: { summary: All", 1), "More",
			"Others", 1)}},
		Text: d.Text}
	p, err = a.Imports.Preview(q)
	require.NoError(t, err)
	assert.Equal(t, "new PUT /a, changed POST /a, gone GET /a", states(p))
	text, _, err = a.Imports.Import(q, nil, nil)
	require.NoError(t, err)
	assert.Contains(t, text, "from: api-2.yaml")
	assert.NotContains(t, text, "from: api.yaml")
	old, err := os.ReadFile(filepath.Join(dir, "api.yaml"))
	require.NoError(t, err)
	assert.Equal(t, api, string(old))
	_, _, err = a.Imports.Import(importing.Request{Files: []importing.NamedText{{Name: "x.gate.yaml",
		Text: api}}}, nil, nil)
	require.NoError(t, err)
	b, err := os.ReadFile(filepath.Join(dir, "x.gate.yaml"))
	require.NoError(t, err)
	assert.Equal(t, d.Text, string(b), "a file that is called like the declaration gets another name")
}

// OpenAPI in, declaration out, edited on the board, reviewed, kept, reopened:
// nothing is lost on the way, comments of the writer included.
func TestRoundTrip(t *testing.T) {
	a, dir := empty(t)
	q := importing.Request{Files: []importing.NamedText{{Name: "api.yaml", Text: api}},
		Text: "# Ours.\nmillgate: 1 # the first\ntargets: { t: " +
			"{ base: \"http://127.0.0.1:1\" } }\n"}
	text, _, err := a.Imports.Import(q, []importing.Choice{{Key: "POST /a", Effect: "command", Group: "More"}},
		[]string{"scheme token", "access token", "access "})
	require.NoError(t, err)
	text += "identities: # who is there\n  ann: { credentials: { token: { token: env:ANN } } }\n  ben: { " +
		"credentials: { token: { token: env:BEN } } }\n"
	e, err := a.Workspace.EditBoard(text, workspace.BoardChange{Routes: []string{"GET /a"},
		Callers: []string{"ben"}, Action: access.Lower})
	require.NoError(t, err)
	e, err = a.Workspace.EditRoute(e.Text, "POST /a", workspace.RouteField{Name: "send", Value: `{"json": {"n": 2}}`})
	require.NoError(t, err)
	eff := a.Workspace.Check(e.Text)
	require.NotEmpty(t, eff.Messages)
	at := slices.IndexFunc(eff.Messages, func(m review.Message) bool { return m.Code == "open-write" })
	require.GreaterOrEqual(t, at, 0, "what the import proposed is reviewed")
	e, err = a.Workspace.Waive(e.Text, eff.Messages[at].Key(), workspace.Accepted{Reason: "Everybody may",
		By: "ann", Until: "2099-01-31"})
	require.NoError(t, err)
	kept, err := a.Workspace.Keep(t.Context(), e.Text, "All of it", 0)
	require.NoError(t, err)
	require.NoError(t, a.Close())

	b, err := Open(t.Context(), "", filepath.Join(dir, "x.gate.yaml"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, b.Close()) }()
	again := b.Workspace.Declaration()
	assert.Equal(t, kept.Text, again.Text)
	for _, c := range []string{"# Ours.", "# the first", "# who is there"} {
		assert.Contains(t, again.Text, c)
	}
	doc, msgs := b.Workspace.Document()
	assert.False(t, declaration.Failed(msgs))
	r := doc.Routes[doc.RouteNamed("POST /a")]
	assert.Equal(t, "More", r.Group)
	assert.Equal(t, "command", string(r.Effect))
	s, err := b.View.RouteSheet("", "POST /a")
	require.NoError(t, err)
	assert.Contains(t, s.Sample, `2`)
	reached, err := b.Workspace.Reach("GET /a", "")
	require.NoError(t, err)
	var in []string
	for _, r := range reached {
		if r.Admitted {
			in = append(in, r.Caller)
		}
	}
	assert.Equal(t, []string{"ann"}, in)
	for _, m := range b.Workspace.Check(again.Text).Messages {
		if m.Code == "open-write" {
			require.NotNil(t, m.Waived)
			assert.Equal(t, "Everybody may", m.Waived.Reason)
		}
	}
}

// What a description says of scopes, of ways in that need nothing, and of how records come to be, is proposed.
func TestWhatADescriptionProposes(t *testing.T) {
	a, _ := empty(t)
	p, err := a.Imports.Preview(importing.Request{Files: []importing.NamedText{{Name: "b.yaml", Text: `openapi: 3.0.3
info: { title: x, version: "1" }
paths:
  /things:
    get: { security: [{}, { token: [] }], responses: { "200": { description: ok } } }
    post:
      security: [{ token: [things:write] }]
      requestBody: { content: { application/json: { example: { name: a } } } }
      responses:
        "201": { description: made, links: { one: { operationId: one, parameters: { thing_id: "$response.body#/id" } } } }
  "/things/{thing_id}":
    parameters: [{ name: thing_id, in: path, required: true, schema: { type: string } }]
    get: { operationId: one, security: [{ token: [a] }, { key: [b] }], responses: { "200": { description: ok } } }
    delete: { security: [{ token: [], key: [] }], responses: { "204": { description: gone } } }
components: { securitySchemes: { token: { type: http, scheme: bearer }, key: { type: apiKey, in: header, name: X-Key } } }
`}}})
	require.NoError(t, err)
	var got []string
	for _, x := range p.Proposals {
		if !strings.HasPrefix(x.ID, "scheme") {
			got = append(got, x.Text)
		}
	}
	assert.Equal(t, []string{
		"{ at: GET /things, who: anyone }",
		"{ at: POST /things, who: signed-in, by: token, scope: things:write }",
		`{ at: "GET /things/{thing_id}", who: signed-in, by: [token, key] }`,
		`{ at: "DELETE /things/{thing_id}", who: signed-in, by: token }`,
		`thing: { fills: "/things/{thing_id}", make: { send: POST /things, json: {"name":"a"}, id: /id }, remove: "DELETE /things/{id}" }`,
	}, got)
	assert.Contains(t, p.Proposals[4].Note, "its scopes, which differ between schemes, is left out")
	assert.Contains(t, p.Proposals[5].Note, "token with key together")
}

func TestImportObserved(t *testing.T) {
	a, _ := empty(t)
	archive := `{"log": {"entries": [
 {"request": {"method": "GET", "url": "https://api.example/v1/things/t-1?full=1&token=abc"},
	"response": {"status": 200}},
 {"request": {"method": "GET", "url": "https://api.example/v1/things/t-2"}, "response": {"status": 200}},
 {"request": {"method": "POST", "url": "https://api.example/v1/login", "postData": {"mimeType": "application/json",
	"text": "{\"user\":\"ann\",\"password\":\"hunter22\"}"}}, "response": {"status": 200}},
 {"request": {"method": "GET", "url": "https://api.example/v1/nowhere"}, "response": {"status": 404}},
 {"request": {"method": "GET", "url": "https://api.example/app.js"}, "response": {"status": 200}},
 {"request": {"method": "OPTIONS", "url": "https://api.example/v1/login"}, "response": {"status": 204}},
 {"request": {"method": "GET", "url": "https://api.example/other/x"}, "response": {"status": 200}},
 {"request": {"method": "GET", "url": "https://id.example/me"}, "response": {"status": 200}},
 {"request": {"method": "GET", "url": "no address"}, "response": {"status": 200}},
 {"request": {"method": "GET", "url": "https://else.example/x"}, "response": {"status": 200}}
]}}`
	text := "millgate: 1\ntargets: { t: { base: \"https://api.example/v1\", hosts: { id: \"https://id.example\" } } }\n"
	q := importing.Request{Files: []importing.NamedText{{Name: "a.har", Text: archive}}, Text: text}
	p, err := a.Imports.Preview(q)
	require.NoError(t, err)
	assert.Equal(t, importing.KindHAR, p.Kind)
	assert.Equal(t, "https://api.example", p.Origin)
	assert.Equal(t, "unclear GET /nowhere, new GET /things/{thing_id}, new POST /login, new GET id:/me", states(p))
	assert.Equal(t, 2, p.Items[1].Count)
	assert.Contains(t, strings.Join(p.Notes, " "), "1 request to other hosts, left out.")
	assert.Contains(t, strings.Join(p.Notes, " "), "2 requests beside the base of the target, left out.", "with app.js")
	require.Len(t, p.Problems, 1, "one that is broken leaves the others")
	assert.Contains(t, p.Problems[0].Text, "no address")
	beside := q
	beside.Text = "millgate: 1\ntargets: { t: { base: \"https://api.example/v9\" } }\n"
	elsewhere, err := a.Imports.Preview(beside)
	require.NoError(t, err)
	assert.Contains(t, states(elsewhere), "new GET /v1/things/{thing_id}", "a base that nothing is under says nothing")
	assert.Contains(t, elsewhere.Proposals[1].Text, "send: POST /v1/login")
	q.Templates = []string{"/things/{name}"}
	p, err = a.Imports.Preview(q)
	require.NoError(t, err)
	assert.Contains(t, states(p), "GET /things/{name}", "a correction holds")
	require.Len(t, p.Proposals, 2)
	assert.Equal(t, "token: { kind: api-key, in: query, name: token }", p.Proposals[0].Text)
	assert.Equal(t, `scheme token-2 token-2: { kind: bearer, login: { send: POST /login, json: `+
		`{"password":"{password}","user":"{user}"}, take: { access: /access_token } } }`, p.Proposals[1].ID+" "+
		p.Proposals[1].Text)
	assert.Contains(t, strings.Join(p.Notes, " "), "Callers seen in it: caller-1, ann.")
	out, n, err := a.Imports.Import(q, []importing.Choice{{Key: "GET /things/{name}", Sample: true, Group: "Things"},
		{Key: "POST /login", Sample: true, Effect: "command"}}, []string{"scheme token-2"})
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Contains(t, out, "schemes:\n  token-2: { kind: bearer, login: { send: POST /login")
	assert.Contains(t, out,
		`- { at: "GET /things/{name}", group: Things, send: { path: { name: t-1 }, query: { full: "1" } } }`)
	assert.Contains(t, out, `json: { "password": "{password}", "user": "ann" }`, "secrets are left out")
	assert.NotContains(t, out, "hunter22")
	assert.NotContains(t, out, "abc")
	_, msgs := declaration.Parse("x", []byte(out), nil)
	assert.Empty(t, msgs, out)
	p, err = a.Imports.Preview(importing.Request{Files: q.Files, Text: out})
	require.NoError(t, err)
	assert.Equal(t, "unclear GET /nowhere, new GET id:/me, same GET /things/{name}, same POST /login", states(p),
		"what is known is found again")
}

// Where callers log in on another host, that becomes one of the target; of a recording of another place it is said.
func TestImportOfALoginElsewhere(t *testing.T) {
	a, _ := empty(t)
	archive := `{"log": {"entries": [
 {"request": {"method": "POST", "url": "https://sso.example/login", "postData": {"mimeType": "application/json",
	"text": "{\"user\":\"ann\",\"password\":\"hunter22\"}"}},
	"response": {"status": 200, "content": {"text": "{\"access_token\":\"t-1\"}"}}},
 {"request": {"method": "GET", "url": "https://api.example/things", "headers": [{"name": "Authorization",
	"value": "Bearer t-1"}]}, "response": {"status": 200}},
 {"request": {"method": "GET", "url": "https://api.example/people/ann", "headers": [{"name": "Authorization",
	"value": "Bearer t-1"}]}, "response": {"status": 200}},
 {"request": {"method": "GET", "url": "https://ads.example/pixel"}, "response": {"status": 200}}
]}}`
	const login = `login: { send: POST sso:/login, json: {"password":"{password}","user":"{user}"}, ` +
		`take: { access: /access_token } } }`
	for base, want := range map[string][]string{
		"": {"api: { base: https://api.example, hosts: { sso: https://sso.example } }",
			"token: { kind: bearer, " + login},
		"https://api.example":     {"t: { hosts: { sso: https://sso.example } }", "token: { kind: bearer, " + login},
		"https://staging.example": nil,
	} {
		q := importing.Request{Files: []importing.NamedText{{Name: "a.har", Text: archive}}, Text: "millgate: 1.1\n"}
		if base != "" {
			q.Text += "targets: { t: { base: \"" + base + "\" } }\n"
		}
		p, err := a.Imports.Preview(q)
		require.NoError(t, err)
		var lines, ids []string
		for _, x := range p.Proposals {
			lines, ids = append(lines, x.Text), append(ids, x.ID)
		}
		assert.Equal(t, want, lines, base)
		notes := strings.Join(p.Notes, " ")
		assert.Contains(t, notes, "2 requests to other hosts, left out.")
		assert.Equal(t, base == "https://staging.example", strings.Contains(notes, "Say which host of the target"),
			notes)
		assert.Contains(t, states(p), "unclear GET /people/ann", "a caller's name may be a value")
		out, _, err := a.Imports.Import(q, nil, ids)
		require.NoError(t, err)
		_, msgs := declaration.Parse("x", []byte(out), nil)
		assert.Empty(t, msgs, out)
	}
}

func TestImportOthers(t *testing.T) {
	a, _ := empty(t)
	p, err := a.Imports.Preview(importing.Request{Files: []importing.NamedText{{Name: "",
		Text: "GET /a All of them\n\n# none\nPOST id:/b\nfetch " +
			"/c\nGET\n"}}})
	require.NoError(t, err)
	assert.Equal(t, importing.KindLines, p.Kind)
	assert.Equal(t, "new GET /a, new POST id:/b", states(p))
	assert.Equal(t, "All of them", p.Items[0].Summary)
	assert.Equal(t, 5, p.Problems[0].Line)
	assert.Equal(t, 6, p.Problems[1].Line)
	p, err = a.Imports.Preview(importing.Request{Files: []importing.NamedText{{Name: "r.csv",
		Text: "path,method,effect\n/a,get,\n/b,POST,command\n"}},
		Host: "id"})
	require.NoError(t, err)
	assert.Equal(t, "new GET id:/a, new POST id:/b", states(p))
	log := strings.Repeat("h - - [d] \"GET /x/17 HTTP/1.1\" 200 1\nbroken\n", 300)
	p, err = a.Imports.Preview(importing.Request{Files: []importing.NamedText{{Name: "access.log", Text: log}}})
	require.NoError(t, err)
	assert.Equal(t, "new GET /x/{x_id}", states(p))
	assert.Equal(t, 300, p.Items[0].Count)
	assert.Len(t, p.Problems, importing.MaxProblems+1)
	assert.Equal(t, "and 100 more", p.Problems[importing.MaxProblems].Text)
	for _, bad := range []importing.NamedText{{Name: "x.log", Text: "nothing\nto read\n"}, {Name: "x.har",
		Text: "{}"}, {Name: "x.csv", Text: "a,b\n"},
		{Name: "x.yaml", Text: "openapi: 2.0"}, {Name: "x", Text: "  "}} {
		_, err := a.Imports.Preview(importing.Request{Files: []importing.NamedText{bad}})
		assert.ErrorIs(t, err, fault.ErrInput, bad.Name)
	}
}

func TestEditsOfABoardAndARoute(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "refused"), "")
	text := a.Workspace.Declaration().Text
	e, err := a.Workspace.EditBoard(text, workspace.BoardChange{Routes: []string{"GET /a"},
		Callers: []string{"ann"}, Action: access.Lower})
	require.NoError(t, err)
	assert.Equal(t, "Turn ann away at GET /a", e.Title)
	assert.Contains(t, e.Text, "{ at: GET /a, who: nobody }")
	eff := a.Workspace.Check(e.Text)
	assert.Equal(t, 1, eff.Closes)
	e, err = a.Workspace.EditBoard(e.Text, workspace.BoardChange{Routes: []string{"POST /go"},
		Set: map[string]string{"given": "{ ok: true }"}})
	require.NoError(t, err)
	assert.Contains(t, e.Text, "given: { ok: true }")
	for want, c := range map[string]workspace.BoardChange{
		"no route is selected":    {Action: access.Raise},
		"nothing is to be done":   {Routes: []string{"GET /a"}},
		"has no route GET /zzz":   {Routes: []string{"GET /zzz"}, Action: access.Raise},
		"no identity \"zed\"":     {Routes: []string{"GET /a"}, Callers: []string{"zed"}, Action: access.Raise},
		"it would leave an error": {Routes: []string{"GET /a"}, Set: map[string]string{"who": "owner"}},
		"not set from the board":  {Routes: []string{"GET /a"}, Set: map[string]string{"at": "/x"}},
		"not something to do":     {Routes: []string{"GET /a"}, Action: "explode"},
	} {
		_, err := a.Workspace.EditBoard(text, c)
		require.ErrorContains(t, err, want)
	}
	e, err = a.Workspace.EditRoute(text, "POST /t", workspace.RouteField{Name: "send",
		Value: `{"json": {"n": 2}, "query": {"x": "y"}}`})
	require.NoError(t, err)
	assert.Contains(t, e.Text, `send: { query: { x: y }, json: { "n": 2 } }`)
	e, err = a.Workspace.EditRoute(e.Text, "GET /a", workspace.RouteField{Name: "summary", Value: "All: of them"})
	require.NoError(t, err)
	s, err := a.View.RouteSheet(e.Text, "GET /a")
	require.NoError(t, err)
	assert.Equal(t, "All: of them", s.Summary)
	for _, f := range []workspace.RouteField{{Name: "send", Value: "{"}, {Name: "send", Value: `{"jsn": 1}`},
		{Name: "effect", Value: "explode"}, {Name: "at", Value: "GET /b"}} {
		_, err := a.Workspace.EditRoute(text, "GET /a", f)
		assert.ErrorIs(t, err, fault.ErrInput, f)
	}
}

func TestSheetSaysEverything(t *testing.T) {
	a, err := Open(t.Context(), "", "../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	s, err := a.View.RouteSheet("", "POST /v1/frames")
	require.NoError(t, err)
	all := fmt.Sprintf("%+v", s.Parts)
	for _, w := range []string{"Everyone signed in", "with the scope frames:write", "jwt in Authorization: Bearer",
		"at most 15m", "https://desk.fernhollow.example", "with credentials", "general: 120 per 1m and 2000 per 1h",
		"by identity or address"} {
		assert.Contains(t, all, w)
	}
	assert.Equal(t, []string{"GET /v1/frames"}, s.Neighbours)
	assert.True(t, s.Reach[0].Admitted)
	assert.False(t, s.Reach[len(s.Reach)-1].Admitted)
	_, err = a.View.RouteSheet("", "GET /nowhere")
	assert.ErrorIs(t, err, fault.ErrNotFound)
	list, err := a.Workspace.Reach("", "imre")
	require.NoError(t, err)
	d, _ := a.Workspace.Document()
	assert.Len(t, list, len(d.Routes))
	_, err = a.Workspace.Reach("", "imree")
	assert.ErrorContains(t, err, `did you mean "imre"?`)
}

func TestFixAndWaive(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "refused"), "")
	text := a.Workspace.Declaration().Text
	var key string
	for _, m := range a.Workspace.Declaration().Messages {
		if m.Code == "no-quota" {
			key = m.Key()
		}
	}
	require.NotEmpty(t, key)
	e, err := a.Workspace.Fix(text, key)
	require.NoError(t, err)
	assert.Contains(t, e.Text, "quotas:")
	e, err = a.Workspace.Waive(text, key, workspace.Accepted{Reason: "it is small", By: "me", Until: "2099-01-01"})
	require.NoError(t, err)
	for _, m := range a.Workspace.Check(e.Text).Messages {
		if m.Key() == key {
			assert.Equal(t, "it is small", m.Waived.Reason)
		}
	}
	for _, c := range [][3]string{{"", "2099-01-01", "say why"}, {"x", "soon", "not a date"},
		{"x", "2001-01-01", "is over already"}} {
		_, err := a.Workspace.Waive(text, key, workspace.Accepted{Reason: c[0], By: "", Until: c[1]})
		assert.ErrorContains(t, err, c[2])
	}
	_, err = a.Workspace.Fix(text, "nothing")
	assert.ErrorIs(t, err, fault.ErrNotFound)
}

func TestCompareRevisions(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "refused"), "")
	d := a.Workspace.Declaration()
	n, err := a.Workspace.Keep(t.Context(),
		strings.Replace(d.Text, "{ at: GET /a, who: r }", "{ at: GET /a, who: anyone }", 1), "open",
		d.Revision)
	require.NoError(t, err)
	c, err := a.Workspace.CompareRevisions(t.Context(), d.Revision, n.Revision)
	require.NoError(t, err)
	assert.Equal(t, 1, c.Opens)
	assert.Equal(t, d.Text, c.From)
	assert.Equal(t, n.Text, c.To)
	_, err = a.Workspace.CompareRevisions(t.Context(), 1, 99)
	assert.ErrorIs(t, err, fault.ErrNotFound)
}
