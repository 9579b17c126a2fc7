package pages

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/testkit/play"
)

const text = `
millgate: 1
targets: { t: { base: "http://h", hosts: { other: "http://o" } } }
routes: [GET /a, GET /b, "GET /c/{id}", "POST /d", { at: "PUT /e/{id}", send: { json: { n: 1 } } }, GET other:/a]
roles: { r: }
schemes: { s: { kind: api-key, in: header, name: X-Key } }
identities: { ann: { roles: r, credentials: { s: { key: kept:K } } } }
access: [{ at: /**, who: r }, { at: "other:/**", who: r }]
origins:
  - at: /**
    allow:
      https://app.example: { credentials: true, headers: [x-key, content-type], methods: [GET, POST, PUT] }
`

// crossings have a control at every route but one with parameters.
type crossings struct {
	play.Crossings
	d *declaration.Document
}

var ann = check.Caller{Identity: "ann", Scheme: "s", State: access.Sound}

func (x crossings) Control(i int) (check.Sample, bool) {
	rt := x.d.Routes[i]
	return check.Sample{Key: "control of " + rt.Key(), Caller: ann, Request: check.Request{Method: rt.Method(),
		Host: rt.Host, Path: rt.Path(), Headers: [][2]string{{"X-Any", "1"}}}}, len(rt.Parameters()) == 0
}

func (x crossings) Address(i int) check.Request {
	return check.Request{Method: x.d.Routes[i].Method(), Host: x.d.Routes[i].Host, Path: "/at"}
}

func planned(t *testing.T, text string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.Targets[0]}, check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

func find(t *testing.T, p *check.Planning, route, column string) *check.Probe {
	t.Helper()
	i := slices.IndexFunc(p.Probes, func(x *check.Probe) bool { return x.Route == route && of(x).Column == column })
	require.GreaterOrEqual(t, i, 0, "%s at %s", column, route)
	return p.Probes[i]
}

func TestWhatIsPlanned(t *testing.T) {
	_, p := planned(t, text)
	at := map[string][]string{}
	for _, x := range p.Probes {
		at[x.Route] = append(at[x.Route], of(x).Column)
		assert.Equal(t, check.SafeFirst, x.Phase)
		assert.False(t, x.Unsafe, "an unsafe request itself is not sent")
	}
	every := []string{"https://app.example", origin.Unrelated}
	assert.Equal(t, append([]string{"https://app.example"}, origin.Kinds...), at["GET /a"], "it stands for its policy")
	assert.Equal(t, every, at["GET /b"])
	assert.Empty(t, at["GET /c/{id}"], "nothing is known that its path could name")
	assert.Equal(t, every, at["POST /d"], "it is asked about: the key is a header field that needs a permission")
	assert.Equal(t, every, at["PUT /e/{id}"])
	assert.Equal(t, append([]string{"https://app.example"}, origin.Kinds...), at["GET other:/a"], "another host")
	assert.Equal(t, 4*(len(origin.Kinds)-1), p.Spared)
	assert.Equal(t, "origin|GET /b|ann|s|sound||unrelated", find(t, p, "GET /b", origin.Unrelated).Key())
	assert.Equal(t, "origin|POST /d|nobody||absent||unrelated", find(t, p, "POST /d", origin.Unrelated).Key())
}

// What is sent: a preflight, the request with its caller's credential, and where the route
// stands for its policy once more without that.
func TestScript(t *testing.T) {
	c, p := planned(t, text)
	for _, x := range []struct {
		route, column string
		sent, kept    []string
	}{
		{"GET /a", "https://app.example", []string{preflight, request, again}, []string{request, preflight, again}},
		{"GET /a", origin.Unrelated, []string{preflight, request}, []string{request, preflight}},
		{"POST /d", origin.Unrelated, []string{preflight}, []string{preflight}},
	} {
		f, sent := play.Run(Family{}.Script(c, find(t, p, x.route, x.column)), -1,
			func(check.Call, time.Duration) check.Report { return check.Report{Fate: check.Answered} })
		names := func(n int, of func(int) string) (out []string) {
			for i := range n {
				out = append(out, of(i))
			}
			return out
		}
		assert.Equal(t, x.sent, names(len(sent), func(i int) string { return sent[i].Name }))
		assert.Equal(t, x.kept, names(len(f.Reports), func(i int) string { return f.Reports[i].Name }))
		for _, call := range sent {
			assert.Equal(t, check.Safe, call.Effect)
			assert.Equal(t, call.Name == request, len(call.As) == 1, "%s: no credential goes with it", call.Name)
			page, _ := At(c.Doc, 0, x.column)
			assert.Equal(t, page.Origin, call.Request.Headers.Get("Origin"), call.Name)
		}
	}
	// What cannot be sent is not known of in part.
	f, _ := play.Run(Family{}.Script(c, find(t, p, "GET /a", origin.Unrelated)), -1,
		func(call check.Call, _ time.Duration) check.Report {
			if call.Name == request {
				return check.Report{Why: "no key"}
			}
			return check.Report{Fate: check.Answered}
		})
	assert.Len(t, f.Reports, 1)
}

// seen is a fact with an answer to each call of a script, through the store.
func seen(t *testing.T, c *check.Context, p *check.Probe,
	answer func(name, page string) (int, [][2]string)) *check.Fact {
	t.Helper()
	f, _ := play.Run(Family{}.Script(c, p), -1, func(call check.Call, _ time.Duration) check.Report {
		status, headers := answer(call.Name, call.Request.Headers.Get("Origin"))
		r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: status, Answer: headers}}
		if status == 0 {
			r.Fate, r.Why = check.Lost, "reset"
		}
		return r
	})
	f.Family, f.Version = Family{}.Name(), Family{}.Version()
	b, err := json.Marshal(f)
	require.NoError(t, err)
	var back check.Fact
	require.NoError(t, json.Unmarshal(b, &back))
	require.NoError(t, back.Read(check.Families{Family{}}))
	return &back
}

func permits(page string) [][2]string {
	return [][2]string{{"Access-Control-Allow-Origin", page}, {"Access-Control-Allow-Credentials", "true"},
		{"Access-Control-Allow-Headers", "x-key, content-type"}, {"Access-Control-Allow-Methods", "GET, POST, PUT"},
		{"Vary", "Origin"}}
}

// careful permits the declared page alone.
func careful(_, page string) (int, [][2]string) {
	if page == "https://app.example" {
		return 200, permits(page)
	}
	return 200, nil
}

func careless(_, page string) (int, [][2]string) { return 200, permits(page) }

func TestJudge(t *testing.T) {
	c, p := planned(t, text)
	none := check.NewEvidence(func(string) *check.Fact { return nil })
	for name, x := range map[string]struct {
		route, column string
		answer        func(name, page string) (int, [][2]string)
		causes        []string
		sure          finding.Confidence
		does          string
	}{
		"as declared": {"GET /a", "https://app.example", careful, nil, finding.Proven, "read as the user"},
		"kept out":    {"GET /a", origin.Unrelated, careful, nil, finding.Proven, "send blindly"},
		"any page": {"GET /a", origin.Unrelated, careless, []string{"origin unrelated"}, finding.Proven,
			"read as the user"},
		"by preflight": {"POST /d", origin.Unrelated, careless, []string{"origin unrelated"}, finding.Likely,
			"read as the user"},
		"not permitted": {"GET /a", "https://app.example", func(string, string) (int, [][2]string) { return 200, nil },
			[]string{"origin missing https://app.example"}, finding.Proven, "nothing"},
		"its preflight is guarded": {"GET /a", "https://app.example", func(n, page string) (int, [][2]string) {
			if n == preflight {
				return 401, permits(page)
			}
			return 200, permits(page)
		}, []string{"origin " + origin.JGuarded + " https://app.example"}, finding.Proven, "nothing"},
		"the request fails": {"GET /a", origin.Unrelated, func(n, page string) (int, [][2]string) {
			if n == request {
				return 503, permits(page)
			}
			return 200, permits(page)
		}, nil, finding.NotSure, ""},
		"no answer": {"GET /a", origin.Unrelated, func(string, string) (int, [][2]string) { return 0, nil }, nil,
			finding.NotSure, ""},
		"turned away": {"GET /a", "https://app.example", func(n, _ string) (int, [][2]string) {
			if n == preflight {
				return careless(n, "https://app.example")
			}
			return 403, nil
		}, nil, finding.NotSure, "send blindly"},
	} {
		probe := find(t, p, x.route, x.column)
		assert.Equal(t, origin.Expect(CallOf(c.Doc, c.Doc.RouteNamed(x.route), ""), of(probe).Page,
			Allowed(c.Doc, c.Doc.RouteNamed(x.route))), Of(c, probe).Want, name)
		v := Family{}.Judge(c, probe, seen(t, c, probe, x.answer), none)
		var causes []string
		sure := v.Proof.Confidence()
		for _, g := range v.Gaps {
			if sure = g.Proof.Confidence(); sure != finding.NotSure {
				causes = append(causes, g.Cause.Cause+g.What)
			}
		}
		assert.Equal(t, []any{x.causes, x.sure}, []any{causes, sure}, "%s: %v", name, v)
		assert.Equal(t, len(x.causes) > 0, v.IsGap(), name)
		assert.Equal(t, x.does, v.Does, name)
	}
}

// Of a route that the declaration no longer has nothing is declared.
func TestAPageAtARouteThatIsGone(t *testing.T) {
	c, p := planned(t, text)
	gone := *find(t, p, "GET /a", origin.Unrelated)
	gone.Route = "GET /gone"
	v := Of(c, &gone)
	assert.Zero(t, v.Want)
	assert.Equal(t, origin.Unrelated, v.Page.ID)
}

// A page that got in is tried on the policy's other routes, unless any page gets in.
func TestMore(t *testing.T) {
	c, p := planned(t, text)
	like := find(t, p, "GET /a", origin.Ending)
	other := find(t, p, "GET /a", origin.Unrelated)
	more := func(answer func(string, string) (int, [][2]string), x *check.Probe) (routes []string) {
		e := check.NewEvidence(func(key string) *check.Fact {
			if key != other.Key() {
				return nil
			}
			return seen(t, c, other, answer)
		})
		next := check.NewPlanning(crossings{d: c.Doc})
		Family{}.More(c, x, e, next)
		for _, m := range next.Probes {
			assert.Equal(t, origin.Ending, of(m).Column)
			routes = append(routes, m.Route)
		}
		return routes
	}
	assert.Equal(t, []string{"GET /b", "POST /d", "PUT /e/{id}"}, more(careful, like))
	assert.Empty(t, more(careless, like))
	assert.Empty(t, more(careful, other), "an unrelated one is asked everywhere anyway")
}

// One careless comparison is one finding for each policy, whichever pages show it.
func TestGather(t *testing.T) {
	c, p := planned(t, text)
	none := check.NewEvidence(func(string) *check.Fact { return nil })
	var all []check.Judged
	for _, x := range p.Probes {
		j := check.Judged{Probe: x}
		for _, g := range (Family{}).Judge(c, x, seen(t, c, x, careless), none).Gaps {
			require.NotNil(t, g.Cause, "%s %s", x.Key(), g.Says)
			j.Gaps = append(j.Gaps, finding.Gap{Row: g.Cause, What: g.What, Scope: g.Scope})
		}
		all = append(all, j)
	}
	Family{}.Gather(c, all)
	found := map[string]int{}
	for _, j := range all {
		for _, g := range j.Gaps {
			found[g.Cause()+" at "+g.Scope.String()]++
		}
	}
	assert.Len(t, found, 2, "%v", found)
	assert.Positive(t, found["origin unrelated at pages at /**"])
	assert.Positive(t, found["origin unrelated at pages at routes without an origins entry of other"])
}

// What versions before kept is judged as it was.
func TestBefore(t *testing.T) {
	c, p := planned(t, text)
	x := find(t, p, "GET /a", origin.Unrelated)
	at := func(headers [][2]string) *check.Exchange {
		return &check.Exchange{Status: 200, Answer: headers, At: time.Unix(9, 0)}
	}
	f := Before(at(permits(of(x).Page)), at(permits(of(x).Page)), nil)
	assert.Equal(t, time.Unix(9, 0), f.Began)
	v := Family{}.Judge(c, x, f, check.NewEvidence(func(string) *check.Fact { return nil }))
	require.True(t, v.IsGap())
	assert.Equal(t, finding.Proven, v.Gaps[0].Proof.Confidence())
	assert.False(t, Family{}.Judge(c, x, Before(at(nil), at(nil), nil),
		check.NewEvidence(func(string) *check.Fact { return nil })).IsGap())
	_, err := Family{}.Decode(Family{}.Version()+1, []byte("null"))
	assert.Error(t, err)
}

// A preflight and what it asks for stand in one column, and are told apart in words.
func TestCellsOfPages(t *testing.T) {
	says := map[bool]string{}
	for _, asks := range []bool{false, true} {
		cell, words := Family{}.Cell(&check.Probe{ID: check.ID{Route: "GET /a"},
			Detail: Detail{Page: "https://app.example", Column: "c", Asks: asks}})
		assert.Equal(t, check.Cell{Route: "GET /a", Lens: check.Origins, Key: "c"}, cell)
		says[asks] = words
	}
	assert.Equal(t, map[bool]string{false: "a page of https://app.example",
		true: "the preflight of a page of https://app.example"}, says)
}
