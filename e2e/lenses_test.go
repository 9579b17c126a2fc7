package e2e

import (
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
)

// Which pages can call, and how often: with the keyboard and the mouse.
func TestOriginsAndQuotas(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url+"/board", "light")
	p.see("[role=rowheader]", "/calendar")
	p.sweepDone()

	p.MustElement("[role=grid]").MustFocus()
	p.press('3')
	p.see("[role=columnheader]", "unrelated")
	p.see("[aria-label^='unrelated, GET /v1/sky/calendar']", "P")
	p.hit("[aria-label^='null, GET /v1/proposals:']")
	p.see("aside .banner", "A page of null can read as the user; the declaration lets it send blindly")
	p.see("aside .ways .on", "fetches GET, with the user's cookies: no preflight; answer readable")
	p.click("aside .ways button", "authorization, without cookies: preflight, allowed")
	p.click("aside summary", "See it with your own eyes")
	p.see("aside pre", `frame.sandbox = "allow-scripts"[^]*authorization`)
	p.see("aside .steps", "Access-Control-Allow-Origin names the page")
	p.see("aside h2", "Preflight")
	p.press(input.Escape)

	p.mu.Lock()
	p.allow = allowed(422) // what cannot be read is said so
	p.mu.Unlock()
	p.click("button", "^Judge answers")
	p.see(".dialog", "Nothing is sent")
	p.click(".dialog button", "^Judge$")
	p.see(".dialog [role=alert]", "is no origin")
	in := p.MustElements(".dialog input")
	in[0].MustInput("https://sky.fernhollow.example")
	in[2].MustInput("https://api.example/v1/proposals")
	p.MustElements(".dialog textarea")[2].MustInput("HTTP/1.1 200 OK\naccess-control-allow-origin " +
		"https://sky.fernhollow.example")
	p.click(".dialog button", "^Judge$")
	p.see(".dialog [role=alert]", "line 2")
	p.MustElements(".dialog textarea")[2].MustSelectAllText().MustInput("HTTP/1.1 200 " +
		"OK\naccess-control-allow-origin: https://sky.fernhollow.example")
	p.click(".dialog button", "^Judge$")
	p.see(".dialog .out b", "^read$")
	p.see(".dialog .out", "declared: send blindly")
	p.press(input.Escape)
	p.gone(".dialog", "Nothing is sent")

	p.MustElement("[role=grid]").MustFocus()
	p.press('4')
	p.see("[role=columnheader]", "identity or address")
	p.MustNavigate(url + "/board?lens=quotas&q=/v1/session") // further down than is drawn
	p.see("[role=rowheader]", "POST")
	p.hit("[aria-label^='address, POST id:/v1/session:']")
	p.see("aside .banner", "of \\d+ calls in")
	p.see("aside summary .about", "^limiter$")
	p.click("aside summary", "limiter")
	p.see("aside details[open] li", "calls in .* admitted")
	p.see("aside h2", "The calls")
	// Two quotas count here. What a busy machine leaves unproven comes first, so that either may.
	p.MustElement("aside [role=img]:is([aria-label*='login allows 8 per 5m'], [aria-label*='issuer allows 60 per 1m'])")
	p.click("aside button", "Show them as a table")
	p.see("aside td", "admitted")

	p.MustNavigate(url + "/findings")
	p.click("[role=row].row", "Pages of any origin")
	p.click(".page .actions button", "On the board")
	p.see("aside .banner", "can read as the user")
	assert.Contains(t, p.MustInfo().URL, "lens=origins")
}

func TestQuotasComputed(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/quotas", "light")
	p.see(".sim [role=status]", "the ceiling is 15, 8 are declared")
	p.click("tbody small", "token-bucket")
	p.see(".sim h2", "cutouts")
	p.see(".sim [role=status]", "the ceiling is 19, 10 are declared")
	p.click(".sim button", "Show it as a table")
	p.see(".sim th", "Ceiling so far")
	n := p.MustElements(".sim input")
	n[len(n)-2].MustSelectAllText().MustInput("3")
	p.press(input.Tab)
	p.see(".sim label", "that")
	assert.Contains(t, p.MustInfo().URL, "quota=cutouts")

	// What is typed into its form is followed by the table, and becomes an edit that can be dropped.
	p.fill("allows", "20 per 10s")
	p.see("tbody tr.on .amount", "20 per 10s")
	p.see(".sim [role=status]", "20 are declared")
	p.allow = allowed(422) // it is asked as it is typed
	p.fill("allows", "many")
	p.see(".edit [role=alert]", "is not an amount|amount")
	p.fill("allows", "20 per 10s")
	p.click(".edit button", "^Change it$")
	p.see(".pending .what", "1 edit pending")
	p.see("tbody tr.on .amount", "20 per 10s")
	p.gone(".edit button", "As it is")
	p.click(".pending button", "^Drop")
	p.see("tbody tr.on .amount", "10 per 10s")
	p.fill("allows", "33 per 10s")
	p.see("tbody tr.on .amount", "33 per 10s")
	p.click("tbody b", "^login$")
	p.see(".sim h2", "login")
	p.gone("tbody .amount", "^33 per 10s")
}

// A lifetime is edited under its bar, which goes with it.
func TestLifetimesAreEdited(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/tokens?tab=sessions", "dark")
	p.see(".bar", "15 min and 30 s of clock skew")
	p.MustElement("[aria-label='access: at most']").MustSelectAllText().MustInput("2h")
	p.see(".bar", "2 h and 30 s of clock skew")
	p.see("li", "A stolen access token opens for 2 h")
	p.click(".life button", "^As it is$")
	p.see(".bar", "15 min and 30 s of clock skew")
	p.MustElement("[aria-label='access: at most']").MustSelectAllText().MustInput("1h")
	p.click(".life button", "^Change it$")
	p.see(".pending .what", "1 edit pending")
}

// What pages may do is edited where one sees what they could then do, with the keyboard too.
func TestOriginsAreEdited(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/board?lens=origins", "light")
	p.allow = allowed(422)
	p.MustElement("[aria-label^='sky, GET /v1/sky/calendar']")
	p.MustElement("[role=grid]").MustFocus()
	p.press('e')
	p.see("section[aria-label^=Edit] b", "Editing origins")
	p.see("header, .lens", "Origins")

	// A page of an entry: what is typed has no meaning at first, and is seen on the board once it has.
	p.click("section[aria-label^=Edit] button", "^https://sky")
	p.fill("methods", "FETCH")
	p.see("[role=alert]", "is not a method")
	p.fill("methods", "GET")
	p.fill("page", "any")
	p.see("section[aria-label^=Edit] .comes", "crossings would change.*unrelated, beginning.*: reads 0 → 3")
	p.MustElement("[aria-label^='unrelated, GET /v1/sky/calendar: expected read']")
	p.press(input.Enter)
	p.see("section.pending", `crossings of pages change\.`)
	p.MustElement("[aria-label^='unrelated, GET /v1/sky/calendar'][aria-label$='changed by a pending edit']")

	// Another page beside it, an entry of its own, and one taken away.
	p.click("section[aria-label^=Edit] button", "^. entry$")
	p.fill("at", "GET /v1/people, GET /v1/audit")
	p.fill("page", "https://desk.fernhollow.example")
	p.click("section[aria-label^=Edit] button", "^Add it$")
	p.see("section[aria-label^=Edit] td", "GET /v1/people, GET /v1/audit")
	p.click("section[aria-label^=Edit] button", "^any$")
	p.click("section[aria-label^=Edit] button", "^Take it away$")
	p.see("section.pending", "3 edits pending")
	p.gone("section[aria-label^=Edit] button", "^any$")
	p.press('u')
	p.see("section[aria-label^=Edit] button", "^any$")

	// A form that is left takes what was typed in it off the board.
	p.click("section[aria-label^=Edit] button", "^any$")
	p.fill("methods", "POST")
	p.MustElement("[aria-label^='unrelated, GET /v1/sky/calendar: expected send blindly']")
	p.click("button", "^Done editing$")
	p.MustElement("[aria-label^='unrelated, GET /v1/sky/calendar: expected read']")

	p.click("button", "^Keep change$")
	p.see("header", "revision 2")
	p.gone("section.pending", "pending")
	text, _ := p.kept()
	assert.Contains(t, text, "any: { methods: GET }")
	assert.Contains(t, text,
		"- { at: [GET /v1/people, GET /v1/audit], allow: { https://desk.fernhollow.example: {} } }")
	p.gone("section[aria-label^=Edit] b", "Editing origins")
}
