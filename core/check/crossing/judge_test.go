package crossing

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
targets:
  all: { base: "http://h", unsafe: allowed, values: { app: web } }
  made: { base: "http://h", unsafe: made-records-only }
  none: { base: "http://h" }
routes:
  - GET /things
  - GET /things/{id}
  - { at: "PUT /things/{id}", send: { json: { name: x } }, then: [{ send: "GET /things/{id}", as: ann, shows: { has: [/name] } }] }
  - { at: POST /things, send: { json: { name: x } }, then: [{ send: "GET /things/{new}", with: { new: /id }, as: boss }] }
  - DELETE /things/{id}
  - POST /out
roles: { reader: , boss: { includes: reader } }
schemes:
  s: { kind: bearer, login: { send: POST /in, json: { u: "{u}", p: "{p}" }, take: { access: /t } }, logout: POST /out }
identities:
  ann: { roles: reader, credentials: { s: { u: ann, p: env:A } } }
  bob: { roles: reader, credentials: { s: { u: bob, p: env:B } } }
  boss: { roles: boss, credentials: { s: { u: boss, p: env:C } } }
records:
  thing: { fills: "/things/{id}", owned_by: { ann: [t-1], bob: [t-2] }, make: { send: POST /things, json: { name: m }, id: /id }, remove: "DELETE /things/{id}" }
access:
  - { at: GET /things, who: boss }
  - { at: "GET /things/{id}", who: [owner, boss] }
  - { at: "PUT /things/{id}", who: owner }
  - { at: "DELETE /things/{id}", who: owner }
  - { at: POST /things, who: reader }
  - { at: POST /out, who: signed-in }
`

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(nil)
	Family{}.Plan(c, p)
	return c, p
}

// named is a planned probe by its key.
func named(t *testing.T, p *check.Planning, key string) *check.Probe {
	t.Helper()
	var keys []string
	for _, x := range p.Probes {
		if keys = append(keys, x.Key()); x.Key() == key {
			return x
		}
	}
	require.Fail(t, "no probe "+key, strings.Join(keys, "\n"))
	return nil
}

// seen is the fact of an answer.
func seen(a check.Answer) *check.Fact {
	return &check.Fact{Reports: []check.Report{report("the request", a)}, Data: &check.Recorded{}}
}

func report(name string, a check.Answer) check.Report {
	return check.Report{Name: name, Fate: check.Answered, Exchange: check.Exchange{Status: a.Status, Answer: a.Headers,
		Content: string(a.Body), Body: string(a.Sent), Error: a.Error, At: a.At}}
}

// kindOf is the worst kind of a verdict.
func kindOf(v check.Verdict) finding.Kind {
	kind, _, _ := play.Said(v)
	return kind
}

// judged is the verdict on an answer where something is expected.
func judged(t *testing.T, x access.Expectation, identity string, st access.State, a check.Answer,
	k *check.Control) check.Verdict {
	c, p := planned(t, "all")
	probe := *named(t, p, "crossing|GET /things|nobody||absent||")
	probe.Caller = check.Caller{Identity: identity, State: st}
	j := &judging{c: c, p: &probe, f: seen(a), e: check.NewEvidence(func(string) *check.Fact { return nil }), x: x,
		who: "who", answer: a, r: report("the request", a), class: check.Classify(a, c.Doc.Answers), control: k}
	j.verdict()
	return j.v
}

func admittedControl() *check.Control {
	a := check.Answer{Status: 200}
	r := report("the request", a)
	return &check.Control{Who: "boss", Report: &r, Answer: a, Class: check.Admitted}
}

// The matrix of docs: what is expected, by what was answered.
func TestMatrix(t *testing.T) {
	statuses := []int{200, 401, 403, 404, 429, 302, 400, 405, 500, 0}
	for _, c := range []struct {
		name     string
		x        access.Expectation
		identity string
		state    access.State
		want     string
	}{
		{"admit", access.Expectation{Outcome: access.Admit}, "ann", access.Sound, "= R R R ? R ? ? ? ?"},
		{"refuse, no credential", access.Expectation{Outcome: access.Refuse, Decider: 2}, "", access.Absent,
			"U = W W ? W W W ? ?"},
		{"refuse, broken credential", access.Expectation{Outcome: access.Refuse, Decider: 3}, "", access.Broken,
			"U = W W ? W W W ? ?"},
		{"forbid", access.Expectation{Outcome: access.Forbid, Decider: 4, Subject: "role"}, "ann", access.Sound,
			"P W = W ? W W ? ? ?"},
		{"hide", access.Expectation{Outcome: access.Hide, Decider: 6, Subject: "ownership"}, "ann", access.Sound,
			"P W W = ? W W ? ? ?"},
		{"refuse with 403", access.Expectation{Outcome: access.Forbid, Code: 403, Decider: 2, Subject: "credential"},
			"",
			access.Absent, "U W = W ? W W ? ? ?"},
		{"forbid with 400", access.Expectation{Outcome: access.Forbid, Code: 400, Decider: 4, Subject: "role"}, "ann",
			access.Sound, "P W W W ? W = ? ? ?"},
		{"for nobody, by nobody", access.Expectation{Outcome: access.Closed, Decider: 4}, "", access.Absent,
			"U = = = ? ? ? = ? ?"},
		{"for nobody, by somebody", access.Expectation{Outcome: access.Closed, Decider: 4, Subject: "role"}, "ann",
			access.Sound, "P = = = ? ? ? = ? ?"},
		{"either", access.Expectation{Outcome: access.Either}, "", access.Broken, "= = W W ? W W ? ? ?"},
	} {
		want := strings.Fields(c.want)
		for i, s := range statuses {
			a := check.Answer{Status: s}
			if s == 302 {
				a.Headers = [][2]string{{"Location", "/login"}}
			}
			v := judged(t, c.x, c.identity, c.state, a, admittedControl())
			got := map[finding.Kind]string{finding.Agrees: "=", finding.Unproven: "?"}[kindOf(v)]
			if got == "" {
				got = string(kindOf(v))
			}
			assert.Equal(t, want[i], got, "%s, answered %d: %s", c.name, s, v.Says)
			if len(v.Gaps) > 0 {
				assert.NotEmpty(t, v.Gaps[0].Says)
				if c.x.Outcome == access.Either {
					assert.Contains(t, v.Gaps[0].Says, "must be answered as anybody is, or 401: the route is open")
				}
			} else {
				assert.NotEmpty(t, v.Says)
			}
		}
	}
}

func TestRefusalsNeedAControl(t *testing.T) {
	x := access.Expectation{Outcome: access.Forbid, Decider: 4, Subject: "role"}
	bad := check.Answer{Status: 400}
	sent := report("", bad)
	for name, k := range map[string]*check.Control{"none": nil,
		"not admitted": {Who: "boss", Report: &sent, Answer: bad, Class: check.Invalid}} {
		for _, status := range []int{401, 403, 404, 400} {
			v := judged(t, x, "ann", access.Sound, check.Answer{Status: status}, k)
			assert.Equal(t, finding.Unproven, kindOf(v), "%s, %d", name, status)
		}
		assert.Equal(t, finding.OverPermissive, kindOf(judged(t, x, "ann", access.Sound, check.Answer{Status: 200}, k)),
			"an admission proves itself")
	}
	// Told "invalid" for other bytes than the control's: not a wrong refusal.
	other := admittedControl()
	other.Answer.Sent = []byte("{}")
	assert.Equal(t, finding.Unproven, kindOf(judged(t, x, "ann", access.Sound, check.Answer{Status: 400}, other)))
	// An admission that was answered with a redirect may lead elsewhere.
	away := judged(t, x, "ann", access.Sound, check.Answer{Status: 303, Headers: [][2]string{{"Location", "/x"}}}, nil)
	assert.Equal(t, finding.Likely, away.Gaps[0].Proof.Confidence())
	// Without another caller who gets in, one who is turned away may be so for the request.
	admit := access.Expectation{Outcome: access.Admit}
	for k, want := range map[*check.Control]finding.Confidence{nil: finding.Likely, admittedControl(): finding.Proven} {
		v := judged(t, admit, "ann", access.Sound, check.Answer{Status: 403}, k)
		assert.Equal(t, want, v.Gaps[0].Proof.Confidence())
	}
}

// After a control that made or used something up, an equal request meets another state.
func TestWhatTheControlUsedUp(t *testing.T) {
	c, p := planned(t, "all")
	at := time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)
	const control = "crossing|POST /things|ann|s|sound||"
	for name, x := range map[string]struct {
		key     string
		control time.Time
		status  int
		want    finding.Kind
	}{
		"before it":       {"crossing|POST /things|nobody||absent||", at.Add(time.Second), 409, finding.WrongRefusal},
		"after it":        {"crossing|POST /things|nobody||absent||", at.Add(-time.Second), 409, finding.Unproven},
		"no such answer":  {"crossing|POST /things|nobody||absent||", at.Add(-time.Second), 404, finding.WrongRefusal},
		"must enter":      {"crossing|POST /things|boss|s|sound||", at.Add(-time.Second), 409, finding.Unproven},
		"a safe one":      {"crossing|GET /things|nobody||absent||", at.Add(-time.Second), 422, finding.WrongRefusal},
		"must enter, 403": {"crossing|POST /things|boss|s|sound||", at.Add(-time.Second), 403, finding.OverRestrictive},
	} {
		probe := named(t, p, x.key)
		e := check.NewEvidence(func(string) *check.Fact { return seen(check.Answer{Status: 200, At: x.control}) })
		v := Family{}.Judge(c, probe, seen(check.Answer{Status: x.status, At: at}), e)
		assert.Equal(t, x.want, kindOf(v), "%s: %s", name, v.Says)
	}
	assert.Equal(t, control, named(t, p, "crossing|POST /things|nobody||absent||").Control)
}

func TestOwnershipNeedsTwoValues(t *testing.T) {
	c, p := planned(t, "all")
	foreign := named(t, p, "crossing|GET /things/{id}|ann|s|sound|foreign|")
	assert.Equal(t, check.Record{Name: "thing", Param: "id", Owner: "bob", Value: "t-2"}, unshared(foreign.Record))
	d := of(foreign)
	assert.Equal(t, []string{"crossing|GET /things/{id}|ann|s|sound|own|"}, d.Own)
	facts := map[string]*check.Fact{
		"owner":  seen(check.Answer{Status: 200, Body: []byte(`{"id":"t2","title":"Bob's","state":"draft"}`)}),
		d.Own[0]: seen(check.Answer{Status: 200, Body: []byte(`{"id":"t1","title":"Ann's","state":"draft"}`)}),
	}
	d.Owner = []Shown{{"owner", "bob"}} // bob is of ann's class, and not sent
	foreign.Detail = d
	judge := func(shown string) check.Gap {
		v := Family{}.Judge(c, foreign, seen(check.Answer{Status: 200, Body: []byte(shown)}),
			check.NewEvidence(func(key string) *check.Fact { return facts[key] }))
		require.Len(t, v.Gaps, 1)
		return v.Gaps[0]
	}
	assert.Equal(t, finding.Proven, judge(`{"id":"t2","title":"Bob's"}`).Proof.Confidence())
	assert.Contains(t, judge(`{"id":"t2","title":"Bob's"}`).Says, "2 values of bob's answer")
	assert.Equal(t, finding.Likely, judge(`{"id":"t2","state":"draft"}`).Proof.Confidence(),
		"the state is the caller's own too")
	assert.Equal(t, finding.Likely, judge(`{}`).Proof.Confidence())
	facts["owner"].Reports[0].Exchange.Status = 404
	assert.Equal(t, finding.Likely, judge(`{"id":"t2","title":"Bob's"}`).Proof.Confidence(),
		"the owner was not shown it")
}

func unshared(r check.Record) check.Record {
	r.Shared = false
	return r
}

// A refusal whose work went on is one, whatever it was answered with.
func TestCarriedOut(t *testing.T) {
	c, p := planned(t, "all")
	probe := named(t, p, "crossing|DELETE /things/{id}|nobody||absent||")
	judge := func(status int, m *check.Recorded, before, after string) check.Verdict {
		f := seen(check.Answer{Status: status})
		f.Data = m
		for name, body := range map[string]string{"the record before": before, "the record before, read again": before,
			"the record afterwards": after} {
			if r := report(name, check.Answer{Status: 200, Body: []byte(body)}); body == "404" {
				r.Exchange.Status = 404
				f.Reports = append(f.Reports, r)
			} else if body != "" {
				f.Reports = append(f.Reports, r)
			}
		}
		return Family{}.Judge(c, probe, f, check.NewEvidence(func(string) *check.Fact {
			return seen(check.Answer{Status: 200})
		}))
	}
	for after, want := range map[string]finding.Kind{"": finding.Agrees, `{"n":1}`: finding.Agrees,
		`{"n":2}`: finding.Unprotected, "404": finding.Unprotected} {
		v := judge(401, &check.Recorded{}, `{"n":1}`, after)
		assert.Equal(t, want, kindOf(v), after)
		if want == finding.Unprotected {
			assert.Equal(t, "carried out", v.Gaps[0].Cause.Cause)
			assert.Equal(t, finding.Proven, v.Gaps[0].Proof.Confidence())
		}
	}
	v := judge(404, &check.Recorded{}, `{"n":1}`, "404")
	require.Len(t, v.Gaps, 2)
	assert.Equal(t, "carried out", v.Gaps[0].Cause.Cause, "it comes before how it was refused")
	old := judge(401, &check.Recorded{ReadBack: check.Gone}, "", "")
	assert.Equal(t, finding.Likely, old.Gaps[0].Proof.Confidence(), "versions before kept no more than that")
}

func TestFollowUps(t *testing.T) {
	c, p := planned(t, "all")
	probe := named(t, p, "crossing|PUT /things/{id}|ann|s|sound|own|")
	const then = "GET /things/{id} as ann"
	for name, x := range map[string]struct {
		then *check.Report
		want finding.Kind
		sure finding.Confidence
		says string
	}{
		"none":     {nil, finding.Agrees, finding.Proven, "and answered 200"},
		"shows it": {&check.Report{}, finding.Agrees, finding.Proven, "shows that it was carried out"},
		"unsent":   {&check.Report{Why: "no id"}, finding.Agrees, finding.Likely, "its effect was not seen: no id"},
		"fails":    {&check.Report{}, finding.Agrees, finding.Likely, "was answered 503"},
		"misses":   {&check.Report{}, finding.OverRestrictive, finding.Proven, "its answer has no /name"},
	} {
		f := seen(check.Answer{Status: 200})
		if x.then != nil {
			r := *x.then
			if r.Name = then; r.Why == "" {
				r = report(then, map[string]check.Answer{"shows it": {Status: 200, Body: []byte(`{"name":"x"}`)},
					"fails": {Status: 503}, "misses": {Status: 200, Body: []byte(`{}`)}}[name])
			}
			f.Reports = append(f.Reports, r)
		}
		v := Family{}.Judge(c, probe, f, check.NewEvidence(func(string) *check.Fact { return nil }))
		assert.Equal(t, x.want, kindOf(v), name)
		says, sure := v.Says, v.Proof.Confidence()
		if len(v.Gaps) > 0 {
			says, sure = v.Gaps[0].Says, v.Gaps[0].Proof.Confidence()
		}
		assert.Contains(t, says, x.says, name)
		assert.Equal(t, x.sure, sure, name)
	}
}
