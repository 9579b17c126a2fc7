package requests

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/testkit/play"
)

const declared = `millgate: 1.1
targets:
  all: { base: "http://h", unsafe: allowed }
  made: { base: "http://h", unsafe: made-records-only }
  none: { base: "http://h" }
routes:
  - GET /a/things
  - "GET /a/things/{id}"
  - GET /b/things
  - { at: POST /a/things, send: { json: { name: a thing, of: [1] } } }
  - { at: "PUT /a/things/{id}", send: { json: { name: x } } }
  - { at: "DELETE /a/things/{id}", send: { json: { why: x } } }
  - { at: POST /a/form, send: { form: { name: x } } }
  - POST /in
roles: { r: }
schemes: { s: { kind: bearer, login: { send: POST /in, json: { p: "{p}" }, take: { access: /t } } } }
identities: { ann: { roles: r, credentials: { s: { p: env:A } } } }
records:
  thing: { fills: id, owned_by: { ann: [t-1] }, make: { send: POST /a/things, json: { name: m }, id: /id },
	remove: "DELETE /a/things/{id}" }
access:
  - { at: [/a/**, /b/**], who: r }
  - { at: POST /in, who: anyone }
`

func planned(t *testing.T, target string) *check.Plan {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(declared), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return check.NewPlan(d, d.TargetNamed(target), check.Families{crossing.Family{}, Family{}})
}

func probes(p *check.Plan) (out []*check.Probe) {
	for _, x := range p.Probes {
		if x.Is(Family{}) {
			out = append(out, x)
		}
	}
	return out
}

// Bodies are tried where JSON is taken, but for logins and deletions; addresses at one read of each prefix.
func TestWhatIsTried(t *testing.T) {
	for target, want := range map[string]map[string]int{
		"all":  {"GET /a/things": 2, "GET /b/things": 2, "POST /a/things": 4, "PUT /a/things/{id}": 4},
		"made": {"GET /a/things": 2, "GET /b/things": 2, "POST /a/things": 4, "PUT /a/things/{id}": 4},
		"none": {"GET /a/things": 2, "GET /b/things": 2},
	} {
		p, got := planned(t, target), map[string]int{}
		for _, x := range probes(p) {
			got[x.Route]++
			assert.NotNil(t, p.Find(x.Control))
			assert.Equal(t, x.Route[:3] != "GET", x.Unsafe)
			assert.Equal(t, map[bool]check.Phase{true: check.ThenRaising, false: check.SafeFirst}[x.Unsafe], x.Phase)
			assert.Equal(t, x.Route == "PUT /a/things/{id}", x.Record.Lent(), "a record that is made for it")
		}
		assert.Equal(t, want, got, target)
	}
}

func TestRequests(t *testing.T) {
	p, said := planned(t, "all"), map[string]bool{}
	for _, x := range probes(p) {
		q := Request(p.Context, x)
		said[x.Of] = true
		switch x.Of {
		case CutOff:
			assert.False(t, json.Valid(q.Body), string(q.Body))
			assert.NotEmpty(t, q.Body)
			assert.Equal(t, "application/json", q.Headers.Get("Content-Type"))
		case OtherType:
			assert.True(t, json.Valid(q.Body))
			assert.Equal(t, "text/plain; charset=utf-8", q.Headers.Get("Content-Type"))
		case Empty:
			assert.Empty(t, q.Body)
		case Nested:
			assert.True(t, json.Valid(q.Body))
			assert.Len(t, q.Body, 2*deep)
		case Percent:
			assert.True(t, strings.HasSuffix(q.Path, "/things%"), q.Path)
		case Long:
			assert.Greater(t, len(q.Query), long)
		}
		assert.Equal(t, x.Route[:strings.Index(x.Route, " ")], q.Method)
	}
	assert.Len(t, said, 6)
}

func TestJudge(t *testing.T) {
	p := planned(t, "all")
	of := func(way string) *check.Probe {
		for _, x := range probes(p) {
			if x.Of == way {
				return x
			}
		}
		t.Fatal(way)
		return nil
	}
	for _, c := range []struct {
		way           string
		first, second int
		control       int
		kind          finding.Kind
		sure          finding.Confidence
		says          string
	}{
		{CutOff, 400, 0, 200, finding.Agrees, finding.Proven, "a body that is cut off was answered 400"},
		{OtherType, 415, 0, 200, finding.Agrees, finding.Proven, "415"},
		{Long, 414, 0, 200, finding.Agrees, finding.Proven, "414"},
		{Long, 200, 0, 200, finding.Agrees, finding.Likely, "a very long query is taken (200)"},
		{Nested, 500, 500, 200, finding.WrongRefusal, finding.Proven, "A deeply nested body was answered 500"},
		{Nested, 500, 400, 200, finding.WrongRefusal, finding.Likely, "answered 500"},
		{Percent, 500, 500, 500, finding.Unproven, finding.NotSure, "the control (ann) was not admitted either: 500"},
		{Empty, 429, 0, 200, finding.Unproven, finding.NotSure, "429"},
		{Empty, 401, 0, 200, finding.Unproven, finding.NotSure, "401"},
		{Empty, 0, 0, 200, finding.Unproven, finding.NotSure, "was not answered"},
	} {
		x, n := of(c.way), 0
		f, calls := play.Run(Family{}.Script(p.Context, x), -1, func(call check.Call, _ time.Duration) check.Report {
			n++
			status := c.first
			if n == 2 {
				status = c.second
			}
			if status == 0 {
				return check.Report{Fate: check.Lost}
			}
			return check.Report{Name: call.Name, Fate: check.Answered, Exchange: check.Exchange{Status: status}}
		})
		assert.Equal(t, c.first == 500, len(calls) == 2, "what fails is sent once more")
		v := Family{}.Judge(p.Context, x, &f, check.NewEvidence(func(string) *check.Fact {
			return &check.Fact{Reports: []check.Report{{Fate: check.Answered,
				Exchange: check.Exchange{Status: c.control}}}}
		}))
		kind, sure, _ := play.Said(v)
		assert.Equal(t, c.kind, kind, "%s %d", c.way, c.first)
		assert.Equal(t, c.sure, sure, "%s %d", c.way, c.first)
		says := v.Says
		if len(v.Gaps) > 0 {
			says = v.Gaps[0].Says
		}
		assert.Contains(t, says, c.says)
		assert.Equal(t, (c.way == Percent || c.way == Long) && c.first != 0, v.AnyShape,
			"a server may refuse an address itself")
	}
}
