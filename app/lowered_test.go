package app

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/sweep"
	"millgate/app/view"
	"millgate/core/check"
	"millgate/core/finding"
	"millgate/core/quota"
	"millgate/standin"
	"millgate/testkit/memnet"
)

// A test environment with short windows shows what a drill could not wait for.
func TestALoweredQuota(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		a, _ := observatory(t, n, standin.Options{Longest: time.Second}, nil)
		now := a.Workspace.Declaration()
		_, err := a.Workspace.Keep(t.Context(),
			strings.Replace(now.Text, "drill: 200ms", "drill: { for: 300ms, quotas: { login: 8 per 1s } }",
				1), "lowered", now.Revision)
		require.NoError(t, err)
		r, err := a.Sweeps.ProbeAgain(t.Context(), "stand-in",
			[]sweep.CrossingKey{{Route: "POST /v1/console/login", Caller: check.QuotaColumn + "login"}})
		require.NoError(t, err)
		a.Sweeps.Wait(r.ID)
		v, err := a.View.Crossing(t.Context(), "stand-in", "POST /v1/console/login", "counted:address")
		require.NoError(t, err)
		var p *view.ProbeView
		for i := range v.Probes {
			if v.Probes[i].Probe.Of == "login" {
				p = &v.Probes[i]
			}
		}
		require.NotNil(t, p)
		assert.Equal(t, finding.Agrees, p.Verdict.Kind, p.Verdict.Reason)
		assert.Contains(t, p.Verdict.Reason, "Measured with 8 per 1s in place of 8 per 5m and 100 per 1d")
		found := map[string]quota.Conclusion{}
		for _, c := range p.Quota.Measured.Conclude(p.Quota.Stack) {
			t.Logf("%s: %s (%s) %v", c.About, c.Text, c.Sure, c.Because)
			found[c.About] = c
		}
		assert.Contains(t, found[quota.AboutLimit].Text, "8 at once")
		assert.Contains(t, found[quota.AboutLimiter].Text, "fixed window from the first call")
		assert.Contains(t, found[quota.AboutRoutes].Text, "share one count")
		assert.Equal(t, quota.Likely, found[quota.AboutNodes].Sure)
		assert.Contains(t, found[`RateLimit "login"`].Text, "Holds")
		assert.Contains(t, found["Retry-After"].Text, "Holds")

		// The cell of another route that the quota counts shows the same drill and
		// what became of it before.
		v, err = a.View.Crossing(t.Context(), "stand-in", "POST id:/v1/session", "counted:address")
		require.NoError(t, err)
		assert.NotEmpty(t, v.History)
	})
}
