package verdict

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/check/families"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
	"millgate/core/finding"
)

func TestClassify(t *testing.T) {
	var r declaration.Answers
	r.RefusedWhen.Status, r.RefusedWhen.Has = 200, "/error"
	loc := func(l string) [][2]string { return [][2]string{{"location", l}} }
	for _, c := range []struct {
		a    check.Answer
		want check.Class
	}{
		{check.Answer{Status: 200}, check.Admitted}, {check.Answer{Status: 204}, check.Admitted},
		{check.Answer{Status: 200, Body: []byte(`{"error":{}}`)}, check.Refused},
		{check.Answer{Status: 201, Body: []byte(`{"error":{}}`)}, check.Admitted},
		{check.Answer{Status: 301, Headers: loc("/things/")}, check.Admitted},
		{check.Answer{Status: 302, Headers: loc("/login?next=/things")}, check.ToLogin},
		{check.Answer{Status: 302, Headers: loc("https://id.example/oauth/authorize?x=1")}, check.ToLogin},
		{check.Answer{Status: 302, Headers: loc("/blogging")}, check.Admitted},
		{check.Answer{Status: 401}, check.Refused}, {check.Answer{Status: 403}, check.Forbidden},
		{check.Answer{Status: 404}, check.Hidden}, {check.Answer{Status: 410}, check.Hidden},
		{check.Answer{Status: 429}, check.Throttled},
		{check.Answer{Status: 400}, check.Invalid}, {check.Answer{Status: 409}, check.Invalid},
		{check.Answer{Status: 422}, check.Invalid}, {check.Answer{Status: 418}, check.Invalid},
		{check.Answer{Status: 405}, check.WrongMethod}, {check.Answer{Status: 501}, check.WrongMethod},
		{check.Answer{Status: 500}, check.Failed}, {check.Answer{Status: 503}, check.Failed},
		{check.Answer{}, check.Unreachable},
	} {
		assert.Equal(t, c.want, check.Classify(c.a, r), "%d %v", c.a.Status, c.a.Headers)
	}
	r.LoginPage = "**/welcome**"
	assert.Equal(t, check.ToLogin, check.Classify(check.Answer{Status: 302, Headers: loc("/welcome?x")}, r))
	assert.Equal(t, check.Admitted, check.Classify(check.Answer{Status: 302, Headers: loc("/login")}, r),
		"the declaration's own word counts")
}

// The families of made-up probes; of what is not declared, what that is.
const (
	crossings = "crossing"
	around    = "around"
	malformed = "malformed"
)

func item(kind, route, identity string, st access.State, gaps ...Gap) Item {
	v := Verdict{Kind: finding.Agrees, Gaps: gaps}
	if len(gaps) > 0 {
		v.Kind = gaps[0].Kind
	}
	id := check.ID{Family: kind, Route: route, Caller: check.Caller{Identity: identity, State: st}}
	if kind == undeclared.Path || kind == undeclared.Address {
		id.Family, id.Of = undeclared.Family{}.Name(), kind
	}
	return Item{&check.Probe{ID: id}, v}
}

func TestOneCauseIsOneFinding(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\nroutes: [GET /a]\n"), nil)
	u := func(st string) Gap {
		return Gap{Kind: finding.Unprotected, Rung: 2, Cause: "credential " + st, Confidence: finding.Proven,
			Reason: "in"}
	}
	p := Gap{Kind: finding.OverPermissive, Rung: 4, Subject: "role", Cause: "role", Confidence: finding.Proven,
		Reason: "in"}
	w := Gap{Kind: finding.WrongRefusal, Cause: "forbid refused", Confidence: finding.Proven, Reason: "401"}

	items := []Item{item(crossings, "GET /a", "", access.Absent, u("absent")),
		item(crossings, "GET /a", "", access.Broken, u("broken"))}
	for i := range 7 {
		items = append(items, item(crossings, "GET /a", fmt.Sprint("i", i), access.Sound, p))
	}
	fs := gather(d, items)
	require.Len(t, fs, 1, "nine callers let through by one missing guard")
	assert.Equal(t, finding.Unprotected, fs[0].Kind)
	assert.Equal(t, "No guard", fs[0].Title)
	assert.Len(t, fs[0].Callers, 9, "seven identities, and nobody in two ways")
	assert.Equal(t, 9, fs[0].Crossings)

	// Open without a credential only: what a role lets through is another cause.
	fs = gather(d, []Item{items[0], item(crossings, "GET /a", "i0", access.Sound, p),
		item(crossings, "GET /a", "i1", access.Sound, w)})
	require.Len(t, fs, 3)
	assert.Equal(t, []finding.Kind{finding.Unprotected, finding.OverPermissive, finding.WrongRefusal},
		[]finding.Kind{fs[0].Kind, fs[1].Kind, fs[2].Kind}, "worst first")

	// The identity of a finding does not change with who shows it, or how many.
	again := gather(d, []Item{item(crossings, "GET /a", "other", access.Sound, p)})
	assert.Equal(t, fs[1].ID, again[0].ID)
	assert.NotEqual(t, fs[0].ID, fs[1].ID)
	elsewhere := gather(d, []Item{item(crossings, "GET /b", "other", access.Sound, p)})
	assert.NotEqual(t, again[0].ID, elsewhere[0].ID)
	assert.Regexp(t, `^mg-[0-9a-f]{10}$`, again[0].ID)
}

func TestInferredAreNotObserved(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\nroutes: [GET /a]\n"), nil)
	it := item(crossings, "GET /a", "ann", access.Sound, Gap{Kind: finding.OverPermissive, Subject: "role",
		Cause: "role", Confidence: finding.Proven})
	it.Probe.StandsFor = []string{"eve", "ida"}
	f := gather(d, []Item{it})[0]
	assert.Equal(t, []string{"ann"}, f.Callers)
	assert.Equal(t, []string{"eve", "ida"}, f.Inferred)
}

// input is a probe of a document, with all families.
func input(d *declaration.Document, p *check.Probe) Input {
	return Input{Context: &check.Context{Doc: d}, Families: families.All, Probe: p}
}

// gather is Gather with the callers at routes.
func gather(d *declaration.Document, items []Item) []finding.Finding {
	return Gather(&check.Context{Doc: d}, check.Families{crossing.Family{}}, items)
}

// A text that is declared after an answer came was looked for in what is kept of it alone:
// where something of that is masked or cut, nothing was checked, and the verdict says so.
func TestTextsThatWereNotLookedFor(t *testing.T) {
	d := doc(t, "answers: { never: { text: [stack trace] } }\n")
	p := item(malformed, "GET /a", "ann", access.Sound).Probe
	judge := func(x check.Exchange) Verdict {
		x.Status = 200
		r := check.Report{Fate: check.Answered, Exchange: x}
		in := input(d, p)
		in.Answer = check.AnswerOf(x)
		return Of(in, func() check.Verdict {
			return check.Verdict{Says: "fine", Proof: check.Shown(check.Head(r)), Answers: []check.Report{r}}
		})
	}
	assert.Equal(t, finding.Proven, judge(check.Exchange{Content: "all of it"}).Confidence)
	for _, x := range []check.Exchange{{Content: "‹token:1› and more"}, {Content: "a part", Truncated: true}} {
		v := judge(x)
		assert.Equal(t, []any{finding.Agrees, finding.Likely}, []any{v.Kind, v.Confidence})
		assert.Contains(t, v.Reason, `whether it shows "stack trace" was not checked`)
		x.Sought = []string{"stack trace"}
		assert.Equal(t, finding.Proven, judge(x).Confidence, "it was looked for before it was masked")
		x.Texts = x.Sought
		assert.Equal(t, finding.Leaking, judge(x).Kind)
	}
}
