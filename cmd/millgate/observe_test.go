package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const quay = `millgate: 1.1
targets: { t: { base: %q } }
routes:
  - GET /tides
  - GET /berths
  - POST /berths
  - GET /berths/clear
roles: { pilot: , master: { includes: pilot } }
schemes: { token: { kind: bearer } }
identities:
  ana: { roles: pilot, credentials: { token: { token: env:QUAY_ANA } } }
  mo: { roles: master, credentials: { token: { token: env:QUAY_MO } } }
  old: { roles: pilot, credentials: { token: { token: env:QUAY_OLD } } }
access:
  - { at: "/**", who: undecided }
`

// What a service lets happen is asked, said in groups, and written where somebody confirms it.
func TestObserve(t *testing.T) {
	for name, secret := range map[string]string{"QUAY_ANA": "ana-1", "QUAY_MO": "mo-1", "QUAY_OLD": "gone"} {
		t.Setenv(name, secret)
	}
	var sent []string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch token := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "); {
		case r.Method != http.MethodOptions && r.Method != http.MethodGet:
			sent = append(sent, r.Method+" "+r.URL.Path)
		case r.URL.Path == "/tides":
		case token != "ana-1" && token != "mo-1":
			w.WriteHeader(http.StatusUnauthorized)
		case r.URL.Path == "/berths" && token != "mo-1":
			w.WriteHeader(http.StatusForbidden)
		}
	}))
	t.Cleanup(srv.Close)
	gate := filepath.Join(t.TempDir(), "quay.gate.yaml")
	require.NoError(t, os.WriteFile(gate, fmt.Appendf(nil, quay, srv.URL), 0o600))
	kept := func() string {
		b, err := os.ReadFile(gate)
		require.NoError(t, err)
		return string(b)
	}
	before := kept()

	// ana is let in nowhere but where everybody is, so that nothing is said of her.
	code, out, errs := run(t, "observe", gate)
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "0 of 4 routes are decided")
	assert.Contains(t, out, "Open to all")
	assert.Contains(t, out, `- { at: GET /tides, who: anyone }`)
	assert.Contains(t, out, "not known: ana")
	assert.Contains(t, out, "not known: old")
	assert.Contains(t, out, `GET /berths/clear: "clear" sounds as if it did something`)
	assert.Equal(t, before, kept(), "nothing is approved by itself")

	code, out, errs = run(t, "observe", gate, "--also", "GET /berths/clear", "--format", "json")
	assert.Equal(t, 0, code, errs)
	var said struct {
		Groups []struct {
			ID, Entry string
			Routes    []string
			Marks     map[string]string
		}
		Lost []string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &said))
	assert.Equal(t, []string{"old: it opened nothing that was asked"}, said.Lost)
	by := map[string]string{}
	for _, g := range said.Groups {
		by[g.Routes[0]] = g.Entry
		if g.Routes[0] == "GET /berths" {
			assert.Equal(t, map[string]string{"": "away", "ana": "away", "mo": "in"}, g.Marks)
		}
	}
	assert.Equal(t, map[string]string{"GET /tides": "{ at: GET /tides, who: anyone }",
		"GET /berths":       "{ at: GET /berths, who: master }",
		"GET /berths/clear": "{ at: GET /berths/clear, who: pilot }"}, by)

	code, out, errs = run(t, "observe", gate, "--also", "GET /berths/clear", "--confirm", "all", "--guess", "all")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "4 of 4 routes are decided")
	assert.Contains(t, kept(), "who: master } # observed on ")
	assert.Contains(t, kept(), "{ at: POST /berths, who: master } # guessed from GET /berths on ")
	assert.Empty(t, sent, "nothing but safe reads was sent")

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{nil, 2, "there is no read that nobody has decided"},
		{[]string{"--target", "elsewhere"}, 2, `has no target "elsewhere"`},
		{[]string{"--caller", "nina"}, 2, `there is no identity "nina"`},
		{[]string{"--all", "--confirm", "ob-none"}, 2, `there is no group "ob-none"`},
		{[]string{"--format", "xml"}, 2, "xml"},
	} {
		code, _, errs = run(t, append([]string{"observe", gate}, c.args...)...)
		assert.Equal(t, c.code, code, c.args)
		assert.Contains(t, errs, c.says)
	}
	srv.Close()
	code, _, errs = run(t, "observe", gate, "--all")
	assert.Equal(t, 3, code, "nothing was told: %s", errs)
}
