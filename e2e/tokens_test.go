package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const pasted = "Bearer eyJhbGciOiJub25lIiwidHlwIjoiYXQrand0In0.eyJpc3MiOiJqb2UiLCJhdWQiOiJmZXJuaG9sbG93Iiwic3ViIjoiaW1yZSIsInJvbGVzIjpbImRpcmVjdG9yIl0sImVtYWlsIjoiaW1yZUBmZXJuaG9sbG93LmV4YW1wbGUifQ."

// What does a stolen token open, until when, and what does a logout do: three
// clicks from the board.
func TestStolenToken(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/board?q=/dome", "light")
	p.see("[role=rowheader]", "/slew")
	p.hit("[aria-label^='sanna, POST /v1/dome/slew']")
	p.click("aside button", "^Its token$")
	p.see("figcaption", `It ends in \d`)
	p.MustElement("svg[aria-label*='a logout now ends it at once']")
	p.MustElement("svg[aria-label*='longer than declared']")
	p.see("dd", `reads through \d+ routes and changes something through \d+`)
	p.see("h2", "What it opens")
	p.see("td", "POST /v1/dome/slew")
	p.see(".head", `eyJ.*…`)
	assert.Contains(t, p.MustInfo().URL, "identity=sanna", "it has an address")
	assert.NotContains(t, p.MustElement("body").MustText(), "eyJhbGciOiJ")
}

func TestTokenBench(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/tokens", "dark")
	p.MustElement("[aria-label=Token]").MustInput(pasted)
	p.click("button", "^Judge it$")
	p.see(".head", "refuses it")
	p.see(".j", "it is unsigned")
	p.see(".j", "an access token of this typ must have one")
	p.see("dd.bad", "for ever, as far as it says")
	p.see(".j", "it holds the role director, which imre is not declared to hold")
	p.see(".j", "an e-mail address")
	p.see("h2", "What it opens")
	p.see("b.bad", `^\d+$`)
	// A judgement lights up the place that it is about.
	p.MustElementR(".j", "an e-mail address").MustHover()
	p.see(".row.lit dt", "^email$")
	// Kept, judged again, forgotten.
	p.click("button", "^Keep it…$")
	p.MustElement("[role=dialog] [aria-label=Name]").MustSelectAllText().MustInput("a bad one")
	p.click("[role=dialog] button", "^Keep it$")
	p.see(".kept", "a bad one")
	p.MustReload()
	p.see(".kept button", "a bad one")
	p.click(".kept button", "a bad one")
	p.see(".j", "it is unsigned")
	p.MustElement("[aria-label='Forget a bad one']").MustClick()
	p.gone(".kept", "a bad one")
	// Minting warns, and says what is wrong with a key.
	p.click("button", "^Mint a test token…$")
	p.see("[role=dialog]", "Whoever has this key can make any token")
}

func TestMinting(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/tokens?identity=imre", "light")
	p.see(".head", "A service that checks everything")
	p.click("button", "^Mint a test token…$")
	p.MustElement("[role=dialog] [aria-label='Claims']").MustInput(`{"plan": "gold", "nbf": nul}`)
	p.mu.Lock()
	p.allow = allowed(422)
	p.mu.Unlock()
	p.click("[role=dialog] button", "^Mint it$")
	p.see("[role=dialog] [role=alert]", "claims, line 1, column")
	p.MustElement("[role=dialog] [aria-label='Claims']").MustSelectAllText().MustInput(`{"plan": "gold"}`)
	p.MustElement("[role=dialog] [aria-label='Minutes']").MustInput("525600").MustBlur()
	p.see("[role=dialog] .warn", "for months is a finding")
	p.click("[role=dialog] button", "^Mint it$")
	p.see(".minted", "Minted for imre")
	p.see(".minted .warns", "It lives 365 days, at most 15 min is declared")
	p.see(".row dt", "^plan$")
	p.see(".j", "it lives 365 days")
	p.click(".minted button", "^Copy as curl$")
	p.see(".n-message", "Copied as curl")
	p.click("button", "^Clear$")
	p.gone(".minted", "Minted for imre")
}

func TestTokenAudit(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "tokens.txt")
	bare := strings.TrimPrefix(pasted, "Bearer ")
	require.NoError(t, os.WriteFile(file, []byte(bare+"\n"+bare+"\nopaque-4711-token\n"), 0o600))
	p := open(t, demo(t)+"/tokens?tab=audit", "light")
	p.MustElement("[aria-label='File of tokens']").MustSetFiles(file)
	p.see(".sum", "3 tokens in tokens.txt, 2 different, 0 of them sound, 1 of which nobody can tell, 1 without an end")
	p.see("summary", "it is unsigned")
	p.see("h2", "They open most")
	p.see("td.bad", `\d+`)
}

// The Tokens lens shows what the lock accepts, on the rows of the board.
func TestTokensLens(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/board?q=/frames", "light")
	p.see("[role=rowheader]", "/")
	p.sweepDone()
	p.press('2')
	p.see("[role=columnheader]", "not yet valid")
	assert.Contains(t, p.MustInfo().URL, "q=/frames", "the filter stays")
	p.hit("[aria-label^='unsigned, GET /v1/frames:']")
	p.see("aside .banner", "Unprotected")
	p.see("aside .banner", "A credential that is broken")
	p.see("aside .ladder .decides", "soundness")
	p.press('1')
	p.see("[role=columnheader]", "imre")
}

// What the lifetimes come to, as numbers that follow the rate of logouts.
func TestDeclaredSessions(t *testing.T) {
	t.Parallel()
	p := open(t, demo(t)+"/tokens?tab=sessions", "light")
	p.see(".bar", "at most 30 days from the login")
	p.see("li", "using one twice ends the session")
	p.see("li", "259 entries")
	p.MustElement("[aria-label='Logouts in an hour']").MustSelectAllText().MustInput("1200").MustBlur()
	p.see("li", "310 entries")
}

// What drills measured stands under what is declared; a drill can be run alone,
// and the drawer shows each of its requests.
func TestMeasuredSessions(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url+"/tokens?tab=sessions", "light")
	p.see(".drills p", "Not run yet")
	p.click(".drills button", "^Run the drill$")
	p.see(".drills p", "still worked 2 s after the logout")
	p.see("tr.parts td", "use after the logout")
	p.see(".seen.over", "quill's: works on")
	p.see(".drills button", "^Run it again$")

	p.click(".drills a", "Every request and answer of it")
	p.see("aside", "quill · session drill")
	p.see("aside .banner", "Lifetime")
	p.see("aside summary", "refresh after the logout")
	p.see("aside .step[open] pre", "access_token") // what parts is open already
	assert.NotContains(t, p.MustElement("aside").MustText(), "quill-dry-almanac")
	assert.Contains(t, p.MustElement("aside").MustText(), "‹token:")

	// A login's answer times are compared only after it was asked for.
	p.MustNavigate(url + "/tokens?tab=sessions")
	p.click(".drills button", "^Compare login times…$")
	p.see(".n-popover", "may lock this one")
	p.click(".n-popover button", "^Compare$")
	p.see(".drills [role=status]", "medians of 12 each")
}

// An opened link and a signed request are crossings like any other.
func TestOtherCredentialsOnTheBoard(t *testing.T) {
	t.Parallel()
	url := demo(t)
	p := open(t, url+"/board?lens=tokens&q=/alerts", "light")
	p.see("[role=rowheader]", "/")
	p.sweepDone()
	p.hit("[aria-label^='repeated, POST /v1/alerts:']")
	p.see("aside .banner", "The same signed request was accepted twice")
	p.MustNavigate(url + "/board?route=GET%20/v1/downloads/%7Bframe_id%7D&caller=imre")
	p.see("aside .banner", "Agrees")
	p.see("aside pre", `sig=‹signature:`)
	p.MustNavigate(url + "/board?route=GET%20/v1/people&caller=")
	p.see("aside .probes", "around the guard: past the gateway")
	p.see("aside .probes", "no credential, asking for HTML")
}
