package e2e

import (
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/standin"
)

// restarted is a stand-in that can be started anew, with other flaws, at the same addresses.
type restarted struct {
	t     *testing.T
	now   *standin.Running
	ports []string
}

func (r *restarted) start(flaws ...standin.Flaw) {
	r.t.Helper()
	if r.now != nil {
		require.NoError(r.t, r.now.Close())
	}
	n := 0
	listen := func(network, addr string) (net.Listener, error) {
		if n < len(r.ports) {
			addr = r.ports[n]
		}
		l, err := net.Listen(network, addr)
		if err == nil && n == len(r.ports) {
			r.ports = append(r.ports, l.Addr().String())
		}
		n++
		return l, err
	}
	var err error
	r.now, err = standin.Listen("127.0.0.1:0", standin.Options{Flaws: flaws, Gateway: true, Listen: listen})
	require.NoError(r.t, err)
}

// example is the demo's declaration of a stand-in in a folder of its own.
func example(t *testing.T, s *standin.Running) string {
	t.Helper()
	dir := t.TempDir()
	files, err := filepath.Glob("../examples/fernhollow/*.yaml")
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		text := strings.NewReplacer("http://127.0.0.1:7401", s.Base, "http://127.0.0.1:7402", s.IssuerURL,
			"http://127.0.0.1:7403", s.Mail, "http://127.0.0.1:7411", s.Direct, "400 per 1s",
			"2000 per 1s").Replace(string(b))
		require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.Base(f)), []byte(text), 0o600))
	}
	return filepath.Join(dir, "fernhollow.gate.yaml")
}

// quick is an example without quotas: they take time.
func quick(t *testing.T, s *standin.Running) string {
	t.Helper()
	file := example(t, s)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	b = regexp.MustCompile(`(?ms)^quotas:.*?^(\w)`).ReplaceAll(b, []byte("$1"))
	require.NoError(t, os.WriteFile(file, b, 0o600))
	return file
}

// What a sweep found is acted on: one finding is waived, two are mended, one comes back, and what became of them
// is compared and handed on.
func TestFindingsAreActedOn(t *testing.T) {
	t.Parallel()
	s := &restarted{t: t}
	flaws := []standin.Flaw{standin.StrangerReads, standin.ObserverSlews, standin.Role401, standin.SecretEcho}
	s.start(flaws...)
	t.Cleanup(func() { assert.NoError(t, s.now.Close()) })
	url := run(t, "serve", quick(t, s.now), "--listen", "127.0.0.1:0", "--data", t.TempDir())
	p := open(t, url+"/findings", "light")
	p.see(".empty", "Nothing was probed yet")
	p.sweep("1")
	p.see(".first p", `4 to mend in 4 places · 4 new`)

	// Waived, with keys alone: it is a pending edit that says what it does.
	p.MustElement("[role=grid]").MustFocus()
	p.press(input.Slash)
	p.MustElement("input[aria-label=Filter]").MustInput("kind:wrong-refusal")
	p.press(input.Enter)
	p.see("[role=row].row", "Answered 401, 403 is declared")
	assert.Len(t, p.MustElements("[role=row].row"), 1)
	p.press(input.Enter)
	p.see(".page h1", "Answered 401, 403 is declared")
	p.see(".page dd", "wrong refusal is 1")
	p.see(".page h2", "Evidence")
	p.click(".page button", "Waive until…")
	p.MustElement("#waive-reason").MustInput("The desk copes")
	p.click(".dialog button", "^Waive$")
	p.see(".pending [role=status]", `No crossing changes\. 1 finding is waived\.`)
	p.click(".strip button", "Keep")
	p.see("header", "revision 2")
	p.see(".page .banner", "Waived until .*The desk copes")
	p.see("[role=row].row", "waived until")

	s.start(standin.ObserverSlews, standin.Role401) // two are mended
	p.sweep("2")
	p.MustNavigate(url + "/findings")
	// (What a restart forgets is a finding of its own: sessions that were ended work again.)
	p.see(".first p", `\d to mend in \d places?.* · 1 waived · 2 mended`)
	p.MustNavigate(url + "/sweeps/1..2")
	p.see("h1", "Sweep 1 → Sweep 2")
	p.see("[role=tab]", "2 mended")
	p.see("[role=tab]", "2 unchanged")
	p.see(".tabs", "a pipeline with baseline sweep 1 (stops here|goes on)")
	p.click("[role=tab]", "mended")
	p.see("td", "Somebody else's record")
	p.MustElement("svg[aria-label*='2 mended']")

	s.start(standin.StrangerReads, standin.Role401) // one is back, another mended
	p.sweep("3")
	p.MustNavigate(url + "/sweeps/2..3")
	p.see(".tabs", `stops here: \d of them (is|are) high at least`)
	p.see("td", "seen first in 1")
	p.click("td a", "Somebody else's record")
	p.see(".page .is", "back in 3")
	p.MustElement(".page svg[aria-label*='2: mended']")
	p.see(".page .crossings, .page section", "GET /v1/proposals/")
	p.MustNavigate(url + "/board?q=since:2")
	p.see(".chip", "only what changed since sweep 2")
	p.see("[role=rowheader], [role=row]", "dome|proposal")

	p.MustNavigate(url + "/sweeps")
	p.click("button", "^Report…$")
	frame := p.MustElement("iframe.view").MustFrame()
	assert.Contains(t, frame.MustElement("h1").MustText(), "Fernhollow")
	assert.Contains(t, frame.MustElement("main").MustText(), "Waived until")
	p.MustElement(".dialog .form").MustClick()
	p.click(".n-base-select-option", "SARIF")
	p.see("pre.view", `"version": "2.1.0"`)
	p.see("pre.view", "The desk copes")
}
