package app

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/workspace"
	"millgate/core/finding"
	"millgate/testkit/memnet"
)

// Who is turned away otherwise than declared is one edit away from a declaration that says what was seen: for each such
// refusal its words are offered, and with all of them written the next sweep finds nothing.
func TestWhatTurnsAwayIsDeclaredAsSeen(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}, signsUp: map[string]string{"ann": "right-ann", "bob": "right-bob"},
			twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) {
				says(a, map[int]int{401: 403, 403: 410}[a.Code], "")
			})}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base))
		_, res := sweptAt(t, a, "t")
		require.NotEmpty(t, res.Findings)
		offered := map[string]map[string]string{}
		for _, rt := range a.Workspace.Present().Doc.Routes {
			for range 5 { // each says one thing more
				words := wordsFor(t, a, rt.Key())
				if words == nil {
					break
				}
				offered[rt.Key()] = words
				now := a.Workspace.Present()
				e, err := a.Workspace.EditBoard(now.Text, workspace.BoardChange{Routes: []string{rt.Key()}, Set: words})
				require.NoError(t, err)
				_, err = a.Workspace.Keep(t.Context(), e.Text, "", now.Revision.ID)
				require.NoError(t, err)
				sweptAt(t, a, "t")
			}
		}
		assert.Equal(t, map[string]string{"turned_away": "{ credential: 403, soundness: 403 }"}, offered["GET /a"])
		assert.Equal(t, map[string]string{"turned_away": "{ credential: 403, soundness: 403, ownership: 410 }"},
			offered["GET /t/{id}"])
		assert.Contains(t, a.Workspace.Present().Text, "millgate: 1.1\n",
			"the language of the first version has no word for it")
		_, res = sweptAt(t, a, "t")
		assert.Empty(t, res.Findings)
		time.Sleep(2 * time.Minute)
	})
}

// wordsFor are those that are offered for a refusal at a route, of whoever is the first.
func wordsFor(t *testing.T, a *App, route string) map[string]string {
	t.Helper()
	for _, caller := range []string{"", "ann", "bob"} {
		x, err := a.View.Crossing(t.Context(), "t", route, caller)
		require.NoError(t, err)
		for _, p := range x.Probes {
			if p.Declares != nil {
				assert.Equal(t, finding.WrongRefusal, p.Verdict.Kind)
				return p.Declares
			}
		}
	}
	return nil
}
