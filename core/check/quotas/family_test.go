package quotas

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
	"millgate/testkit/play"
)

const text = `
millgate: 1
targets:
  t: { base: "http://h", unsafe: allowed, drill: 30s, direct: "http://d" }
  safe: { base: "http://h", drill: 30s }
routes: [GET /a, GET /b, "GET /c/{id}", { at: POST /d, send: { json: { x: "1" } } }, POST /e, POST /in,
	GET /f, GET /g, GET /p, GET /q, GET /x/1, GET /x/2, GET /x/3]
roles: { r: , staff: }
schemes:
  s: { kind: bearer, token: jwt, login: { send: POST /in, json: { u: "{u}", p: "{p}" }, take: { access: /t } } }

identities:
  ann: { roles: r, credentials: { s: { u: ann, p: env:A } } }
  bob: { roles: r, credentials: { s: { u: bob, p: env:B } } }
  cyd: { roles: [r, staff], credentials: { s: { u: cyd, p: env:C } } }
access: [{ at: "/**", who: r }, { at: [POST /in, GET /p, GET /q], who: anyone }]
quotas:
  few: { at: [GET /a, GET /b], counted_by: identity, allow: 5 per 2s }
  login: { at: POST /in, counted_by: address, allow: 3 per 4s }
  write: { at: POST /d, counted_by: identity, allow: 4 per 2s }
  make: { at: POST /e, counted_by: identity, allow: 4 per 2s }
  one: { at: "GET /c/{id}", counted_by: identity, model: concurrency, allow: 2 }
  line: { at: GET /f, counted_by: identity, model: token-bucket, allow: 1 per 1s, burst: 5, queue: 2 }
  wide: { at: "/x/*", counted_by: identity, allow: 7 per 10s }
  each: { at: "/x/*", counted_by: identity, allow: 3 per 4s, count_per: route }
  either: { at: [GET /g, GET /p], counted_by: identity or address, allow: 4 per 2s, exempt: [staff] }
  apart: { at: GET /q, counted_by: address, allow: 4 per 2s, exempt: [10.1.0.0/16, staff] }
`

// crossings have ann as the control of each route; /c has a record that is made for it.
type crossings struct {
	play.Crossings
	d *declaration.Document
}

func (x crossings) ControlAt(i int) (*check.Probe, string) {
	if access.Open(x.d, i) && x.d.Routes[i].Method() == "GET" {
		return &check.Probe{ID: check.ID{Family: "crossing", Route: x.d.Routes[i].Key(),
			Caller: check.Caller{State: access.Absent}}}, "nobody"
	}
	p := &check.Probe{ID: check.ID{Family: "crossing", Route: x.d.Routes[i].Key(),
		Caller: check.Caller{Identity: "ann", Scheme: "s", State: access.Sound}}}
	if len(x.d.Routes[i].Parameters()) > 0 {
		p.Record, p.Relation = check.Record{Name: "c", Param: "id", Owner: "ann"}, access.Own
	}
	return p, "ann"
}

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c := &check.Context{Doc: d, Target: d.TargetNamed(target)}
	p := check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

func drillOf(t *testing.T, p *check.Planning, name string) *check.Probe {
	t.Helper()
	for _, x := range p.Probes {
		if x.Of == name {
			return x
		}
	}
	t.Fatalf("no drill of %s: %v", name, p.Left)
	return nil
}

func TestPlan(t *testing.T) {
	c, p := planned(t, "t")
	var keys []string
	for _, x := range p.Probes {
		keys = append(keys, x.Key())
		d, _ := x.Detail.(Detail)
		call := d.call(c, x.Of)
		assert.Equal(t, x.Of, call.Counts)
		assert.Equal(t, map[bool]check.Effect{true: check.Again, false: check.Safe}[call.Request.Method == "POST"],
			call.Effect, x.Of)
	}
	assert.Equal(t, []string{"quota|POST /in|nobody|s|absent||login", "quota|POST /d|ann|s|sound||write",
		"quota|GET /c/{id}|ann|s|sound||one", "quota|GET /f|ann|s|sound||line", "quota|GET /q|nobody||absent||apart",
		"quota|GET /a|ann|s|sound||few", "quota|GET /g|ann|s|sound||either", "quota|GET /p|nobody||absent||either",
		"quota|GET /x/1|ann|s|sound||wide", "quota|GET /x/1|ann|s|sound||each"}, keys, "those of fewer routes first")
	require.Len(t, p.Left, 1)
	assert.Equal(t, "quota make", p.Left[0].Route)
	assert.Contains(t, p.Left[0].Why, "nothing of it can be left out")

	few, _ := drillOf(t, p, "few").Detail.(Detail)
	assert.Equal(t, "GET /b", few.Other.Route, "the same caller's")
	assert.Equal(t, "bob", few.Beside)
	login, _ := drillOf(t, p, "login").Detail.(Detail)
	call := login.call(c, "login")
	assert.Empty(t, call.As)
	assert.Equal(t, []check.Fill{{Made: "nobody"}, {Made: "wrong"}}, []check.Fill{call.Request.Fill["u"],
		call.Request.Fill["p"]}, "it locks nobody out")
	write, _ := drillOf(t, p, "write").Detail.(Detail)
	assert.JSONEq(t, "{}", string(write.call(c, "write").Request.Body), "it is not carried out")
	assert.True(t, drillOf(t, p, "write").Unsafe)
	one, _ := drillOf(t, p, "one").Detail.(Detail)
	assert.Equal(t, "/c/1", one.call(c, "one").Request.Path, "nothing is made for it")

	_, p = planned(t, "safe")
	assert.Len(t, p.Probes, 8, "what is unsafe is left out")
	assert.Contains(t, p.Left[0].Why, "the target does not allow them")
}

// said is what a drill concludes about something.
func said(m *Measured, about string) string {
	for _, c := range m.Conclude(nil) {
		if c.About == about {
			return c.Text
		}
	}
	return ""
}

// What is declared of a quota changes with whether each route counts alone.
func TestWhatIsDeclared(t *testing.T) {
	c, p := planned(t, "t")
	said := 0
	for _, x := range p.Probes {
		q := c.Doc.QuotaNamed(x.Of)
		if q == nil {
			continue
		}
		said++
		for _, each := range []bool{false, true} {
			q.PerRoute = each
			says := Family{}.Declared(c, x)
			assert.Contains(t, says, " of "+q.Name+", ")
			assert.Equal(t, each, strings.HasSuffix(says, ", each route alone"), says)
		}
	}
	assert.Positive(t, said)
}

func TestDrills(t *testing.T) {
	five := []quota.Limit{{Kind: quota.FixedFirst, N: 5, W: 2 * second}}
	queue := []quota.Limit{{Kind: quota.Bucket, N: 1, W: second, Burst: 5, Queue: 2}}
	long := []quota.Limit{{Kind: quota.Bucket, N: 1, W: second, Burst: 5, Queue: 20}}
	one := []quota.Limit{{Kind: quota.Bucket, N: 1, W: second, Burst: 5, Queue: 1}}
	noQueue := []quota.Limit{{Kind: quota.Bucket, N: 1, W: second, Burst: 5}}
	seven := []quota.Limit{{Kind: quota.FixedFirst, N: 7, W: 10 * second}}
	four := []quota.Limit{{Kind: quota.FixedFirst, N: 4, W: 2 * second}}
	three := []quota.Limit{{Kind: quota.FixedFirst, N: 3, W: 4 * second}}
	for _, x := range []struct {
		name  string
		drill string
		s     *service
		kind  finding.Kind
		cause string
		says  string
		more  func(t *testing.T, m *Measured, sent []check.Call)
	}{
		{"as declared", "few", &service{limit: five, count: who}, finding.Agrees, "", "refused within",
			func(t *testing.T, m *Measured, sent []check.Call) {
				assert.Equal(t, "bob 200", fmt.Sprint(m.Other, " ", m.OtherStatus))
				assert.Equal(t, quota.FreshToken, m.Around[len(m.Around)-1].Way)
				for _, a := range m.Around {
					assert.False(t, a.Passed, a.Way)
				}
				assert.InDelta(t, 2*second, m.Fits[0].W, 100_000)
				for _, c := range sent {
					assert.Equal(t, "few", c.Counts, "each is without the pass")
				}
			}},
		{"nothing counts", "few", &service{}, finding.Unthrottled, over, "further up, or later, was not seen", nil},
		{"more than declared", "few", &service{limit: []quota.Limit{{Kind: quota.FixedFirst, N: 8, W: 2 * second}}},
			finding.Unthrottled, over, "calls got through in", nil},
		{"told who calls", "few", &service{limit: five, count: func(c check.Call) string {
			return c.Request.Headers.Get("X-Real-IP") + "!"
		}}, finding.Unthrottled, way, "one with X-Real-IP was answered 200", nil},
		{"letter case", "few", &service{limit: five, count: func(c check.Call) string { return c.Request.Path }},
			finding.Unthrottled, way, "upper case", nil},
		{"each route", "few", &service{limit: five, count: func(c check.Call) string {
			return strings.ToLower(strings.TrimSuffix(c.Request.Path, "/"))
		}}, finding.Unthrottled, routes, "one to GET /b was answered 200", nil},
		{"one count for all", "few", &service{limit: five}, finding.OverRestrictive, shared,
			"the first of bob was refused (429) too", nil},
		{"whomever a token names", "few", &service{limit: five, count: who, guards: true}, finding.OverRestrictive,
			strangers, "5 calls with tokens of bob whose signature does not hold were sent. Then bob was refused (429)",
			func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, Strangers{Status: 429, Whose: "bob", Sent: 5, After: 429, Bare: 401, Third: 401},
					*m.Strangers)
			}},
		{"whom a token shows to be", "few", &service{limit: five, guards: true, count: verified},
			finding.Agrees, "", "refused within", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, Strangers{Status: 401}, *m.Strangers)
			}},
		{"the address, once strangers come often", "few", &service{limit: five, guards: true, count: often()},
			finding.Agrees, "", "refused within", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, 429, m.Strangers.Status)
				assert.Equal(t, m.Strangers.After, m.Strangers.Bare, "nobody is refused as well")
			}},
		{"another status", "few", &service{limit: five, count: who, refuse: 503}, finding.WrongRefusal, refusal,
			"they were answered 503 without Retry-After", nil},
		{"one failure", "few", &service{limit: five, count: who, fails: map[int]int{3: 500}}, finding.Unproven, "",
			"1 calls failed", nil},
		{"two failures, one after the other", "few", &service{limit: five, count: who,
			fails: map[int]int{3: 503, 4: 503}},
			finding.Unproven, "", "2 calls failed", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, 429, m.Status, "it refuses otherwise")
			}},
		{"what its refusals say", "few", &service{limit: five, count: who, says: [][2]string{{"Ratelimit",
			`"few";r=0;t=2`},
			{"X-Ratelimit-Reset", "2"}, {"X-Other", "z"}, {"Retry-After", "2"}}}, finding.Agrees, "", "refused within",
			func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, []string{`RateLimit: "few";r=0;t=2`, "X-RateLimit-Reset: 2", "Retry-After: 2"},
					m.Fields)
			}},
		{"failures beside each other", "one", &service{atOnce: 2, slow: 100 * time.Millisecond,
			fails: map[int]int{9: 502, 10: 502, 11: 502, 12: 502, 13: 502, 14: 502, 15: 502, 16: 502, 17: 502,
				18: 502}},
			finding.Unproven, "", "failed", func(t *testing.T, m *Measured, sent []check.Call) {
				assert.Less(t, len(sent), 30, "it gives up")
				assert.Greater(t, m.Failed, mostFailed)
			}},
		{"it fails half the time", "few", &service{fails: map[int]int{2: 503, 4: 503, 5: 503, 7: 503, 8: 503, 10: 503,
			11: 503, 12: 503, 13: 503}}, finding.Unproven, "", "4 calls failed", nil},
		{"it fails", "few", &service{fails: map[int]int{1: 502}}, finding.Unproven, "", "failed",
			func(t *testing.T, _ *Measured, sent []check.Call) { assert.Len(t, sent, 1) }},
		{"one is lost", "few", &service{lost: map[int]bool{2: true}}, finding.Unproven, "",
			"a call was not answered: connection reset", nil},
		{"one is lost, and too many came before", "few", &service{lost: map[int]bool{11: true}}, finding.Unthrottled,
			over, "10 calls got through", nil},
		{"slow from the first on", "few", &service{slow: 2 * time.Second}, finding.Unproven, "",
			"the first call was not answered within 600ms", nil},
		{"another has no room", "few", &service{unsent: check.Crowded}, finding.Unproven, "", check.Crowded,
			func(t *testing.T, _ *Measured, sent []check.Call) { assert.Len(t, sent, 1) }},
		{"full for a while", "login", &service{limit: three, fails: map[int]int{1: 429}, retry: "4"}, finding.Agrees,
			"", "refused within", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.False(t, m.Full)
				assert.Len(t, m.Around, 10, "a login is no GET, and has no other caller")
			}},
		{"full for good", "login", &service{limit: []quota.Limit{{Kind: quota.FixedFirst, N: 0, W: second}}},
			finding.Unproven, "", "full before", nil},
		{"without what it needs", "write", &service{}, finding.Unthrottled, over, "so that nothing was carried out",
			nil},
		{"they wait", "few", &service{limit: queue, count: who},
			finding.Agrees, "", "wait for their turn", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.True(t, m.Waits)
				assert.Equal(t, quota.Crowd{Sent: 4, Waited: 1, Late: 1, Left: 1, Refused: 3}, *m.Crowd,
					"one waited already, and the next was refused")
				assert.Equal(t, 429, m.Status)
				assert.Equal(t, 200, m.OtherStatus)
			}},
		{"they wait, and too many are refused otherwise", "few", &service{limit: queue, count: who, refuse: 503},
			finding.WrongRefusal, refusal, "they were answered 503 without Retry-After",
			func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, []any{true, 1}, []any{m.Waits, m.Crowd.Waited})
			}},
		{"as many wait as are declared", "line", &service{limit: queue, count: who}, finding.Agrees, "",
			"wait for their turn", nil},
		{"more wait than are declared", "line", &service{limit: long, count: who}, finding.Unthrottled, longer,
			"5 of 5 calls that were sent together waited for their turn, 3 of them for longer than the drill waits; " +
				"line lets 2",
			nil},
		{"as many wait as are declared, on a machine that is busy for a moment", "line", &service{limit: queue,
			count: who,
			late:  map[int]time.Duration{6: busy, 7: busy, 8: busy, 9: busy, 10: busy}}, finding.Agrees, "",
			"wait for their turn", nil},
		{"as many wait as are declared, on a machine that is busy", "line", &service{limit: queue, count: who,
			late: allOf(6, 40, 200*time.Millisecond)}, finding.Unproven, "",
			"or the service was busy, was not seen", nil},
		{"a bucket that lets one in so many through", "few", &service{limit: noQueue, count: who,
			late: allOf(1, 90, 500*time.Millisecond)}, finding.Agrees, "", "refused within",
			func(t *testing.T, m *Measured, _ []check.Call) {
				for _, a := range append(m.Around, m.Route) {
					assert.False(t, a.Passed, a.Way)
				}
			}},
		{"fewer wait than are declared", "line", &service{limit: one, count: who}, finding.OverRestrictive, shorter,
			"4 of 5 calls that were sent together were refused at once, and 1 waited for their turn; line lets 2 wait",
			nil},
		{"none waits", "line", &service{limit: noQueue, count: who}, finding.OverRestrictive, shorter,
			"5 of 5 calls that were sent together were refused at once", func(t *testing.T, m *Measured,
				_ []check.Call) {
				assert.Greater(t, len(m.Calls), 10, "the drill went on")
			}},
		{"the last is served first", "line", &service{limit: noQueue, count: who, takes: map[int]time.Duration{
			6: 2 * time.Second, 7: time.Second, 12: 2 * time.Second, 13: time.Second}}, finding.OverRestrictive,
			overtaken,
			"1 were answered after one that had come later", nil},
		{"the last was served first, once", "line", &service{limit: noQueue, count: who, takes: map[int]time.Duration{
			6: 2 * time.Second, 7: time.Second, 12: time.Second, 13: 2 * time.Second}}, finding.Agrees, "",
			"within what line allows", nil},
		{"they wait, and some fail", "few", &service{limit: queue, count: who, fails: map[int]int{8: 503, 9: 503}},
			finding.Agrees, "", "wait for their turn",
			func(t *testing.T, m *Measured, _ []check.Call) { assert.Equal(t, 429, m.Status) }},
		{"they wait, and one fails", "few", &service{limit: long, count: who, fails: map[int]int{8: 503}},
			finding.Agrees, "", "wait for their turn",
			func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, []any{0, 3}, []any{m.Status, m.Crowd.Waited})
			}},
		{"nodes that count alone", "few", &service{limit: five, count: nodes(3), refuse: 503},
			finding.Unthrottled, over, "they were answered 503 without Retry-After",
			func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, 15, slices.IndexFunc(m.Calls, func(s quota.Seen) bool { return !s.OK }),
					"more than a first stretch has")
			}},
		{"nodes that fill one before the other", "few", &service{limit: five, count: balanced("aaaaaababaabab"),
			refuse: 503}, finding.Unthrottled, over, "they were answered 503 without Retry-After",
			func(t *testing.T, m *Measured, _ []check.Call) { assert.Zero(t, m.Failed) }},
		{"more than declared, and some fail", "few", &service{limit: []quota.Limit{{Kind: quota.FixedFirst, N: 12,
			W: 2 * second}}, count: who, fails: map[int]int{7: 503, 9: 503}}, finding.Unthrottled, over,
			"calls got through in", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Equal(t, []any{429, 2}, []any{m.Status, m.Failed})
			}},
		{"a wider quota, with a tighter one at each route", "wide", &service{limit: seven, count: who},
			finding.Agrees, "",
			"refused within", func(t *testing.T, m *Measured, sent []check.Call) {
				assert.EqualValues(t, 7, m.FirstStretch())
				paths := map[string]bool{}
				for _, c := range sent {
					paths[c.Request.Path] = true
				}
				assert.Len(t, paths, 3)
			}},
		{"the tighter alone", "wide", &service{limit: three, count: func(c check.Call) string {
			return c.Request.Path
		}}, finding.Unproven, "", "after 9 calls at 3 routes in turn one was refused", nil},
		{"neither", "wide", &service{}, finding.Unthrottled, over, "None of", nil},
		{"a tighter one than declared", "wide", &service{limit: four, count: who}, finding.Unproven, "",
			"after 4 calls at 3 routes in turn one was refused, and wide lets 7 through", nil},
		{"who is exempt", "either", &service{limit: four, count: free("cyd", "")}, finding.Agrees, "",
			"cyd is exempt: 5 of its calls were let through meanwhile", nil},
		{"who is exempt is counted", "either", &service{limit: four, count: who}, finding.OverRestrictive, exempt,
			"cyd is exempt from either, and call 5 was refused (429)", nil},
		{"the gateway counts", "either", &service{limit: four, count: free("cyd", check.DirectHost)},
			finding.Agrees, "",
			"refused within", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.True(t, m.Direct.Passed)
				assert.Contains(t, said(m, quota.AboutRefusal), "The gateway refuses")
			}},
		{"the service counts", "either", &service{limit: four, count: free("cyd", "")}, finding.Agrees, "",
			"refused within", func(t *testing.T, m *Measured, _ []check.Call) {
				assert.Contains(t, said(m, quota.AboutRefusal), "The service refuses")
			}},
		{"from where is not counted", "apart", &service{}, finding.Unproven, "",
			"apart does not count 10.1.0.0/16, which they may have come from", nil},
		{"who says to be from there", "apart", &service{limit: four, count: func(c check.Call) string {
			if free("cyd", "")(c) == "" || c.Request.Headers.Get("X-Forwarded-For") == "10.1.0.1" {
				return ""
			}
			return "all"
		}}, finding.Unthrottled, way, "one with X-Forwarded-For, an exempt address was answered 200", nil},
		{"two at once", "one", &service{atOnce: 2, slow: 100 * time.Millisecond}, finding.Agrees, "",
			"how many run at once: 2", nil},
		{"any number at once", "one", &service{atOnce: 1000, slow: 100 * time.Millisecond}, finding.Unthrottled,
			atOnceNone, "were all admitted", nil},
		{"five at once", "one", &service{atOnce: 5, slow: 100 * time.Millisecond}, finding.Unthrottled, atOnce,
			"ran at the same time; one lets 2 run", nil},
	} {
		t.Run(x.name, func(t *testing.T) {
			c, p := planned(t, "t")
			probe := drillOf(t, p, x.drill)
			f, sent := play.Run(Family{}.Script(c, probe), -1, x.s.answer)
			m, _ := f.Data.(*Measured)
			require.NotNil(t, m)
			require.Len(t, f.Reports, 1, "the calls are what was measured")
			v := Family{}.Judge(c, probe, &f, nil)
			kind, sure, cause := play.Said(v)
			says := v.Says
			for _, g := range v.Gaps {
				says += " " + g.Says
			}
			assert.Equal(t, []any{x.kind, x.cause}, []any{kind, cause}, says)
			assert.Contains(t, says, x.says)
			if kind == finding.Unthrottled {
				assert.Equal(t, slices.Contains([]string{"few", "apart", "wide"}, x.drill), sure == finding.Proven,
					"what is shown by other calls is likely")
			}
			if x.more != nil {
				x.more(t, m, sent)
			}
			again, err := json.Marshal(m)
			require.NoError(t, err)
			read, err := Family{}.Decode(version, again)
			require.NoError(t, err)
			back, err := json.Marshal(read)
			require.NoError(t, err)
			assert.JSONEq(t, string(again), string(back))
		})
	}
}

// A drill that was asked for alone goes on to where several nodes would refuse.
func TestLonger(t *testing.T) {
	c, p := planned(t, "t")
	few := drillOf(t, p, "few")
	limit := []quota.Limit{{Kind: quota.FixedFirst, N: 15, W: 2 * second}}
	short := Family{}.Cost(c, few)
	c.Longer = true
	assert.Greater(t, Family{}.Cost(c, few).Time, 5*short.Time)
	f, _ := play.Run(Family{}.Script(c, few), -1, (&service{limit: limit}).answer)
	kind, _, cause := play.Said(Family{}.Judge(c, few, &f, nil))
	assert.Equal(t, []any{finding.Unthrottled, over}, []any{kind, cause}, "15 are three times as many")
}

// Restarted, it is filled and asked once more.
func TestFillAndOneMore(t *testing.T) {
	c, p := planned(t, "t")
	s := &service{limit: []quota.Limit{{Kind: quota.FixedFirst, N: 3, W: 4 * second}}, retry: "4",
		lost: map[int]bool{5: true}}
	login := drillOf(t, p, "login")
	f, sent := play.Run(Fill(c, login), -1, s.answer)
	m, _ := f.Data.(*Measured)
	assert.Equal(t, []any{4, 429, 4 * second}, []any{len(sent), m.Status, m.Said})
	f, _ = play.Run(OneMore(c, login), -1, s.answer)
	require.Len(t, f.Reports, 1)
	assert.Equal(t, []any{check.Answered, 429}, []any{f.Reports[0].Fate, f.Reports[0].Exchange.Status},
		"the first was lost while the service was starting")
}

// Whose count strangers fill is shown by a token of a third that does not hold either.
func TestStrangers(t *testing.T) {
	five := []quota.Limit{{Kind: quota.FixedFirst, N: 5, W: 2 * second}}
	for third, want := range map[int]finding.Confidence{0: finding.Likely, 401: finding.Proven, 429: ""} {
		c, p := planned(t, "t")
		few := drillOf(t, p, "few")
		f, _ := play.Run(Family{}.Script(c, few), -1, (&service{limit: five, guards: true, count: who}).answer)
		f.Data.(*Measured).Strangers.Third = third
		v := Family{}.Judge(c, few, &f, nil)
		if want == "" {
			assert.Empty(t, v.Gaps, "it is whoever shows a token from here that is counted")
			continue
		}
		_, sure, cause := play.Said(v)
		assert.Equal(t, []any{want, strangers}, []any{sure, cause})
	}
}

// What a drill tells of the order in which a service looks.
func TestOrder(t *testing.T) {
	five := []quota.Limit{{Kind: quota.FixedFirst, N: 5, W: 2 * second}}
	for _, x := range []struct {
		name  string
		count func(check.Call) string
		first check.Stage
		says  string
	}{
		{"before", who, check.OfQuota, "with a token whose signature does not hold while few was full: 429"},
		{"behind", verified, check.OfCredential, "with a token whose signature does not hold while few was full: 401"},
	} {
		c, p := planned(t, "t")
		few := drillOf(t, p, "few")
		f, _ := play.Run(Family{}.Script(c, few), -1, (&service{limit: five, guards: true, count: x.count}).answer)
		got := Family{}.Order(c, few, &f, nil)
		require.Len(t, got, 1, x.name)
		assert.Equal(t, []any{x.first, x.says}, []any{got[0].First, got[0].Says})
	}
	c, p := planned(t, "t")
	login := drillOf(t, p, "login")
	f, _ := play.Run(Family{}.Script(c, login), -1, (&service{limit: five}).answer)
	assert.Empty(t, Family{}.Order(c, login, &f, nil), "a login has no credential to look at")
}

func TestBefore(t *testing.T) {
	f := Before(check.Exchange{Status: 429}, quota.Measured{Status: 429})
	m, _ := f.Data.(*Measured)
	assert.Equal(t, []int{429, 429}, []int{m.Status, f.Reports[0].Exchange.Status})
	_, err := Family{}.Decode(version+1, nil)
	require.Error(t, err)
	c, p := planned(t, "t")
	few := drillOf(t, p, "few")
	few.Of = "gone"
	f2, sent := play.Run(Family{}.Script(c, few), -1, nil)
	assert.Empty(t, sent)
	kind, _, _ := play.Said(Family{}.Judge(c, few, &f2, nil))
	assert.Equal(t, finding.Unproven, kind, "of a quota that is declared no more nothing is said")
}

// A quota that counts by one key or another is drilled by each.
func TestEachKeyIsDrilled(t *testing.T) {
	c, p := planned(t, "t")
	var kinds []string
	for _, x := range p.Probes {
		if x.Of != "either" {
			continue
		}
		s := &service{limit: []quota.Limit{{Kind: quota.FixedFirst, N: 4, W: 2 * second}},
			count: func(c check.Call) string {
				if len(c.As) == 0 || c.As[0].Identity == "cyd" {
					return "" // whoever shows no credential is not counted
				}
				return who(c)
			}}
		f, _ := play.Run(Family{}.Script(c, x), -1, s.answer)
		kind, _, cause := play.Said(Family{}.Judge(c, x, &f, nil))
		kinds = append(kinds, fmt.Sprint(Family{}.Who(x), ": ", kind, cause))
	}
	assert.Equal(t, []string{"ann (quota drill): agrees", "nobody (quota drill): Tquota over"}, kinds)

	d, msgs := declaration.Parse("x", []byte(strings.ReplaceAll(text, "[GET /g, GET /p]", "GET /g")), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c.Doc = d
	p = check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	k := slices.IndexFunc(p.Left, func(o check.Omission) bool { return o.What == "the quota drill by address" })
	require.GreaterOrEqual(t, k, 0, p.Left)
	assert.Equal(t, "quota either", p.Left[k].Route)
}

// A caller is counted by the first of a quota's keys that it has, and with all who have none where it has none.
func TestWhatACallerIsCountedBy(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
roles: { reader: }
schemes: { key: { kind: api-key, in: header, name: X-Key }, basic: { kind: basic } }
identities:
  ann: { roles: reader, credentials: { key: { key: env:K } } }
  bob: { credentials: { basic: { username: b, password: env:P } } }
routes: [GET /a]
quotas:
  role: { at: GET /a, allow: 5 per 1m, counted_by: role or address }
  key: { at: GET /a, allow: 5 per 1m, counted_by: key or identity or address }
  header: { at: GET /a, allow: 5 per 1m, counted_by: "header:X-Client or role" }
`), nil)
	require.False(t, declaration.Failed(msgs), "%v", msgs)
	for _, c := range []struct{ quota, who, scheme, want string }{
		{"role", "ann", "key", "role"}, {"role", "bob", "basic", "address"}, {"role", "", "", "address"},
		{"key", "ann", "key", "key"}, {"key", "bob", "basic", "identity"}, {"key", "", "", "address"},
		{"header", "ann", "key", "role"}, {"header", "bob", "basic", "header:X-Client"},
	} {
		i := slices.IndexFunc(d.Quotas, func(q *declaration.Quota) bool { return q.Name == c.quota })
		a := At{Caller: check.Caller{Identity: c.who, Scheme: c.scheme}}
		assert.Equal(t, c.want, a.counted(d, d.Quotas[i], d.IdentityNamed(c.who)), "%s of %s", c.quota, c.who)
	}
}

// Another identity comes with its credential of the drill's scheme, or its first where nobody's is drilled.
func TestAsAnother(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1\nschemes: { s: { kind: basic }, z: { kind: basic } }\n"+
		"identities: { ann: { credentials: { s: { username: a, password: env:A }, z: { username: a, password: "+
		"env:B } } } }\n"),
		nil)
	require.Empty(t, msgs)
	for scheme, want := range map[string]string{"": "s", "z": "z"} {
		x := &drilling{c: &check.Context{Doc: d}, p: &check.Probe{ID: check.ID{Caller: check.Caller{Scheme: scheme}}}}
		assert.Equal(t, []check.Present{{Caller: check.Caller{Identity: "ann", Scheme: want, State: access.Sound}}},
			x.as("ann").As, scheme)
		assert.Equal(t, scheme, x.as("nobody that is declared").As[0].Scheme)
	}
}
