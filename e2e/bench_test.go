package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"

	"millgate/app/coverage"
	"millgate/core/finding"
	"millgate/core/history"
	"millgate/store"
)

// large is a declaration of 5,000 routes by 200 identities by 300 entries.
func large() string {
	var b strings.Builder
	b.WriteString("millgate: 1\ntargets: { t: { base: \"http://127.0.0.1:1\" } }\nroutes:\n")
	for i := range 5000 {
		fmt.Fprintf(&b, "  - { at: \"%s /v1/p%d/r%d/{id}\", summary: A route }\n",
			[]string{"GET", "POST", "PUT", "DELETE"}[i%4], i/17, i/4)
	}
	b.WriteString("roles:\n")
	for i := range 20 {
		fmt.Fprintf(&b, "  r%d:\n", i)
	}
	b.WriteString("schemes: { key: { kind: api-key, in: header, name: K } }\nidentities:\n")
	for i := range 200 {
		fmt.Fprintf(&b, "  u%d: { roles: r%d, attributes: { n: %d }, credentials: { key: { key: env:K } } }\n", i, i%20,
			i)
	}
	b.WriteString("access:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "  - { at: /v1/p%d/**, who: [r%d, r%d] }\n", i, i%20, (i+3)%20)
	}
	return b.String()
}

// The goal is that the editor answers typing on a large file within 100 ms,
// from the key to the frame that shows it, as the page itself measures.
func BenchmarkTyping(b *testing.B) {
	dir := b.TempDir()
	file := filepath.Join(dir, "large.gate.yaml")
	if err := os.WriteFile(file, []byte(large()), 0o600); err != nil {
		b.Fatal(err)
	}
	p := open(b, run(b, "serve", "--listen", "127.0.0.1:0", "--data", dir, file)+"/declaration", "light")
	p.Page = p.Context(b.Context())
	p.MustWaitElementsMoreThan(".cm-line", 10)
	p.MustElement(".cm-content").MustFocus()
	p.KeyActions().Press(input.ControlLeft).Type(input.End).MustDo()
	p.Keyboard.MustType(input.Enter)
	var all []float64
	for b.Loop() {
		p.MustEval(`() => performance.clearMeasures('millgate-typing')`)
		for _, k := range "  # slow and steady" {
			p.Keyboard.MustType(input.Key(k))
			time.Sleep(90 * time.Millisecond)
		}
		for _, v := range p.MustEval(`() => performance.getEntriesByName('millgate-typing').map(e => e.duration)`).Arr() {
			all = append(all, v.Num())
		}
	}
	worst, sum := 0.0, 0.0
	for _, v := range all {
		worst, sum = max(worst, v), sum+v
	}
	if len(all) == 0 {
		b.Fatal("no key was measured")
	}
	b.ReportMetric(worst, "ms/key-worst")
	b.ReportMetric(sum/float64(len(all)), "ms/key")
}

// The goal is that a board of 2,000 routes by 60 identities is there within half a second when the
// page is opened, once the server has it.
func BenchmarkWarmBoard(b *testing.B) {
	var t strings.Builder
	t.WriteString("millgate: 1\ntargets: { t: { base: \"http://127.0.0.1:1\" } }\nroutes:\n")
	for i := range 2000 {
		fmt.Fprintf(&t, "  - { at: \"GET /v1/p%d/r%d/{id}\", summary: A route }\n", i/17, i)
	}
	t.WriteString("roles:\n")
	for i := range 60 {
		fmt.Fprintf(&t, "  r%d:\n", i)
	}
	t.WriteString("schemes: { key: { kind: api-key, in: header, name: K } }\nidentities:\n")
	for i := range 60 {
		fmt.Fprintf(&t, "  u%d: { roles: r%d, credentials: { key: { key: env:K } } }\n", i, i)
	}
	t.WriteString("access:\n")
	for i := range 118 {
		fmt.Fprintf(&t, "  - { at: /v1/p%d/**, who: [r%d, r%d] }\n", i, i%60, (i+3)%60)
	}
	dir := b.TempDir()
	file := filepath.Join(dir, "wide.gate.yaml")
	if err := os.WriteFile(file, []byte(t.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	url := run(b, "serve", "--listen", "127.0.0.1:0", "--data", dir, file) + "/board"
	p := open(b, url, "light")
	p.Page = p.Context(b.Context())
	p.MustWaitElementsMoreThan("[role=gridcell]", 100)
	worst, sum, n := 0.0, 0.0, 0
	for b.Loop() {
		p.MustReload()
		p.MustWaitElementsMoreThan("[role=gridcell]", 100)
		ms := p.MustEval(`() => performance.getEntriesByName('millgate-board')[0].startTime`).Num()
		worst, sum, n = max(worst, ms), sum+ms, n+1
	}
	b.ReportMetric(sum/float64(n), "ms")
	b.ReportMetric(worst, "ms-worst")
}

// The goal is that a list of 5,000 findings over nine sweeps is there within half a second when the page is
// opened, and scrolls without a frame over 50 ms.
func BenchmarkFindings(b *testing.B) {
	const many, sweeps = 5000, 9
	dir := b.TempDir()
	st, err := store.Open(dir)
	if err != nil {
		b.Fatal(err)
	}
	rev := store.Revision{At: time.Now(), Name: "x.gate.yaml",
		Text: "millgate: 1\ntargets: { t: { base: \"http://127.0.0.1:1\" } }\nroutes: [GET /a]\n"}
	if err := st.AddRevision(b.Context(), &rev, nil, nil); err != nil {
		b.Fatal(err)
	}
	for n := range sweeps {
		res := coverage.Result{Probed: map[string]history.Probed{}}
		for i := range many {
			kind, p := finding.Order[i%9], fmt.Sprintf("crossing|GET /v1/p%d/r%d|u%d|key|sound||", i/40, i, i%60)
			if res.Probed[p] = (history.Probed{Kind: kind}); (i+n)%7 == 0 {
				res.Probed[p] = history.Probed{Kind: finding.Agrees}
				continue
			}
			res.Findings = append(res.Findings, finding.Finding{ID: fmt.Sprintf("mg-%010x", i), Kind: kind, Cause: "c",
				Title: fmt.Sprintf("What is wrong with number %d", i), Route: fmt.Sprintf("GET /v1/p%d/r%d", i/40, i),
				Callers: []string{fmt.Sprintf("u%d", i%60)}, Severity: finding.Severities[i%4],
				Confidence: finding.Proven,
				Probes:     []string{p}, Crossings: 1})
		}
		text, err := json.Marshal(res)
		if err != nil {
			b.Fatal(err)
		}
		ended := time.Now()
		w := store.Sweep{RevisionID: rev.ID, Target: "t", State: store.Done, StartedAt: ended, EndedAt: &ended,
			Result: text}
		if err := st.SaveSweep(b.Context(), &w); err != nil {
			b.Fatal(err)
		}
	}
	if err := st.Close(); err != nil {
		b.Fatal(err)
	}
	file := filepath.Join(dir, rev.Name)
	if err := os.WriteFile(file, []byte(rev.Text), 0o600); err != nil {
		b.Fatal(err)
	}
	p := open(b, run(b, "serve", "--listen", "127.0.0.1:0", "--data", dir, file)+"/findings", "light")
	p.Page = p.Context(b.Context())
	p.MustWaitElementsMoreThan("[role=row].row", 10)
	var all []float64
	worst := 0.0
	for b.Loop() {
		p.MustReload()
		p.MustWaitElementsMoreThan("[role=row].row", 10)
		all = append(all, p.MustEval(`() => performance.getEntriesByName('millgate-findings')[0].startTime`).Num())
		worst = max(worst, p.MustEval(`async () => {
			const list = document.querySelector('[role=grid]')
			let worst = 0, last = await new Promise(requestAnimationFrame)
			for (let i = 0; i < 120; i++) {
				list.scrollTop += 700
				const now = await new Promise(requestAnimationFrame)
				worst = Math.max(worst, now - last)
				last = now
			}
			return worst
		}`).Num())
	}
	slices.Sort(all)
	b.ReportMetric(all[len(all)/2], "ms-median")
	b.ReportMetric(worst, "ms/frame-worst")
}
