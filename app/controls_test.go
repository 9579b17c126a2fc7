package app

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/core/finding"
	"millgate/core/route"
	"millgate/store"
	"millgate/testkit/memnet"
)

// Controls alone: logins and the requests that must be admitted are sent and nothing else, what
// is not fair is told with its complaint, and what was known before stays.
func TestOnlyControls(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		var mu sync.Mutex
		var sent []string
		fair := true
		v := &villager{count: map[string]int{}, twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			mu.Lock()
			defer mu.Unlock()
			sent = append(sent, r.Method+" "+r.URL.Path+" "+v.who(r))
			if fair || r.URL.Path != "/c" {
				return false
			}
			w.WriteHeader(http.StatusUnprocessableEntity)
			_, _ = io.WriteString(w, "say which")
			return true
		}}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base))
		sweepOf := func(part planning.Part) (coverage.Result, int) {
			sent = nil
			r, err := a.Sweeps.StartPart(t.Context(), "t", "", part)
			require.NoError(t, err)
			a.Sweeps.Wait(r.ID)
			run, res, err := a.Sweeps.Result(t.Context(), r.ID)
			require.NoError(t, err)
			return res, res.Code(run, coverage.DefaultMostUnproven, finding.FailOn{Least: finding.High}.Stops)
		}
		res, code := sweepOf(planning.Part{Controls: true})
		assert.Equal(t, 0, code)
		assert.Equal(t, 5, res.Checked.Controls, "one for each route")
		assert.Equal(t, res.Checked.Controls, res.Checked.Planned)
		assert.Equal(t, res.Checked.Controls, res.Checked.Admitted)
		for _, s := range sent {
			assert.Contains(t, []string{"POST /login ", "GET /a ann", "GET /b ann", "GET /c ann", "GET /a bob",
				"GET /b bob",
				"GET /c bob", "GET /t/t-ann ann", "GET /t/t-bob bob", "PATCH /t/t-ann ann", "PATCH /t/t-bob bob"}, s)
		}
		whole, code := sweepOf(planning.Part{})
		assert.Equal(t, 0, code)
		assert.Greater(t, whole.Checked.Planned, 100)
		fair = false
		res, code = sweepOf(planning.Part{Controls: true})
		assert.Equal(t, coverage.Doubts, code, "one of five routes has no admitted control")
		i := slices.IndexFunc(res.NotFair, func(u coverage.Unfair) bool { return u.Route == "GET /c" })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, "say which", res.NotFair[i].Complaint)
		assert.Equal(t, base+"/c", res.NotFair[i].URL)
		assert.Positive(t, res.NotFair[i].Waiting, "what was known before waits for it")
	})
}

// A part of the plan says what it leaves out, and that is not checked; a budget sends what is worth most.
func TestPartsOfAPlan(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}, twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
			if r.Method != "GET" || r.URL.Path != "/a" {
				return false
			}
			fmt.Fprint(w, `{"a": 1}`)
			return true
		}}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, strings.Replace(fmt.Sprintf(village, base), "pace: 5000 per 1s", "pace: 10 per 1s", 1))
		sweep := func(part planning.Part) (*events.Run, coverage.Result) {
			t.Helper()
			r, err := a.Sweeps.StartPart(t.Context(), "t", "", part)
			require.NoError(t, err)
			a.Sweeps.Wait(r.ID)
			run, res, err := a.Sweeps.Result(t.Context(), r.ID)
			require.NoError(t, err)
			require.Equal(t, store.Done, run.State, run.Note)
			return run, res
		}
		at := func(text string) []route.Selector {
			s, err := route.Parse(text)
			require.NoError(t, err)
			return []route.Selector{s}
		}
		whole, err := a.Sweeps.Plan("t")
		require.NoError(t, err)

		run, res := sweep(planning.Part{At: at("/a")})
		assert.True(t, run.Partial, "it is no sweep to compare with")
		require.Len(t, res.Findings, 1)
		assert.Less(t, res.Checked.Planned, whole.Probes/2)
		assert.Contains(t, fmt.Sprint(res.Left), "only some routes or kinds were asked for")
		_, res = sweep(planning.Part{Kinds: []string{"around"}})
		for _, p := range res.Probed {
			assert.NotEqual(t, finding.Unprobed, p.Kind)
		}

		budget := time.Duration(whole.Seconds/3) * time.Second
		began := time.Now()
		run, res = sweep(planning.Part{Budget: budget})
		assert.False(t, run.Partial)
		assert.LessOrEqual(t, time.Since(began), budget+10*time.Second)
		assert.Equal(t, whole.Probes, res.Checked.Planned)
		assert.Greater(t, res.Checked.Unsent, whole.Probes/3)
		assert.Equal(t, res.Checked.Unsent, res.Figure.Whole.Unsent)
		kinds := []finding.Kind{}
		for _, f := range res.Findings {
			kinds = append(kinds, f.Kind)
		}
		assert.Contains(t, kinds, finding.Unprotected, "the gravest is looked for first")
		for _, u := range res.Unsent {
			assert.Contains(t, u.Why, "the budget of ")
		}
		never := func(finding.Finding) bool { return false }
		assert.Equal(t, coverage.Doubts, res.Code(run, coverage.DefaultMostUnproven, never))
		assert.Equal(t, coverage.Clean, res.Code(run, 100, never), "it was asked for: %v", res.Doubts(run, 100))

		for says, part := range map[string]planning.Part{
			`did you mean "around"?`:     {Kinds: []string{"arund"}},
			"selects no route":           {At: at("/nowhere")},
			"no probe is of what":        {At: at("/b"), Kinds: []string{"wrong-secret"}},
			"in 1ms nothing can be sent": {Budget: time.Millisecond},
		} {
			_, err := a.Sweeps.StartPart(t.Context(), "t", "", part)
			assert.ErrorIs(t, err, fault.ErrInput, says)
			assert.ErrorContains(t, err, says)
			_, err = a.Sweeps.PlanPart("t", part)
			assert.ErrorContains(t, err, says)
		}
		p, err := a.Sweeps.PlanPart("t", planning.Part{Budget: budget})
		require.NoError(t, err)
		assert.LessOrEqual(t, p.Seconds, budget.Seconds())
	})
}
