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

// Who calls is added without knowing the language: a scheme, a caller whose password is kept sealed, its login tried on
// the target and its answer named. Each step is a pending edit.
func TestCallersAreAddedAndTried(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "room.gate.yaml")
	head, rest, _ := strings.Cut(fmt.Sprintf(room, readingRoom(t).URL), "roles:\n")
	_, tail, _ := strings.Cut(rest, "\naccess:\n")
	require.NoError(t, os.WriteFile(file, []byte(head+"access:\n"+tail), 0o600))
	p := open(t, run(t, "serve", file, "--listen", "127.0.0.1:0", "--data", t.TempDir())+"/", "light")
	p.click(".rail a", "^Callers$")
	p.see(".empty", "Nobody calls yet")
	p.click("button", "^Add a scheme$")
	p.fill("Name of the scheme", "card")
	p.pick("section form label:nth-of-type(3) .n-base-selection", "POST /login")
	p.fill("What the login sends", `{ "name": "{name}", "password": "{password}" }`)
	p.fill("Where the token is", "/card")
	p.see(".becomes", `^card: \{ kind: bearer, login`)
	p.click("button", "^Add the scheme$")
	p.see("section li b", "^card$")
	p.see(".pending", "Add scheme card|1 edit pending")

	p.click("button", "^Add a caller$")
	p.fill("Name", "ida")
	p.pick("aside .n-select .n-base-selection", "reader")
	p.press(input.Escape)
	p.fill("name", "ida")
	p.fill("password", "password-of-ida")
	p.click("aside button", "^Add$")
	p.see("aside h1", "^ida$")
	p.see("aside dd", "kept:ida-password")
	p.see(".roles b", "^reader$")

	// The pointer is wrong: it is said, and a click puts it right.
	p.click("aside button", "^Try it on here$")
	p.see("aside [role=alert]", "nothing at /card, where access is taken")
	p.see("aside .line", "token")
	p.click("aside .line:first-of-type .chip, aside .line:last-of-type .chip", "say what it is")
	p.click(".n-dropdown-option", "the access token")
	p.see(".pending", "edits pending")
	p.click("aside button", "^Try it on here$")
	p.see("tr.on .state", "ends in 15 min")
	assert.NotContains(t, p.MustElement("aside").MustText(), "card-of-ida", "what it gave is never shown")

	// Others come from a table: a row that lacks something is said, and nothing is written with it.
	p.click("button", "^From a table$")
	p.fill("Table of accounts", "name,role,password,desk\nole,reader,password-of-ole,north\nliv,librarian,,\n")
	p.see("aside td", "card needs password")
	p.see("aside button[disabled]", "^Mend 1 of 2 rows$")
	p.fill("Table of accounts",
		"name,role,password,desk\nole,reader,password-of-ole,north\nliv,librarian,password-of-liv,\n")
	p.click("aside button", "^Write 2 callers$")
	p.see("aside h1", "^ole$")
	p.see("tr.on", "desk: north")
	p.click("aside button", "^Try it on here$")
	p.see("tr.on .state", "ends in 15 min")
	p.click("tr a", "^ida$")
	p.see("aside h1", "^ida$")

	p.click("aside button", "^Rename…$")
	p.fill("Another name", "isa")
	p.click("aside button", "^Rename everywhere$")
	p.see("aside h1", "^isa$")
	p.click(".pending button", "^Keep change$")
	p.see("header", "revision 2")
	text, _ := p.kept()
	for _, want := range []string{"isa: { roles: reader, ",
		"credentials: { card: { name: ida, password: kept:ida-password } } }",
		"reader:", "kind: bearer", "/token"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "password-of-ida")
}

// fill replaces what stands in a field with a label.
func (p *Page) fill(label, text string) {
	p.t.Helper()
	e := p.MustElement(fmt.Sprintf("input[aria-label='%s'], textarea[aria-label='%[1]s']", label))
	e.MustSelectAllText().MustInput(text)
}

// pick chooses in a select, by typing.
func (p *Page) pick(css, option string) {
	p.t.Helper()
	p.MustElement(css).MustClick()
	p.MustInsertText(option)
	p.press(input.Enter)
}
