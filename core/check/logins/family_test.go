package logins

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/testkit/play"
)

const text = `
millgate: 1
targets:
  all: { base: "http://h", unsafe: allowed, values: { app: web } }
  some: { base: "http://h", unsafe: made-records-only }
routes: [POST /in, GET /a]
roles: { r: }
schemes:
  s: { kind: bearer, login: { send: "POST /in/{u}", headers: { X-Key: "k-{p}", X-App: "{app}" }, form: { user: "{u}", p: "{p}" }, take: { access: /t } } }
  page: { kind: cookie, name: sid, login: { send: POST /page, json: { n: "{n}", p: "{p}" } } }
  bare: { kind: bearer, login: { send: POST /bare, json: { n: "{n}" }, take: { access: /t } } }
identities:
  ann: { roles: r, credentials: { s: { u: ann, p: env:P }, page: { n: ann, p: env:P }, bare: { n: ann } } }
  bob: { roles: r, credentials: { s: { u: bob, p: env:P } } }
access: [{ at: "POST /in", who: anyone }, { at: /**, who: r }]
`

type crossings struct{ play.Crossings }

func (crossings) Using(scheme string) []string { return []string{"lost", "right " + scheme} }

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(crossings{})
	Family{}.Plan(c, p)
	return c, p
}

func TestWhatIsPlanned(t *testing.T) {
	_, p := planned(t, "all")
	var keys []string
	for _, x := range p.Probes {
		keys = append(keys, x.Key())
		assert.True(t, x.Unsafe)
		assert.Equal(t, check.ThenTurnedAway, x.Phase)
	}
	assert.Equal(t, []string{
		"wrong-secret|POST /in/{u}|ann|s|broken||", "wrong-secret|POST /in/{u}|ann|s|broken||empty secret",
		"wrong-secret|POST /in/{u}|ann|s|broken||no secret", "wrong-secret|POST /in/{u}|ann|s|broken||unknown name",
		"wrong-secret|POST /page|ann|page|broken||", "wrong-secret|POST /page|ann|page|broken||empty secret",
		"wrong-secret|POST /page|ann|page|broken||no secret", "wrong-secret|POST /page|ann|page|broken||unknown name"},
		keys, "as one identity of each scheme")
	assert.Equal(t, keys[0], p.Probes[3].Control, "an unknown name must look like a wrong secret does")
	require.Len(t, p.Left, 1)
	assert.Contains(t, p.Left[0].Why, "none of what it is filled with is known to be a secret")
	_, p = planned(t, "some")
	assert.Empty(t, p.Probes, "a wrong login could lock somebody out")
	assert.True(t, p.Left[0].ByTarget)
}

// sent are the requests of a script, whose answers have these status codes in turn.
func sent(c *check.Context, p *check.Probe, status ...int) (check.Fact, []check.Call) {
	return play.Run(Family{}.Script(c, p), -1, func(check.Call, time.Duration) check.Report {
		r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: status[0]}}
		if status = status[1:]; r.Exchange.Status == 0 {
			r.Fate, r.Why = check.Lost, "reset"
		}
		return r
	})
}

func TestWhatIsReplaced(t *testing.T) {
	c, p := planned(t, "all")
	right := check.Fill{Identity: "ann", Scheme: "s", Name: "u"}
	app := check.Fill{Name: "app"}
	for i, want := range []map[string]check.Fill{
		{"u": right, "p": {Made: "wrong"}, "app": app}, {"u": right, "p": {}, "app": app}, {"u": right, "app": app},
		{"u": {Made: "nobody"}, "p": {Made: "wrong"}, "app": app},
	} {
		_, calls := sent(c, p.Probes[i], 401)
		require.Len(t, calls, 1)
		assert.Equal(t, want, calls[0].Request.Fill, p.Probes[i].Of)
		assert.Equal(t, check.Unsafe, calls[0].Effect)
		assert.Empty(t, calls[0].As)
	}
	_, calls := sent(c, p.Probes[2], 401)
	q := calls[0].Request
	assert.Equal(t, "user={u}", string(q.Body), "what holds nothing but the secret goes with it")
	assert.Equal(t, "", q.Headers.Get("X-Key"))
	assert.Equal(t, "{app}", q.Headers.Get("X-App"))
	_, calls = sent(c, p.Probes[6], 401)
	assert.JSONEq(t, `{"n":"{n}"}`, string(calls[0].Request.Body))
}

// A login that signs up whoever it does not know is told from one that admits anybody.
func TestASignUp(t *testing.T) {
	c, p := planned(t, "all")
	f, calls := sent(c, p.Probes[3], 200, 401)
	require.Len(t, calls, 2)
	assert.Equal(t, check.Fill{Made: "nobody"}, calls[1].Request.Fill["u"], "the same name")
	assert.Equal(t, check.Fill{Made: "other"}, calls[1].Request.Fill["p"])
	assert.Equal(t, &Measured{SignedUp: true}, f.Data)
	f, _ = sent(c, p.Probes[3], 200, 200)
	assert.Equal(t, &Measured{}, f.Data)
	_, calls = sent(c, p.Probes[0], 200)
	assert.Len(t, calls, 1, "a known name is signed up by nothing")
}

func TestJudge(t *testing.T) {
	c, p := planned(t, "all")
	token, none := `{"t":"‹token:12›"}`, ""
	login := [][2]string{{"Location", "/login?failed"}}
	cookie := [][2]string{{"Set-Cookie", "sid=‹cookie:1›; Path=/"}}
	for name, x := range map[string]struct {
		probe   int
		status  int
		headers [][2]string
		body    string
		control string // the body of a wrong secret's 401
		right   int    // what the right secret is answered
		cause   string
		sure    finding.Confidence
	}{
		"a token":               {0, 200, nil, token, none, 200, "wrong secret", finding.Proven},
		"a token for nothing":   {2, 200, nil, token, none, 200, "wrong secret", finding.Proven},
		"no token":              {0, 200, nil, `{}`, none, 200, "wrong secret", finding.Likely},
		"a cookie":              {4, 200, cookie, none, none, 200, "wrong secret", finding.Proven},
		"no cookie":             {4, 200, nil, none, none, 200, "wrong secret", finding.Likely},
		"refused":               {0, 401, nil, none, none, 200, "", finding.Proven},
		"invalid":               {0, 400, nil, `{"error":"invalid_grant"}`, none, 200, "", finding.Proven},
		"the login page again":  {4, 302, login, none, none, 200, "", finding.Proven},
		"and nobody gets in":    {0, 401, nil, none, none, 403, "", finding.NotSure},
		"and nobody was sent":   {0, 401, nil, none, none, 0, "", finding.NotSure},
		"failed":                {0, 503, nil, none, none, 200, "", finding.NotSure},
		"throttled":             {0, 429, nil, none, none, 200, "", finding.NotSure},
		"lost":                  {0, 0, nil, none, none, 200, "", finding.NotSure},
		"the same words":        {3, 401, nil, `{"id":"a81f-22"}`, `{"id":"93bc-17"}`, 200, "", finding.Proven},
		"other words":           {3, 401, nil, `{"e":"who?"}`, `{"e":"wrong"}`, 200, "account", finding.Proven},
		"another status":        {3, 404, nil, none, `{"e":"wrong"}`, 200, "account", finding.Proven},
		"nothing to compare to": {3, 404, nil, none, none, 200, "", finding.Proven},
	} {
		probe := p.Probes[x.probe]
		f, _ := sent(c, probe, x.status, x.status)
		f.Reports = f.Reports[:1]
		f.Reports[0].Exchange.Answer, f.Reports[0].Exchange.Content = x.headers, x.body
		f.Family, f.Version = Family{}.Name(), version
		b, err := json.Marshal(f)
		require.NoError(t, err)
		var back check.Fact
		require.NoError(t, json.Unmarshal(b, &back))
		require.NoError(t, back.Read(check.Families{Family{}}))
		v := Family{}.Judge(c, probe, &back, check.NewEvidence(func(key string) *check.Fact {
			r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: x.right}}
			switch {
			case key == "right "+probe.Caller.Scheme && x.right != 0:
			case key == probe.Control && x.control != "":
				r.Exchange.Status, r.Exchange.Content = 401, x.control
			default:
				return nil
			}
			return &check.Fact{Reports: []check.Report{r}}
		}))
		cause, sure := "", v.Proof.Confidence()
		for _, g := range v.Gaps {
			cause, sure = g.Cause.Cause, g.Proof.Confidence()
		}
		assert.Equal(t, []any{x.cause, x.sure}, []any{cause, sure}, "%s: %v", name, v)
		assert.Len(t, v.Answers, 1, "what any answer must show is asked of it as well")
	}
	f := Before(check.Exchange{Status: 200, Content: token}, true)
	v := Family{}.Judge(c, p.Probes[3], f, check.NewEvidence(func(string) *check.Fact { return nil }))
	assert.False(t, v.IsGap(), "a sign-up as well")
	assert.Equal(t, finding.Likely, v.Proof.Confidence())
}

// Pairs of logins are timed in turn, each with a secret and a name of its own.
func TestTiming(t *testing.T) {
	c, _ := planned(t, "all")
	answer := func(status int) func(call check.Call, at time.Duration) check.Report {
		n := 0
		return func(call check.Call, _ time.Duration) check.Report {
			n++
			r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 401, Took: 20 * time.Millisecond}}
			if call.Request.Fill["u"].Made != "" {
				r.Exchange.Took = 5 * time.Millisecond
			}
			if n == 6 && status != 401 {
				if r.Exchange.Status = status; status == 0 {
					r.Fate, r.Why = check.Lost, "connection reset"
				}
			}
			return r
		}
	}
	f, sent := play.Run(Timing(c, "ann", "s", 4), -1, answer(401))
	m, _ := f.Data.(*Timed)
	assert.Equal(t, []time.Duration{20 * time.Millisecond, 20 * time.Millisecond, 20 * time.Millisecond,
		20 * time.Millisecond}, m.Known)
	assert.Len(t, m.Unknown, 4)
	assert.Equal(t, 5*time.Millisecond, m.Unknown[0])
	made := map[string]bool{}
	for _, s := range sent {
		assert.False(t, made[s.Request.Fill["p"].Made], "another secret each time")
		made[s.Request.Fill["p"].Made] = true
		assert.Empty(t, s.As)
	}
	assert.Len(t, sent, 10, "a pair more opens the connection")
	for status, says := range map[int]string{429: "throttles logins (429) after 4", 0: "connection reset"} {
		f, sent = play.Run(Timing(c, "ann", "s", 4), -1, answer(status))
		m, _ = f.Data.(*Timed)
		assert.Contains(t, m.Lost, says)
		assert.Len(t, sent, 6, "it ends there")
	}
}
