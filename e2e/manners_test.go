package e2e

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every state has an address: a link opens what it was copied from.
func TestAddresses(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url+"/board?q=effect:delete+role:director", "light")
	p.see("[role=columnheader]", `4 of \d+ routes`)
	assert.Len(t, p.MustElements("[role=columnheader]"), 2, "the route and the only director")
	p.see("[role=rowheader]", "DELETE")
	p.MustNavigate(url + "/board?q=nothing-like-it")
	p.see("p", "No route matches")
	p.click("button", "Clear the filter")
	p.see("[role=rowheader]", "/calendar")
	p.MustNavigate(url + "/board?q=gap:unprotekted")
	p.see(".wrong", "gap:unprotekted is not known")
	p.MustNavigate(url + "/board?route=GET%20/v1/audit&caller=imre")
	p.see("aside h1", "GET /v1/audit")
	p.see("aside .banner", "Not probed yet")
	p.see("aside .ladder .decides", "needs auditor or director, imre has observer: forbid, 403")
	p.MustNavigate(url + "/board?route=GET%20/v9&caller=imre")
	p.see("aside p", `There is no route|there is no route "GET /v9"`)
	p.allow = regexp.MustCompile("status of 404")
	p.MustNavigate(url + "/nowhere")
	p.see("[role=rowheader]", "/calendar")
}

func TestFilterLineCompletes(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t), "light")
	p.see("[role=rowheader]", "/calendar")
	p.press('/')
	p.see("[role=option]", "^role:$")
	p.MustElement("[role=combobox]").MustInput("role:op")
	p.see("[role=option]", "^role:operator$")
	p.press(input.ArrowDown, input.Enter)
	require.Eventually(t, func() bool {
		return p.MustElement("[role=combobox]").MustProperty("value").Str() == "role:operator "
	}, patience, 20*time.Millisecond)
	p.gone("[role=columnheader]", "imre")
	p.see("[role=columnheader]", "sanna")
	p.press(input.Escape)
	p.see("[role=columnheader]", "imre")
}

// Two cells are compared; the first rung at which they differ is marked.
func TestLaddersSideBySide(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url+"/board?route=POST%20/v1/dome/slew&caller=imre", "light")
	p.see("aside h1", "POST /v1/dome/slew")
	p.MustElement(".cell.sel")
	p.MustElement("[aria-label^='sanna, POST /v1/dome/slew']").MustEval(`() => this.dispatchEvent(new MouseEvent('click', { bubbles: true, shiftKey: true }))`)
	p.see("aside", "Ladders side by side")
	p.see("aside", "They first differ at rung 4")
	assert.Len(t, p.MustElements("aside .differs"), 2)
	p.press(input.Escape)
	p.gone("aside", "Ladders side by side")
}

func TestCopyAsCurl(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url+"/board?route=POST%20/v1/dome/slew&caller=imre", "light")
	p.see("aside h1", "POST /v1/dome/slew")
	clipboard := []proto.BrowserPermissionType{proto.BrowserPermissionTypeClipboardReadWrite,
		proto.BrowserPermissionTypeClipboardSanitizedWrite}
	require.NoError(t, proto.BrowserGrantPermissions{Permissions: clipboard,
		BrowserContextID: p.Browser().BrowserContextID}.Call(p.Browser()))
	p.click("aside button", "Copy as curl")
	p.see(".n-message", "Secrets stand in it as environment variables")
	text := p.MustEval(`() => navigator.clipboard.readText()`).Str()
	assert.Contains(t, text, "curl --path-as-is")
	assert.Contains(t, text, `"Authorization: Bearer $IMRE_ACCESS_TOKEN"`)
}

func TestRevisionsAndDrafts(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url+"/declaration?line=2", "light")
	p.see(".cm-meant", "The stand-in")
	p.press(input.End)
	p.Keyboard.MustType('!')
	p.see(".bar", "1 edit pending")
	p.see(".keep [role=status]", "No crossing changes")
	p.MustElement("aside .keep input").MustInput("A louder comment")
	p.click("aside .keep button", "Keep change")
	p.see(".bar", "revision 2")
	p.click("[role=tab]", "Revisions")
	p.see("li", "2 A louder comment")
	p.click("li button", "^Restore$")
	p.see(".bar", "1 edit pending")
	p.gone(".cm-line", "7401!")

	// It can be dropped, and dropping can be undone.
	p.click("aside .keep button", "Drop it")
	p.see(".bar", "revision 2")
	p.MustElement(".cm-content").MustFocus()
	p.KeyActions().Press(input.ControlLeft).Type('z').Release(input.ControlLeft).MustDo()
	p.see(".bar", "1 edit pending")

	// What is pending outlives the page, and a place that was left.
	p.MustNavigate(url + "/board")
	p.see(".pending .what", "1 edit pending")
	p.MustNavigate(url + "/declaration")
	p.see(".bar", "1 edit pending")
}

// What an editor writes into the file is taken in; a text that was made from
// the older one is kept, with a word about it.
func TestTheFileChangesElsewhere(t *testing.T) {
	t.Parallel()
	file := write(t, "millgate: 1\ntitle: Before\nroutes: [GET /a]\naccess: [{ at: GET /a, who: anyone }]\n")
	url := run(t, "serve", file, "--listen", "127.0.0.1:0", "--data", t.TempDir())
	p := open(t, url, "light")
	p.see("header", "Before")
	require.NoError(t, os.WriteFile(file, []byte("millgate: 1\ntitle: Behind\nroutes: [GET /a, GET /b]\naccess: [{ "+
		"at: /**, who: anyone }]\n"), 0o600))
	p.MustReload()
	p.see("header", "Behind revision 2")
	p.see("[role=columnheader]", "2 routes")
}

func TestServerThatIsGone(t *testing.T) {
	t.Parallel()
	cmd := exec.Command(program, "serve", write(t, "millgate: 1\ntitle: Here\nroutes: [GET /a]\naccess: [{ at: GET "+
		"/a, who: anyone }]\n"), "--listen", "127.0.0.1:0", "--data", t.TempDir())
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	buf := make([]byte, 1024)
	n, err := out.Read(buf)
	require.NoError(t, err)
	url := address.FindStringSubmatch(string(buf[:n]))[1]
	p := open(t, url, "light")
	p.allow = regexp.MustCompile("ERR_")
	p.see("header", "Here")
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait() // it was killed
	p.see("header", "connection lost, trying again")
	p.see("[role=rowheader]", "/")

	again := exec.Command(program, "serve", filepath.Join(t.TempDir(), "none.gate.yaml"), "--new", "--listen",
		strings.TrimPrefix(url, "http://"), "--data", t.TempDir())
	require.NoError(t, again.Start())
	defer func() {
		_ = again.Process.Signal(os.Interrupt)
		assert.NoError(t, again.Wait())
	}()
	require.Eventually(t, func() bool {
		r, err := http.Get(url)
		if err != nil {
			return false
		}
		return r.Body.Close() == nil
	}, patience, 50*time.Millisecond)
	p.see("h1", "Bring in routes")
	p.gone("header", "connection lost")
}

// Whoever sees a board for the first time is told what its marks mean, once.
func TestTheFirstBoardIsExplained(t *testing.T) {
	t.Parallel()
	url := run(t, "serve", write(t,
		"millgate: 1\ntitle: Here\nroutes: [GET /a]\naccess: [{ at: GET /a, who: anyone }]\n"),
		"--listen", "127.0.0.1:0", "--data", t.TempDir())
	p := openFirst(t, url, "light", "0")
	p.see("[role=dialog] h2", "What is declared")
	p.press(input.Escape)
	p.gone(".dialog", "What is declared")
	p.MustReload()
	p.see("[role=columnheader]", "1 routes")
	p.gone(".dialog", "What is declared")
	p.press(input.Key('l'))
	p.see("[role=dialog] h2", "What is declared")
}
