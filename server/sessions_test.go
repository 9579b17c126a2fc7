package server

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/server/contract"
)

// A drill is run alone, its steps are served with their exchanges, and what it
// measured stands beside what is declared.
func TestDrillsAreServed(t *testing.T) {
	var logins atomic.Int32
	svc := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		switch {
		case r.URL.Path == "/login" && strings.Contains(string(body), "drill-pass-1"):
			_, _ = fmt.Fprintf(w, `{"t":"drill-token-%d"}`, logins.Add(1))
		case r.URL.Path == "/login":
			w.WriteHeader(401)
		case r.URL.Path == "/out":
			w.WriteHeader(204) // and ends nothing
		case !strings.HasPrefix(r.Header.Get("Authorization"), "Bearer drill-token-"):
			w.WriteHeader(401)
		}
	}))
	t.Cleanup(svc.Close)
	t.Setenv("DRILL_PASS", "drill-pass-1")
	s, _ := serve(t, `millgate: 1
targets: { t: { base: "`+svc.URL+`", pace: 500 per 1s, unsafe: allowed } }
routes: [GET /a, POST /login]
schemes: { s: { kind: bearer, lifetime: { access: a }, login: { send: POST /login, json: { n: "{n}", p: "{p}" }, take: { access: /t } }, logout: POST /out } }
lifetimes: { a: { max: 15m, ended_within: 0s } }
identities: { ann: { credentials: { s: { n: ann, p: env:DRILL_PASS } } } }
access: [{ at: GET /a, who: signed-in }, { at: POST /login, who: anyone }]
`)
	list := ask[[]contract.Session](t, "POST", s.URL+"/api/sessions/look", `{"text":"","target":"","logouts":1}`)
	require.Len(t, list, 1)
	require.Len(t, list[0].Drills, 1)
	assert.Equal(t, contract.KindUnprobed, list[0].Drills[0].Kind)
	assert.Empty(t, list[0].Drills[0].Steps)
	assert.Nil(t, list[0].Drills[0].At)

	run := ask[contract.Sweep](t, "POST", s.URL+"/api/probe-again",
		`{"target":"t","crossings":[{"route":"POST /login","caller":"session:ann"}]}`)
	ended(t, s.URL, run.Id)
	d := ask[[]contract.Session](t, "POST", s.URL+"/api/sessions/look",
		`{"text":"","target":"t","logouts":1}`)[0].Drills[0]
	assert.Equal(t, contract.KindS, d.Kind)
	assert.True(t, d.Outlived)
	assert.NotNil(t, d.At)
	require.NotEmpty(t, d.Gaps)
	assert.Regexp(t, `still worked \d+ s after the logout`, d.Gaps[0].Reason) // as long as it was waited for
	last := d.Steps[len(d.Steps)-1]
	assert.Equal(t, "use the other session after the logout", last.Name)
	assert.Equal(t, "works", last.Expected)
	assert.Nil(t, last.Exchange, "they are many; the crossing has them")

	x := ask[contract.Crossing](t, "GET", s.URL+"/api/crossing?route=POST%20/login&caller=session:ann", "")
	require.Len(t, x.Probes, 2, "the drill, and what is tried again of what was ended")
	assert.Equal(t, contract.KindUnproven, x.Probes[1].Kind, "it ended nothing")
	require.NotNil(t, x.Probes[0].Steps)
	require.Len(t, *x.Probes[0].Steps, len(d.Steps))
	first := (*x.Probes[0].Steps)[0]
	assert.Equal(t, "log in, another session", first.Name)
	require.NotNil(t, first.Exchange)
	assert.NotContains(t, fmt.Sprint(*first.Exchange), "drill-pass-1")
	assert.NotContains(t, fmt.Sprint(*first.Exchange), "drill-token-")
	resp, _ := call(t, "GET", s.URL+"/api/crossing?route=POST%20/login&caller=session:zed", "")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)

	timing := ask[contract.Timing](t, "POST", s.URL+"/api/sessions/timing",
		`{"target":"t","identity":"ann","scheme":"s"}`)
	assert.Equal(t, 12, timing.N)
	assert.Positive(t, timing.Known)
	for _, bad := range []string{`{"target":"t","identity":"zed","scheme":"s"}`,
		`{"target":"t","identity":"ann","scheme":"z"}`, `{"target":"u","identity":"ann","scheme":"s"}`} {
		resp, text := call(t, "POST", s.URL+"/api/sessions/timing", bad)
		assert.GreaterOrEqual(t, resp.StatusCode, 400, bad)
		assert.Less(t, resp.StatusCode, 500, text)
	}
}
