package raised

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
targets: { all: { base: "http://h", unsafe: allowed } }
routes:
  - GET /people/{id}
  - { at: "PUT /people/{id}", send: { json: { name: x } } }
  - { at: POST /people, send: { json: { name: x } } }
  - { at: POST /grants, send: { json: { roles: [] } } }
  - { at: POST /go, effect: command, send: { json: { n: 1 } } }
roles: { reader: , boss: { includes: reader } }
schemes:
  s: { kind: bearer, token: jwt, claims: { roles: /realm/roles }, login: { send: POST /in, json: { p: "{p}" },
	take: { access: /t } } }
identities:
  ann: { roles: reader, credentials: { s: { p: env:A } } }
  bob: { roles: boss, credentials: { s: { p: env:B } } }
records:
  person: { fills: "/people/{id}", owned_by: { ann: [p-1] }, make: { send: POST /people, json: { name: m }, id: /id } }
access: [{ at: "/people/{id}", who: [owner, boss] }, { at: /**, who: reader }]
`

type crossings struct {
	play.Crossings
	d *declaration.Document
}

// At are ann, on her record where there is one, and bob.
func (x crossings) At(i int) (out []*check.Probe) {
	for _, who := range []string{"bob", "ann"} {
		p := &check.Probe{ID: check.ID{Family: "crossing", Route: x.d.Routes[i].Key(),
			Caller: check.Caller{Identity: who,
				Scheme: "s", State: access.Sound}}}
		if len(x.d.Routes[i].Parameters()) > 0 && who == "ann" {
			p.Relation, p.Record = access.Own, check.Record{Name: "person", Param: "id", Owner: who}
		}
		out = append(out, p)
	}
	return out
}

func planned(t *testing.T) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed("all")}, check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

func TestWhatIsPlanned(t *testing.T) {
	_, p := planned(t)
	var keys []string
	for _, x := range p.Probes {
		keys = append(keys, x.Key())
		assert.Equal(t, "boss", Of(x).Role)
		assert.Equal(t, check.ThenRaising, x.Phase)
	}
	assert.Equal(t, []string{"raised-role|PUT /people/{id}|ann|s|sound|own|roles",
		"raised-role|POST /people|ann|s|sound||roles"},
		keys, "by the least of those admitted; not where the body has the claim, or is a command's")
	why := map[string]string{}
	for _, o := range p.Left {
		why[o.Route] = o.Why
	}
	assert.Equal(t, map[string]string{"POST /grants": "its body sets roles itself"}, why)
	assert.Equal(t, "crossing|PUT /people/{id}|ann|s|sound|own|", p.Probes[0].Control)
}

// answers play a script: by the name of a call, in turn.
type answers map[string][]check.Report

func (a answers) run(t *testing.T, c *check.Context, p *check.Probe) (check.Fact, []check.Step) {
	t.Helper()
	s := Family{}.Script(c, p)
	var steps []check.Step
	var last []check.Report
	for {
		step := s.Next(0, last)
		if step.Ends() {
			break
		}
		steps = append(steps, step)
		last = nil
		calls := step.Send
		if step.Lend != nil {
			calls = []check.Call{step.Lend.Make}
		}
		for _, call := range calls {
			list := a[call.Name]
			require.NotEmpty(t, list, "%q is not expected", call.Name)
			r := list[0]
			r.Name = call.Name
			last, a[call.Name] = append(last, r), list[1:]
		}
	}
	data, reports := s.Data()
	return check.Fact{Reports: reports, Data: data}, steps
}

func answer(status int, body string) []check.Report {
	return []check.Report{{Fate: check.Answered, Exchange: check.Exchange{Status: status, Content: body}}}
}

func made() []check.Report {
	r := answer(201, `{"id":"p-9"}`)
	r[0].Took = map[string]string{check.OnRecord: "p-9"}
	return r
}

func TestWhatIsRaisedIsPutBack(t *testing.T) {
	c, p := planned(t)
	const plain, high = `{"roles":["reader"]}`, `{"roles":["reader","boss"]}`
	for name, x := range map[string]struct {
		before, answer, after, end string
		status                     int
		where, left                string
		back                       bool
	}{
		"taken over": {plain, `{}`, high, plain, 200, "the record, read again", "", true},
		"and stays": {plain, `{}`, high, high, 200, "the record, read again",
			"roles was raised to boss and could not be put back to [\"reader\"]", true},
		"as words": {`{"roles":"reader"}`, `{}`, `{"roles":"reader boss"}`, plain, 200,
			"the record, read again", "", true},
		"in the answer":     {plain, high, plain, plain, 200, "the answer", "", true},
		"it was there":      {high, high, high, "", 200, "", "", false},
		"ignored":           {plain, `{}`, plain, "", 200, "", "", false},
		"refused":           {plain, `{}`, "", "", 403, "", "", false},
		"nothing was there": {`{}`, `{}`, high, "", 200, "the record, read again", "", false},
	} {
		a := answers{"POST /people as ann": made(), before: answer(200, x.before),
			check.TheRequest: answer(x.status, x.answer),
			after:            answer(200, x.after), putBack: answer(200, "{}"), again: answer(200, x.end)}
		f, steps := a.run(t, c, p.Probes[0])
		assert.Equal(t, check.TheRequest, f.Reports[0].Name, name)
		assert.Equal(t, "p-9", f.Data.(*Measured).Record)
		back, left := false, ""
		for _, s := range steps {
			if s.Left != nil {
				assert.Equal(t, "p-9", s.Left.Name)
				left = s.Left.Why
			}
			for _, call := range s.Send {
				if call.Name == check.TheRequest {
					assert.JSONEq(t, `{"roles":["boss"],"name":"x"}`, string(call.Request.Body))
					assert.Equal(t, check.Unsafe, call.Effect)
				}
				if call.Name == putBack {
					back = true
				}
			}
		}
		assert.NotNil(t, steps[len(steps)-1].Back, "%s: nobody else is lent it", name)
		assert.Equal(t, []any{x.back, x.left}, []any{back, left}, name)
		v := Family{}.Judge(c, p.Probes[0], &f, check.NewEvidence(func(string) *check.Fact { return nil }))
		if x.where == "" {
			assert.Empty(t, v.Gaps, name)
			continue
		}
		require.Len(t, v.Gaps, 1, name)
		assert.Contains(t, v.Gaps[0].Says, "as seen in "+x.where, name)
		assert.Equal(t, []any{"roles", 4, finding.Proven}, []any{v.Gaps[0].What, v.Gaps[0].Rung,
			v.Gaps[0].Proof.Confidence()})
	}
	f, _ := answers{"POST /people as ann": answer(403, "")}.run(t, c, p.Probes[0])
	assert.Empty(t, f.Reports, "nothing is sent without a record")
	f, _ = answers{check.TheRequest: answer(201, high), without: answer(201, plain)}.run(t, c, p.Probes[1])
	assert.Len(t, Family{}.Judge(c, p.Probes[1], &f,
		check.NewEvidence(func(string) *check.Fact { return nil })).Gaps, 1,
		"what is made has no record before")
}

// What is created is read by who may read whatever it is: that the role is not there is seen then.
func TestWhatIsCreatedIsReadBack(t *testing.T) {
	c, p := planned(t)
	made := p.Probes[1]
	assert.Equal(t, "GET /people/{id}", Of(made).Read)
	assert.Equal(t, "bob", Of(made).By.Identity)
	for _, x := range []struct {
		name, answer, read, theirs string
		status                     int
		want                       finding.Kind
		sure                       finding.Confidence
	}{
		{"raised", `{"id":"p-9"}`, `{"roles":["boss"]}`, `{"roles":["reader"]}`, 200, finding.OverPermissive,
			finding.Proven},
		{"raised, and nobody else is known", `{"id":"p-9"}`, `{"roles":["boss"]}`, `-`, 200, finding.OverPermissive,
			finding.Likely},
		{"everybody has it", `{"id":"p-9"}`, `{"roles":["boss"]}`, `{"roles":["boss"]}`, 200, finding.Agrees,
			finding.Likely},
		{"not raised", `{"id":"p-9"}`, `{"roles":["reader"]}`, "", 200, finding.Agrees, finding.Likely},
		{"not there", `{"id":"p-9"}`, `{"name":"x"}`, "", 200, finding.Agrees, finding.Likely},
		{"not read", `{"id":"p-9"}`, ``, "", 403, finding.Unproven, finding.NotSure},
		{"no id", `{}`, `{"roles":["boss"]}`, "", 200, finding.Unproven, finding.NotSure},
	} {
		f, sent := play.Run(Family{}.Script(c, made), -1, func(call check.Call, _ time.Duration) check.Report {
			r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 201, Content: x.answer}}
			switch call.Name {
			case after, theirs:
				assert.Equal(t, "bob", call.As[0].Identity)
				assert.NotEmpty(t, call.Request.Fill["id"].Slot, "of what was made, not a sample")
				r.Exchange = check.Exchange{Status: x.status, Content: map[string]string{after: x.read,
					theirs: x.theirs}[call.Name]}
			case without:
				if x.theirs == "-" {
					r.Exchange.Status = 409 // there is one of that name
					return r
				}
				assert.JSONEq(t, `{"name":"x"}`, string(call.Request.Body))
				assert.Equal(t, call.Makes.Slot, call.Take[len(call.Take)-1].Slot, "it is removed as well")
				r.Took = map[string]string{call.Makes.Slot: "p-10"}
			default:
				if x.answer != "{}" {
					r.Took = map[string]string{call.Makes.Slot: "p-9"}
				}
			}
			return r
		})
		v := Family{}.Judge(c, made, &f, check.NewEvidence(func(string) *check.Fact { return nil }))
		kind, sure, _ := play.Said(v)
		assert.Equal(t, x.want, kind, x.name)
		assert.Equal(t, x.sure, sure, x.name)
		many := map[bool]int{true: 1, false: 2}[x.answer == "{}"]
		switch x.theirs {
		case "":
		case "-":
			many++
		default:
			many += 2
		}
		assert.Len(t, sent, many, x.name)
	}
}

func TestJudge(t *testing.T) {
	c, p := planned(t)
	for name, x := range map[string]struct {
		status, control int
		sure            finding.Confidence
		says            string
	}{
		"not looked at": {201, 200, finding.NotSure, "roles was not seen in the answer or read back"},
		"turned away":   {400, 200, finding.Likely, "changed nothing that shows"},
		"a failure":     {500, 200, finding.NotSure, "was answered 500"},
		"throttled":     {429, 200, finding.NotSure, "was answered 429"},
		"unfair":        {200, 400, finding.NotSure, "the request without the claim was not admitted: 400"},
	} {
		v := Family{}.Judge(c, p.Probes[0], &check.Fact{Reports: answer(x.status, "")}, check.NewEvidence(
			func(string) *check.Fact { return &check.Fact{Reports: answer(x.control, "")} }))
		assert.Equal(t, x.sure, v.Proof.Confidence(), name)
		assert.Contains(t, v.Says, x.says, name)
	}
	old := Before(check.Exchange{Status: 200}, 1, "p-9", "the answer")
	v := Family{}.Judge(c, p.Probes[0], old, check.NewEvidence(func(string) *check.Fact { return nil }))
	require.Len(t, v.Gaps, 1)
	assert.Equal(t, finding.Likely, v.Gaps[0].Proof.Confidence(), "versions before kept no more than where it was seen")
	data, err := Family{}.Decode(version, []byte(`{"record":"p-9","raised":"the answer"}`))
	require.NoError(t, err)
	assert.Equal(t, old.Data, data)
	_, err = Family{}.Decode(version+1, nil)
	assert.Error(t, err)
	_, says := Family{}.Cell(p.Probes[0])
	assert.Equal(t, "a body that claims roles: boss", says)
	assert.Equal(t, access.Admit, Family{}.Expect(c, p.Probes[0]).Outcome)
	assert.Equal(t, `{}`, string(withMember([]byte(`{}`), "a", make(chan int))),
		"what cannot be written changes nothing")
	assert.Equal(t, `{"a":1}`, string(withMember([]byte(`{}`), "a", 1)))
}
