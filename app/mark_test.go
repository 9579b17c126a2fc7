package app

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/core/finding"
	"millgate/testkit/memnet"
)

// A service that repeats the mark of each request in its answers says the same as one that does not, and
// each exchange can be found in its log.
func TestAMarkIsNoDifference(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		logged := map[string]bool{}
		repeats := rewriting(func(v *villager, r *http.Request, a *httptest.ResponseRecorder) {
			mark := r.Header.Get("X-Log")
			v.mu.Lock()
			defer v.mu.Unlock()
			assert.False(t, mark == "" || logged[mark], "each has one, of its own")
			logged[mark] = true
			a.Header().Set("X-Request-Id", mark)
			if body := strings.TrimSuffix(a.Body.String(), "}"); body != a.Body.String() && body != "{" {
				says(a, a.Code, body+`,"request":"`+mark+`","trace":"`+r.Header.Get("Traceparent")+`"}`)
			}
		})
		base, end := n.Serve(&villager{count: map[string]int{}, twist: repeats})
		defer end()
		a := openIn(t, n, strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "pace:", "mark: X-Log, pace:",
			"%s", base).Replace(village))
		r, err := a.Sweeps.Start(t.Context(), "t", "")
		require.NoError(t, err)
		a.Sweeps.Wait(r.ID)
		run, res, err := a.Sweeps.Result(t.Context(), r.ID)
		require.NoError(t, err)
		assert.Equal(t, 0, res.Code(run, coverage.DefaultMostUnproven, finding.FailOn{Least: "low"}.Stops), "%v",
			res.Doubts(run,
				coverage.DefaultMostUnproven))
		assert.Empty(t, res.Findings)
	})
}
