package app

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/probe"
	"millgate/core/verdict"
	"millgate/standin"
)

func TestARestartThatForgets(t *testing.T) {
	for _, forgets := range []bool{true, false} {
		opt := standin.Options{Control: true}
		if forgets {
			opt.Flaws = []standin.Flaw{standin.RestartForgets}
		}
		s := listen(t, opt)
		a := workspace(t, s, nil, "")
		_, err := a.CompareAfterRestart(t.Context(), "stand-in", "login")
		assert.ErrorContains(t, err, "first")
		r, err := a.FillForRestart(t.Context(), "stand-in", "login")
		require.NoError(t, err)
		assert.True(t, r.Refused)
		assert.Equal(t, 8, r.Calls)
		assert.InDelta(t, 300, r.Left.Seconds(), 2)
		res, err := http.Post(s.Control+"/restart", "", nil)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		r, err = a.CompareAfterRestart(t.Context(), "stand-in", "login")
		require.NoError(t, err)
		assert.Equal(t, forgets, r.Forgets)
		assert.False(t, r.Late)
	}
}

func TestTheClockOfTheStandIn(t *testing.T) {
	s := listen(t, standin.Options{Control: true})
	a := workspace(t, s, nil, "")
	_, err := a.FillForRestart(t.Context(), "stand-in", "login")
	require.NoError(t, err)
	res, err := http.Post(s.Control+"/clock?advance=6m", "", nil)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	r, err := a.CompareAfterRestart(t.Context(), "stand-in", "login")
	require.NoError(t, err)
	assert.True(t, r.Forgets, "its window has ended by its own clock")
	res, err = http.Post(s.Control+"/clock?advance=x", "", nil)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, 400, res.StatusCode)
}

// A fixed window where a sliding one is declared shows only over time: the
// drill is run by itself.
func TestTheEdgeOfAFixedWindow(t *testing.T) {
	for _, c := range []struct {
		flaws []standin.Flaw
		gap   bool
	}{{[]standin.Flaw{standin.EdgeDoubles}, true}, {nil, false}} {
		name := "sliding"
		if c.gap {
			name = "fixed"
		}
		t.Run(name, func(t *testing.T) {
			s := listen(t, standin.Options{Flaws: c.flaws})
			a := workspace(t, s, nil, "")
			now := a.Declaration()
			_, err := a.Keep(strings.Replace(now.Text, "drill: 200ms", "drill: 560ms", 1), "longer drills", now.Revision)
			require.NoError(t, err)
			r, err := a.ProbeAgain("stand-in", []CrossingKey{{Route: "GET /v1/partners/feed", Caller: probe.QuotaCaller + "partner"}})
			require.NoError(t, err)
			a.Wait(r.ID)
			v, err := a.Crossing("stand-in", "GET /v1/partners/feed", "counted:key")
			require.NoError(t, err)
			require.Len(t, v.Probes, 1)
			require.NotNil(t, v.Probes[0].Fact)
			assert.Equal(t, c.gap, v.Probes[0].Verdict.Kind.IsGap(), v.Probes[0].Verdict.Reason)
			t.Log(v.Probes[0].Verdict.Reason)
		})
	}
}

// One partner who calls much keeps the others out.
func TestCallersThatShareOneCount(t *testing.T) {
	for _, shared := range []bool{true, false} {
		opt := standin.Options{}
		if shared {
			opt.Flaws = []standin.Flaw{standin.OneCountForAll}
		}
		a := workspace(t, listen(t, opt), nil, "")
		now := a.Declaration()
		text := strings.Replace(now.Text, "identities:\n", "identities:\n  moth: { credentials: { partner-key: { key: env:MOTH_KEY } } }\n", 1)
		text = strings.Replace(text, "drill: 200ms", "drill: 560ms", 1)
		_, err := a.Keep(text, "a second partner", now.Revision)
		require.NoError(t, err)
		r, err := a.ProbeAgain("stand-in", []CrossingKey{{Route: "GET /v1/partners/feed", Caller: probe.QuotaCaller + "partner"}})
		require.NoError(t, err)
		a.Wait(r.ID)
		v, err := a.Crossing("stand-in", "GET /v1/partners/feed", "counted:key")
		require.NoError(t, err)
		require.Len(t, v.Probes, 1)
		t.Log(v.Probes[0].Verdict.Reason)
		assert.Equal(t, shared, v.Probes[0].Verdict.Kind == verdict.OverRestrictive, v.Probes[0].Verdict.Reason)
	}
}
