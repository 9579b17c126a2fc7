package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// readingRoom is a service that shares nothing with the stand-in: a library with two readers and a librarian. Loans are
// their reader's, but for one thing that it forgets: anybody who signs in reads anybody's.
func readingRoom(t *testing.T) *httptest.Server {
	t.Helper()
	roles := map[string]string{"ida": "reader", "ole": "reader", "liv": "librarian"}
	owner := map[string]string{"l-1": "ida", "l-2": "ole"}
	who := func(r *http.Request) string {
		name, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer card-of-")
		if _, known := roles[name]; !ok || !known {
			return ""
		}
		return name
	}
	say := func(w http.ResponseWriter, status int, what any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(what)
	}
	guarded := func(role string, h http.HandlerFunc) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			switch name := who(r); {
			case name == "":
				w.Header().Set("WWW-Authenticate", "Bearer")
				say(w, http.StatusUnauthorized, map[string]string{"error": "who are you?"})
			case role != "" && roles[name] != role:
				say(w, http.StatusForbidden, map[string]string{"error": "not for you"})
			default:
				h(w, r)
			}
		}
	}
	loan := func(w http.ResponseWriter, r *http.Request) {
		of, ok := owner[r.PathValue("id")]
		if !ok {
			say(w, http.StatusNotFound, map[string]string{"error": "no such loan"})
			return
		}
		say(w, http.StatusOK, map[string]string{"id": r.PathValue("id"), "reader": of,
			"book": map[string]string{"ida": "The Mill", "ole": "Rivers of the North"}[of],
			"note": map[string]string{"ida": "left at the desk", "ole": "back in autumn"}[of]})
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /login", func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Name, Password string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		if roles[in.Name] == "" || in.Password != "password-of-"+in.Name {
			say(w, http.StatusUnauthorized, map[string]string{"error": "wrong name or password"})
			return
		}
		say(w, http.StatusOK, map[string]any{"token": "card-of-" + in.Name, "expires_in": 900})
	})
	mux.HandleFunc("GET /books", func(w http.ResponseWriter, _ *http.Request) { say(w, 200, []string{"The Mill"}) })
	mux.HandleFunc("GET /loans", guarded("", func(w http.ResponseWriter, r *http.Request) {
		say(w, 200,
			[]string{who(r)})
	}))
	mux.HandleFunc("GET /loans/{id}", guarded("", loan))
	mux.HandleFunc("PATCH /loans/{id}", guarded("librarian", loan))
	mux.HandleFunc("GET /members", guarded("librarian", func(w http.ResponseWriter, _ *http.Request) {
		say(w, 200, []string{"ida", "ole", "liv"})
	}))
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	return s
}

const room = `millgate: 1.1
title: The reading room

targets:
  here: { base: "%s", pace: 200 per 1s }

routes:
  - { at: POST /login, effect: command, summary: Sign in }
  - { at: GET /books, summary: What there is }
  - { at: GET /loans, summary: What one has }
  - { at: "GET /loans/{id}", summary: A loan }
  - { at: "PATCH /loans/{id}", summary: Renew a loan }
  - { at: GET /members, summary: All members }

roles:
  reader:
  librarian:

schemes:
  card: { kind: bearer, login: { send: POST /login, json: { name: "{name}", password: "{password}" }, take: { access: /token } } }

identities:
  ida: { roles: reader, credentials: { card: { name: ida, password: env:IDA } } }
  ole: { roles: reader, credentials: { card: { name: ole, password: env:OLE } } }
  liv: { roles: librarian, credentials: { card: { name: liv, password: env:LIV } } }

records:
  loan: { fills: "/loans/{id}", owned_by: { ida: [l-1], ole: [l-2] } }

access:
  - { at: /**, who: undecided }
`

// decideTheRest decides what looks wrong in the reading room otherwise than it does it, and confirms what is guessed.
func decideTheRest(p interface {
	click(css, text string)
	see(css, text string) *rod.Element
}) {
	p.click("tr.odd button", "^Decide…$")
	p.click("[role=dialog] .n-checkbox", "the owner of the record")
	p.click("[role=dialog] .n-checkbox", "role librarian")
	p.click(".dialog button", "^Write the rule$")
	p.see("header", "4 of 6 routes decided")
	p.click("button", "Propose what they may be")
	p.click(".guesses li:nth-child(1) button", "^Confirm the guess$")
	p.see("header", "5 of 6 routes decided")
	p.click(".guesses li button", "^Confirm the guess$")
	p.see("header", "6 of 6 routes decided")
}

// What a service does today is asked, shown in groups with what looks wrong first, and becomes text group by group.
func TestWhatItDoesTodayIsConfirmed(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "room.gate.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, room, readingRoom(t).URL), 0o600))
	p := open(t, run(t, "serve", file, "--listen", "127.0.0.1:0", "--data", t.TempDir())+"/", "light")
	p.see(".note", "Of all 6 routes nobody has decided")
	p.MustElement("[role=gridcell][aria-label*='nobody has decided who may call this']")
	p.click(".note a", "See what the service does today")
	p.click("button", "^Ask here$")
	p.see("header", `safe reads by nobody and 3 callers`)
	p.see("tr.odd b", "Another's record is read: ida got loan l-2 of ole")
	assert.Regexp(t, "Another's", p.MustElement("tbody tr b").MustText(), "what looks wrong comes first")

	p.see(".steps .done", "3 of 3 log in")

	// What was answered can be looked at, each exchange.
	p.click("button", "Another's record is read")
	p.click(".reads button", `200 ida with card, ole’s l-2`)
	p.see(".reads pre", `"reader": ?"ole"`)

	p.click("button", "^Confirm the 3 that look right$")
	p.see(".pending", "change")
	p.see("td.do", "^confirmed$")
	p.see("header", "3 of 6 routes decided")
	text, _ := p.kept()
	assert.NotContains(t, text, "observed on", "nothing is kept by itself")

	decideTheRest(p)
	p.click(".pending button", "^Keep change$")
	p.see("header", "revision 2")
	text, _ = p.kept()
	for _, line := range []string{"GET /books, who: anyone } # observed on ",
		"GET /loans, who: signed-in } # observed on ",
		"GET /members, who: librarian } # observed on ", `"GET /loans/{id}", who: [owner, librarian] }`,
		"POST /login, who: anyone } # guessed, since card begins there on "} {
		assert.Contains(t, text, line)
	}

	// The sweep proves it.
	p.MustNavigate(strings.TrimSuffix(p.MustInfo().URL, "/observe") + "/board")
	p.gone(".note", "nobody has decided")
	p.sweepDone()
	p.see("[role=gridcell].cell i.k-P", "P")
}
