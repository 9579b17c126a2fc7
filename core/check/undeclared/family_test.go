package undeclared

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/testkit/play"
)

const text = `
millgate: 1
targets:
  all: { base: "http://h", unsafe: allowed, hosts: { id: "http://i", far: "http://f" }, ask_for: [/extra, /v2/things] }
  made: { base: "http://h", unsafe: made-records-only }
  safe: { base: "http://h" }
routes:
  - GET /v2/things
  - { at: POST /v2/things, send: { json: { name: x } } }
  - GET /v2/things/{id}
  - { at: "GET /v2/lamps/{no}", send: { path: { no: "7" } } }
  - POST id:/in
roles: { r: }
schemes: { s: { kind: bearer } }
identities: { ann: { roles: r, credentials: { s: { token: kept:A } } } }
records:
  thing: { fills: "/v2/things/{id}", owned_by: { ann: [t-1] }, make: { send: POST /v2/things, json: { name: m }, id: /id }, remove: "DELETE /v2/things/{id}" }
access: [{ at: /**, who: r }]
`

// crossings have ann for a control at the second route.
type crossings struct{ play.Crossings }

func (crossings) ControlAt(i int) (*check.Probe, string) {
	if i != 1 {
		return nil, ""
	}
	return &check.Probe{ID: check.ID{Family: "crossing", Caller: check.Caller{Identity: "ann", Scheme: "s",
		State: access.Sound}}}, "ann"
}

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(crossings{})
	Family{}.Plan(c, p)
	return c, p
}

// asked are the routes that are asked for, with who asks.
func asked(p *check.Planning, what string) (out []string) {
	for _, x := range p.Probes {
		if x.Of == what {
			out = append(out, strings.TrimSpace(x.Route+" "+x.Caller.Identity))
		}
	}
	return out
}

func TestWhatIsAskedFor(t *testing.T) {
	c, p := planned(t, "all")
	assert.Equal(t, []string{
		"PUT /v2/things", "PUT /v2/things ann", "PATCH /v2/things", "PATCH /v2/things ann", "DELETE /v2/things",
		"DELETE /v2/things ann", "POST /v2/things/{id}", "PUT /v2/things/{id}", "PATCH /v2/things/{id}",
		"DELETE /v2/things/{id}", "POST /v2/lamps/{no}", "PUT /v2/lamps/{no}", "PATCH /v2/lamps/{no}",
		"DELETE /v2/lamps/{no}", "GET id:/in", "PUT id:/in", "PATCH id:/in", "DELETE id:/in"}, asked(p, Method))
	assert.Equal(t, []string{"GET /no-such-place-4f1d/at-all", "GET /v2/things/no-such-place-4f1d/at-all",
		"GET /v2/lamps/no-such-place-4f1d/at-all", "GET id:/no-such-place-4f1d/at-all",
		"GET id:/in/no-such-place-4f1d/at-all"}, asked(p, Path))
	close := asked(p, Address)
	assert.Equal(t, []string{"GET /extra", "GET /extra ann", "GET /v0/things", "GET /v0/things ann", "GET /v1/things",
		"GET /v1/things ann", "GET /v3/things", "GET /v3/things ann"}, close[:8], "what is declared is not asked for")
	assert.Subset(t, close, []string{"GET /openapi.json", "GET /v2/docs", "GET /v2/things.json", "GET /v2/users"})
	assert.NotContains(t, close, "GET /v2/things/export", "it is a record's")
	assert.NotContains(t, close, "GET /v1/lamps/{no}", "no other version of what needs a record")
	assert.Contains(t, close, "GET /debug/vars")
	assert.Contains(t, close, "GET id:/debug/vars")
	assert.NotContains(t, close, "GET far:/debug/vars", "no route is there")
	assert.NotContains(t, close, "GET /debug/vars ann")
	for _, x := range p.Probes {
		q := Request(c, x)
		assert.Equal(t, x.Of == Method && q.Method != "GET", x.Unsafe, x.Key())
		if x.Of == Address {
			_, host, _ := strings.Cut(x.Route, " ")
			host = map[bool]string{true: "id:", false: ""}[strings.HasPrefix(host, "id:")]
			assert.Equal(t, "undeclared|GET "+host+"/no-such-place-4f1d/at-all|nobody||absent||unknown-path", x.Control)
		}
		if x.Route == "PUT /v2/things" {
			assert.JSONEq(t, `{"name":"x"}`, string(q.Body), "a sibling's body")
		}
		if x.Route == "DELETE /v2/things" {
			assert.Empty(t, q.Body)
		}
		if x.Route == "PUT /v2/lamps/{no}" {
			assert.Equal(t, "/v2/lamps/7", q.Path)
		}
		if x.Route == "PUT /v2/things/{id}" {
			assert.Equal(t, "/v2/things/{:record}", q.Path, "on a record that is made for it")
		}
	}
}

// Of many addresses the likelier ones are asked for, and how many are not is said.
func TestTheBudget(t *testing.T) {
	var b strings.Builder
	b.WriteString("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes:\n")
	for i := range 40 {
		fmt.Fprintf(&b, "  - GET /v1/c%d\n  - GET /v1/c%d/feed%d\n", i, i, i)
	}
	d, msgs := declaration.Parse("x", []byte(b.String()), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	p := check.NewPlanning(crossings{})
	Family{}.Plan(&check.Context{Doc: d, Target: d.Targets[0]}, p)
	made := 0
	for _, a := range asked(p, Address) {
		if strings.HasPrefix(a, "GET /v1/") && !isDescription(a) {
			made++
		}
	}
	assert.Equal(t, Budget, made, "other versions are beside it")
	left := p.Left[len(p.Left)-1]
	assert.Regexp(t, `^\d+ more addresses$`, left.Route)
	assert.Contains(t, left.Why, "100 are asked for")
}

// Of a large inventory the rest is counted up to a bound.
func TestTheBudgetOfALargeInventory(t *testing.T) {
	var b strings.Builder
	b.WriteString("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "  - GET /v1/c%d\n  - GET /v1/c%d/feed%d\n", i, i, i)
	}
	d, msgs := declaration.Parse("x", []byte(b.String()), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	p := check.NewPlanning(crossings{})
	Family{}.Plan(&check.Context{Doc: d, Target: d.Targets[0]}, p)
	assert.Equal(t, "10000 more addresses, and others", p.Left[len(p.Left)-1].Route)
}

func TestWhatDescribes(t *testing.T) {
	page := func(kind, body string) string {
		return Describes(check.Answer{Status: 200, Headers: [][2]string{{"Content-Type", kind}}, Body: []byte(body)})
	}
	for _, body := range []string{`{"openapi":"3.1.0","paths":{}}`, "openapi: 3.1.0\npaths: {}", "---\nswagger: '2.0'",
		`{"asyncapi":"2.0"`} {
		assert.Equal(t, "a description file of the API", page("text/plain", body), body)
	}
	assert.Equal(t, "a documentation page of the API", page("text/html", "<title>API documentation</title>"))
	for _, body := range []string{`{"items":[]}`, "<title>Village</title>", `{"note":"see openapi"}`} {
		assert.Empty(t, page("text/html", body), body)
	}
}

func TestWhatTheTargetDoesNotAllow(t *testing.T) {
	_, p := planned(t, "safe")
	assert.Equal(t, []string{"GET id:/in"}, asked(p, Method))
	assert.Contains(t, p.Left, check.Omission{Route: "PUT /v2/things", What: "a method that is not declared",
		Why: "the target does not allow unsafe methods", ByTarget: true})
	_, p = planned(t, "made")
	assert.Equal(t, []string{"POST /v2/things/{id}", "PUT /v2/things/{id}", "PATCH /v2/things/{id}",
		"DELETE /v2/things/{id}", "GET id:/in"}, asked(p, Method))
	assert.Contains(t, p.Left, check.Omission{Route: "PUT /v2/lamps/{no}", What: "a method that is not declared",
		Why: "no sample for {no}"})
}

func seen(a check.Answer) *check.Fact {
	return &check.Fact{Reports: []check.Report{{Name: check.TheRequest, Fate: check.Answered,
		Exchange: check.Exchange{Status: a.Status, Answer: a.Headers, Error: a.Error}}}}
}

func TestJudge(t *testing.T) {
	c, p := planned(t, "all")
	of := map[string]*check.Probe{}
	for _, x := range p.Probes {
		if of[x.Of] == nil {
			of[x.Of] = x
		}
	}
	control := 404
	judge := func(what string, a check.Answer) check.Verdict {
		return Family{}.Judge(c, of[what], seen(a), check.NewEvidence(func(string) *check.Fact {
			return seen(check.Answer{Status: control})
		}))
	}
	login := [][2]string{{"Location", "/login"}}
	for _, what := range []string{Path, Method, Address} {
		for status, want := range map[int]string{200: "X served", 204: "X served", 301: "=", 401: "=", 403: "=",
			404: "=", 400: "=", 405: "=", 429: "?", 500: "W stray failed", 302: "W stray to-login", 0: "?"} {
			a := check.Answer{Status: status}
			if status == 302 {
				a.Headers = login
			}
			v := judge(what, a)
			got := "="
			switch {
			case len(v.Gaps) > 0:
				got = string(v.Gaps[0].Cause.Kind) + " " + v.Gaps[0].Cause.Cause
				assert.Equal(t, []any{1, finding.Proven}, []any{v.Gaps[0].Rung, v.Gaps[0].Proof.Confidence()})
			case v.Proof.Confidence() == finding.NotSure:
				got = "?"
			}
			assert.Equal(t, want, got, "%s answered %d", what, status)
		}
	}
	assert.Contains(t, judge(Path, check.Answer{Status: 200}).Gaps[0].Says, "is a made-up path")
	control = 200
	v := judge(Address, check.Answer{Status: 200})
	assert.Empty(t, v.Gaps, "a service that answers every path proves nothing by answering this one")
	assert.Equal(t, finding.Likely, v.Proof.Confidence(), "it is answered like any")
	html := [][2]string{{"Content-Type", "text/html"}}
	v = judge(Address, check.Answer{Status: 200, Headers: html})
	assert.Equal(t, finding.NotSure, v.Proof.Confidence(), "it is answered otherwise, which may be by chance")
	control = 404
	f := seen(check.Answer{Status: 200, Headers: html})
	near := seen(check.Answer{Status: 200, Headers: html}).Reports[0]
	near.Name = beside
	f.Reports = append(f.Reports, near)
	v = Family{}.Judge(c, of[Address], f, check.NewEvidence(func(string) *check.Fact { return nil }))
	assert.Equal(t, finding.Likely, v.Proof.Confidence(), "like what is beside it")
	assert.Len(t, judge(Path, check.Answer{Status: 200}).Gaps, 1)
	assert.Equal(t, finding.NotSure, Family{}.Judge(c, of[Path], &check.Fact{}, nil).Proof.Confidence())
}

func TestScript(t *testing.T) {
	c, p := planned(t, "all")
	for _, x := range p.Probes {
		f, calls := play.Run(Family{}.Script(c, x), -1, func(call check.Call, _ time.Duration) check.Report {
			r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 200, Content: `{"n":1}`}}
			if call.Name == "POST /v2/things as ann" {
				r.Took = map[string]string{check.OnRecord: "t-9"}
			}
			return r
		})
		require.NotEmpty(t, f.Reports)
		assert.Equal(t, check.TheRequest, f.Reports[0].Name)
		for _, call := range calls {
			if call.Name != check.TheRequest {
				continue
			}
			assert.Equal(t, call.Request.Method == "POST", call.Makes != nil, "what it makes is to be removed")
			assert.Equal(t, x.Unsafe, call.Effect == check.Unsafe, x.Key())
			assert.Equal(t, x.Caller.Identity == "ann", len(call.As) == 1)
			assert.False(t, call.Must)
		}
		_, says := Family{}.Cell(x)
		assert.NotEmpty(t, says)
	}
}

// Where the control's caller comes with a link, one for what is asked for is asked for.
func TestLinks(t *testing.T) {
	c, p := planned(t, "all")
	c.Doc.SchemeNamed("s").Kind = declaration.Link
	for _, x := range p.Probes {
		q := Request(c, x)
		if x.Caller.Identity == "" || x.Of != Method {
			assert.Empty(t, q.Params)
			continue
		}
		x.Record = check.Record{Name: "thing", Param: "id", Owner: "ann", Value: "t-1"}
		assert.Equal(t, map[string]string{"id": "t-1"}, Request(c, x).Params, x.Key())
	}
}
