package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/server/contract"
)

// ask calls the API and decodes what it answers.
func ask[T any](t *testing.T, method, url, body string) T {
	t.Helper()
	resp, text := call(t, method, url, body)
	require.Less(t, resp.StatusCode, 300, "%s %s: %s", method, url, text)
	var out T
	if text != "" {
		require.NoError(t, json.Unmarshal([]byte(text), &out), text)
	}
	return out
}

func flow(t *testing.T, slow time.Duration) (api, service string) {
	t.Helper()
	svc := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(slow)
		switch {
		case r.URL.Path == "/a" && r.Method == "GET": // open to everybody
			_, _ = fmt.Fprint(w, "{}")
		case r.URL.Path == "/b" && r.Method == "POST":
			w.WriteHeader(422)
			_, _ = fmt.Fprint(w, "amount is missing")
		default:
			w.WriteHeader(404)
		}
	}))
	t.Cleanup(svc.Close)
	t.Setenv("FLOW_KEY", "flow-key-1")
	s, _ := serve(t, `millgate: 1
title: Flow
targets: { t: { base: "`+svc.URL+`", pace: 500 per 1s, unsafe: allowed } }
routes:
  - GET /a
  - POST /b
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities: { ann: { credentials: { key: { key: env:FLOW_KEY } } } }
access: [{ at: /**, who: signed-in }]
`)
	return s.URL, svc.URL
}

func ended(t *testing.T, api string, id int) contract.SweepResult {
	t.Helper()
	var out contract.SweepResult
	require.Eventually(t, func() bool {
		out = ask[contract.SweepResult](t, "GET", fmt.Sprintf("%s/api/sweeps/%d", api, id), "")
		return out.Sweep.State != "running"
	}, 5*time.Minute, 20*time.Millisecond)
	return out
}

func TestASweepFromBeginningToEnd(t *testing.T) {
	api, _ := flow(t, 0)
	plan := ask[contract.Plan](t, "GET", api+"/api/plan", "")
	assert.Positive(t, plan.Probes)
	assert.Positive(t, plan.Unsafe)
	assert.Equal(t, "500 per 1s", plan.Pace)
	resp, text := call(t, "POST", api+"/api/sweeps", `{"target":"t"}`)
	assert.Equal(t, http.StatusCreated, resp.StatusCode)
	var begun contract.Sweep
	require.NoError(t, json.Unmarshal([]byte(text), &begun))
	assert.Equal(t, fmt.Sprintf("/api/sweeps/%d", begun.Id), resp.Header.Get("Location"))
	assert.Equal(t, plan.Probes, begun.Planned)
	res := ended(t, api, begun.Id)
	assert.Equal(t, contract.SweepStateDone, res.Sweep.State)
	require.Len(t, res.Findings, 1)
	assert.Equal(t, "unprotected", res.Findings[0].Name)
	assert.Equal(t, 306, res.Findings[0].Cwe)
	assert.Equal(t, 1, res.NotFair)
	require.NotEmpty(t, res.Unproven)
	assert.Len(t, res.Unproven[0].Crossings, res.Unproven[0].Probes)
	assert.Contains(t, res.Unproven[0].Crossings[0], "POST /b as ")
	assert.Equal(t, coverage.Outside, res.Outside)

	board := ask[contract.Board](t, "GET", api+"/api/board?target=t", "")
	require.NotNil(t, board.Rows[0].Worst)
	assert.Equal(t, contract.KindU, *board.Rows[0].Worst)
	assert.Equal(t, 1, board.Counts.Findings["U"])
	require.NotNil(t, board.Sweep)

	x := ask[contract.Crossing](t, "GET", api+"/api/crossing?route=GET+/a&caller=", "")
	require.NotEmpty(t, x.Probes)
	assert.Equal(t, "refuse, 401", x.Probes[0].Expected)
	assert.Len(t, x.Ladder, 7)
	require.NotNil(t, x.Probes[0].Exchange)
	assert.Equal(t, 200, x.Probes[0].Exchange.Status)
	require.NotNil(t, x.Probes[0].Control)
	assert.True(t, x.Probes[0].Control.SameBody)
	require.NotNil(t, x.Finding)
	assert.Equal(t, 9, x.Line)
	sound := ask[contract.Crossing](t, "GET", api+"/api/crossing?route=GET+/a&caller=ann", "")
	command := ask[struct{ Text string }](t, "GET", api+"/api/curl?probe="+
		strings.ReplaceAll(sound.Probes[0].Id, " ", "%20"), "")
	assert.Contains(t, command.Text, `"X-Key: $ANN_KEY_KEY"`)

	list := ask[[]contract.Unfair](t, "GET", api+"/api/worklist", "")
	require.Len(t, list, 1)
	assert.Equal(t, "amount is missing", list[0].Complaint)
	kept := ask[contract.Declaration](t, "PUT", api+"/api/samples", `{"route":"POST /b","body":"{\"amount\":1}"}`)
	assert.Equal(t, 2, kept.Revision)
	assert.Contains(t, kept.Text, `{ at: POST /b, send: { json: { "amount": 1 } } }`)
	resp, body := call(t, "PUT", api+"/api/samples", `{"route":"POST /b","body":"{"}`)
	assert.Equal(t, 422, resp.StatusCode)
	assert.Contains(t, body, "not JSON")

	again := ask[contract.Sweep](t, "POST", api+"/api/probe-again",
		`{"target":"t","crossings":[{"route":"GET /a","caller":"*"}]}`)
	assert.True(t, again.Partial)
	assert.Equal(t, contract.SweepStateDone, ended(t, api, again.Id).Sweep.State)
	page := ask[contract.SweepPage](t, "GET", api+"/api/sweeps?limit=1", "")
	require.Len(t, page.Items, 1)
	require.NotNil(t, page.Next)
	rest := ask[contract.SweepPage](t, "GET", api+"/api/sweeps?after="+*page.Next, "")
	require.Len(t, rest.Items, 1)
	assert.Less(t, rest.Items[0].Id, page.Items[0].Id, "the newest come first")
	assert.Nil(t, rest.Next)
	assert.Len(t, ask[contract.RevisionPage](t, "GET", api+"/api/revisions", "").Items, 2)
	old := ask[struct{ Text string }](t, "GET", api+"/api/revisions/1", "")
	assert.NotContains(t, old.Text, "amount")
	ticks := ask[contract.TickPage](t, "GET", api+"/api/ticks?limit=2", "")
	assert.Len(t, ticks.Items, 2)
	require.NotNil(t, ticks.Next)
	assert.Equal(t, 2, ask[contract.TickPage](t, "GET", api+"/api/ticks?limit=1&after="+*ticks.Next, "").Items[0].At)
	for _, x := range ask[contract.TickPage](t, "GET", api+"/api/ticks?gaps=true", "").Items {
		assert.Len(t, x.Kind, 1, "a gap")
	}
}

func TestStopAndResume(t *testing.T) {
	api, _ := flow(t, 15*time.Millisecond)
	begun := ask[contract.Sweep](t, "POST", api+"/api/sweeps", `{"target":"t"}`)
	resp, body := call(t, "POST", api+"/api/sweeps", `{"target":"t"}`)
	assert.Equal(t, 409, resp.StatusCode)
	assert.Contains(t, body, "stop it first")
	time.Sleep(40 * time.Millisecond)
	ask[struct{}](t, "POST", fmt.Sprintf("%s/api/sweeps/%d/stop", api, begun.Id), "")
	res := ended(t, api, begun.Id)
	assert.Equal(t, contract.SweepStateStopped, res.Sweep.State)
	ask[contract.Sweep](t, "POST", fmt.Sprintf("%s/api/sweeps/%d/resume", api, begun.Id), "")
	res = ended(t, api, begun.Id)
	assert.Equal(t, contract.SweepStateDone, res.Sweep.State)
	assert.Len(t, res.Findings, 1)
	resp, _ = call(t, "POST", fmt.Sprintf("%s/api/sweeps/%d/resume", api, begun.Id), "")
	assert.Equal(t, 422, resp.StatusCode)
}

func TestTargetsAreWrittenIntoTheText(t *testing.T) {
	api, service := flow(t, 0)
	before := ask[[]contract.Target](t, "GET", api+"/api/targets", "")
	require.Len(t, before, 1)
	kept := ask[contract.Declaration](t, "GET", api+"/api/declaration", "")
	edit := func(text string, u contract.Target) contract.Edited {
		b, err := json.Marshal(contract.TargetEdit{Text: text, Target: u})
		require.NoError(t, err)
		return ask[contract.Edited](t, "POST", api+"/api/targets/edit", string(b))
	}
	u := contract.Target{Name: " u ", Base: service, Hosts: contract.Strings{"id": service},
		Values: contract.Strings{"issuer": service}, Pace: "9 per 2s", Unsafe: "refused", AskFor: []string{"/x"}}
	e := edit(kept.Text, u)
	assert.Equal(t, "Add target u", e.Title)
	assert.Len(t, ask[[]contract.Target](t, "GET", api+"/api/targets", ""), 1, "nothing is kept yet")
	b, err := json.Marshal(contract.Beside{Text: e.Text})
	require.NoError(t, err)
	after := ask[[]contract.Target](t, "POST", api+"/api/targets/look", string(b))
	require.Len(t, after, 2)
	u.Name = "u"
	assert.Equal(t, u, after[1])
	u.Unsafe = "allowed"
	changed := edit(e.Text, u)
	assert.Equal(t, "Change target u", changed.Title)
	assert.Contains(t, changed.Text, "unsafe: allowed")

	// What would be sent is of the text that is given, by policy.
	b, err = json.Marshal(contract.BesideOn{Text: e.Text, Target: "u"})
	require.NoError(t, err)
	plans := ask[[]contract.PolicyPlan](t, "POST", api+"/api/targets/plans", string(b))
	require.Len(t, plans, 3)
	assert.Equal(t, contract.UnsafePolicyRefused, plans[0].Policy)
	assert.Zero(t, plans[0].OnMade+plans[0].Begin+plans[0].OnThere)
	assert.Empty(t, plans[0].Routes)
	assert.Equal(t, contract.UnsafePolicyAllowed, plans[2].Policy)

	b, err = json.Marshal(contract.KeepRequest{Text: e.Text, Message: "u", Base: kept.Revision})
	require.NoError(t, err)
	ask[contract.Declaration](t, "PUT", api+"/api/declaration", string(b))
	c := ask[contract.Connection](t, "POST", api+"/api/targets/test", `{"target":"u"}`)
	assert.True(t, c.Ok)
	require.Len(t, c.Steps, 2)
	assert.Equal(t, "ann, key", c.Steps[1].Name)
}
