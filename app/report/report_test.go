package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/joshdk/go-junit"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"millgate/app/coverage"
	"millgate/app/fault"
	"millgate/app/past"
	"millgate/core/check"
	"millgate/core/finding"
	"millgate/core/history"
)

// Rule: Every form is read back by a reader that is not ours, whatever stands in a finding.

const hostile = "=cmd|' /C calc'!A1 <script>alert(1)</script> ``` [x](javascript:1) \"&quot; ]]> \x1b"

func sample() *Report {
	at := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	x := Named{Name: check.TheRequest, Exchange: check.Exchange{Method: "GET", URL: "http://t.example/a?b=c&b=d",
		Headers: [][2]string{{"Accept", "application/json"}}, Body: hostile, Status: 200,
		Answer: [][2]string{{"Content-Type", "application/json"}}, Content: `{"id":"<string>"}`, At: at,
		Took: 3 * time.Millisecond}}
	item := func(id, route, title string, k finding.Kind, s finding.Severity) Item {
		return Item{Finding: finding.Finding{ID: id, Kind: k, Cause: "open", Title: title, Route: route, Severity: s,
			Confidence: finding.Proven, Reason: hostile, Advice: hostile, OWASP: string(finding.API2), CWE: 306,
			Docs: "docs/findings.md#u-open", Probes: []string{"p"}, Callers: []string{"nobody"}, Inferred: []string{},
			Crossings: 1}, Name: k.Name(), State: history.New, Since: 3, Owners: []string{"storage"},
			File: "folder of mine/x.gate.yaml", Line: 12, Means: hostile, Shown: "It was seen.", Refuted: "A refusal.",
			Evidence: []Evidence{{Probe: "p", Route: route, Who: "nobody", What: "crossing", Exchanges: []Named{x}}}}
	}
	waived := item("mg-0000000002", "GET /b", "Waived", finding.Leaking, finding.Low)
	waived.State, waived.Owners = history.Waived, nil
	waived.Waived = &finding.Waived{Reason: hostile, By: "ann", Until: at.AddDate(0, 3, 0)}
	wide := item("mg-0000000003", "GET /a", "+wide", finding.Unthrottled, finding.Medium)
	wide.Routes, wide.Scope = []string{"GET /a", "GET /b"}, &finding.Scope{Of: finding.AtQuota, Name: "q"}
	share := coverage.Share{Name: "all", Proven: 5, Inferred: 1, Unproven: 2, Left: 2}
	return &Report{Version: past.Version, Sweep: Sweep{ID: 3, Target: "t", Revision: 2, State: "done", StartedAt: at,
		EndedAt: &at}, Declaration: Declared{hostile, "x.gate.yaml", strings.Repeat("0f", 32)},
		Coverage: &coverage.Figure{Whole: share, Kinds: []coverage.Share{share}, Groups: []coverage.Share{},
			OWASP: []coverage.Share{}},
		Checked: coverage.Checked{Planned: 9, Outside: []string{"gRPC"}}, Doubts: []coverage.Doubt{},
		Findings: []Item{item("mg-0000000001", "GET /a", hostile, finding.Unprotected, finding.Critical), waived, wide},
		Stops:    []string{"mg-0000000001", "mg-0000000003"},
		Counts:   finding.Counts{Crossings: map[finding.Kind]int{}, Findings: map[finding.Kind]int{"U": 1}},
		Callers:  []string{"", "ann"}, Routes: []Route{
			{Key: "GET /a", Owner: "storage", Group: "/a", Proven: 3, Findings: []string{"mg-0000000001",
				"mg-0000000003"},
				Cells: map[string]finding.Kind{"": finding.Unprotected, "ann": finding.Agrees}},
			{Key: "GET /b", Group: "/b", Proven: 1, Findings: []string{"mg-0000000002", "mg-0000000003"}},
			{Key: "GET /c", Group: "/b", Unproven: 2}},
		Left: []check.Omission{}, Made: []coverage.Leftover{}, Unsent: []coverage.Unseen{},
		Unproven: []coverage.Unseen{{Why: hostile, Probes: 2}}, NotFair: []coverage.Unfair{},
		Probed: map[string]history.Probed{"p": {Kind: finding.Unprotected, Expects: "refuse"}}}
}

func written(t *testing.T, r *Report, ending string) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, r.As(ending, &b))
	return b.Bytes()
}

func TestSARIF(t *testing.T) {
	doc, err := sarif.FromBytes(written(t, sample(), ".sarif"))
	require.NoError(t, err)
	require.NoError(t, doc.Validate())
	run := doc.Runs[0]
	require.Len(t, run.Results, 3)
	res := run.Results[0]
	assert.Equal(t, "mg-0000000001", res.Fingerprints[Fingerprint])
	assert.Equal(t, []any{"error", "new", "u-open"}, []any{res.Level, *res.BaselineState, *res.RuleID})
	at := res.Locations[0].PhysicalLocation
	assert.Equal(t, []any{"folder%20of%20mine/x.gate.yaml", 12}, []any{*at.ArtifactLocation.URI, *at.Region.StartLine})
	assert.Empty(t, res.Suppressions)
	require.Len(t, run.Results[1].Suppressions, 1)
	assert.Contains(t, *run.Results[1].Suppressions[0].Justification, "by ann")
	require.Len(t, run.Tool.Driver.Rules, 1, "one for a cause")
	rule := run.Tool.Driver.Rules[0]
	assert.Contains(t, *rule.Help.Text, "What would refute it: A refusal.")
	var names []string
	for _, x := range run.Taxonomies {
		names = append(names, *x.Name+" "+*x.Taxa[0].ID)
	}
	assert.Equal(t, []string{"OWASP API Security Top 10 2023 API2:2023", "CWE 306"}, names)
}

func TestJUnit(t *testing.T) {
	suites, err := junit.Ingest(written(t, sample(), ".xml"))
	require.NoError(t, err)
	var said []string
	for _, s := range suites {
		for _, c := range s.Tests {
			said = append(said, s.Name+": "+c.Name+" "+string(c.Status))
		}
	}
	assert.Equal(t, []string{"/a: GET /a failed", "/b: GET /b passed", "/b: GET /c skipped",
		"beyond one route: +wide: quota q failed"}, said)
	assert.Contains(t, suites[1].Tests[0].SystemOut, "waived until 2027-03-02 by ann")
	r := sample()
	r.Doubts = []coverage.Doubt{{Rule: coverage.NotEnded, Text: "it was stopped"}}
	suites, err = junit.Ingest(written(t, r, ".xml"))
	require.NoError(t, err)
	last := suites[len(suites)-1]
	assert.Equal(t, []any{"the sweep", junit.StatusFailed}, []any{last.Name, last.Tests[0].Status})
}

func TestCSV(t *testing.T) {
	rows, err := csv.NewReader(bytes.NewReader(written(t, sample(), ".csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, Columns, rows[0])
	for _, row := range rows {
		for i, cell := range row {
			assert.False(t, cell != "" && strings.ContainsAny(cell[:1], "=+-@\t\r"), "%s: %q", Columns[i], cell)
		}
	}
	assert.Equal(t, []string{"mg-0000000002", "waived", "2027-03-02"}, []string{rows[2][0], rows[2][4], rows[2][16]})
	assert.Equal(t, "'+wide", rows[3][5])
}

func TestHAR(t *testing.T) {
	c := jsonschema.NewCompiler()
	files, err := filepath.Glob("testdata/har/*.json")
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		require.NoError(t, err)
		require.NoError(t, c.AddResource("http://har.example/"+filepath.Base(f), v))
	}
	schema, err := c.Compile("http://har.example/har.json")
	require.NoError(t, err)
	out := written(t, sample(), ".har")
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(out))
	require.NoError(t, err)
	require.NoError(t, schema.Validate(v))
	assert.Equal(t, 1, strings.Count(string(out), `"startedDateTime"`), "what several rest on stands once")
	r := sample()
	for i := range r.Findings {
		r.Findings[i].Evidence = nil
	}
	assert.ErrorIs(t, r.HAR(&bytes.Buffer{}), fault.ErrInput, "an empty archive is none")
}

func TestHTML(t *testing.T) {
	out := written(t, sample(), ".html")
	doc, err := html.Parse(bytes.NewReader(out))
	require.NoError(t, err)
	text := ""
	for n := range doc.Descendants() {
		switch {
		case n.Type == html.TextNode && n.Parent.Data != "style":
			text += n.Data
		case n.Type == html.ElementNode:
			assert.NotContains(t, []string{"script", "img", "link", "iframe", "form"}, n.Data)
			for _, a := range n.Attr {
				assert.False(t, strings.HasPrefix(a.Key, "on") || a.Key == "href" && !strings.HasPrefix(a.Val, "#"), a)
			}
		}
	}
	assert.Contains(t, text, "<script>alert(1)</script>", "it is shown as it is")
	assert.Contains(t, text, "60% of 10 crossings were checked")
	assert.Contains(t, text, "nobody's", "findings are put together by owner")
	r := sample()
	r.Findings, r.Doubts = nil, []coverage.Doubt{{Rule: coverage.MostUnproven, Text: "40% are unproven"}}
	assert.Contains(t, string(written(t, r, ".html")), "None was found, and the result is none to build on")
}

func TestMarkdown(t *testing.T) {
	out := string(written(t, sample(), ".md"))
	assert.Contains(t, out, "## storage\n")
	assert.Contains(t, out, "````\nGET http://t.example/a", "what is fenced cannot end its fence")
	inside := false
	for _, l := range strings.Split(out, "\n") {
		if strings.HasPrefix(l, "````") {
			inside = !inside
		} else if !inside {
			assert.NotContains(t, l, "<script>", "no markup of somebody else")
			assert.NotContains(t, l, "[x](", "nor links")
		}
	}
	assert.Contains(t, sample().Findings[0].Markdown(), "- **Declared in:** folder of mine/x.gate.yaml, line 12")
}

func TestJSON(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../docs/result.schema.json")
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "r.json")
	require.NoError(t, sample().Save(path))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	require.NoError(t, err)
	require.NoError(t, schema.Validate(v))
	back, err := Read(path)
	require.NoError(t, err)
	again, err := json.Marshal(back)
	require.NoError(t, err)
	assert.JSONEq(t, string(b), string(again), "nothing is lost on the way")
	for text, says := range map[string]string{"{": "no result of a sweep", `{"version":2}`: "version 2 of results",
		`{"version":1}`: "how its sweep ended"} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := Read(path)
		assert.ErrorContains(t, err, says)
		assert.ErrorIs(t, err, fault.ErrInput)
	}
	assert.ErrorContains(t, sample().Save("x.pdf"), "use one of .sarif")
}

func TestOwners(t *testing.T) {
	r, err := sample().ForOwner("storage")
	require.NoError(t, err)
	assert.Equal(t, []any{2, 1, []string{"mg-0000000001", "mg-0000000003"}}, []any{len(r.Findings), len(r.Routes),
		r.Stops})
	_, err = sample().ForOwner("storge")
	assert.ErrorContains(t, err, `did you mean "storage"?`)
}

// Values of answers are somebody's data: a report shows what they are, unless its reason names them.
func TestValuesAreTheirTypes(t *testing.T) {
	for _, x := range [][4]string{
		{`{"id":"a-1","n":7,"ok":true,"none":null,"of":{"mail":"a@b.example"}}`, "", "",
			`{"id":"<string>","n":"<number>","none":null,"of":{"mail":"<string>"},"ok":"<boolean>"}`},
		{`[{"a":1},{"a":2},{"a":3},{"a":4},{"a":5}]`, "", "",
			`[{"a":"<number>"},{"a":"<number>"},{"a":"<number>"},"<2 more>"]`},
		{`{"role":"director","id":"a-1"}`, "", "It shows director.", `{"id":"<string>","role":"director"}`},
		{`{"a":"b"} trailing`, "application/json; charset=utf-8", "", "<application/json, 18 bytes>"},
		{"<p>Ann</p>", "text/html", "", "<text/html, 10 bytes>"},
		{"Ann", "", "", "<bytes, 3 bytes>"},
		{"", "text/html", "", ""},
	} {
		assert.Equal(t, x[3], Typed(x[0], x[1], x[2]))
	}
}
