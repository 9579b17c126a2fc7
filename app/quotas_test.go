package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/view"
	"millgate/core/quota"
	"millgate/standin"
)

func TestQuotasOfTheExample(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	v := a.View.Quotas()
	by := map[string]view.QuotaView{}
	for _, q := range v.Quotas {
		by[q.Name] = q
	}
	login := by["login"].For[0]
	assert.Equal(t, "address", by["login"].CountedBy)
	assert.Equal(t, int64(15), login.Moment, "at the edge of two windows from the first call")
	assert.Equal(t, int64(15), login.Members[0].Ceiling)
	assert.Equal(t, int64(45), login.Nodes)
	assert.Equal(t, int64(30), login.Restart)
	assert.Greater(t, login.Attempts[0], 365*24*time.Hour, "the second amount makes it long")
	assert.False(t, login.Members[1].NeverBinds)
	dome := by["dome"].For[0]
	assert.Equal(t, int64(quota.Unlimited), dome.Members[0].Ceiling, "one at a time is no number in an hour")
	partner := by["partner"].For[0]
	assert.Equal(t, 10*time.Second, partner.Wait)
	assert.Contains(t, v.Without, "GET /healthz")
}

func TestSimulateADeclaredQuota(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	s, err := a.View.Simulate(view.Simulation{Quota: "login", Pattern: quota.Edges, For: 600, Nodes: 1})
	require.NoError(t, err)
	assert.Equal(t, int64(15), s.Peaks[0].Most)
	s, err = a.View.Simulate(view.Simulation{Quota: "login", Pattern: quota.FromLog,
		Recorded: "2026-11-25T10:00:00Z\n10.0.0.1 " +
			"- - [25/Nov/2026:10:00:01 +0000] \"POST /v1/session HTTP/1.1\" 200\n\n2026-11-25 10:00:02\n"})
	require.NoError(t, err)
	assert.Equal(t, int64(3), s.Admitted)
	for _, q := range []view.Simulation{{Quota: "nothing"}, {Quota: "login", Who: "nobody"},
		{Quota: "login", Pattern: quota.Steady, For: 10}, {Quota: "login", Pattern: quota.Steady, Count: 1, Every: 1},
		{Quota: "login", Pattern: quota.FromLog, Recorded: "x"}, {Quota: "login", Pattern: quota.Edges, For: -1}} {
		_, err := a.View.Simulate(q)
		assert.Error(t, err, "%+v", q)
	}
	_, err = a.View.Simulate(view.Simulation{Quota: "login", Pattern: quota.FromLog, Recorded: "1\nx y\n"})
	assert.ErrorContains(t, err, "line 2")
}

func TestThePlanSaysWhichQuotaTakesLongest(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	pl, err := a.Sweeps.Plan("staging")
	require.NoError(t, err)
	assert.NotEmpty(t, pl.Quota)
	assert.Greater(t, pl.QuotaSeconds, 60.0)
	pl, err = a.Sweeps.Plan("stand-in")
	require.NoError(t, err)
	assert.Empty(t, pl.Quota)
}
