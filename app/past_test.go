package app

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/app/fault"
	"millgate/app/past"
	"millgate/app/workspace"
	"millgate/core/finding"
	"millgate/core/history"
	"millgate/core/review"
	"millgate/testkit/memnet"
)

// A finding is followed over sweeps, what was probed again, waivers and revisions.
func TestFindingsOverSweeps(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		broken := true
		v := &villager{count: map[string]int{}, twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
			if !broken || r.Method != "GET" || r.URL.Path != "/a" {
				return false
			}
			fmt.Fprint(w, `{"a": 1}`)
			return true
		}}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base))
		known := func() (*past.Known, *history.Line) {
			k, err := a.Past.Of(t.Context(), "t")
			require.NoError(t, err)
			for _, l := range k.Lines {
				if l.Finding.Kind == finding.Unprotected && l.Finding.Route == "GET /a" {
					return k, l
				}
			}
			return k, nil
		}
		k, l := known()
		assert.Empty(t, k.Points, "nothing was swept")
		assert.Nil(t, l)

		sweptAt(t, a, "t")
		k, l = known()
		require.NotNil(t, l)
		assert.Equal(t, []any{history.New, 1}, []any{l.Now(), len(k.Points)})
		again, _ := known()
		assert.Same(t, k, again, "nothing changed")

		id := l.Finding.ID
		text := a.Workspace.Declaration().Text
		e, err := a.Workspace.WaiveFindings(text, []finding.Finding{l.Finding}, workspace.Accepted{Reason: "It is: " +
			"known",
			By:    "ann",
			Until: "2099-01-31"})
		require.NoError(t, err)
		assert.Contains(t, e.Text, "millgate: 1.1\n")
		assert.Contains(t, e.Text, "{ finding: "+id+", callers: nobody, reason: \"It is: known\", by: ann, "+
			"until: 2099-01-31 }")
		assert.Contains(t, e.Title, "raise the file to version 1.1")
		assert.Equal(t, []string{l.Finding.Title}, a.Workspace.Check(e.Text).Waived)
		keep := func(text string) {
			t.Helper()
			_, err := a.Workspace.Keep(t.Context(), text, "", a.Workspace.Declaration().Revision)
			require.NoError(t, err)
		}
		keep(e.Text)
		k, l = known()
		assert.Equal(t, []any{history.Waived, 2, true}, []any{l.Now(), len(k.Points), k.Points[1].Anew})
		assert.Equal(t, []string{l.Finding.Title}, a.Workspace.Check(text).Reopened)
		second, err := a.Workspace.WaiveFindings(e.Text, []finding.Finding{l.Finding},
			workspace.Accepted{Reason: "still",
				Until: "2099-02-28"})
		require.NoError(t, err)
		assert.Equal(t, 1, strings.Count(second.Text, "finding:"), "it is written anew")
		run, res := sweptAt(t, a, "t")
		on := finding.FailOn{Least: finding.Low}
		assert.Equal(t, coverage.Clean, res.Code(run, 100, on.Stops), "%v", res.Findings)

		broken = false
		r, err := a.Sweeps.ProbeAgain(t.Context(), "t", nil, l.Finding.Probes...)
		require.NoError(t, err)
		a.Sweeps.Wait(r.ID)
		k, l = known()
		assert.Equal(t, []any{history.Mended, 3, true}, []any{l.Now(), len(k.Points), k.Points[2].Anew},
			"what was sent again shows that")
		turned, err := a.Past.Changed(t.Context(), "t", 1)
		require.NoError(t, err)
		require.NotEmpty(t, turned)
		assert.Equal(t, []any{"GET /a", "", finding.Unprotected, finding.Agrees}, []any{turned[0].Route,
			turned[0].Column,
			turned[0].Probes[0].Was, turned[0].Probes[0].Is})
		_, err = a.Past.Changed(t.Context(), "t", r.ID)
		assert.ErrorIs(t, err, fault.ErrInput, "a part is no sweep to compare with")
		_, err = past.Between(t.Context(), a.Sweeps, 2, 1)
		assert.ErrorContains(t, err, "name the earlier one first")

		keep(text)
		sweptAt(t, a, "t")
		broken = true
		sweptAt(t, a, "t")
		k, l = known()
		assert.Equal(t, []any{history.Back, 4}, []any{l.Now(), len(k.Points)})
		keep(strings.Replace(text, "at: GET /a, who: r", "at: GET /a, who: anyone", 1))
		k, l = known()
		assert.Equal(t, history.MovedOn, l.Now(), "%v", l.Whys)
		assert.Equal(t, uint(4), k.Points[4].Revision)
	})
}

// found are the findings that there are at a target.
func found(t testing.TB, a *App, target string) ([]finding.Finding, error) {
	k, err := a.Past.Of(t.Context(), target)
	if err != nil || k.Now == nil {
		return []finding.Finding{}, err
	}
	return append([]finding.Finding{}, k.Now.Findings...), nil
}

// A waiver that accepts nothing is told by the review once a sweep has ended, though nobody looked at findings.
func TestIdleWaiversAreTold(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		base, end := n.Serve(&villager{count: map[string]int{}})
		defer end()
		a := openIn(t, n, strings.Replace(fmt.Sprintf(village, base), "millgate: 1\n", "millgate: 1.1\n", 1)+
			"waivers:\n  - { finding: mg-0123456789, reason: so, until: 2099-01-31 }\n")
		idle := func() bool {
			return slices.ContainsFunc(a.Workspace.Declaration().Messages, func(m review.Message) bool {
				return m.Code == "waiver-idle"
			})
		}
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		go a.Past.Watch(ctx, a.Events)
		time.Sleep(time.Second)
		assert.False(t, idle(), "nothing was swept")
		sweptAt(t, a, "t")
		time.Sleep(time.Second)
		assert.True(t, idle())
	})
}
