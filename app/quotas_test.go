package app

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/core/quota"
	"millgate/standin"
)

func TestQuotasOfTheExample(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	v, err := a.View.Quotas("")
	require.NoError(t, err)
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

// What a form changes is written into a text, and what follows from it is computed before anybody keeps it.
func TestQuotasAndLifetimesAreEdited(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	kept := a.Workspace.Declaration().Text
	edit := func(section, item string, set map[string]string) string {
		t.Helper()
		e, err := a.Workspace.EditMembers(kept, workspace.Members{Section: section, Item: item, Set: set})
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(e.Title, item+": "), e.Title)
		return e.Text
	}
	text := edit("quotas", "login", map[string]string{"allow": "3 per 1m, 9 per 1h", "starts": "clock"})
	assert.Contains(t, text, "allow: [3 per 1m, 9 per 1h]")
	v, err := a.View.Quotas(text)
	require.NoError(t, err)
	at := slices.IndexFunc(v.Quotas, func(q view.QuotaView) bool { return q.Name == "login" })
	assert.Equal(t, int64(6), v.Quotas[at].For[0].Moment)
	assert.Equal(t, map[string]string{"allow": "3 per 1m, 9 per 1h", "counted_by": "address", "model": "fixed-window",
		"starts": "clock"}, v.Quotas[at].Text)
	s, err := a.View.Simulate(view.Simulation{Text: text, Quota: "login", Pattern: quota.Edges, For: 600, Nodes: 1})
	require.NoError(t, err)
	assert.Equal(t, int64(3), s.Peaks[0].Limit)
	assert.Equal(t, int64(6), s.Peaks[0].Ceiling)
	delete(v.Quotas[at].Text, "model") // it is not written, since it is the usual one
	same, err := a.Workspace.EditMembers(text, workspace.Members{Section: "quotas", Item: "login",
		Set: v.Quotas[at].Text})
	require.NoError(t, err)
	assert.Equal(t, text, same.Text, "what a form shows is what stands there")

	text = edit("lifetimes", "access", map[string]string{"max": "2h", "skew": ""})
	list, err := a.View.Sessions(t.Context(), "", text, 10)
	require.NoError(t, err)
	assert.Equal(t, 2*time.Hour, list[0].Access)
	assert.Zero(t, list[0].Skew)
	assert.Equal(t, "2h", list[0].Lives[0].Text["max"])

	assert.Contains(t, edit("answers", "403", map[string]string{"type": "application/problem+json",
		"has": "/type, /title"}),
		"\n  403: { type: application/problem+json, has: [/type, /title] }\n")
	assert.Contains(t, edit("answers", "errors", map[string]string{"has": "/title"}),
		"\n  errors: { type: application/problem+json, has: /title }\n")
	for want, m := range map[string]workspace.Members{
		"it would leave an error": {Section: "quotas", Item: "login", Set: map[string]string{"allow": "many"}},
		"no meaning for":          {Section: "quotas", Item: "partner", Set: map[string]string{"starts": "clock"}},
		"is not set in a form":    {Section: "quotas", Item: "login", Set: map[string]string{"at": "/**"}},
		"nothing is to be":        {Section: "quotas", Item: "login"},
		"there is no":             {Section: "lifetimes", Item: "nothing", Set: map[string]string{"max": "1h"}},
		"there is no \"200\"":     {Section: "answers", Item: "200", Set: map[string]string{"type": "text/plain"}},
		"not edited in a form":    {Section: "roles", Item: "observer", Set: map[string]string{"includes": "x"}},
	} {
		_, err := a.Workspace.EditMembers(kept, m)
		assert.ErrorContains(t, err, want)
	}
	_, err = a.View.Quotas("millgate: 1.1\nquotas: 3\n")
	assert.ErrorContains(t, err, "mend the marked lines")
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
