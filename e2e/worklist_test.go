package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/standin"
)

func write(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// A control that is not admitted is on the worklist, with the service's own
// complaint; its sample is mended there, and it alone is sent again.
func TestWorklist(t *testing.T) {
	t.Parallel()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		switch {
		case r.URL.Path != "/orders" || r.Method != "POST":
			w.WriteHeader(404)
		case !strings.Contains(string(b), "amount"):
			w.WriteHeader(422)
			_, _ = io.WriteString(w, "amount is missing")
		case r.Header.Get("X-Key") != "key-of-ann":
			w.WriteHeader(401)
		default:
			w.WriteHeader(201)
		}
	}))
	defer s.Close()
	url := run(t, "serve", write(t, `millgate: 1
title: Orders
targets: { local: { base: "`+s.URL+`", pace: 500 per 1s, unsafe: allowed } }
routes:
  - { at: POST /orders, send: { json: { currency: EUR } } }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities: { ann: { credentials: { key: { key: env:ANN_KEY } } } }
access: [{ at: POST /orders, who: signed-in }]
`), "--listen", "127.0.0.1:0", "--data", t.TempDir())
	p := open(t, url, "light")
	p.sweepDone()
	p.see(".chip", "unproven")
	p.click(".chip", "1 not fair yet")
	p.see("aside pre", "amount is missing")
	p.see("aside p", `as ann: 422, 3 verdicts wait for it|as ann: 422`)
	p.MustElement("aside textarea").MustSelectAllText().MustInput(`{"currency":"EUR","amount":5}`)
	p.click("aside button", "Keep the sample and send it")
	p.see("aside", "Every control that was sent is admitted")
	p.see("header", "revision 2")
	p.MustNavigate(url + "/declaration")
	p.see(".cm-content", `send: \{ json: \{ "currency": "EUR", "amount": 5 \} \}`)
}

// Identities that the declaration cannot tell apart are one column, which
// opens; what was not sent is marked as inferred.
func TestFoldedColumns(t *testing.T) {
	t.Parallel()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/a" && r.Method == "GET" {
			return // open to everybody
		}
		w.WriteHeader(404)
	}))
	defer s.Close()
	var ids strings.Builder
	for i := range 14 {
		fmt.Fprintf(&ids, "  o%d: { roles: observer, credentials: { key: { key: env:ANN_KEY } } }\n", i)
	}
	url := run(t, "serve", write(t, `millgate: 1
targets: { local: { base: "`+s.URL+`", pace: 500 per 1s } }
routes: [GET /a]
roles: { observer: , boss: }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities:
`+ids.String()+`  boss: { roles: boss, credentials: { key: { key: env:ANN_KEY } } }
access: [{ at: GET /a, who: boss }]
`), "--listen", "127.0.0.1:0", "--data", t.TempDir())
	p := open(t, url, "light")
	p.see("[role=columnheader]", "observer\\s+× 14")
	assert.Len(t, p.MustElements("[role=columnheader]"), 4)
	p.sweepDone()
	p.see("[role=gridcell] .kind", "U")
	p.click("[role=columnheader] button", "observer")
	p.see("[role=columnheader]", "o13")
	assert.Len(t, p.MustElements("[role=columnheader]"), 17)
	p.MustElement("[aria-label^='o13, GET /a']").MustClick()
	p.see("aside .banner", "inferred from o0")
	assert.NotEmpty(t, p.MustElements(".kind.inferred"))
	p.press(input.Escape)
}

// The command line and the interface tell of the same findings of one sweep. (Two sweeps
// need not find the same: a drill that was disturbed says so, and is unproven.)
func TestSameFindingsEverywhere(t *testing.T) {
	t.Parallel()
	s, err := standin.Listen("127.0.0.1:0", standin.Options{Flaws: standin.Demo, Gateway: true})
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	file := example(t, s)
	data := t.TempDir()
	out, err := exec.Command(program, "sweep", file, "--target", "stand-in", "--data", data, "--format",
		"json").Output()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	require.Equal(t, 1, exit.ExitCode())
	var res struct{ Findings []struct{ ID, Route string } }
	require.NoError(t, json.Unmarshal(out, &res))
	var want []string
	for _, f := range res.Findings {
		want = append(want, f.ID)
	}

	url := run(t, "serve", file, "--listen", "127.0.0.1:0", "--data", data)
	p := open(t, url+"/findings", "light")
	p.see("[role=row].row", "No guard")
	p.MustElement("[role=row].row").MustClick()
	var got []string
	for range want {
		id := regexp.MustCompile(`mg-[0-9a-f]{10}`)
		text := p.see(".page .top", `mg-[0-9a-f]{10}`).MustText()
		got = append(got, id.FindString(text))
		p.press(input.KeyJ)
		if len(got) < len(want) {
			p.gone(".page .top", got[len(got)-1])
		}
	}
	slices.Sort(want)
	slices.Sort(got)
	assert.Equal(t, want, got)
}
