package clocks

import (
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
targets: { t: { base: "http://h" } }
routes: [GET /a, POST /b]
schemes:
  s: { kind: bearer, token: jwt, signing_key: env:K, lifetime: { access: l }, login: { send: POST /in,
	take: { access: /t } } }
  o: { kind: bearer, token: jwt, login: { send: POST /in, take: { access: /t } } }
  w: { kind: bearer, token: jwt, issuer: x, signing_key: env:K, login: { send: POST /in, take: { access: /t } } }
lifetimes: { l: { max: 15m, skew: 30s } }
identities: { ann: { credentials: { s: {}, o: {} } }, bot: { credentials: { w: {} } } }
access: [{ at: GET /a, who: signed-in, by: [s, o] }, { at: POST /b, who: signed-in, by: w }]
`

type crossings struct{ play.Crossings }

func control(i int) *check.Probe {
	who := []check.Caller{{Identity: "ann", Scheme: "s", State: access.Sound},
		{Identity: "bot", Scheme: "w", State: access.Sound}}[i]
	route := []string{"GET /a", "POST /b"}[i]
	return &check.Probe{ID: check.ID{Family: "crossing", Route: route, Caller: who}}
}

func (crossings) ControlAt(i int) (*check.Probe, string) {
	return control(i), control(i).Caller.Identity
}
func (crossings) Control(i int) (check.Sample, bool) {
	p := control(i)
	return check.Sample{Key: p.Key(), Caller: p.Caller, Request: check.Request{Method: "GET", Path: "/a"}}, true
}

func planned(t *testing.T) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.Targets[0]}, check.NewPlanning(crossings{})
	Family{}.Plan(c, p)
	return c, p
}

func TestLeeway(t *testing.T) {
	c, p := planned(t)
	require.Len(t, p.Probes, 2, "both sides of the one scheme with a key and a safe route")
	assert.Equal(t, "clock|GET /a|ann|s|sound||ended", p.Probes[0].Key(), "it stands in databases")
	assert.Equal(t, []check.Omission{{Route: "everything behind w", What: "the leeway of its clock",
		Why: "no safe request with it must be admitted"}}, p.Left)
	assert.Equal(t, []time.Duration{time.Second, 27 * time.Second, 33 * time.Second, 5 * time.Minute, time.Hour},
		Offs(30*time.Second))
	assert.Equal(t, []time.Duration{time.Second, 3 * time.Second, 5 * time.Minute, time.Hour}, Offs(0))

	for _, x := range []struct {
		name    string
		leeway  time.Duration
		control int
		want    finding.Kind
		sure    finding.Confidence
		says    string
	}{
		{"as declared", 30 * time.Second, 200, finding.Agrees, finding.Proven,
			"the leeway is between 27 s and 33 s, declared is 30 s"},
		{"none", 0, 200, finding.Agrees, finding.Proven, "the leeway is less than 1 s, declared is 30 s"},
		{"a little", 5 * time.Second, 200, finding.Agrees, finding.Proven, "between 1 s and 27 s"},
		{"a minute", time.Minute, 200, finding.Lifetime, finding.Proven, "The leeway is between 33 s and 5 min"},
		{"five minutes", 5 * time.Minute, 200, finding.Lifetime, finding.Proven, "is admitted; declared is a skew " +
			"of 30 s"},
		{"nothing is compared", 2 * time.Hour, 200, finding.Unproven, finding.NotSure, "no leeway was measured"},
		{"an unfair request", 30 * time.Second, 403, finding.Unproven, finding.NotSure, "was not admitted either"},
		{"another clock each time", -1, 200, finding.Unproven, finding.NotSure, "not of one clock"},
		{"it fails", -2, 200, finding.Unproven, finding.NotSure, "not of one clock"},
	} {
		for k, probe := range p.Probes {
			f, sent := play.Run(Family{}.Script(c, probe), -1, func(call check.Call, _ time.Duration) check.Report {
				as := call.As[0]
				assert.Equal(t, []string{check.Expired, check.NotYet}[k], as.Way)
				in := as.Off <= x.leeway || x.leeway == -1 && as.Off != time.Second
				status := map[bool]int{true: 200, false: 401}[in]
				if x.leeway == -2 {
					status = 500
				}
				return check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: status}}
			})
			require.Len(t, sent, 5)
			v := Family{}.Judge(c, probe, &f, check.NewEvidence(func(key string) *check.Fact {
				assert.Equal(t, control(0).Key(), key)
				return &check.Fact{Reports: []check.Report{{Fate: check.Answered,
					Exchange: check.Exchange{Status: x.control}}}}
			}))
			kind, sure, _ := play.Said(v)
			says := v.Says
			if len(v.Gaps) > 0 {
				says = v.Gaps[0].Says
				assert.Equal(t, []string{"behind", "ahead"}[k], v.Gaps[0].What)
			}
			assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, "%s: %s", x.name, says)
			assert.Contains(t, says, x.says, x.name)
		}
	}
	f, sent := play.Run(Family{}.Script(c, p.Probes[0]), -1, func(check.Call, time.Duration) check.Report {
		return check.Report{Why: "no key"}
	})
	assert.Len(t, sent, 1, "without such a token nothing more is tried")
	kind, _, _ := play.Said(Family{}.Judge(c, p.Probes[0], &f,
		check.NewEvidence(func(string) *check.Fact { return nil })))
	assert.Equal(t, finding.Unproven, kind)
}
