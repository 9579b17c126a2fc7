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

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hand counts what somebody does with the mouse and the keyboard: clicks, and fields that are filled.
type hand struct {
	*Page
	n int
}

func (h *hand) click(css, text string) { h.n++; h.Page.click(css, text) }
func (h *hand) fill(label, text string) {
	h.n++
	h.Page.fill(label, text)
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
	base := readingRoom(t).URL
	p := &hand{Page: open(t, run(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())+"/", "light")}
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
	p.sweepDone()
	p.n += 2 // the sweep is started and its plan accepted
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
