package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/server/contract"
)

// Findings are listed with what became of them, each has a page of its own, and is waived as an edit.
func TestFindings(t *testing.T) {
	api, _ := flow(t, 0)
	sweep := func() {
		w := ask[contract.Sweep](t, "POST", api+"/api/sweeps", `{"target": "t"}`)
		ended(t, api, w.Id)
	}
	sweep()
	sweep()
	page := ask[contract.FindingPage](t, "GET", api+"/api/findings?limit=1", "")
	require.Len(t, page.Items, 1)
	assert.Len(t, page.Points, 2)
	assert.Empty(t, ask[contract.FindingPage](t, "GET", fmt.Sprint(api, "/api/findings?after=", page.Total), "").Items)
	all := ask[contract.FindingPage](t, "GET", api+"/api/findings?limit=10000", "")
	require.Len(t, all.Items, all.Total)
	f := all.Items[0]
	assert.Equal(t, []any{contract.StateOpen, []contract.State{"new", "open"}, 1, 2, 2},
		[]any{f.State, f.Marks, f.Since, f.Seen, f.Checked})

	d := ask[contract.FindingDetail](t, "GET", api+"/api/findings/"+f.Id, "")
	assert.Equal(t, f.Id, d.Finding.Id)
	assert.Equal(t, []string{"new", "open"}, d.States)
	require.NotEmpty(t, d.Crossings)
	assert.Positive(t, d.Crossings[0].Status)
	assert.Contains(t, *d.Finding.Weighs, f.Name)
	resp, body := call(t, "GET", api+"/api/findings/mg-0", "")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode, body)

	resp, body = call(t, "GET", api+"/sweeps/1..2", "")
	assert.Contains(t, body, "<html", "it is a place of the interface")
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	c := ask[contract.SweepComparison](t, "GET", api+"/api/compare?from=1&to=2", "")
	require.Len(t, c.Items, 1)
	assert.Equal(t, []any{contract.FindingChangeUnchanged, 1, 2, 0}, []any{c.Items[0].Change, c.Items[0].First,
		c.Items[0].Last, c.Stops})
	for _, q := range []string{"from=2&to=1", "from=1&to=1", "from=1&to=9", "from=7&to=2"} {
		resp, body = call(t, "GET", api+"/api/compare?"+q, "")
		assert.GreaterOrEqual(t, resp.StatusCode, 400, "%s: %s", q, body)
	}
	assert.Empty(t, ask[[]contract.ChangedCrossing](t, "GET", api+"/api/changed?since=1", ""))

	text := ask[contract.Declaration](t, "GET", api+"/api/declaration", "")
	b, err := json.Marshal(contract.WaiveFindingsRequest{Text: text.Text, Target: "t", Findings: []string{f.Id},
		Reason: "known", By: "ann", Until: "2099-01-31"})
	require.NoError(t, err)
	e := ask[contract.Edited](t, "POST", api+"/api/findings/waive", string(b))
	assert.True(t, strings.HasPrefix(e.Text, "millgate: 1.1\n"), e.Text)
	assert.Len(t, e.Notes, 1)
	b, err = json.Marshal(contract.Text{Text: e.Text})
	require.NoError(t, err)
	effect := ask[contract.Effect](t, "POST", api+"/api/declaration/check", string(b))
	assert.Equal(t, []string{f.Title}, effect.Waived)
	b, err = json.Marshal(contract.KeepRequest{Text: e.Text, Base: text.Revision})
	require.NoError(t, err)
	ask[contract.Declaration](t, "PUT", api+"/api/declaration", string(b))
	d = ask[contract.FindingDetail](t, "GET", api+"/api/findings/"+f.Id, "")
	require.NotNil(t, d.Line.Waived)
	assert.Equal(t, []any{contract.StateWaived, "known", "ann", "2099-01-31"}, []any{d.Line.State, d.Line.Waived.Reason,
		*d.Line.Waived.By, d.Line.Waived.Until.String()})

	w := ask[contract.Sweep](t, "POST", api+"/api/probe-again", fmt.Sprintf(`{"target": "t", "crossings": [],
		"probes": [%q]}`, d.Crossings[0].Probe))
	r := ended(t, api, w.Id)
	assert.True(t, r.Sweep.Partial)
	resp, body = call(t, "POST", api+"/api/findings/waive", strings.Replace(string(b), "2099-01-31", "soon", 1))
	assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode, body)
}

// A finding is waived from the board as well, before anybody looked at the list.
func TestWaiveWhatNobodyListed(t *testing.T) {
	api, _ := flow(t, 0)
	w := ask[contract.Sweep](t, "POST", api+"/api/sweeps", `{"target": "t"}`)
	f := ended(t, api, w.Id).Findings[0]
	text := ask[contract.Declaration](t, "GET", api+"/api/declaration", "")
	waive := func(id string) (*http.Response, string) {
		b, err := json.Marshal(contract.WaiveFindingsRequest{Text: text.Text, Target: "t", Findings: []string{id},
			Reason: "known", By: "ann", Until: "2099-01-31"})
		require.NoError(t, err)
		return call(t, "POST", api+"/api/findings/waive", string(b))
	}
	resp, body := waive(f.Id)
	assert.Equal(t, http.StatusOK, resp.StatusCode, body)
	assert.Contains(t, body, f.Id)
	resp, body = waive("mg-0123456789")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode, body)
}
