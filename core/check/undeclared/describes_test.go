package undeclared

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
	"millgate/testkit/play"
)

const three = `{"openapi":"3.0.3","servers":[{"url":"/api"}],"security":[{"s":[]}],
"components":{"securitySchemes":{"s":{"type":"http"}}},
"paths":{"/things":{"parameters":[],"get":{"security":[]},"post":{}},"/things/{no}":{"get":{"security":[{},{"s":[]}]}},
"/spare":{"get":{"summary":"a \"quoted\" } one"}}}}`

// A path is from the root of its host: below the server's, which a template alone does not say.
func TestWhereAnOperationIs(t *testing.T) {
	for _, c := range []struct{ server, path, host string }{
		{"", "/things", ""}, {"/api/", "/api/things", ""}, {"https://h.example/v1", "/v1/things", "https://h.example"},
		{"https://h.example", "/things", "https://h.example"}, {"http://%zz", "/things", ""},
	} {
		var d Description
		if c.server != "" {
			d.Servers = []string{c.server, "/other"}
		}
		path, host := d.At(Operation{Method: "GET", Path: "/things"})
		assert.Equal(t, []string{c.path, c.host}, []string{path, host}, c.server)
	}
}

func TestReading(t *testing.T) {
	want := []Operation{{Method: "GET", Path: "/spare", Asks: true, Says: true},
		{Method: "GET", Path: "/things", Says: true}, {Method: "POST", Path: "/things", Asks: true, Says: true},
		{Method: "GET", Path: "/things/{no}", Says: true}}
	d, ok := Read(three, false)
	require.True(t, ok)
	assert.Equal(t, Description{Routes: want, Servers: []string{"/api"}, Asks: true}, d)

	for name, x := range map[string]struct {
		text string
		cut  bool
		want Description
	}{
		"yaml": {"openapi: 3.1.0\npaths:\n  /a:\n    get: { summary: x }\n", false,
			Description{Routes: []Operation{{Method: "GET", Path: "/a"}}}},
		"yaml that was cut": {"openapi: 3.1.0\npaths:\n  /a:\n    get: { summary: x }\n  /b:\n    ge", true,
			Description{Routes: []Operation{{Method: "GET", Path: "/a"}}, Cut: true}},
		"version 2": {`{"swagger":"2.0","host":"h.example","basePath":"/v1","schemes":["http"],
			"securityDefinitions":{"k":{}},"paths":{"/a":{"delete":{"security":[{"k":[]}]}}}}`, false,
			Description{Routes: []Operation{{Method: "DELETE", Path: "/a", Asks: true, Says: true}},
				Servers: []string{"http://h.example/v1"}, Asks: true}},
		"cut within an operation": {three[:strings.Index(three, `"/spare"`)+20], true,
			Description{Routes: want[1:], Servers: []string{"/api"}, Asks: true, Cut: true}},
	} {
		d, ok := Read(x.text, x.cut)
		require.True(t, ok, name)
		assert.Equal(t, x.want, d, name)
	}
	for _, text := range []string{"", "{", "[]", `{"items":[]}`, "openapi", "<html>openapi: 3.0.0</html>",
		`{"openapi":`,
		"openapi: 3.1.0\na: &a [x, x]\nb: &b [*a, *a]\npaths: {}\n"} {
		_, ok := Read(text, false)
		assert.False(t, ok, text)
		_, ok = Read(text, true)
		assert.False(t, ok, text)
	}
}

func FuzzReading(f *testing.F) {
	f.Add(three)
	f.Add("openapi: 3.1.0\npaths:\n  /a:\n    get: {}\n")
	f.Fuzz(func(t *testing.T, text string) {
		whole, ok := Read(text, false)
		for _, n := range []int{len(text) / 3, len(text) / 2, len(text)} {
			cut, _ := Read(text[:n], true)
			if ok && strings.HasPrefix(strings.TrimSpace(text), "{") {
				assert.LessOrEqual(t, len(cut.Routes), len(whole.Routes))
			}
		}
	})
}

func TestWhatAPageNames(t *testing.T) {
	page := check.Answer{Headers: [][2]string{{"Content-Type", "text/html"}}, Body: []byte(
		`<script src="bundle.js"></script><script>show({ url: "spec/openapi.json", more: '/v3/api-docs' })</script>
		<a href="https://h.example/other.yaml"> "docs/swagger.css" "/docs/"`)}
	assert.Equal(t, []string{"/docs/spec/openapi.json", "/v3/api-docs", "/other.yaml"}, namedBy(page,
		"/docs/index.html"))
	assert.Empty(t, namedBy(check.Answer{Body: page.Body}, "/docs"), "it is no page")
}

const described = `
millgate: 1.1
targets:
  t: { base: "http://h/api", hosts: { id: "http://i" } }
  some: { base: "http://h/api", hosts: { id: "http://i" }, describes: boss }
  all: { base: "http://h/api", hosts: { id: "http://i" }, describes: anyone }
routes: [GET /things, "GET /things/{id}", GET id:/openapi.json]
roles: { r: , boss: }
schemes: { s: { kind: bearer } }
identities:
  ann: { roles: r, credentials: { s: { token: kept:A } } }
  bea: { roles: boss, credentials: { s: { token: kept:B } } }
records: { thing: { fills: "/things/{id}", owned_by: { ann: [t-1] } } }
access: [{ at: /**, who: r }, { at: "id:/**", who: r }]
`

// annsCrossings have ann as the control of each route.
type annsCrossings struct {
	play.Crossings
	d *declaration.Document
}

func (x annsCrossings) ControlAt(i int) (*check.Probe, string) {
	return &check.Probe{ID: check.ID{Family: "crossing", Route: x.d.Routes[i].Key(), Caller: check.Caller{
		Identity: "ann", Scheme: "s", State: access.Sound}}}, "ann"
}

func describing(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(described), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(annsCrossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

// shownCrossings show a fair request at each route.
type shownCrossings struct{ annsCrossings }

func (x shownCrossings) Control(i int) (check.Sample, bool) {
	ctl, _ := x.ControlAt(i)
	return check.Sample{Key: ctl.Key(), Caller: ctl.Caller}, true
}

// A declared route whose address is one of those where descriptions stand may be one: whoever is admitted asks.
func TestDeclaredDescriptions(t *testing.T) {
	c, none := describing(t, "t")
	assert.Empty(t, asked(none, Told), "nobody shows a fair request there")
	p := check.NewPlanning(shownCrossings{annsCrossings{d: c.Doc}})
	Family{}.Plan(c, p)
	assert.Equal(t, []string{"GET id:/openapi.json ann"}, asked(p, Told))
}

func whoAsk(p *check.Planning, route string) (out []string) {
	for _, x := range p.Probes {
		if x.Route == route {
			out = append(out, x.Caller.Identity)
		}
	}
	return out
}

func TestWhoAsksForDescriptions(t *testing.T) {
	_, p := describing(t, "t")
	assert.Equal(t, []string{""}, whoAsk(p, "GET /openapi.json"))
	_, p = describing(t, "some")
	assert.Equal(t, []string{"", "bea", "ann"}, whoAsk(p, "GET /openapi.json"), "who may, and who may not")
	_, p = describing(t, "all")
	assert.Equal(t, []string{""}, whoAsk(p, "GET /openapi.json"))
}

func TestDescribed(t *testing.T) {
	answers := func(by map[string]string) func(check.Call, time.Duration) check.Report {
		return func(call check.Call, _ time.Duration) check.Report {
			who := "nobody"
			if len(call.As) > 0 {
				who = call.As[0].Identity
			}
			r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 404}}
			if text, ok := by[who+" "+call.Request.Path]; ok {
				kind := "application/json"
				if strings.HasPrefix(text, "<") {
					kind = "text/html"
				}
				r.Exchange = check.Exchange{Status: 200, Content: text, Answer: [][2]string{{"Content-Type", kind}}}
				if len(text) == 3 {
					r.Exchange = check.Exchange{Status: int(text[0]-'0') * 100}
				}
			}
			return r
		}
	}
	const page = `<title>API documentation</title><script>show("openapi.json")</script>`
	for _, x := range []struct {
		name, target string
		who          string
		answers      map[string]string
		want         finding.Kind
		says         string
		more         []string
	}{
		{"a file to anybody", "t", "", map[string]string{"nobody /openapi.json": three}, finding.Undeclared,
			"and the inventory does not have it: nobody (no credential) was answered 200. It names POST /things, " +
				"which " +
				"the inventory does not have; what may change something was not asked for. It says that GET /things, " +
				"GET /things/{no} asks for no credential, which is declared otherwise.", []string{"GET /spare",
				"GET /spare"}},
		{"a file to who may see it", "some", "bea", map[string]string{"bea /openapi.json": three}, finding.Agrees,
			"bea may see it", []string{"GET /spare", "GET /spare"}},
		{"a file to who may not", "some", "ann", map[string]string{"ann /openapi.json": three}, finding.Undeclared,
			"and boss may see it: ann was answered 200", []string{"GET /spare", "GET /spare"}},
		{"a file to all", "all", "", map[string]string{"nobody /openapi.json": three}, finding.Agrees,
			"nobody (no credential) may see it", []string{"GET /spare", "GET /spare"}},
		{"nothing", "t", "", nil, finding.Agrees, "turned away", nil},
	} {
		t.Run(x.name, func(t *testing.T) {
			c, p := describing(t, x.target)
			v, _, more := pursued(t, c, p, "GET /openapi.json", x.who, answers(x.answers))
			kind, _, _ := play.Said(v)
			says := v.Says
			for _, g := range v.Gaps {
				says += g.Says
			}
			assert.Equal(t, x.want, kind, says)
			assert.Contains(t, says, x.says)
			var routes []string
			for _, q := range more {
				routes = append(routes, q.Route)
			}
			assert.Equal(t, x.more, routes)
		})
	}
	c, p := describing(t, "t")
	v, f, _ := pursued(t, c, p, "GET /docs", "", answers(map[string]string{"nobody /docs": page,
		"nobody /openapi.json": three}))
	require.Len(t, v.Gaps, 1)
	assert.Contains(t, v.Gaps[0].Says, "A page of this kind takes a token by hand; it would send it to the host that "+
		"shows it.")
	assert.Len(t, f.Reports, 3, "the page, what it names, and an address beside it")

	_, _, more := pursued(t, c, p, "GET /openapi.json", "", answers(map[string]string{"nobody /openapi.json": three}))
	require.Len(t, more, 2, "as nobody, and as somebody")
	for _, x := range []struct {
		name    string
		answers map[string]string
		want    finding.Kind
		sure    finding.Confidence
		says    string
	}{
		{"is served", map[string]string{"nobody /spare": "{}"}, finding.Undeclared, finding.Proven,
			"nobody (no credential) was answered 200"},
		{"is there", map[string]string{"nobody /spare": "401"}, finding.Undeclared, finding.Likely,
			"nobody (no credential) was answered 400"},
		{"is not there", nil, finding.Agrees, finding.Proven, "nothing is there: 404"},
		{"nothing is told apart", map[string]string{"nobody /spare": "401", "nobody /" + check.Nowhere: "401"},
			finding.Unproven, finding.NotSure, "does not show"},
		{"any address is served", map[string]string{"nobody /spare": "{}", "nobody /" + check.Nowhere: "{}"},
			finding.Unproven, finding.NotSure, "does not show"},
	} {
		f, _ := play.Run(Family{}.Script(c, more[0]), -1, answers(x.answers))
		v := Family{}.Judge(c, more[0], &f, check.NewEvidence(func(string) *check.Fact { return nil }))
		kind, sure, _ := play.Said(v)
		says := v.Says
		for _, g := range v.Gaps {
			says += g.Says
		}
		assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, "%s: %s", x.name, says)
		assert.Contains(t, says, x.says, x.name)
	}
}

// pursued plays the probe of a caller at a route, and gives what it leads to.
func pursued(t *testing.T, c *check.Context, p *check.Planning, route, who string,
	answer func(check.Call, time.Duration) check.Report) (check.Verdict, *check.Fact, []*check.Probe) {
	t.Helper()
	for _, q := range p.Probes {
		if q.Route != route || q.Caller.Identity != who {
			continue
		}
		f, _ := play.Run(Family{}.Script(c, q), -1, answer)
		e := check.NewEvidence(func(key string) *check.Fact {
			if key == q.Key() {
				return &f
			}
			return nil
		})
		more := check.NewPlanning(p.Crossings)
		assert.True(t, Family{}.Pursues(q))
		Family{}.More(c, q, e, more)
		return Family{}.Judge(c, q, &f, e), &f, more.Probes
	}
	t.Fatalf("%q does not ask for %s", who, route)
	return check.Verdict{}, nil, nil
}

// What a description names is asked for with an id that somebody has, where one is known.
func TestIDsOfWhatIsNamed(t *testing.T) {
	c, _ := describing(t, "t")
	assert.Equal(t, "/spare/t-1/of/1", filled(c, "/spare/{id}/of/{no}"))
}

// One that is longer than what is kept of an answer says so.
func TestADescriptionThatWasCut(t *testing.T) {
	c, p := describing(t, "all")
	for _, x := range p.Probes {
		if x.Of != Address {
			continue
		}
		said := func(cut bool) string {
			f := &check.Fact{Reports: []check.Report{{Name: check.TheRequest, Fate: check.Answered,
				Exchange: check.Exchange{Status: 200,
					Answer: [][2]string{{"Content-Type", "application/json"}}, Content: three, Truncated: cut}}}}
			return Family{}.Judge(c, x, f, check.NewEvidence(func(string) *check.Fact { return nil })).Says
		}
		assert.NotContains(t, said(false), "longer than what is kept")
		assert.Contains(t, said(true), "longer than what is kept")
		return
	}
	t.Fatal("no address is asked for")
}
