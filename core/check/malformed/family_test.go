package malformed

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

const text = `
millgate: 1
targets: { all: { base: "http://h", unsafe: allowed }, safe: { base: "http://h" } }
routes: ["GET /a/{id}", "PUT /a/{id}", "DELETE /b/{id}/c/{no}", "GET /files/{id}"]
roles: { r: }
schemes:
  s: { kind: bearer }
  link: { kind: link, signature: sig, expires: end, issue: { send: "POST /a/{id}/link", take: { link: /u } } }
identities: { ann: { roles: r, credentials: { s: { token: kept:A }, link: {} } } }
records: { thing: { fills: id, owned_by: { ann: [t-1] } } }
access: [{ at: "GET /files/{id}", who: r, by: link }, { at: /**, who: r }]
`

type params map[string]string

func (p params) Parameters() map[string]string { return p }

type crossings struct {
	play.Crossings
	d *declaration.Document
}

func (x crossings) ControlAt(i int) (*check.Probe, string) {
	p := &check.Probe{ID: check.ID{Family: "crossing", Route: x.d.Routes[i].Key(), Caller: check.Caller{Identity: "ann",
		Scheme: "s", State: access.Sound}}, Phase: check.SafeFirst, Unsafe: x.d.Routes[i].Unsafe(),
		Record: check.Record{Name: "thing", Param: "id", Owner: "ann", Value: "t-1"}, Detail: params{}}
	if strings.HasPrefix(x.d.Routes[i].Path(), "/files") {
		p.Caller.Scheme = "link"
	}
	return p, "ann"
}

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

func TestWhatIsSent(t *testing.T) {
	c, p := planned(t, "all")
	got := map[string]string{}
	for _, x := range p.Probes {
		f, calls := play.Run(Family{}.Script(c, x), -1, func(check.Call, time.Duration) check.Report {
			return check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 404}}
		})
		require.Len(t, calls, 1, "nothing is made for it")
		assert.Equal(t, check.TheRequest, f.Reports[0].Name)
		assert.Equal(t, "ann", calls[0].As[0].Identity)
		assert.Equal(t, x.Unsafe, calls[0].Effect == check.Unsafe)
		got[x.Key()] = calls[0].Request.Method + " " + calls[0].Request.Path
		if x.Route == "GET /files/{id}" {
			assert.Equal(t, map[string]string{"id": "t-1"}, calls[0].Request.Params,
				"the link is for a record that there is")
		}
		if x.Unsafe {
			assert.Equal(t, check.ThenTurnedAway, x.Phase)
		}
	}
	const id = "not'an%22id%3C%5C%3E"
	assert.Equal(t, map[string]string{
		"malformed|GET /a/{id}|ann|s|sound||id":           "GET /a/" + id,
		"malformed|DELETE /b/{id}/c/{no}|ann|s|sound||id": "DELETE /b/" + id + "/c/{no}",
		"malformed|DELETE /b/{id}/c/{no}|ann|s|sound||no": "DELETE /b/t-1/c/" + id,
		"malformed|GET /files/{id}|ann|link|sound||id":    "GET /files/" + id,
	}, got, "one for each parameter of a template, with a safe method where there is one")
	_, p = planned(t, "safe")
	assert.Len(t, p.Probes, 2)
}

func TestJudge(t *testing.T) {
	c, p := planned(t, "all")
	for status, want := range map[int]finding.Confidence{400: finding.Proven, 404: finding.Proven, 200: finding.Proven,
		500: finding.NotSure, 429: finding.NotSure, 0: finding.NotSure} {
		v := Family{}.Judge(c, p.Probes[0], &check.Fact{Reports: []check.Report{{Fate: check.Answered,
			Exchange: check.Exchange{Status: status}}}}, nil)
		assert.Equal(t, want, v.Proof.Confidence(), status)
		assert.Empty(t, v.Gaps)
		assert.NotEmpty(t, v.Says)
		assert.Len(t, v.Answers, 1, "what it shows is judged with all answers")
	}
	assert.Equal(t, finding.NotSure, Family{}.Judge(c, p.Probes[0], &check.Fact{}, nil).Proof.Confidence())
	cell, says := Family{}.Cell(p.Probes[0])
	assert.Equal(t, "malformed {id}", says)
	assert.Equal(t, "ann", cell.Key)
}
