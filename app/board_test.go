package app

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/fault"
	"millgate/app/view"
	"millgate/core/finding"
	"millgate/standin"
)

func row(t *testing.T, b view.Board, key string) view.Row {
	t.Helper()
	for _, r := range b.Rows {
		if r.Key == key {
			return r
		}
	}
	t.Fatalf("no row %q", key)
	return view.Row{}
}

// cell is that of one column in a row.
func cell(t *testing.T, b view.Board, r view.Row, column string) view.Cell {
	t.Helper()
	for i, c := range b.Columns {
		if c.Key == column {
			return b.Cells[r.Access[i]]
		}
	}
	t.Fatalf("no column %q", column)
	return view.Cell{}
}

func TestBoardOfTheDemo(t *testing.T) {
	a := opened(t, listen(t, standin.Options{Flaws: standin.Demo}), nil, "")
	before, err := a.View.Board(t.Context(), "", "")
	require.NoError(t, err)
	assert.Equal(t, "Fernhollow Observatory", before.Title)
	assert.Equal(t, []string{"stand-in", "staging"}, before.Targets)
	assert.Nil(t, before.Sweep)
	for _, r := range before.Rows {
		for _, c := range before.Columns {
			assert.Equal(t, finding.Unprobed, cell(t, before, r, c.Key).Found, r.Key)
		}
		assert.True(t, r.Declared)
	}
	swept(t, a)
	b, err := a.View.Board(t.Context(), "stand-in", "")
	require.NoError(t, err)
	assert.Len(t, b.Rows, len(before.Rows)+2, "two addresses that nobody declared")
	for _, c := range []struct {
		route, column, expect string
		found, worst          finding.Kind
	}{
		{"GET /v1/people", "", "refuse", "U", "U"},
		{"GET /v1/people", "quill", "admit", "agrees", "U"},
		{"PATCH /v1/observations/{observation_id}", "imre", "own", "P", "U"},
		{"PATCH /v1/observations/{observation_id}", "sanna", "admit", "agrees", "U"},
		{"GET /v1/proposals/{proposal_id}", "tove", "own", "P", "P"},
		{"GET /v1/proposals/{proposal_id}", "nightrun", "own", "agrees", "P"},
		{"POST /v1/dome/slew", "imre", "forbid", "P", "P"},
		{"POST /v1/people", "", "admit", "L", "P"},
		{"GET /v1/partners/feed", "imre", "refuse", "W", "P"},
		{"GET /v1/partners/feed", "lanternfish", "admit", "agrees", "P"},
		{"GET /v1/downloads/{frame_id}", "", "refuse", "agrees", "P"},
		{"GET /v1/downloads/{frame_id}", "imre", "admit", "agrees", "P"},
		{"GET /v1/console/overview", "odell", "admit", "agrees", "P"},
		{"POST /v1/alerts", "relay", "admit", "agrees", "U"},
		{"GET /v1/sky/calendar", "imre", "admit", "agrees", "P"},
		{"GET /healthz", "", "admit", "agrees", ""},
		{"GET /v0/proposals", "", "shut", "X", "X"},
		{"GET /v0/proposals", "quill", "shut", "X", "X"},
		{"GET /v0/proposals", "tove", "shut", "unprobed", "X"},
	} {
		r := row(t, b, c.route)
		x := cell(t, b, r, c.column)
		assert.Equal(t, c.expect, x.Expect, "expectation of %s by %q", c.route, c.column)
		assert.Equal(t, c.found, x.Found, "verdict on %s by %q", c.route, c.column)
		assert.Equal(t, c.found.IsGap(), x.Severity != "", "a gap is as grave as its finding")
		assert.Equal(t, c.worst, r.Worst, c.route)
		assert.False(t, x.Inferred, "the demo's callers can all be told apart")
	}
	assert.False(t, row(t, b, "GET /debug/vars").Declared)
	assert.Equal(t, 4, b.Counts.Findings[finding.Unprotected])
	r := row(t, b, "GET /v1/proposals")
	pages := map[string]string{}
	for i, p := range b.Pages {
		x := b.Cells[r.Origins[i]]
		pages[p.ID] = x.Expect + " " + string(x.Found) + " " + x.Does
	}
	const mirrored = "send P read-as-user"
	assert.Equal(t, map[string]string{"https://desk.fernhollow.example": "read-as-user agrees read-as-user",
		"https://sky.fernhollow.example": mirrored, "unrelated": mirrored, "beginning": mirrored, "ending": mirrored,
		"sibling": mirrored, "plain http": mirrored, "other port": mirrored, "null": mirrored,
		"capitals": "nothing agrees nothing", "final dot": mirrored}, pages, "any origin is mirrored")
	require.NotNil(t, b.Sweep)
	assert.Equal(t, b.Sweep.Planned, b.Sweep.Done)

	// Another target has its own observations: none.
	other, err := a.View.Board(t.Context(), "staging", "")
	require.NoError(t, err)
	assert.Equal(t, "staging", other.Target)
	assert.Empty(t, other.Counts.Crossings)

	t.Run("a crossing holds its evidence", func(t *testing.T) {
		v, err := a.View.Crossing(t.Context(), "stand-in", "GET /v1/proposals/{proposal_id}", "imre")
		require.NoError(t, err)
		require.Len(t, v.Probes, 3)
		worst := v.Probes[0]
		assert.Equal(t, "somebody else's proposal", worst.Label)
		assert.Equal(t, finding.Proven, worst.Verdict.Confidence)
		assert.Equal(t, 200, worst.Fact.Exchange.Status)
		assert.Equal(t, 200, worst.Control.Exchange.Status)
		assert.Equal(t, 6, worst.Expect.Decider)
		assert.Equal(t, []string{"own proposal", "published proposal"}, []string{v.Probes[1].Label, v.Probes[2].Label})
		require.NotNil(t, v.Finding)
		assert.Equal(t, 639, v.Finding.CWE)
		assert.True(t, strings.HasSuffix(v.Place.File, ".gate.yaml"))
		text := strings.Split(a.Workspace.Declaration().Text, "\n")[v.Place.Line-1]
		assert.Contains(t, text, "GET /v1/proposals/{proposal_id}", "the line is the deciding entry's")
	})
	t.Run("what steps around the guard belongs to nobody", func(t *testing.T) {
		v, err := a.View.Crossing(t.Context(), "stand-in", "GET /v1/audit", "")
		require.NoError(t, err)
		labels := fmt.Sprint(probeLabels(v))
		for _, l := range []string{"no credential", "broken credential", "around the guard: trailing slash",
			"around the guard: method override"} {
			assert.Contains(t, labels, l)
		}
	})
	t.Run("the worklist has only what a sample could mend", func(t *testing.T) {
		list, err := a.View.Worklist(t.Context(), "stand-in")
		require.NoError(t, err)
		assert.Empty(t, list)
	})
	t.Run("ticks come in the order of sending", func(t *testing.T) {
		ticks, err := a.View.Ticks(t.Context(), "stand-in", view.Wanted{})
		require.NoError(t, err)
		assert.Len(t, ticks.List, b.Sweep.Planned)
	})
}

func probeLabels(v view.CrossingView) (out []string) {
	for _, p := range v.Probes {
		out = append(out, p.Label)
	}
	return out
}

// Members of a class that were not sent show what the one that was sent met,
// and that it was not they.
func TestInferredCrossings(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	seen := map[string]bool{}
	f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/a" || r.Method != "GET" {
			w.WriteHeader(404)
			return
		}
		f.mu.Lock()
		seen[r.Header.Get("X-Key")] = true
		f.mu.Unlock()
		if r.Header.Get("X-Key") == "" {
			w.WriteHeader(401)
		}
	})
	for _, k := range []string{"A", "B", "C", "D"} {
		t.Setenv("KEY_"+k, "key-of-"+k)
	}
	a := openText(t, `millgate: 1
targets: { stand-in: { base: "`+f.URL+`", pace: 5000 per 1s } }
routes: [GET /a]
roles: { r: , s: }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities:
  a: { roles: r, credentials: { key: { key: env:KEY_A } } }
  b: { roles: r, credentials: { key: { key: env:KEY_B } } }
  c: { roles: r, credentials: { key: { key: env:KEY_C } } }
  d: { roles: s, credentials: { key: { key: env:KEY_D } } }
access: [{ at: GET /a, who: s }]
`, "")
	_, res := swept(t, a)
	assert.False(t, seen["key-of-B"] || seen["key-of-C"], "they share a's probe")
	require.NotEmpty(t, res.Findings)
	var p *finding.Finding
	for i := range res.Findings {
		if res.Findings[i].Kind == finding.OverPermissive {
			p = &res.Findings[i]
		}
	}
	require.NotNil(t, p)
	assert.Equal(t, []string{"a", "a (percent-encoding)"}, p.Callers)
	assert.Equal(t, []string{"b", "c"}, p.Inferred)
	b, err := a.View.Board(t.Context(), "", "")
	require.NoError(t, err)
	r := row(t, b, "GET /a")
	for column, inferred := range map[string]bool{"a": false, "b": true, "c": true, "d": false} {
		assert.Equal(t, inferred, cell(t, b, r, column).Inferred, column)
	}
	assert.Equal(t, finding.OverPermissive, cell(t, b, r, "c").Found)
	v, err := a.View.Crossing(t.Context(), "", "GET /a", "c")
	require.NoError(t, err)
	assert.Equal(t, "a", v.Inferred)
	assert.Equal(t, "a", v.Probes[0].Probe.Caller.Identity)
	pl, err := a.Sweeps.Plan("stand-in")
	require.NoError(t, err)
	assert.Equal(t, map[string][]string{"a": {"b", "c"}}, pl.Shared)
}

// A declaration with errors is shown, and nothing is judged or sent by it.
func TestBoardOfABrokenDeclaration(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte("millgate: 1\ntargets: { t: { base: \"http://127.0.0.1:1\" } "+
		"}\nroutes: [GET /a]\naccess: [{ at: GET /a, who: nobodyy }]\n"), 0o600))
	a, err := Open(t.Context(), "", file)
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	b, err := a.View.Board(t.Context(), "", "")
	require.NoError(t, err)
	assert.Equal(t, 1, b.Errors)
	assert.Len(t, b.Rows, 1)
	_, err = a.Sweeps.Start(t.Context(), "t", "")
	require.ErrorIs(t, err, fault.ErrInvalid)
	_, err = a.Sweeps.Plan("t")
	require.ErrorIs(t, err, fault.ErrInvalid)
	fs, err := found(t, a, "")
	require.NoError(t, err)
	assert.Empty(t, fs)
	v, err := a.View.Crossing(t.Context(), "", "GET /a", "")
	require.NoError(t, err)
	assert.Empty(t, v.Probes)
}

// Something that an admitted request created is removed, or listed.
func TestWhatIsLeftBehindIsListed(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	for _, removable := range []bool{true, false} {
		o := &obedient{have: map[string]bool{"t0": true}}
		f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
			if !removable && r.Method == "DELETE" && !strings.HasSuffix(r.URL.Path, "/t0") &&
				r.Header.Get("Authorization") == "Bearer tok" {
				w.WriteHeader(409)
				return
			}
			o.serve(f, w, r)
		})
		a := openText(t, fmt.Sprintf(small, f.URL, "made-records-only"), "")
		_, res := swept(t, a)
		if removable {
			assert.Empty(t, res.Made)
			continue
		}
		require.NotEmpty(t, res.Made)
		for _, m := range res.Made {
			assert.Contains(t, m.What, "thing t")
			assert.Contains(t, m.Why, "answered 409")
		}
		assert.Len(t, o.have, 1+len(res.Made), "everything that is still there is listed")
	}
}
