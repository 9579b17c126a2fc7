package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// text is the kept declaration.
func (p *Page) kept() (text string, revision int) {
	p.t.Helper()
	var d struct {
		Text     string `json:"text"`
		Revision int    `json:"revision"`
	}
	require.NoError(p.t,
		json.Unmarshal([]byte(p.MustEval(`async () => JSON.stringify(await (await fetch('/api/declaration')).json())`).Str()), &d))
	return d.Text, d.Revision
}

// Routes come in by a guided page, become a pending edit, and are kept.
func TestImportIsPreviewedAndKept(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	har := filepath.Join(dir, "seen.har")
	require.NoError(t, os.WriteFile(har, []byte(`{"log": {"entries": [
 {"request": {"method": "GET", "url": "https://api.example/v1/things/t-1"}, "response": {"status": 200}},
 {"request": {"method": "GET", "url": "https://api.example/v1/things/t-2"}, "response": {"status": 200}},
 {"request": {"method": "POST", "url": "https://api.example/v1/things", "postData": {"mimeType": "application/json",
	"text": "{\"name\":\"x\",\"password\":\"p\"}"}}, "response": {"status": 201}},
 {"request": {"method": "GET", "url": "https://api.example/v1/sky/m31"}, "response": {"status": 200}},
 {"request": 7}
]}}`), 0o600))
	p := open(t, run(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())+"/", "light")
	p.see("h1", "Bring in routes")
	p.MustElement("[aria-label='Files to import']").MustSetFiles(har)
	p.see("td", `GET /v1/things/\{thing_id\}`)
	p.see("td b", "^unclear$")
	p.see("[aria-label='What could not be read']", "entry 5")
	p.see("button", "Bring in 2 routes")
	// The folding is corrected, and the unclear one taken.
	p.MustElementR("tr", "sky/m31").MustElementR("button", "correct").MustClick()
	in := p.MustElement("[aria-label='The template it belongs to']")
	in.MustSelectAllText().MustInput("/v1/sky/{object_id}")
	p.click("button", "Use this template")
	p.see("td", `GET /v1/sky/\{object_id\}`)
	p.see("button", "Bring in 3 routes")
	p.click("button", "Bring in 3 routes")
	p.see(".cm-content", `thing_id`)
	p.see(".keep [role=status]", "3 routes are new")
	p.click("button", "^Keep change$")
	p.see(".bar", "revision 1")
	text, rev := p.kept()
	assert.Equal(t, 1, rev)
	assert.Contains(t, text, `"GET /v1/sky/{object_id}"`)
	assert.Contains(t, text, `"password": "{password}"`)
	// A broken file is no dead end.
	bad := filepath.Join(dir, "bad.har")
	require.NoError(t, os.WriteFile(bad, []byte("{"), 0o600))
	p.click("button", "^Add routes$")
	p.see("h1", "Bring in routes")
	p.MustElement("[aria-label='Files to import']").MustSetFiles(bad)
	p.see("[role=alert]", "could not be read.*Nothing was changed|Nothing was changed")
	p.click("button", "Take another")
	p.see("h2", "By hand, or pasted")
	p.allow = allowed(422)
	p.MustElement("textarea").MustInput("GET /v1/extra  More of it\nnonsense")
	p.click("button", "^Look at it$")
	p.see("td", "GET /v1/extra")
	p.see("[aria-label='What could not be read']", "line 2")
}

// Crossings are selected and edited; the text follows, with undo, redo, and one
// revision for all of it.
func TestBoardIsEdited(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/board?q=/dome", "light")
	p.see("[role=rowheader]", "/slew")
	before, _ := p.kept()
	p.press('e')
	p.see("[role=toolbar]", "Select crossings")
	p.hit("[aria-label^='imre, POST /v1/dome/slew']")
	p.hit("[aria-label^='tove, POST /v1/dome/slew']")
	p.see("[role=toolbar] [role=status]", "2 crossings of 1 route")
	p.press('+')
	p.see(".pending [role=status]", "2 crossings change: 2 open")
	p.MustElement("[aria-label^='imre, POST /v1/dome/slew: expected admit'][aria-label$='pending edit']")
	// A whole row by its label, by the menu.
	p.click("[role=toolbar] button", "Clear selection")
	p.hit("[role=row][aria-rowindex='4'] [role=rowheader]")
	p.see("[role=toolbar] [role=status]", "9 crossings of 1 route")
	p.click("[role=toolbar] button", "Write the rule")
	p.see("[role=dialog]", "The rule of POST /v1/dome/park")
	p.click("[role=dialog] .n-checkbox", "role director")
	p.MustElement("[aria-label=Attribute]").MustInput("team")
	p.MustElement("[aria-label=Value]").MustSelectAllText().MustInput("dome")
	p.see("[role=dialog] .says", `who: director, given: \{ team: "dome" \}`)
	p.click("[role=dialog] button", "^Write the rule$")
	p.see(".pending .what", "2 edits pending")
	p.see(".pending [role=status]", "4 crossings change: 2 close, 2 open")
	// Undo, redo.
	p.press(input.Escape)
	p.press('u')
	p.see(".pending .what", "1 edit pending")
	p.see(".pending [role=status]", "2 crossings change: 2 open")
	p.press('U')
	p.see(".pending [role=status]", "4 crossings change")
	// It survives a reload, and the editor shows the same.
	p.MustReload()
	p.see(".pending .what", "1 edit pending")
	p.click(".pending .what", "pending")
	p.see(".diff .new", `/v1/dome/\*\*, who: director`)
	p.click(".pending a", "open it in the editor")
	p.see(".cm-content", "Fernhollow")
	p.see(".keep [role=status]", "4 crossings change")
	p.MustElement("[aria-label='Message of the revision']").MustInput("Two rules at the dome")
	p.click("button", "^Keep change$")
	p.see(".bar", "revision 2")
	after, rev := p.kept()
	assert.Equal(t, 2, rev)
	// Nothing but these lines is another.
	lines := map[string]bool{}
	for _, l := range strings.Split(after, "\n") {
		lines[l] = true
	}
	for _, l := range strings.Split(before, "\n") {
		assert.True(t, lines[l] || strings.HasPrefix(l, "  - { at: /v1/dome/**"), "the line %q is lost", l)
	}
	assert.Contains(t, after, "  - { at: POST /v1/dome/slew, who: [operator, observer] }\n")
	assert.Contains(t, after, `  - { at: /v1/dome/**, who: director, given: { team: "dome" } }`)
}

func TestEditorHelps(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/declaration", "light")
	p.see(".cm-content", "Fernhollow")
	// A rule is written with completion only.
	p.MustElement(".cm-content").MustFocus()
	p.KeyActions().Press(input.ControlLeft).Type(input.End).MustDo()
	p.MustInsertText("\nacc")
	p.KeyActions().Press(input.ControlLeft).Type(input.Space).MustDo()
	p.see(".cm-tooltip-autocomplete li", "^access")
	p.see(".cm-completionInfo", "Who may call what")
	p.press(input.Escape)
	p.KeyActions().Press(input.ControlLeft).Type('z').MustDo()
	// What a name means, and where it is declared.
	text, _ := p.kept()
	line := strings.Count(text[:strings.Index(text, "- { at: /v1/dome/**, who: operator")], "\n") + 1
	p.MustNavigate(fmt.Sprintf("%s?line=%d", p.MustInfo().URL, line))
	p.see(".cm-meant", "who: operator")
	p.MustElement(".cm-meant").MustEval(`() => { const l = this; const r = document.createRange(); const w = document.createTreeWalker(l, NodeFilter.SHOW_TEXT); let n; while ((n = w.nextNode())) { const i = n.data.indexOf('operator'); if (i >= 0) { r.setStart(n, i + 2); r.setEnd(n, i + 3); const b = r.getBoundingClientRect(); window.__at = [b.x, b.y + b.height / 2]; return } } window.__at = null }`)
	at := p.MustEval(`() => window.__at`)
	require.False(t, at.Nil(), "the line names the role operator")
	p.Mouse.MustMoveTo(at.Get("0").Num(), at.Get("1").Num())
	p.see(".cm-help", "role operator")
	p.Mouse.MustMoveTo(at.Get("0").Num()+1, at.Get("1").Num())
	p.Mouse.MustClick("left")
	p.press(input.F12)
	p.see(".cm-meant", "operator: .*includes: observer")
	// The outline leads to names.
	p.click("[role=tab]", "Outline")
	p.MustElement("[aria-label='Find a name']").MustInput("partner")
	p.click(".outline button", "^partner-key")
	p.see(".cm-meant", "partner-key: .*api-key")
}

// A message of the review is mended by its fix, another waived; a revision is
// compared and restored.
func TestReviewAndRevisions(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/declaration", "light")
	p.see("aside .fine", "nothing to say")
	p.see("details summary", "4 waived")
	p.MustElement(".cm-content").MustFocus()
	p.KeyActions().Press(input.ControlLeft).Type(input.End).MustDo()
	p.MustInsertText("\nlifetimess: {}\n")
	p.see(".msg.error", `"lifetimess" is not known`)
	p.click(".msg button", "^Write lifetimes$")
	p.see(".msg.error", "said twice")
	p.click("button", "^Drop it$")
	p.gone(".msg", "said twice")
	// A rule that opens a write: found, waived.
	p.MustNavigate(strings.TrimSuffix(p.MustInfo().URL, "/declaration") + "/board?q=/dome&edit=1")
	p.see("[role=rowheader]", "/park")
	p.hit("[aria-label^='nobody, POST /v1/dome/park']")
	p.press('+')
	p.see(".pending .what", "2 new messages of the review|1 new message of the review")
	p.click(".pending .what", "pending")
	p.click(".pending a", "open it in the editor")
	p.see(".msg.high", "POST /v1/dome/park, which is a command, is open to anyone")
	p.click(".msg.high .head", "open to anyone")
	p.click(".msg.high button", "Waive until")
	p.MustElement("#waive-reason").MustInput("For the open day")
	p.click("[role=dialog] button", "^Waive$")
	p.gone(".msg.high", "is a command, is open to anyone")
	p.see("details summary", "5 waived")
	p.click("button", "^Keep change$")
	p.see(".bar", "revision 2")
	p.click("[role=tab]", "Revisions")
	p.click("button", "What it changed")
	p.see(".cmp", "8 crossings change|crossings change: .* open")
	p.see(".cmp .diff .new", "For the open day")
	p.MustElementR("li", "^1 ").MustElementR("button", "^Restore$").MustClick()
	p.see(".keep [role=status]", "close")
	p.click("button", "^Keep change$")
	p.see(".bar", "revision 3")
	text, _ := p.kept()
	assert.NotContains(t, text, "For the open day")
}

// Everything that is said of a route, on one sheet, and what is changed there.
func TestRouteSheet(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/board?q=/frames", "dark")
	p.see("[role=rowheader]", "POST")
	p.hit("[role=row][aria-rowindex='3'] [role=rowheader]")
	p.see("aside h1", "POST /v1/frames")
	for _, w := range []string{"with the scope frames:write", "Access token", "https://desk.fernhollow.example",
		"general: 120 per 1m and 2000 per 1h"} {
		p.see("aside .said", w)
	}
	p.see("aside .reach", "nightrun")
	p.MustElement("aside [aria-label=Group]").MustInput("Frames").MustType(input.Enter)
	p.see(".pending .what", "1 edit pending")
	p.click("aside a", "GET /v1/frames")
	p.see("aside h1", "^GET /v1/frames$")
	p.press(input.Escape)
	p.gone("aside h1", "frames")
}

// charts is a small OpenAPI file with security requirements.
const charts = `openapi: 3.1.0
info: { title: Charts, version: "1" }
security: [{ key: [] }]
components: { securitySchemes: { key: { type: apiKey, in: header, name: X-Key } } }
paths:
  /charts:
    get: { security: [], responses: { "200": { description: ok } } }
    post: { responses: { "201": { description: ok } } }
`

// How callers are turned away is said in the rule of a route.
func TestHowCallersAreTurnedAway(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/board?q=/dome", "light")
	p.see("[role=columnheader]", "imre")
	p.click("button", "^Edit rules$")
	p.hit("[aria-label^='imre, POST /v1/dome/slew: expected forbid (403)']")
	p.press('w')
	p.pick(".dialog .ways", "404 to who is signed in")
	p.see(".dialog .says", `turned_away: \{ role: 404, scope: 404, ownership: 404 \}`)
	p.click(".dialog button", "^Write the rule$")
	p.see("section.pending", "pending")
	p.hit("[aria-label^='imre, POST /v1/dome/slew: expected hide (404)'][aria-label$='pending edit']")
	p.click("button", "^Keep change$")
	p.see("header", "revision 2")
	p.hit("[aria-label^='imre, POST /v1/dome/slew: expected hide (404)']")
	text, _ := p.kept()
	assert.Contains(t, text, "turned_away: { role: 404, scope: 404, ownership: 404 }")
}

// Whom the board admits on some records: a cell says on which, and the bar and the rule's dialog write it.
func TestBoardAdmitsOnSomeRecords(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/board?q=/v1/proposals/", "light")
	p.see("[role=rowheader]", "/approve")
	p.MustElement("[aria-label^='imre, GET /v1/proposals/{proposal_id}: " +
		"expected admit for a record that is its own or published']")
	p.press('e')
	p.hit("[aria-label^='nobody, PATCH /v1/proposals/{proposal_id}']")
	p.click("[role=toolbar] button", "Other records")
	p.click(".n-dropdown-option", "Records that are published only")
	p.see(".pending .what", "1 edit pending")
	p.MustElement("[aria-label^='nobody, PATCH /v1/proposals/{proposal_id}: " +
		"expected admit for a record that is published'][aria-label$='pending edit']")
	p.click("[role=toolbar] button", "Clear selection")
	p.hit("[aria-label^='imre, POST /v1/proposals/{proposal_id}/submit']")
	p.click("[role=toolbar] button", "Write the rule")
	p.click("[role=dialog] .n-checkbox", "role observer")
	p.click("[role=dialog] .where .n-base-selection", "all")
	p.see(".n-base-select-option", "^its own$")
	p.press(input.ArrowDown)
	p.press(input.Enter)
	p.see("[role=dialog] .says", `who: \{ who: observer, on: own \}`)
	p.click("[role=dialog] button", "^Write the rule$")
	p.see(".pending .what", "2 edits pending")
	p.click("button", "^Keep change$")
	p.see("header", "revision 2")
	after, _ := p.kept()
	assert.Contains(t, after, `  - { at: "PATCH /v1/proposals/{proposal_id}", who: [owner, { who: anyone, on: published }] }`)
	assert.Contains(t, after, `  - { at: "POST /v1/proposals/{proposal_id}/submit", who: { who: observer, on: own } }`)
}
