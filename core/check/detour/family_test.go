package detour

import (
	"slices"
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
  all: { base: "http://h", direct: "http://d", unsafe: allowed }
  made: { base: "http://h", unsafe: made-records-only }
  safe: { base: "http://h" }
routes:
  - GET /v2/things
  - { at: POST /v2/things, send: { json: { name: x } } }
  - GET /v2/Things
  - GET /open
  - POST /open
  - GET /v2/things/{id}
  - DELETE /v2/things/{id}
  - GET /last/
roles: { r: }
schemes: { s: { kind: bearer } }
identities: { ann: { roles: r, credentials: { s: { token: kept:A } } } }
records:
  thing: { fills: "/v2/things/{id}", owned_by: { ann: [t-1] }, make: { send: POST /v2/things, json: { name: m }, id: /id }, remove: "DELETE /v2/things/{id}" }
access:
  - { at: GET /open, who: anyone }
  - { at: /**, who: r }
`

type crossings struct{ play.Crossings }

func (crossings) ControlAt(i int) (*check.Probe, string) {
	return &check.Probe{ID: check.ID{Family: "crossing", Of: string(rune('a' + i))}}, "ann"
}

func (crossings) At(int) []*check.Probe { return []*check.Probe{{}} }

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(crossings{})
	Family{}.Plan(c, p)
	return c, p
}

// requests are those of the ways at a route.
func requests(c *check.Context, p *check.Planning, route string) map[string]string {
	out := map[string]string{}
	for _, x := range p.Probes {
		if x.Route == route {
			q := Request(c, x)
			out[x.Of] = q.Method + " " + q.Host + q.Path
		}
	}
	return out
}

func TestWays(t *testing.T) {
	c, p := planned(t, "all")
	assert.Equal(t, map[string]string{TrailingSlash: "GET /v2/things/", DoubledSlash: "GET //v2/things",
		LetterCase: "GET /V2/THINGS", DotSegments: "GET /v2/no-such-place-4f1d/.././things",
		PercentEncoded: "GET /v2/%74hings", HeadMethod: "HEAD /v2/things", OptionsMethod: "OPTIONS /v2/things",
		MethodOverride: "POST /v2/things", PastGateway: "GET (direct)/v2/things"}, requests(c, p, "GET /v2/things"))
	assert.Equal(t, "GET /last", requests(c, p, "GET /last/")[TrailingSlash], "its own is taken away")
	assert.Empty(t, requests(c, p, "GET /open"), "an open route has no guard to step around")
	assert.Equal(t, "GET /open", requests(c, p, "POST /open")[MethodOverride], "an open method may carry another")
	at := requests(c, p, "GET /v2/things/{id}")
	assert.Equal(t, "GET /v2/things/t-1/", at[TrailingSlash])
	assert.Equal(t, "GET /V2/THINGS/t-1", at[LetterCase], "ids keep their letters")
	assert.NotContains(t, at, HeadMethod+"!")
	posts := requests(c, p, "POST /v2/things")
	assert.NotContains(t, posts, HeadMethod, "of a GET alone")
	assert.Equal(t, "GET /v2/things", posts[MethodOverride])
	for _, x := range p.Probes {
		assert.Equal(t, declaration.UnsafeMethod(of(x).Method) || x.Of == MethodOverride, x.Unsafe, x.Key())
		assert.NotEmpty(t, x.Control)
		assert.Equal(t, "nobody ("+x.Of+")", Family{}.Who(x))
	}
}

func TestOverriding(t *testing.T) {
	c, p := planned(t, "all")
	for _, x := range p.Probes {
		q := Request(c, x)
		for _, h := range overrides {
			want := ""
			if x.Of == MethodOverride {
				want = c.Doc.Routes[c.Doc.RouteNamed(x.Route)].Method()
			}
			assert.Equal(t, want, q.Headers.Get(h), x.Key())
		}
		if x.Of == MethodOverride && x.Route == "GET /v2/things/{id}" {
			assert.Equal(t, check.ThenTurnedAway, x.Phase, "it is sent with POST")
		}
	}
	_, p = planned(t, "safe")
	var left []string
	for _, o := range p.Left {
		if o.Route == "GET /v2/things" {
			left = append(left, o.What+": "+o.Why)
			assert.True(t, o.ByTarget)
		}
	}
	assert.Equal(t, []string{"method override: it needs an unsafe method, which the target does not allow here"}, left)
	c, p = planned(t, "made")
	assert.Equal(t, "POST /v2/things/{:record}", requests(c, p, "DELETE /v2/things/{id}")[MethodOverride],
		"on a record that is made for it")
}

// What would refute a way is sent where the way was admitted, and there alone: an address of no route beside what asks
// at another address, and what carried an overridden method by itself.
func TestWhatIsSentToRefuteAWay(t *testing.T) {
	c, p := planned(t, "all")
	for _, status := range []int{200, 401} {
		for _, x := range p.Probes {
			if x.Route != "GET /v2/things" {
				continue
			}
			var second []string
			_, calls := play.Run(Family{}.Script(c, x), 9, func(c check.Call, _ time.Duration) check.Report {
				return check.Report{Name: c.Name, Fate: check.Answered, Exchange: check.Exchange{Status: status}}
			})
			for _, c := range calls[1:] {
				second = append(second, c.Name+" "+c.Request.Path)
			}
			switch {
			case status == 401, x.Of == HeadMethod, x.Of == OptionsMethod, x.Of == PastGateway:
				assert.Empty(t, second, "%s %d", x.Of, status)
			case x.Of == MethodOverride:
				assert.Equal(t, []string{alone + " /v2/things"}, second)
			default:
				require.Len(t, second, 1, x.Of)
				assert.Contains(t, second[0], elsewhere)
				assert.Contains(t, second[0], check.Nowhere)
			}
		}
	}
}

// Every way around a guard: what gets through, and what only looks so.
func TestJudge(t *testing.T) {
	c, p := planned(t, "all")
	const asJSON, asHTML, plain = "application/json", "text/html; charset=utf-8", "text/plain"
	reply := func(status int, kind, body string) check.Answer {
		a := check.Answer{Status: status, Body: []byte(body)}
		if kind != "" {
			a.Headers = [][2]string{{"Content-Type", kind}}
		}
		return a
	}
	oil := reply(200, asJSON, `{"n":"lamp oil"}`)
	refused := check.Answer{Error: "connection refused"}
	for _, x := range []struct {
		way     string
		answer  check.Answer
		control *check.Answer
		want    finding.Kind
		sure    finding.Confidence
	}{
		{HeadMethod, reply(200, asJSON, ""), &oil, finding.Unprotected, finding.Proven},
		{HeadMethod, reply(401, asJSON, ""), &oil, finding.Agrees, finding.Proven},
		{HeadMethod, reply(405, asJSON, ""), &oil, finding.Agrees, finding.Proven},
		{OptionsMethod, reply(200, asJSON, `{"allow":["GET"]}`), &oil, finding.Agrees, finding.Proven},
		{OptionsMethod, reply(204, "", ""), &oil, finding.Agrees, finding.Proven},
		{OptionsMethod, oil, &oil, finding.Unprotected, finding.Proven},
		{OptionsMethod, reply(200, plain, "12 barrels"), &check.Answer{Status: 200, Body: []byte("12 barrels"),
			Headers: [][2]string{{"Content-Type", plain}}}, finding.Unprotected, finding.Proven},
		{OptionsMethod, oil, nil, finding.Unproven, finding.NotSure},
		{PercentEncoded, reply(200, asJSON, `{}`), &oil, finding.Unprotected, finding.Likely},
		{PercentEncoded, oil, &oil, finding.Unprotected, finding.Proven},
		{PercentEncoded, reply(200, asHTML, `<p>`), &oil, finding.Unprotected, finding.Likely},
		{TrailingSlash, reply(204, "", ""), nil, finding.Unprotected, finding.Likely},
		{TrailingSlash, reply(308, "", ""), &oil, finding.Agrees, finding.Proven},
		{TrailingSlash, reply(401, asJSON, ""), &oil, finding.Agrees, finding.Proven},
		{TrailingSlash, reply(500, asJSON, ""), &oil, finding.Unproven, finding.NotSure},
		{TrailingSlash, reply(429, asJSON, ""), &oil, finding.Unproven, finding.NotSure},
		{DotSegments, reply(301, "", ""), &oil, finding.Agrees, finding.Proven},
		{DotSegments, reply(404, asJSON, ""), nil, finding.Unproven, finding.NotSure},
		{DotSegments, reply(404, asJSON, ""), &check.Answer{Status: 403}, finding.Unproven, finding.NotSure},
		{PastGateway, reply(200, asJSON, `{}`), &oil, finding.Unprotected, finding.Proven},
		{PastGateway, refused, &oil, finding.Agrees, finding.Likely},
		{PercentEncoded, refused, &oil, finding.Unproven, finding.NotSure},
		{PastGateway, reply(502, asHTML, ""), &oil, finding.Unproven, finding.NotSure},
	} {
		var probe *check.Probe
		for _, q := range p.Probes {
			if q.Route == "GET /v2/things" && q.Of == x.way {
				probe = q
			}
		}
		require.NotNil(t, probe, x.way)
		v := Family{}.Judge(c, probe, seen(x.answer), check.NewEvidence(func(string) *check.Fact {
			if x.control == nil {
				return nil
			}
			return seen(*x.control)
		}))
		kind, sure, cause := play.Said(v)
		if len(v.Gaps) > 0 {
			want := "way " + x.way
			if x.way == TrailingSlash {
				want = aSlash
			}
			assert.Equal(t, want, cause)
		} else {
			assert.NotEmpty(t, v.Says)
		}
		assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, "%s answered %d", x.way, x.answer.Status)
		assert.Len(t, v.Answers, 1)
	}
	assert.Equal(t, finding.NotSure, Family{}.Judge(c, p.Probes[0], &check.Fact{}, nil).Proof.Confidence())
}

func seen(a check.Answer) *check.Fact {
	r := check.Report{Name: check.TheRequest, Fate: check.Answered, Exchange: check.Exchange{Status: a.Status,
		Answer: a.Headers, Content: string(a.Body), Error: a.Error}}
	if a.Status == 0 {
		r.Fate = check.Lost
	}
	return &check.Fact{Reports: []check.Report{r, refuting(404, "")}}
}

// refuting is what an address of no route was answered.
func refuting(status int, body string) check.Report {
	return check.Report{Name: elsewhere, Fate: check.Answered, Exchange: check.Exchange{Status: status, Method: "GET",
		Content: body}}
}

// What has nothing to do with the route, and gives the same, refutes a way.
func TestWhatRefutesAWay(t *testing.T) {
	c, p := planned(t, "all")
	const oil, other = `{"n":"lamp oil"}`, `{"error":"no such thing"}`
	for _, x := range []struct {
		name             string
		way              string
		answer, refuting string // a body; "" is a 404
		control          string
		want             finding.Kind
		sure             finding.Confidence
	}{
		{"any address is answered", TrailingSlash, other, other, oil, finding.Agrees, finding.Likely},
		{"any address is answered, and this with the record", TrailingSlash, oil, other, oil, finding.Unprotected,
			finding.Proven},
		{"this address alone, with something else", LetterCase, other, "", oil, finding.Unprotected, finding.Likely},
		{"the record, and no other address", LetterCase, oil, "", oil, finding.Unprotected, finding.Proven},
		{"the carrying method gives the same", MethodOverride, oil, oil, oil, finding.Agrees, finding.Likely},
		{"it gives something else", MethodOverride, oil, other, oil, finding.Unprotected, finding.Proven},
		{"both give what the control does not show", MethodOverride, other, other, oil, finding.Agrees, finding.Likely},
		{"nobody must be admitted there", DoubledSlash, other, other, "", finding.Unproven, finding.NotSure},
	} {
		f := seen(check.Answer{Status: 200, Body: []byte(x.answer)})
		f.Reports[1] = refuting(404, "")
		if x.refuting != "" {
			f.Reports[1] = refuting(200, x.refuting)
		}
		if x.way == MethodOverride {
			f.Reports[1].Name = alone
		}
		i := slices.IndexFunc(p.Probes, func(q *check.Probe) bool {
			return q.Route == "GET /v2/things" &&
				q.Of == x.way
		})
		for _, a := range []*check.Report{&f.Reports[0], &f.Reports[1]} {
			a.Exchange.Answer = [][2]string{{"Content-Type", "application/json"}}
		}
		v := Family{}.Judge(c, p.Probes[i], f, check.NewEvidence(func(string) *check.Fact {
			if x.control == "" {
				return nil
			}
			return seen(check.Answer{Status: 200, Body: []byte(x.control), Headers: [][2]string{{"Content-Type",
				"application/json"}}})
		}))
		kind, sure, _ := play.Said(v)
		assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, x.name)
	}
	f := seen(check.Answer{Status: 200, Body: []byte(oil)})
	f.Reports = f.Reports[:1]
	v := Family{}.Judge(c, p.Probes[0], f,
		check.NewEvidence(func(string) *check.Fact { return seen(check.Answer{Status: 200}) }))
	_, sure, _ := play.Said(v)
	assert.Equal(t, finding.Likely, sure, "what was not tried to be refuted is not proven")
}

// What a way did although it was turned away is a gap of its own, of nobody.
func TestCarriedOut(t *testing.T) {
	c, p := planned(t, "all")
	for _, x := range p.Probes {
		if x.Route != "DELETE /v2/things/{id}" || x.Of != DoubledSlash {
			continue
		}
		f, calls := play.Run(Family{}.Script(c, x), -1, func(call check.Call, _ time.Duration) check.Report {
			r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 200, Content: `{"id":"t-9"}`}}
			switch {
			case call.Request.Method == "POST":
				r.Took = map[string]string{check.OnRecord: "t-9"}
			case call.Request.Method == "DELETE":
				r.Exchange.Status = 403
				assert.Equal(t, check.Unsafe, call.Effect)
				assert.Empty(t, call.As)
			case call.Name == "the record afterwards":
				r.Exchange.Status = 404
			}
			return r
		})
		assert.Len(t, calls, 5)
		v := Family{}.Judge(c, x, &f, check.NewEvidence(func(string) *check.Fact { return nil }))
		require.Len(t, v.Gaps, 1)
		assert.Equal(t, check.CarriedOutRows[0], v.Gaps[0].Cause)
		assert.Contains(t, v.Gaps[0].Says, "nobody (doubled slash) was answered 403, and it was carried out")
		return
	}
	t.Fatal("nothing was planned there")
}

func TestCauses(t *testing.T) {
	for _, w := range All {
		row, how := rowOf(&check.Probe{ID: check.ID{Of: w}})
		assert.NotNil(t, row, w)
		assert.NotEmpty(t, how, w)
	}
	assert.Equal(t, access.Closed, Family{}.Expect(nil, &check.Probe{}).Outcome)
}
