package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// No place has a violation of WCAG 2 level A or AA that axe-core can find, in
// either theme.
func TestAccessibility(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "run npm ci in web/")
	url := demo(t)
	axed := func(t *testing.T, p *Page, what, rules string) {
		t.Helper()
		for _, v := range p.MustEval(`async () => {
			for (let i = 0; i < 2; i++) await new Promise(requestAnimationFrame)
			const r = await window.axe.run(document, { runOnly: ` + rules + ` })
			return r.violations.map((v) => v.id + ': ' + v.help + ' at ' + v.nodes.slice(0,
				3).map((n) => n.target.join(' ') + ' ' + (n.any[0]?.message ?? '')).join(' | '))
		}`).Arr() {
			assert.Fail(t, what+": "+v.Str())
		}
	}
	// What a theme changes is colours: the dark one is asked for those alone.
	check := func(t *testing.T, p *Page, what string) {
		t.Helper()
		_, err := p.Eval(`() => { ` + string(axe) + ` ; window.axe = axe || window.axe }`)
		require.NoError(t, err)
		// Colours in transition are not the ones that stay.
		p.MustEval(`() => {
			const still = new CSSStyleSheet()
			still.replaceSync('*, *::before, *::after { transition: none !important; animation: none !important }')
			document.adoptedStyleSheets = [...document.adoptedStyleSheets, still]
		}`)
		axed(t, p, "light "+what, `['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']`)
		p.MustEval(`() => document.querySelector("[aria-label='Dark theme']").click()`)
		axed(t, p, "dark "+what, `['color-contrast']`)
		p.MustEval(`() => document.querySelector("[aria-label='Light theme']").click()`)
	}
	routes := filepath.Join(t.TempDir(), "charts.openapi.yaml")
	require.NoError(t, os.WriteFile(routes, []byte(charts), 0o600))
	issued := filepath.Join(t.TempDir(), "tokens.txt")
	require.NoError(t, os.WriteFile(issued, []byte(strings.TrimPrefix(pasted, "Bearer ")), 0o600))
	p := open(t, url+"/board", "light")
	p.see("[role=columnheader]", "imre")
	p.click("footer button", "^Start sweep$")
	p.see(".dialog", "left out")
	check(t, p, "plan")
	p.press(input.Escape)
	p.gone(".dialog", "left out")
	p.sweepDone()
	check(t, p, "board")
	views := []struct {
		what, at, css, shows string
		input, file          string // a file input, and what is put into it
	}{
		{what: "drawer", at: "/board?route=GET%20/v1/proposals/%7Bproposal_id%7D&caller=imre", css: "aside .banner",
			shows: "Over-permissive"},
		{what: "drill in the drawer", at: "/board?route=POST%20id:/v1/session&caller=session:imre", css: "aside",
			shows: "Steps"},
		{what: "declaration", at: "/declaration", css: "main", shows: "millgate"},
		{what: "sweeps", at: "/sweeps", css: "main", shows: "Never looked at"},
		{what: "findings", at: "/findings", css: "main", shows: "No guard"},
		{what: "a finding", at: "/findings/mg-8ffe385281", css: ".page h2", shows: "Evidence"},
		{what: "targets", at: "/targets", css: "main", shows: "Base address"},
		{what: "Tokens lens", at: "/board?lens=tokens", css: "[role=columnheader]", shows: "expired"},
		{what: "Origins lens", at: "/board?lens=origins&route=GET%20/v1/proposals&caller=origin:null",
			css: "aside h2", shows: "step by step"},
		{what: "Quotas lens", at: "/board?lens=quotas&route=POST%20/v1/cutouts&caller=counted:identity",
			css: "aside h2", shows: "The calls"},
		{what: "quotas", at: "/quotas", css: ".sim p", shows: "calls:"},
		{what: "a token", at: "/tokens?identity=imre", css: "h2", shows: "What it opens"},
		{what: "audit", at: "/tokens?tab=audit", css: "h2", shows: "They open most", input: "File of tokens",
			file: issued},
		{what: "sessions", at: "/tokens?tab=sessions", css: ".drills p", shows: "after the logout"},
		{what: "import", at: "/import", css: "h2", shows: "What it says about who may call",
			input: "Files to import", file: routes},
		{what: "callers", at: "/callers", css: "main", shows: "imre"},
		{what: "a caller", at: "/callers/imre", css: "main", shows: "Try it"},
		{what: "observe", at: "/observe", css: "main", shows: "today"},
		{what: "route sheet", at: "/board?sheet=POST%20/v1/frames", css: "aside", shows: "Who reaches it"},
		{what: "outline", at: "/declaration?panel=outline", css: ".outline", shows: "roles"},
		{what: "revisions", at: "/declaration?panel=revisions", css: "aside", shows: "revision|Revision"},
	}
	for k := range 3 { // each on a page of its own, which has a processor of its own
		t.Run(fmt.Sprint("views ", k), func(t *testing.T) {
			t.Parallel()
			p := open(t, url+"/board", "light")
			for i := k; i < len(views); i += 3 {
				v := views[i]
				p.MustNavigate(url + v.at)
				if v.input != "" {
					p.MustElement("[aria-label='" + v.input + "']").MustSetFiles(v.file)
				}
				p.see(v.css, v.shows)
				check(t, p, v.what)
			}
		})
	}
	p.MustNavigate(url + "/board?edit=1&q=/dome")
	p.see("[role=rowheader]", "/slew")
	p.hit("[aria-label^='tove, POST /v1/dome/slew']")
	p.press('+')
	p.see(".pending [role=status]", "crossing")
	check(t, p, "pending edit")
	p.press('w')
	p.see("[role=dialog]", "The rule")
	check(t, p, "rule")
	p.press(input.Escape)
	p.click(".pending button", "^Drop")

	report := filepath.Join(t.TempDir(), "report.html")
	text := p.MustEval(`async () => (await (await fetch('/api/sweeps/1/report?as=html')).json()).text`).Str()
	require.NoError(t, os.WriteFile(report, []byte(text), 0o600))
	p.MustNavigate("file://" + report)
	p.see("h2", "Coverage")
	_, err = p.Eval(`() => { ` + string(axe) + ` ; window.axe = axe || window.axe }`)
	require.NoError(t, err)
	axed(t, p, "report", `['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']`)
}
