package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"millgate/standin"
)

// TestScreenshots makes the pictures of docs/screenshots from the demo data,
// when it is asked for by make screenshots.
func TestScreenshots(t *testing.T) {
	if os.Getenv("MILLGATE_SCREENSHOTS") == "" {
		return
	}
	dir := os.Getenv("MILLGATE_SCREENSHOTS_DIR")
	if dir == "" {
		dir = "../docs/screenshots"
	}
	dir, err := filepath.Abs(dir)
	require.NoError(t, err)
	start := run(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())
	url := demo(t)
	routes := filepath.Join(t.TempDir(), "charts.openapi.yaml")
	require.NoError(t, os.WriteFile(routes, []byte(charts), 0o600))
	for _, theme := range []string{"light", "dark"} {
		shot := func(p *Page, name string) {
			time.Sleep(600 * time.Millisecond) // transitions of the component library
			require.NoError(t, os.WriteFile(filepath.Join(dir, name+"-"+theme+".png"), p.MustScreenshot(), 0o644))
		}
		p := open(t, start+"/", theme)
		p.see("h1", "Bring in routes")
		if theme == "light" {
			shot(p, "start")
		}
		p = open(t, url+"/board", theme)
		p.see("[role=rowheader]", "/calendar")
		if theme == "light" {
			p.sweepDone()
		}
		p.MustNavigate(url + "/board?route=POST%20/v1/dome/slew&caller=imre")
		p.see("aside", "Over-permissive")
		shot(p, "board")
		p.MustNavigate(url + "/findings")
		p.click("[role=row].row", "No guard")
		p.see(".page h2", "Evidence")
		if theme == "light" {
			shot(p, "findings")
		}
		p.MustNavigate(url + "/declaration?line=112&panel=outline")
		p.see(".cm-content", "lifetimes")
		p.see(".outline", "roles")
		if theme == "light" {
			shot(p, "declaration")
			p.MustNavigate(url + "/callers/sanna")
			p.click("aside button", "^Try it on stand-in$")
			p.see("aside h2", "The token says")
			shot(p, "callers")
			p.MustNavigate(url + "/board?sheet=POST%20/v1/frames")
			p.see("aside", "Who reaches it")
			shot(p, "route")
			p.MustNavigate(url + "/board?lens=tokens")
			p.see("[role=columnheader]", "expired")
			shot(p, "lens")
			p.MustNavigate(url + "/board?lens=origins&route=GET%20/v1/proposals&caller=origin:beginning")
			p.see("aside h2", "step by step")
			shot(p, "origins")
			p.MustNavigate(url + "/board?lens=quotas&route=POST%20/v1/cutouts&caller=counted:identity")
			p.see("aside h2", "The calls")
			shot(p, "quotas-lens")
			p.MustNavigate(url + "/import")
			p.see("h1", "Bring in routes")
			p.MustElement("[aria-label='Files to import']").MustSetFiles(routes)
			p.see("h2", "What it says about who may call")
			shot(p, "import")
		} else {
			shot(observed(t), "observe")
			p.MustNavigate(url + "/tokens?tab=sessions")
			p.see(".drills p", "after the logout")
			shot(p, "sessions")
			p.MustNavigate(url + "/quotas?quota=general")
			p.see(".sim p", "calls:")
			p.MustElement(".sim").MustEval(`() => this.scrollIntoView()`)
			shot(p, "quotas")
			p.MustNavigate(url + "/tokens")
			p.MustElement("[aria-label=Token]").MustInput(pasted)
			p.click("button", "^Judge it$")
			p.see(".j", "it is unsigned")
			shot(p, "token")
			p.MustNavigate(url + "/board?edit=1&q=/dome")
			p.see("[role=rowheader]", "/slew")
			p.hit("[aria-label^='tove, POST /v1/dome/slew']")
			p.press('+')
			p.see(".pending [role=status]", "crossing")
			p.click(".pending .what", "pending")
			shot(p, "edit")
			p.click(".pending button", "^Drop")
		}
		if theme == "dark" {
			continue
		}
		p.MustNavigate(url + "/targets")
		p.see("h1", "stand-in")
		p.click("button", "Test the connection")
		p.see("li", "every host takes connections")
		shot(p, "targets")
		p.MustNavigate(url + "/sweeps")
		p.see("td", "stand-in")
		shot(p, "sweeps")
		shot(compared(t), "compare")
	}
}

// observed is the place of what a service does today, of a stand-in with two flaws of which nothing is decided.
func observed(t *testing.T) *Page {
	s := &restarted{t: t}
	s.start(standin.StrangerReads, standin.AbsentHeaderPasses)
	t.Cleanup(func() { _ = s.now.Close() })
	file := quick(t, s.now)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	head, rest, _ := strings.Cut(string(text), "\naccess:\n")
	_, tail, _ := strings.Cut(rest, "\norigins:\n")
	undecided := head + "\naccess:\n  - { at: [\"/**\", \"id:/**\"], who: undecided }\n\norigins:\n" + tail
	require.NoError(t, os.WriteFile(file, []byte(undecided), 0o600))
	p := open(t, run(t, "serve", file, "--listen", "127.0.0.1:0", "--data", t.TempDir())+"/observe", "dark")
	p.click("button", "^Ask stand-in$")
	p.click("td.do button", "^Confirm$")
	p.see("td.do", "^confirmed$")
	return p
}

// compared is the place of two sweeps of a stand-in, of which some flaws were mended and others came.
func compared(t *testing.T) *Page {
	s := &restarted{t: t}
	s.start(standin.Demo...)
	t.Cleanup(func() { _ = s.now.Close() })
	url := run(t, "serve", quick(t, s.now), "--listen", "127.0.0.1:0", "--data", t.TempDir())
	p := open(t, url+"/board", "light")
	p.sweep("1")
	s.start(append(slices.Clone(standin.Demo[4:]), standin.StrangerDeletes, standin.AuditorWrites,
		standin.CaseSlips)...)
	p.sweep("2")
	p.MustNavigate(url + "/sweeps/1..2")
	p.see("[role=tab]", "new or back")
	return p
}
