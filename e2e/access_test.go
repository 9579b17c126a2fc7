package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// No place has a violation of WCAG 2 level A or AA that axe-core can find, in
// either theme.
func TestAccessibility(t *testing.T) {
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "run npm ci in web/")
	url := demo(t)
	check := func(p *Page, what string) {
		t.Helper()
		time.Sleep(400 * time.Millisecond) // colours in transition are not the ones that stay
		_, err := p.Eval(`() => { ` + string(axe) + ` ; window.axe = axe || window.axe }`)
		require.NoError(t, err)
		res := p.MustEval(`async () => {
			const r = await window.axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'] })
			return r.violations.map((v) => v.id + ': ' + v.help + ' at ' + v.nodes.slice(0, 3).map((n) => n.target.join(' ') + ' ' + (n.any[0]?.message ?? '')).join(' | '))
		}`)
		for _, v := range res.Arr() {
			assert.Fail(t, fmt.Sprintf("%s: %s", what, v.Str()))
		}
	}
	routes := filepath.Join(t.TempDir(), "charts.openapi.yaml")
	require.NoError(t, os.WriteFile(routes, []byte(charts), 0o600))
	issued := filepath.Join(t.TempDir(), "tokens.txt")
	require.NoError(t, os.WriteFile(issued, []byte(strings.TrimPrefix(pasted, "Bearer ")), 0o600))
	swept := false
	for _, theme := range []string{"light", "dark"} {
		p := open(t, url+"/board", theme)
		p.see("[role=columnheader]", "imre")
		if !swept {
			p.click("footer button", "^Start sweep$")
			p.see(".dialog", "left out")
			check(p, theme+" plan")
			p.press(input.Escape)
			p.gone(".dialog", "left out")
			p.sweepDone()
			swept = true
		}
		check(p, theme+" board")
		p.MustNavigate(url + "/board?route=GET%20/v1/proposals/%7Bproposal_id%7D&caller=imre")
		p.see("aside .banner", "Over-permissive")
		check(p, theme+" drawer")
		for _, place := range []string{"declaration", "sweeps", "findings", "targets"} {
			p.MustNavigate(url + "/" + place)
			p.see("main", map[string]string{"declaration": "millgate", "sweeps": "Left behind", "findings": "No guard", "targets": "Base address"}[place])
			check(p, theme+" "+place)
		}
		p.MustNavigate(url + "/board?lens=tokens")
		p.see("[role=columnheader]", "expired")
		check(p, theme+" Tokens lens")
		p.MustNavigate(url + "/tokens?identity=imre")
		p.see("h2", "What it opens")
		check(p, theme+" a token")
		p.MustNavigate(url + "/tokens?tab=audit")
		p.MustElement("[aria-label='File of tokens']").MustSetFiles(issued)
		p.see("h2", "They open most")
		check(p, theme+" audit")
		p.MustNavigate(url + "/tokens?tab=sessions")
		p.see(".bar", "from the login")
		check(p, theme+" sessions")
		p.MustNavigate(url + "/import")
		p.see("h1", "Bring in routes")
		p.MustElement("[aria-label='Files to import']").MustSetFiles(routes)
		p.see("h2", "What it says about who may call")
		check(p, theme+" import")
		p.MustNavigate(url + "/board?sheet=POST%20/v1/frames")
		p.see("aside", "Who reaches it")
		check(p, theme+" route sheet")
		p.MustNavigate(url + "/declaration?panel=outline")
		p.see(".outline", "roles")
		check(p, theme+" outline")
		p.MustNavigate(url + "/declaration?panel=revisions")
		p.see("aside", "revision|Revision")
		check(p, theme+" revisions")
		p.MustNavigate(url + "/board?edit=1&q=/dome")
		p.see("[role=rowheader]", "/slew")
		p.hit("[aria-label^='tove, POST /v1/dome/slew']")
		p.press('+')
		p.see(".pending [role=status]", "crossing")
		check(p, theme+" pending edit")
		p.press('w')
		p.see("[role=dialog]", "The rule")
		check(p, theme+" rule")
		p.press(input.Escape)
		p.click(".pending button", "^Drop")
	}
}
