package e2e

import (
	"regexp"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
)

// A person opens the demo, sweeps, finds a gap with the keyboard, reads its
// ladder, changes the rule, sees what that does, keeps it, and probes again.
func TestFromDeclarationToProvenGap(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url, "light")
	p.see("[role=columnheader]", "lanternfish")
	p.see("footer", "not swept yet")

	// The plan is shown before anything is sent.
	p.click("footer button", "^Start sweep$")
	p.see(".dialog dd", `^\d{3,4}$`)
	p.click(".dialog button", "^Unsafe requests$")
	p.see(".dialog td", "POST /v1/dome/slew")
	p.click(".dialog button", "^Start sweep$")

	// The strip is live, and says what it came to.
	p.see("footer", `\d+ of \d+ probes, \d+ per s`)
	p.swept("Sweep 1", ": .*4 unprotected")
	p.see(".chip", "4 over-permissive")

	// What is read by every page marks a row in the Origins lens, and only a corner of it here.
	p.see("[role=row] .worst[title='a gap in another lens: over-permissive']", "^$")
	p.click("button", "^Origins$")
	p.see("[role=row] .worst[title^='worst here: over-permissive']", "^P$")
	p.click("button", "^Access$")
	p.press('l')
	p.see(".dialog dd", "agrees for one of the same class")
	p.press(input.Escape)
	p.gone(".dialog", "The board's marks")

	// Filter to unprotected: only seven routes are left, and the address says so.
	p.click(".chip", "unprotected")
	p.gone("[role=rowheader]", "/slew")
	p.see("[role=columnheader]", `7 of \d+ routes`)
	assert.Contains(t, p.MustInfo().URL, "gap:unprotected")

	// The next gap with n, opened with Enter.
	p.press('n', input.Enter)
	p.see("aside .banner", "Unprotected")
	p.see("aside h1", "PATCH /v1/observations")
	p.press(input.Escape)
	p.gone("aside .banner", "Unprotected")
	p.see("button", "^Clear|×$")
	p.MustElement("[aria-label='Clear the filter']").MustClick()

	// Another one with the filter line and the arrows.
	p.press('/')
	p.MustElement("[role=combobox]").MustInput("/dome/slew")
	p.see("[role=columnheader]", `1 of \d+ routes`)
	p.press(input.Enter) // back on the board
	p.press(input.Home, input.ArrowRight, input.Enter)
	p.see("aside .banner", "Over-permissive")
	p.see("aside .banner", "severity high · proven")
	p.see("aside .ladder .decides", "needs operator, imre has observer: forbid, 403")
	p.see("aside pre", "Bearer ‹token:")
	p.see("aside", `sanna, same request: 202. The request was a fair one.`)

	// The same by hand, as somebody who may, and with what is no header field.
	p.click("aside summary", "Change it and send it by itself")
	p.MustElement("aside form input").MustInput("sanna")
	p.MustElement("aside form textarea").MustInput("no field")
	p.see("aside form .bad", "no field.* is no header field")
	p.MustElement("aside form textarea").MustSelectAllText().MustInput("x-note: by hand")
	p.click("aside form button", "Send it to stand-in")
	p.see("aside .came", "202 is what is declared: admit")
	p.see("aside .came", "Against the probe's own answer it differs in values of the body")
	p.see("aside .came pre", "x-note: by hand")

	// The rule's line, in the editor.
	p.see("aside .seen-order", `credential before body`)

	p.click("aside .ladder a", `line \d+`)
	p.see(".cm-meant", `/v1/dome/\*\*`)
	p.see("aside", "The review has nothing to say")

	// A mistake is shown in place, and can be undone.
	p.press(input.End)
	p.Keyboard.MustType('x')
	p.see("aside .msg.error", "error")
	assert.True(t, p.see("aside .keep button", "Keep change").MustProperty("disabled").Bool())
	p.press(input.Backspace)
	p.gone("aside .msg", "error")

	// Observers may move the dome: the effect is said before it is kept.
	p.MustElement(".cm-content").MustEval(`() => { const v = this.cmTile.view; const t = v.state.doc.toString(); const i = t.indexOf('/v1/dome/**, who: operator'); v.dispatch({changes: {from: i, to: i + '/v1/dome/**, who: operator'.length, insert: '/v1/dome/**, who: observer'}}) }`)
	p.see("aside .keep [role=status]", `^4 crossings change: 4 open\.`)
	p.click("[role=tab]", "^Effect$")
	p.see("aside .changes", `imre at\s+POST /v1/dome/slew`)
	p.MustElement("aside .keep input").MustInput("Observers may move the dome")
	p.click("aside .keep button", "Keep change")
	p.see("header", "revision 2")

	// On the board the crossing agrees now, by the same observation.
	p.MustNavigate(url + "/board?route=POST%20/v1/dome/slew&caller=imre")
	p.see("aside .banner", "Agrees")
	p.gone(".chip", "4 over-permissive")

	// Probing again asks first: the method is unsafe.
	p.click("aside .actions button", "Probe again")
	p.see(".dialog", "Send unsafe requests again")
	p.click(".dialog button", "^Send$")
	p.see("footer", `Again|just now|ago`)
	p.see("aside .history", "sweep 2")
	p.see("aside .banner", "Agrees")
}

func TestFirstStart(t *testing.T) {
	t.Parallel()
	url := run(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())
	p := open(t, url, "dark")
	p.allow = regexp.MustCompile(`status of 422`) // bad input, on purpose
	p.see("h1", "Bring in routes")
	p.see("button", "Open the demo")

	// What cannot be read is said, and stays in the field.
	p.MustElement("textarea").MustInput("openapi: 2.0\npaths: 7")
	p.click("button", "Look at it")
	p.see("[role=alert]", "not an OpenAPI 3.0 or 3.1 description")
	p.click("button", "Take another")
	assert.Contains(t, p.MustElement("textarea").MustProperty("value").Str(), "paths: 7")

	p.MustElement("textarea").MustSelectAllText().MustInput("GET /v1/things\nDELETE /v1/things/{thing_id}")
	p.click("button", "Look at it")
	p.click("button", "Bring in 2 routes")
	p.see(".cm-content", "DELETE /v1/things/{thing_id}")
	p.see(".keep [role=status]", "2 routes are new")

	// A reload loses nothing.
	p.MustReload()
	p.see(".cm-content", "DELETE /v1/things/{thing_id}")
	p.click("aside .keep button", "Keep change")
	p.see("header", "revision 1")

	// A target is added and written into the text.
	p.MustNavigate(url + "/targets")
	p.click("button", "Add a target")
	p.MustElement("#t-name").MustInput("local")
	p.allow = allowed(422)
	p.MustElement("#t-base").MustSelectAllText().MustInput("not an address")
	p.see("[role=alert]", "must be an http or https address")
	p.MustElement("#t-base").MustSelectAllText().MustInput("http://127.0.0.1:9")
	p.gone("[role=alert]", "must be an http or https address")
	p.click("form button", "Add it")
	p.see("nav[aria-label=Targets]", "local")
	p.click("button", "^Keep change$")
	p.see("header", "revision 2")
	p.click("form button", "Test the connection")
	p.see("form li", "cannot be reached")

	// A sweep of what cannot be reached ends at once, without a verdict.
	p.MustNavigate(url + "/board")
	p.click("footer button", "^Start sweep$")
	p.click(".dialog button", "^Start sweep$")
	p.see("footer [role=alert]", "could not be checked: .*cannot be reached")
	p.MustElement("[role=gridcell][aria-label]")
	for _, c := range p.MustElements("[role=gridcell][aria-label]") {
		assert.Contains(t, *c.MustAttribute("aria-label"), "not probed yet")
	}
}

func TestStopAndGoOn(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t), "light")
	p.click("footer button", "^Start sweep$")
	p.click(".dialog button", "^Start sweep$")
	p.see("footer", `[1-9]\d\d of \d+ probes`)
	p.click("footer button", "^Stop$")
	p.swept("Sweep 1 was stopped", `: stopped after \d+ of \d+ probes`)
	p.click("footer button", "Go on")
	p.swept("Sweep 1", ": .*4 unprotected")
	assert.Empty(t, p.MustElements("footer button:has(+ .nothing)"))
}

func TestKeyboardAndTheme(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t, "--flaws", "none"), "light")
	p.see("[role=columnheader]", "imre")
	p.press('?')
	p.see(".dialog", "next gap")
	p.press(input.Escape)
	p.gone(".dialog", "next gap")
	p.press('g', 'd')
	p.see(".cm-content", "millgate")
	p.MustEval(`() => document.activeElement.blur()`)
	p.press('g', 'b')
	p.see("[role=columnheader]", "imre")
	p.MustElement("[aria-label='Dark theme']").MustClick()
	assert.Equal(t, "dark", p.MustEval(`() => document.documentElement.dataset.theme`).Str())
	p.MustReload()
	p.see("[role=columnheader]", "imre")
	assert.Equal(t, "dark", p.MustEval(`() => document.documentElement.dataset.theme`).Str())
	p.sweepDone()
	p.see("[role=group]", "No gaps")
}
