package crossing

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/testkit/play"
)

// told is the verdict on a probe by its reports, with the facts of others.
func told(t *testing.T, key string, others map[string]check.Answer, reports ...check.Report) check.Verdict {
	t.Helper()
	c, p := planned(t, "all")
	e := check.NewEvidence(func(key string) *check.Fact {
		if a, ok := others[key]; ok {
			return seen(a)
		}
		return nil
	})
	return Family{}.Judge(c, named(t, p, key), &check.Fact{Reports: reports, Data: &check.Recorded{}}, e)
}

const (
	nobodyAtThings = "crossing|GET /things|nobody||absent||"
	bossAtThings   = "crossing|GET /things|boss|s|sound||"
	pageOfThings   = "crossing|GET /things|nobody||absent||asking for HTML"
	bossAtThing    = "crossing|GET /things/{id}|boss|s|sound||"
)

// A failure is a gap where it is no chance, and the service works beside it.
func TestFailures(t *testing.T) {
	ok, fails := check.Answer{Status: 200}, check.Answer{Status: 500}
	first, again := report("the request", fails), report(onceMore, fails)
	late := again
	late.Fate = check.Late
	for _, x := range []struct {
		name, key string
		others    map[string]check.Answer
		reports   []check.Report
		want      finding.Kind
		cause     string
		says      string
	}{
		{"once", nobodyAtThings, map[string]check.Answer{bossAtThings: ok}, []check.Report{first}, finding.Unproven, "",
			"the service failed (500)"},
		{"over since", nobodyAtThings, map[string]check.Answer{bossAtThings: ok},
			[]check.Report{first, report(onceMore, check.Answer{Status: 401})}, finding.Unproven, "",
			"(500), and a moment later answered 401"},
		{"never seen again", nobodyAtThings, map[string]check.Answer{bossAtThings: ok}, []check.Report{first, late},
			finding.Unproven, "", "the service failed (500)"},
		{"the guard breaks", nobodyAtThings, map[string]check.Answer{bossAtThings: ok}, []check.Report{first, again},
			finding.WrongRefusal, "refuse failed", "once more a moment later; boss was admitted"},
		{"no control", nobodyAtThings, map[string]check.Answer{bossAtThings: fails}, []check.Report{first, again},
			finding.Unproven, "", "the service failed (500)"},
		{"must enter, once", bossAtThings, map[string]check.Answer{bossAtThing: ok}, []check.Report{first},
			finding.Unproven, "", "the service failed (500)"},
		{"serves no one", bossAtThings, map[string]check.Answer{bossAtThing: ok}, []check.Report{first, again},
			finding.OverRestrictive, servesNoOne, "as for everybody here"},
		{"nothing works", bossAtThings, map[string]check.Answer{bossAtThing: fails}, []check.Report{first, again},
			finding.Unproven, "", "no route beside this one is known to work"},
		{"one of those who must", "crossing|GET /things/{id}|ann|s|sound|own|",
			map[string]check.Answer{bossAtThing: ok}, []check.Report{first, again}, finding.OverRestrictive,
			"admit failed", "boss was admitted with the same request"},
	} {
		v := told(t, x.key, x.others, x.reports...)
		require.Equal(t, x.want, kindOf(v), "%s: %s", x.name, v.Says)
		says := v.Says
		if len(v.Gaps) > 0 {
			says = v.Gaps[0].Says
			assert.Equal(t, x.cause, v.Gaps[0].Cause.Cause+v.Gaps[0].What, x.name)
			want := finding.Likely
			if x.want == finding.WrongRefusal {
				want = finding.Proven
			}
			assert.Equal(t, want, v.Gaps[0].Proof.Confidence(), x.name)
		}
		assert.Contains(t, says, x.says, x.name)
	}
}

// What is shown in another form counts by its values, but for those of any page.
func TestOtherForms(t *testing.T) {
	html := func(body string) check.Answer {
		return check.Answer{Status: 200, Headers: [][2]string{{"Content-Type", "text/html"}}, Body: []byte(body)}
	}
	control := check.Answer{Status: 200, Headers: [][2]string{{"Content-Type", "application/json"}},
		Body: []byte(`{"items":[{"id":"t-17","title":"Andromeda","by":"Hill Station"}]}`)}
	others := map[string]check.Answer{bossAtThings: control}
	for _, x := range []struct {
		name, key, page, beside string
		want                    finding.Kind
		cause                   string
		sure                    finding.Confidence
	}{
		{"the data", pageOfThings, "<td>t-17<td>Andromeda", "<h1>Lost", finding.Unprotected, asPage, finding.Proven},
		{"the page elsewhere not seen", pageOfThings, "<td>t-17<td>Andromeda", "", finding.Unprotected, asPage,
			finding.Likely},
		{"what stands on any page", pageOfThings, "<h1>Hill Station <p>of Andromeda",
			"<h1>Hill Station <p>of Andromeda", finding.WrongRefusal, "refuse page", finding.Likely},
		{"one value", pageOfThings, "<p>Andromeda", "<h1>Lost", finding.WrongRefusal, "refuse page", finding.Likely},
		{"without asking for a page", nobodyAtThings, "<td>t-17<td>Andromeda", "<h1>Lost", finding.Unprotected,
			"credential absent", finding.Proven},
		{"a page of its own", nobodyAtThings, "<h1>Hill Station <form>", "<h1>Hill Station", finding.Unprotected,
			"credential absent", finding.Likely},
	} {
		reports := []check.Report{report("the request", html(x.page))}
		if x.beside != "" {
			a := html(x.beside)
			a.Status = 404
			reports = append(reports, report(elsewhere, a))
		}
		v := told(t, x.key, others, reports...)
		require.Len(t, v.Gaps, 1, x.name)
		assert.Equal(t, x.want, v.Gaps[0].Cause.Kind, x.name)
		assert.Equal(t, x.cause, v.Gaps[0].Cause.Cause+v.Gaps[0].What, x.name)
		assert.Equal(t, x.sure, v.Gaps[0].Proof.Confidence(), "%s: %s", x.name, v.Gaps[0].Says)
	}
}

// What is sent to refute what a safe request seems to show.
func TestWhatRefutes(t *testing.T) {
	c, p := planned(t, "all")
	page := check.Answer{Status: 200, Body: []byte("<p>")}
	for _, x := range []struct {
		name, key string
		answer    check.Answer
		want      []string
	}{
		{"a failure for nobody", nobodyAtThings, check.Answer{Status: 502}, []string{"GET /things", "GET /things"}},
		{"and for who must enter", bossAtThings, check.Answer{Status: 500}, []string{"GET /things", "GET /things"}},
		{"but not for who must not", "crossing|GET /things|ann|s|sound||", check.Answer{Status: 500},
			[]string{"GET /things"}},
		{"nor where it is not safe", "crossing|POST /out|nobody||absent||", check.Answer{Status: 500},
			[]string{"POST /out"}},
		{"a page for nobody", pageOfThings, page, []string{"GET /things", "GET /" + check.Nowhere}},
		{"a page for who must not", "crossing|GET /things|ann|s|sound||", page,
			[]string{"GET /things", "GET /" + check.Nowhere}},
		{"a page for who must enter", bossAtThings, page, []string{"GET /things"}},
		{"data for nobody", nobodyAtThings, check.Answer{Status: 200, Body: []byte("{}")}, []string{"GET /things"}},
		{"a refusal", nobodyAtThings, check.Answer{Status: 401, Body: []byte("<p>")}, []string{"GET /things"}},
	} {
		f, sent := play.Run(Family{}.Script(c, named(t, p, x.key)), -1, func(check.Call, time.Duration) check.Report {
			return report("", x.answer)
		})
		var got []string
		for _, call := range sent {
			got = append(got, call.Request.Method+" "+call.Request.Path)
			assert.Equal(t, sent[0].As, call.As, x.name)
			assert.Equal(t, sent[0].Request.Headers, call.Request.Headers, x.name)
		}
		assert.Equal(t, x.want, got, x.name)
		assert.Len(t, f.Reports, len(got), x.name)
		if x.answer.Status >= 500 && len(sent) == 2 {
			assert.Greater(t, f.Reports[1].Begin-f.Reports[0].End, soon/2, "what was chance is over then")
		}
	}
}

// Whether the rest of the service works is told by the safe routes of its host that stand closest.
func TestRoutesBeside(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1
targets: { t: { base: "http://h", hosts: { id: "http://i" }, unsafe: allowed } }
routes: [GET /a, GET /b, GET id:/x, POST /c, GET /d, GET /e, GET /f]
schemes: { s: { kind: bearer } }
identities: { ann: { credentials: { s: { token: env:A } } } }
access: [{ at: /**, who: signed-in }, { at: "id:/**", who: signed-in }]
`), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.Targets[0]}, check.NewPlanning(nil)
	Family{}.Plan(c, p)
	for route, want := range map[string]string{"GET /a": "bde", "GET /d": "efb", "POST /c": "dbe", "GET id:/x": ""} {
		got := ""
		for _, key := range of(named(t, p, "crossing|"+route+"|ann|s|sound||")).Near {
			got += strings.TrimPrefix(strings.Split(key, "|")[1], "GET /")
		}
		assert.Equal(t, want, got, route)
	}
}
