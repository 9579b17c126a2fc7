package e2e

import (
	"fmt"
	"os"
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
	}
}
