package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/declaration"
	"millgate/core/finding"
)

func doc(t *testing.T, schemes string) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, "+
		"POST /a]\n"+schemes), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return d
}

func reply(status int, kind, body string) check.Answer {
	return check.Answer{Status: status, Headers: [][2]string{{"Content-Type", kind}}, Body: []byte(body)}
}

const asJSON, asHTML = "application/json", "text/html; charset=utf-8"

// A refusal that depends on what kind of answer is asked for.
func TestRefusalsOfOtherKinds(t *testing.T) {
	d := doc(t, "answers: { 401: { type: application/problem+json }, login_page: { location: \"**/login**\" }, "+
		"never: { text: [hush] } }\n"+people)
	to := reply(302, "", "")
	to.Headers = append(to.Headers, [2]string{"Location", "/login?next=/a"})
	for _, c := range []struct {
		way    string
		answer check.Answer
		want   finding.Kind
	}{
		{crossing.AcceptHTML, reply(401, asHTML, "<p>no"), finding.Agrees}, // who asks for a page may get one
		{crossing.AcceptHTML, reply(401, asHTML, "hush"), finding.Leaking}, // but not with what must never be shown
		{crossing.AcceptNone, reply(401, asHTML, "<p>no"), finding.WrongRefusal},
		{crossing.AcceptNone, reply(401, "application/problem+json", "{}"), finding.Agrees},
		{crossing.AcceptHTML, to, finding.WrongRefusal},
		// a page in place of a refusal opens nothing
		{crossing.AcceptHTML, reply(200, asHTML, "<form>"), finding.WrongRefusal},
		{crossing.AcceptHTML, reply(200, asJSON, `{"n":1}`), finding.Unprotected},
	} {
		p := &check.Probe{ID: check.ID{Family: "crossing", Route: "GET /a", Caller: check.Caller{State: access.Absent},
			Of: c.way}, Control: "control"}
		v := judged(d, p, c.answer, map[string]check.Answer{"control": reply(200, asJSON, `{"n":1}`)})
		assert.Equal(t, c.want, v.Kind, "%s answered %d %s: %s", c.way, c.answer.Status,
			c.answer.Header("Content-Type"), v.Reason)
	}
}

// people are those of a declaration in which ann and bob have the role of everything.
const people = `
schemes: { s: { kind: bearer } }
roles: { r: , q: }
identities: { ann: { roles: r, credentials: { s: { token: kept:A } } }, bob: { roles: r, credentials: { s: { token: kept:B } } } }
access: [{ at: /**, who: r }]
`

// judged is the verdict on a crossing, beside the answers of others.
func judged(d *declaration.Document, p *check.Probe, a check.Answer, others map[string]check.Answer) Verdict {
	fact := func(a check.Answer) *check.Fact {
		return &check.Fact{Reports: []check.Report{{Fate: check.Answered, Exchange: check.Exchange{Status: a.Status,
			Answer: a.Headers, Content: string(a.Body), Texts: a.Texts}}}}
	}
	e := check.NewEvidence(func(key string) *check.Fact {
		if o, ok := others[key]; ok {
			return fact(o)
		}
		return nil
	})
	c := &check.Context{Doc: d, Target: d.Targets[0]}
	in := input(d, p)
	in.Answer = a
	return Of(in, func() check.Verdict {
		return crossing.Family{}.Judge(c, p, fact(a), e)
	})
}

// A family's verdict is one of all: its gaps gather where it says that one mend would be,
// and what it could not show is no gap.
func TestVerdictsOfFamilies(t *testing.T) {
	d := doc(t, "schemes: { s: { kind: basic } }\n")
	p := &check.Probe{ID: check.ID{Family: "made-up", Route: "POST /a", Caller: check.Caller{Identity: "ann",
		Scheme: "s"}}}
	row := &finding.Row{Cause: "made-up ", Kind: finding.Leaking, Title: "{what} is shown", Advice: "Hide it.",
		OWASP: finding.API3, CWE: 200}
	seen := check.Report{Name: "look", Fate: check.Answered, Exchange: check.Exchange{Status: 200}}
	gap := check.Gap{Cause: row, What: "the shelf", Rung: 7, Scope: finding.Scope{Of: finding.AtScheme, Name: "s"},
		Says: "It is shown.", Proof: check.Shown(seen)}
	of := func(v check.Verdict) Verdict {
		return Of(input(d, p), func() check.Verdict { return v })
	}

	v := of(check.Verdict{Gaps: []check.Gap{gap, gap}})
	assert.Equal(t, finding.Leaking, v.Kind)
	assert.Equal(t, finding.Proven, v.Confidence)
	fs := gather(d, []Item{{Probe: p, Verdict: v}})
	require.Len(t, fs, 1, "two gaps of one cause in one scope")
	f := fs[0]
	assert.Equal(t, []string{"everything behind s", "the shelf is shown", "Hide it.", "made-up the shelf", "POST /a",
		"ann"},
		[]string{f.Where(), f.Title, f.Advice, f.Cause, f.At, f.Column})
	gap.Scope = finding.Scope{}
	assert.Equal(t, "POST /a", gather(d,
		[]Item{{Probe: p, Verdict: of(check.Verdict{Gaps: []check.Gap{gap}})}})[0].Where())

	cut := seen
	cut.Exchange.Truncated = true
	gap.Proof = check.Shown(cut)
	v = of(check.Verdict{Gaps: []check.Gap{gap}})
	assert.Equal(t, finding.Likely, v.Confidence)
	assert.Contains(t, v.Reason, "Not all was seen: the answer to look was longer")
	gap.Proof = check.Proof{}
	v = of(check.Verdict{Says: "as declared", Proof: check.Shown(seen), Gaps: []check.Gap{gap}})
	assert.Equal(t, []any{finding.Unproven, 0}, []any{v.Kind, len(v.Gaps)}, "nothing shows it")
	assert.Equal(t, finding.Unproven, of(check.Verdict{}).Kind, "the zero verdict")
	assert.Equal(t, finding.Agrees, of(check.Verdict{Proof: check.Speaks(seen)}).Kind)
	in := input(d, p)
	in.Lost = "never answered"
	lost := Of(in,
		func() check.Verdict { panic("there is nothing to judge") })
	assert.Equal(t, "never answered", lost.Reason)
}

// What follows a gap along its guard belongs to the finding that led to it.
func TestWidenedGapsAreOneFinding(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, "+
		"\"GET /a/{id}\", GET /b]\n"), nil)
	item := func(id string, route int, widens string) Item {
		p := &check.Probe{ID: check.ID{Family: credential.Family{}.Name(), Route: d.Routes[route].Key(), Of: id,
			Caller: check.Caller{Scheme: "s", State: access.Broken}}, Detail: credential.Detail{Way: "foreign key"}}
		if widens != "" {
			p.Widens = check.ID{Family: p.Family, Route: d.Routes[0].Key(), Of: widens, Caller: p.Caller}.Key()
		}
		return Item{Probe: p, Verdict: Verdict{Kind: finding.Unprotected,
			Gaps: []Gap{{Kind: finding.Unprotected, Rung: 3, Subject: "soundness", Cause: "token foreign key",
				Confidence: finding.Proven}}}}
	}
	fs := gather(d, []Item{item("1", 0, ""), item("2", 1, "1")})
	require.Len(t, fs, 1)
	assert.Equal(t, "GET /a", fs[0].Where())
	assert.Equal(t, "GET /a", fs[0].Route)
	assert.Equal(t, []string{"GET /a", "GET /a/{id}"}, fs[0].Routes)
	assert.Equal(t, &finding.Scope{Of: finding.AtGuard, Name: "GET /a"}, fs[0].Scope)
	assert.Equal(t, 2, fs[0].Crossings)
	fs = gather(d, []Item{item("1", 0, ""), item("3", 2, ""), item("2", 1, "1")})
	require.Len(t, fs, 1)
	assert.Equal(t, "everything behind s", fs[0].Where(), "at two guards it is the check that they share")
	assert.Equal(t, "GET /a", fs[0].Route, "never a scope's name")
	assert.Equal(t, []string{"GET /a", "GET /a/{id}", "GET /b"}, fs[0].Routes, "in the inventory's order")
	assert.Equal(t, &finding.Scope{Of: finding.AtScheme, Name: "s"}, fs[0].Scope)
	past := func(id string, route int) Item {
		return Item{Probe: &check.Probe{ID: check.ID{Family: around, Of: detour.PastGateway,
			Relation: access.Relation(id), Route: d.Routes[route].Key()}}, Verdict: Verdict{Kind: finding.Unprotected,
			Gaps: []Gap{{Kind: finding.Unprotected, Rung: 2, Subject: "credential",
				Cause: "way " + detour.PastGateway, Confidence: finding.Proven}}}}
	}
	fs = gather(d, []Item{past("4", 0)})
	require.Len(t, fs, 1)
	assert.Equal(t, "GET /a", fs[0].Where())
	assert.Nil(t, fs[0].Scope, "one route")
	assert.Nil(t, fs[0].Routes)
	fs = gather(d, []Item{past("4", 0), past("5", 1)})
	require.Len(t, fs, 1)
	assert.Equal(t, PastAll, fs[0].Where())
	assert.Equal(t, PastAll, fs[0].Route, "it is at no route")
	assert.Len(t, fs[0].Routes, 2)
}

// What shows wherever another cause does is part of that finding, and only there.
func TestCoveredCauses(t *testing.T) {
	d := doc(t, "schemes: { s: { kind: basic } }\n")
	item := func(id string, causes ...string) Item {
		v := Verdict{Kind: finding.WeakToken}
		for _, c := range causes {
			v.Gaps = append(v.Gaps, Gap{Kind: finding.WeakToken, Rung: 3, Cause: "token " + c,
				Confidence: finding.Proven, Reason: "It is " + c + "."})
		}
		return Item{Probe: &check.Probe{ID: check.ID{Family: "issued", Route: "POST /a",
			Caller: check.Caller{Identity: id, Scheme: "s"}}}, Verdict: v}
	}
	fs := gather(d, []Item{item("ann", "key-unfit", "alg-undeclared", "secret-guessed"),
		item("bob", "secret-guessed", "alg-undeclared")})
	require.Len(t, fs, 1)
	assert.Equal(t, "token secret-guessed", fs[0].Cause)
	assert.Contains(t, fs[0].Reason, "With it: no published key fits the algorithm of issued tokens; issued tokens "+
		"are signed")
	fs = gather(d, []Item{item("ann", "key-unfit", "alg-undeclared")})
	require.Len(t, fs, 1)
	assert.Equal(t, "token alg-undeclared", fs[0].Cause)
	fs = gather(d, []Item{item("ann", "secret-guessed", "alg-undeclared"), item("bob", "alg-undeclared")})
	assert.Len(t, fs, 2, "bob's token has another secret")
}
