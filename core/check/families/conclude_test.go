package families

import (
	"testing"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/finding"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
func judged(d *declaration.Document, p *check.Probe, a check.Answer, others map[string]check.Answer) finding.Verdict {
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
	return in.Item(func() check.Verdict {
		return crossing.Family{}.Judge(c, p, fact(a), e)
	}).Verdict
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
	of := func(v check.Verdict) finding.Verdict {
		return input(d, p).Item(func() check.Verdict { return v }).Verdict
	}

	v := of(check.Verdict{Gaps: []check.Gap{gap, gap}})
	assert.Equal(t, finding.Leaking, v.Kind)
	assert.Equal(t, finding.Proven, v.Confidence)
	fs := gather(d, []check.Item{{Probe: p, Verdict: v}})
	require.Len(t, fs, 1, "two gaps of one cause in one scope")
	f := fs[0]
	assert.Equal(t, []string{"everything behind s", "the shelf is shown", "Hide it.", "made-up the shelf", "POST /a",
		"ann"},
		[]string{f.Where(), f.Title, f.Advice, f.Cause, f.At, f.Column})
	gap.Scope = finding.Scope{}
	assert.Equal(t, "POST /a", gather(d,
		[]check.Item{{Probe: p, Verdict: of(check.Verdict{Gaps: []check.Gap{gap}})}})[0].Where())

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
	lost := in.Item(func() check.Verdict { panic("there is nothing to judge") })
	assert.Equal(t, "never answered", lost.Verdict.Reason)
}

// input is a probe of a document, with all families.
func input(d *declaration.Document, p *check.Probe) check.Judging {
	return check.Judging{Context: &check.Context{Doc: d}, Families: All, Probe: p}
}

func TestLostIsUnproven(t *testing.T) {
	d := kindsDoc(t)
	p := item(crossings, "GET /a", "", access.Absent).Probe
	in := input(d, p)
	in.Lost = "sent before the sweep was interrupted"
	v := in.Item(nil).Verdict
	assert.Equal(t, finding.Unproven, v.Kind)
	assert.Empty(t, v.Gaps)
}

func kindsDoc(t *testing.T) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(`millgate: 1
routes: [GET /a, POST /login]
schemes: { access: { kind: bearer, login: { send: POST /login, take: { access: /token } } } }
`), nil)
	require.Empty(t, msgs)
	return d
}

// A text that is declared after an answer came was looked for in what is kept of it alone:
// where something of that is masked or cut, nothing was checked, and the verdict says so.
func TestTextsThatWereNotLookedFor(t *testing.T) {
	d := doc(t, "answers: { never: { text: [stack trace] } }\n")
	p := item(ofMalformed, "GET /a", "ann", access.Sound).Probe
	judge := func(x check.Exchange) finding.Verdict {
		x.Status = 200
		r := check.Report{Fate: check.Answered, Exchange: x}
		in := input(d, p)
		in.Answer = check.AnswerOf(x)
		return in.Item(func() check.Verdict {
			return check.Verdict{Says: "fine", Proof: check.Shown(check.Head(r)), Answers: []check.Report{r}}
		}).Verdict
	}
	assert.Equal(t, finding.Proven, judge(check.Exchange{Content: "all of it"}).Confidence)
	cut := judge(check.Exchange{Content: "a part", Truncated: true, Sought: []string{"stack trace"}})
	assert.Equal(t, finding.Unproven, cut.Kind, "nobody read the rest")
	assert.Equal(t, finding.Leaking, judge(check.Exchange{Content: "a part", Truncated: true,
		Texts: []string{"stack trace"}}).Kind)
	for _, x := range []check.Exchange{{Content: "‹token:1› and more"}} {
		v := judge(x)
		assert.Equal(t, []any{finding.Agrees, finding.Likely}, []any{v.Kind, v.Confidence})
		assert.Contains(t, v.Reason, `whether it shows "stack trace" was not checked`)
		x.Sought = []string{"stack trace"}
		assert.Equal(t, finding.Proven, judge(x).Confidence, "it was looked for before it was masked")
		x.Texts = x.Sought
		assert.Equal(t, finding.Leaking, judge(x).Kind)
	}
}
