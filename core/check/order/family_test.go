package order

import (
	"encoding/json"
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
routes: [GET /a, "GET /a/{id}", { at: POST /a, send: { json: { name: x } } }, "GET /b/{id}", POST /in]
roles: { r: , boss: }
schemes:
  s: { kind: bearer, token: jwt, login: { send: POST /in, json: { u: "{u}" }, take: { access: /t } } }
identities:
  ann: { roles: r, credentials: { s: { u: ann } } }
  bea: { roles: boss, credentials: { s: { u: bea } } }
records: { thing: { fills: id, owned_by: { bea: [t-15] } } }
access: [{ at: /**, who: boss }, { at: "GET /b/{id}", who: signed-in }, { at: POST /in, who: anyone }]
`

type crossings struct {
	play.Crossings
	d *declaration.Document
}

func (x crossings) at(i int, who check.Caller, rel access.Relation) *check.Probe {
	p := &check.Probe{ID: check.ID{Family: "crossing", Route: x.d.Routes[i].Key(), Caller: who, Relation: rel},
		Phase: check.SafeFirst, Detail: Detail{}}
	if len(x.d.Routes[i].Parameters()) > 0 {
		p.Record = check.Record{Name: "thing", Param: "id", Owner: "bea", Value: "t-15"}
	}
	return p
}

func (x crossings) ControlAt(i int) (*check.Probe, string) {
	return x.at(i, check.Caller{Identity: "bea", Scheme: "s", State: access.Sound}, access.Own), "bea"
}

func (x crossings) At(i int) []*check.Probe {
	own, _ := x.ControlAt(i)
	return []*check.Probe{own, x.at(i, check.Caller{State: access.Absent}, ""),
		x.at(i, check.Caller{Identity: "ann", Scheme: "s", State: access.Sound}, access.Foreign)}
}

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

func keys(p *check.Planning) (out []string) {
	for _, x := range p.Probes {
		out = append(out, x.Key())
	}
	return out
}

func TestPlan(t *testing.T) {
	_, p := planned(t, "all")
	assert.Equal(t, []string{
		"order|POST /a|nobody||absent||credential or body",
		"order|GET /a/{id}|nobody||absent||credential or record",
		"order|GET /a/{id}|ann|s|sound||role or record",
		"order|GET /b/{id}|nobody||absent||credential or record",
	}, keys(p), "one of each pair for each guard; everybody who is signed in may enter the second")
	for _, x := range p.Probes {
		assert.Equal(t, "crossing", x.Control[:8])
	}
	_, p = planned(t, "safe")
	assert.NotContains(t, keys(p), "order|POST /a|nobody||absent||credential or body", "it is unsafe")
}

func TestOrderOfSteps(t *testing.T) {
	const body, record, role = bodyOfNobody, recordOfNobody, recordOfRole
	for _, x := range []struct {
		name    string
		of      string
		control int
		answers []int // to the first and the second request
		want    finding.Kind
		sure    finding.Confidence
		says    string
		first   check.Stage
	}{
		{"the guard first", body, 401, []int{401}, finding.Agrees, finding.Proven,
			"the credential is looked at before the body", check.OfCredential},
		{"the body first", body, 401, []int{422}, finding.Leaking, finding.Proven,
			"Nobody (no credential) sent a body that cannot be read and was answered 422; without that it is answered " +
				"401. The body is looked at before the credential.", check.OfBody},
		{"it fails at the body", body, 401, []int{500}, finding.Leaking, finding.Likely, "answered 500",
			check.OfBody},
		{"any body is refused so", body, 400, []int{400}, finding.Unproven, finding.NotSure,
			"was not turned away either", ""},
		{"something else", body, 401, []int{405}, finding.Unproven, finding.NotSure, "neither of the two", ""},
		{"whether there is one is not told", record, 401, []int{401, 401}, finding.Agrees, finding.Proven,
			"the credential is looked at before the record", check.OfCredential},
		{"whether there is one is told", record, 401, []int{404, 404}, finding.Leaking, finding.Proven,
			"The record is looked at before the credential", check.OfRecord},
		{"one id is somebody's", record, 401, []int{401, 404}, finding.Unproven, finding.NotSure,
			"two ids that nobody has are answered in two ways", ""},
		{"everybody gets in", record, 200, []int{404, 404}, finding.Unproven, finding.NotSure,
			"was not turned away either", ""},
		{"the role first", role, 403, []int{403, 403}, finding.Agrees, finding.Proven,
			"the role is looked at before the record", check.OfRole},
		{"the record before the role", role, 403, []int{404, 404}, finding.Agrees, finding.Proven,
			"the record is looked at before the role", check.OfRecord},
	} {
		t.Run(x.name, func(t *testing.T) {
			c, p := planned(t, "all")
			var probe *check.Probe
			for _, q := range p.Probes {
				if probe == nil && q.Of == x.of {
					probe = q
				}
			}
			require.NotNil(t, probe)
			f, sent := play.Run(Family{}.Script(c, probe), -1, answering(x.answers))
			require.Len(t, sent, len(x.answers))
			assert.Len(t, x.answers, Family{}.Cost(c, probe).Requests)
			if x.of == body {
				assert.False(t, json.Valid(sent[0].Request.Body))
				assert.Equal(t, check.Unsafe, sent[0].Effect)
			} else {
				assert.Equal(t, []string{"/a/t-59", "/a/t-60"}, []string{sent[0].Request.Path, sent[1].Request.Path},
					"of the form of one that there is")
			}
			e := check.NewEvidence(func(key string) *check.Fact {
				assert.Equal(t, probe.Control, key)
				return &check.Fact{Reports: []check.Report{{Fate: check.Answered,
					Exchange: check.Exchange{Status: x.control}}}}
			})
			v := Family{}.Judge(c, probe, &f, e)
			kind, sure, _ := play.Said(v)
			says := v.Says
			for _, g := range v.Gaps {
				says += g.Says
			}
			assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, says)
			assert.Contains(t, says, x.says)
			var first check.Stage
			for _, s := range (Family{}).Order(c, probe, &f, e) {
				first = s.First
			}
			assert.Equal(t, x.first, first)
		})
	}
}

// answering gives statuses in their order.
func answering(list []int) func(check.Call, time.Duration) check.Report {
	n := 0
	return func(check.Call, time.Duration) check.Report {
		n++
		return check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: list[n-1]}}
	}
}
