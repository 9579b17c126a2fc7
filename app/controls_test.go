package app

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/app/sweep"
	"millgate/core/finding"
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
		sweepOf := func(part sweep.Part) (coverage.Result, int) {
			sent = nil
			r, err := a.Sweeps.StartPart(t.Context(), "t", "", part)
			require.NoError(t, err)
			a.Sweeps.Wait(r.ID)
			run, res, err := a.Sweeps.Result(t.Context(), r.ID)
			require.NoError(t, err)
			return res, res.Code(run, coverage.DefaultMostUnproven, finding.FailOn{Least: finding.High}.Stops)
		}
		res, code := sweepOf(sweep.Controls)
		assert.Equal(t, 0, code)
		assert.Equal(t, 5, res.Checked.Controls, "one for each route")
		assert.Equal(t, res.Checked.Controls, res.Checked.Planned)
		assert.Equal(t, res.Checked.Controls, res.Checked.Admitted)
		for _, s := range sent {
			assert.Contains(t, []string{"POST /login ", "GET /a ann", "GET /b ann", "GET /c ann", "GET /a bob",
				"GET /b bob",
				"GET /c bob", "GET /t/t-ann ann", "GET /t/t-bob bob", "PATCH /t/t-ann ann", "PATCH /t/t-bob bob"}, s)
		}
		whole, code := sweepOf(sweep.Whole)
		assert.Equal(t, 0, code)
		assert.Greater(t, whole.Checked.Planned, 100)
		fair = false
		res, code = sweepOf(sweep.Controls)
		assert.Equal(t, coverage.Doubts, code, "one of five routes has no admitted control")
		i := slices.IndexFunc(res.NotFair, func(u coverage.Unfair) bool { return u.Route == "GET /c" })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, "say which", res.NotFair[i].Complaint)
		assert.Equal(t, base+"/c", res.NotFair[i].URL)
		assert.Positive(t, res.NotFair[i].Waiting, "what was known before waits for it")
	})
}
