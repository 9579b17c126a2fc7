package e2e

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hand counts what somebody does: what is pressed, and fields that are filled.
type hand struct {
	*Page
	n    int
	keys bool // with the keyboard alone
}

func (h *hand) click(css, text string) {
	h.n++
	if !h.keys {
		h.Page.click(css, text)
		return
	}
	h.see(css, text)
	if strings.Contains(css, "[role=row]") {
		h.row(text)
	} else {
		h.reach(css, text)
	}
	if strings.Contains(css, "checkbox") {
		h.press(input.Space)
		return
	}
	h.press(input.Enter)
}

func (h *hand) fill(label, text string) {
	h.n++
	if !h.keys {
		h.Page.fill(label, text)
		return
	}
	h.reach(fmt.Sprintf("[aria-label='%s']", label), "")
	require.NoError(h.t, h.InsertText(text))
}

// mostTabs is how far somebody goes with Tab before it counts as out of reach.
const mostTabs = 200

// row goes to the list, and with the arrows to the row that shows a text.
func (h *hand) row(text string) {
	h.t.Helper()
	h.reach("[role=grid]", "")
	for range mostTabs {
		if h.MustEval(`text => { const e = document.activeElement.getAttribute('aria-activedescendant')
			return !!e && new RegExp(text).test(document.getElementById(e).innerText) }`, text).Bool() {
			return
		}
		h.press(input.ArrowDown)
	}
	h.t.Fatalf("no row shows %q (see %s)", text, h.shot())
}

// reach goes with Tab to what matches css and shows a text.
func (h *hand) reach(css, text string) {
	h.t.Helper()
	for range mostTabs {
		if h.MustEval(`(css, text) => { const e = document.activeElement
			return !!e && e.matches(css) && new RegExp(text).test(e.innerText) }`, css, text).Bool() {
			return
		}
		h.press(input.Tab)
	}
	h.t.Fatalf("%s %q is not reached with %d tabs (see %s)", css, text, mostTabs, h.shot())
}

// visit is the HAR of somebody's visit to the reading room: the login and some reads, with their answers.
func visit(t *testing.T, base, name string, paths ...string) string {
	t.Helper()
	entry := func(method, path, headers, body, answer string, status int) string {
		post := ""
		if body != "" {
			post = fmt.Sprintf(`, "postData": {"mimeType": "application/json", "text": %q}`, body)
		}
		return fmt.Sprintf(`{"request": {"method": %q, "url": %q, "headers": [%s{"name": "Accept", "value": "*/*"}]%s},
 "response": {"status": %d, "headers": [], "content": {"text": %q}}}`, method, base+path, headers, post, status, answer)
	}
	token := "card-of-" + name
	list := []string{entry("POST", "/login", "", fmt.Sprintf(`{"name":%q,"password":"password-of-%s"}`, name, name),
		fmt.Sprintf(`{"expires_in":900,"token":%q}`, token), http.StatusOK)}
	for _, p := range paths {
		method, path, _ := strings.Cut(p, " ")
		body := ""
		if method != http.MethodGet {
			body = `{"renew":true}`
		}
		list = append(list, entry(method, path, fmt.Sprintf(`{"name": "Authorization", "value": "Bearer %s"}, `, token),
			body, `{}`, http.StatusOK))
	}
	return `{"log": {"version": "1.2", "entries": [` + strings.Join(list, ",\n") + `]}}`
}

// From nothing to a proven finding, without the text editor: three visits as a browser records them say how the
// service is
// called, what it does today is observed and decided, and the sweep proves what is wrong.
func TestFromNothingToAProvenFinding(t *testing.T) {
	t.Parallel()
	fromNothing(t, false)
}

// The same with the keyboard alone.
func TestFromNothingByKeyboard(t *testing.T) {
	t.Parallel()
	fromNothing(t, true)
}

func fromNothing(t *testing.T, keys bool) {
	t.Helper()
	base := readingRoom(t).URL
	p := &hand{Page: open(t, run(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())+"/", "light"),
		keys: keys}
	p.see("nav[aria-label='Until the first sweep']", "bring them in")
	p.click("nav a", `callers\s*add`)
	p.click(".callers button", "^By example$")
	for k, v := range []struct{ text, role string }{
		{visit(t, base, "ida", "GET /books", "GET /loans", "GET /loans/l-1"), "reader"},
		{visit(t, base, "ole", "GET /loans", "GET /loans/l-2"), "reader"},
		{visit(t, base, "liv", "GET /members", "PATCH /loans/l-2"), "librarian"},
	} {
		if k > 0 {
			p.click("aside button", "^Add another$")
		}
		p.fill(fmt.Sprint("Request ", k+1), v.text)
		p.fill(fmt.Sprint("Role of who sent request ", k+1), v.role)
	}
	p.see("aside section", `loan: \{ fills: loan_id, owned_by: \{ ida: \[l-1\], ole: \[l-2\]`)
	assert.NotContains(t, p.MustElement("aside section").MustText(), "password-of", "no secret is shown again")
	p.click("aside button", "^Write 1?[0-9] lines$")
	p.click("button", "^Try all$")
	p.see("nav[aria-label='Until the first sweep']", "3 of 3 log in")
	p.click(".pending button", "^Keep change$")
	p.see("header", "revision 1")

	p.click("nav a", `rules\s*0 of 6 decided`)
	p.click("button", "^Ask local$")
	p.see("tr.odd b", "Another's record is read")
	p.click("button", "^Confirm the 3 that look right$")
	decideTheRest(p)
	p.see("nav[aria-label='Until the first sweep']", "6 of 6 decided")
	p.click(".pending button", "^Keep change$")
	p.see("header", "revision 2")

	p.click(".rail a", "^Board$")
	p.click("footer button", "^Start sweep$")
	p.click(".dialog button", "^Start sweep$")
	p.swept(`Sweep \d+`, "")
	p.gone("nav", "Until the first sweep")
	p.click(".rail a", "^Findings$")
	p.click("[role=row] [role=gridcell]", "Somebody else's record")
	p.see("main", "· proven ·")

	// What is still to be decided: what routes are for, how often a password may be tried.
	open := []string{"route-undescribed", "login-no-quota", "role-idle"}
	text, _ := p.kept()
	require.NotContains(t, text, "password-of")
	file := filepath.Join(t.TempDir(), "made.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	out, err := exec.Command(program, "format", "--list", file).CombinedOutput()
	require.NoError(t, err, "it is canonical: %s\n%s", out, text)
	out, err = exec.Command(program, "review", file).Output()
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`\[([a-z-]+)\]`).FindAllStringSubmatch(string(out), -1) {
		assert.Contains(t, open, m[1], "it is reviewed clean, but for what nobody has decided yet: %s\n%s", out, text)
	}
	t.Logf("from nothing to a proven finding: %d interactions", p.n)
}
