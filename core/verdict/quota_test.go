package verdict

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/probe"
	"millgate/core/quota"
)

// calls makes calls from their times in milliseconds; a minus is a refusal.
func calls(batch int, took int64, list ...int64) (out []quota.Seen) {
	for _, v := range list {
		out = append(out, quota.Seen{At: max(v, -v) * 1000, Took: took * 1000, OK: v > 0, Batch: batch})
	}
	return out
}

func TestWhatAQuotaDrillShows(t *testing.T) {
	ten := &declaration.Quota{Name: "ten", Allow: []declaration.Amount{{Count: 3, Per: 10 * time.Second}},
		Model: declaration.SlidingWindow, RefuseWith: 429}
	perRoute := *ten
	perRoute.PerRoute = true
	one := &declaration.Quota{Name: "one", Allow: []declaration.Amount{{Count: 1}}, Model: declaration.Concurrency,
		RefuseWith: 429}
	alone := calls(0, 40, 1, 50, 100)
	refused := append(calls(0, 1, 1, 2, 3), calls(0, 1, -4)...)
	for _, c := range []struct {
		name string
		q    *declaration.Quota
		m    quota.Measured
		kind finding.Kind
		says string
	}{
		{"refused in time", ten, quota.Measured{Calls: refused, Status: 429}, finding.Agrees,
			"refused within what ten allows"},
		{"too many", ten, quota.Measured{Calls: calls(0, 1, 1, 2, 3, 4)}, finding.Unthrottled,
			"None of 4 calls in 4ms was refused; ten lets at most 3 through."},
		{"as many as it allows", ten, quota.Measured{Calls: calls(0, 1, 1, 2)}, finding.Unproven, "ten allows as many"},
		{"full", ten, quota.Measured{Full: true}, finding.Unproven, "full before"},
		{"another status", ten, quota.Measured{Calls: refused, Status: 503}, finding.WrongRefusal,
			"must be answered 429, they were answered 503 without Retry-After"},
		{"a way around", ten, quota.Measured{Calls: refused, Status: 429,
			Around: []quota.Around{{Way: "X-Real-IP", Status: 200, Passed: true}}}, finding.Unthrottled,
			"one with X-Real-IP was answered 200"},
		{"routes apart", ten, quota.Measured{Calls: refused, Status: 429,
			Route: quota.Around{Way: "GET /b", Status: 200, Passed: true}}, finding.Unthrottled,
			"each route has a count of its own, one for all is declared"},
		{"routes apart, as declared", &perRoute, quota.Measured{Calls: refused, Status: 429,
			Route: quota.Around{Way: "GET /b", Status: 200, Passed: true}}, finding.Agrees, "refused within"},
		{"routes together", &perRoute, quota.Measured{Calls: refused, Status: 429,
			Route: quota.Around{Way: "GET /b", Status: 429}}, finding.OverRestrictive,
			"they share one count, one for each is declared"},
		{"another caller failed", ten, quota.Measured{Calls: refused, Status: 429, Passes: 200, Other: "bea",
			OtherStatus: 500}, finding.Agrees, "refused within"},
		{"another caller was never answered", ten, quota.Measured{Calls: refused, Status: 429, Passes: 200,
			Other: "bea"}, finding.Agrees, "refused within"},
		{"disturbed", ten, quota.Measured{Calls: refused, Status: 429, Stood: 2}, finding.Unproven, "stood still"},
		{"disturbed, and too many all the same", ten, quota.Measured{Calls: calls(0, 1, 1, 2, 3, 4), Stood: 3},
			finding.Unthrottled, "lets at most 3 through"},
		{"some failed", ten, quota.Measured{Calls: refused, Status: 429, Failed: 2}, finding.Unproven,
			"2 calls failed"},
		{"callers together", ten, quota.Measured{Calls: refused, Status: 429, Passes: 200, Other: "bea",
			OtherStatus: 429}, finding.OverRestrictive, "the first of bea was refused (429) too"},
		{"one at once", one, quota.Measured{Calls: append(append(alone,
			append(calls(1, 40, 200), calls(1, 1, -200)...)...), calls(0, 40, 300)...), Status: 429}, finding.Agrees,
			"how many run at once: 1"},
		{"three at once", one, quota.Measured{Calls: append(append(alone,
			append(calls(1, 40, 200, 200, 200), calls(1, 1, -200)...)...), calls(0, 40, 300)...), Status: 429},
			finding.Unthrottled, "3 calls ran at the same time; one lets 1 run"},
		{"any number at once", one, quota.Measured{Calls: append(alone, calls(1, 40, 200, 200, 200, 200)...)},
			finding.Unthrottled, "4 calls at the same time were all admitted"},
		{"one at once, and disturbed", one,
			quota.Measured{Calls: append(append(alone, append(calls(1, 40, 200), calls(1, 1, -200)...)...),
				calls(0, 40, 300)...), Status: 429, Stood: 2}, finding.Unproven, "stood still"},
		{"one after the other", one, quota.Measured{Calls: append(append(alone, calls(1, 40, 200)...),
			append(calls(1, 82, 201), calls(1, 123, 202)...)...)}, finding.Unproven, "need not have run together"},
		{"one after the other, read late", one,
			quota.Measured{Calls: append(append(alone, calls(1, 55, 200)...), calls(1, 58, 215)...)}, finding.Unproven,
			"need not have run together"},
		{"some later", one, quota.Measured{Calls: append(append(alone, calls(1, 40, 200, 200)...),
			calls(1, 90, 200)...)}, finding.Unthrottled, "2 calls ran at the same time"},
		{"while the drill stood still", one,
			quota.Measured{Calls: append(alone, append(calls(1, 40, 200, 200),
				quota.Seen{At: 200_000, Took: 40_000, OK: true, Batch: 1, Gap: true})...)}, finding.Unproven,
			"stood still"},
		{"too short", one, quota.Measured{Calls: append(calls(0, 2, 1, 5, 9), calls(1, 2, 20, 20, 20)...)},
			finding.Unproven, "need not have run together"},
		{"mostly on the way", one, quota.Measured{Calls: append(alone, calls(1, 40, 200, 200, 200)...), Trip: 35_000},
			finding.Unproven, "need not have run together"},
		{"a rate refuses first", one, quota.Measured{Calls: append(append(alone,
			append(calls(1, 40, 200), calls(1, 1, -200)...)...), calls(0, 1, -300)...), Status: 429}, finding.Unproven,
			"on how fast calls come"},
		{"never together", one, quota.Measured{Calls: alone}, finding.Unproven, "no calls were sent at the same time"},
	} {
		t.Run(c.name, func(t *testing.T) {
			v := Judge(Input{Doc: &declaration.Document{}, Probe: &probe.Probe{Kind: probe.QuotaDrill, Way: c.q.Name,
				Identity: "ann"},
				Answer: check.Answer{Status: c.m.Status}, Quota: &QuotaSeen{Measured: &c.m, Quota: c.q,
					Stack: quota.Of(c.q, c.q.Allow)}})
			assert.Equal(t, c.kind, v.Kind, v.Reason)
			assert.Contains(t, v.Reason, c.says)
			if c.q == one && c.kind.IsGap() {
				assert.Equal(t, finding.Likely, v.Confidence, "when they began is not seen")
			}
			for _, g := range v.Gaps {
				_, ok := Causes.Row(g.Kind, g.Cause)
				assert.True(t, ok, "%s %q has no row", g.Kind, g.Cause)
			}
		})
	}
	v := Judge(Input{Doc: &declaration.Document{}, Probe: &probe.Probe{Kind: probe.QuotaDrill, Way: "ten"},
		Quota: &QuotaSeen{Measured: &quota.Measured{Calls: refused, Status: 429}, Quota: ten,
			Stack:   quota.Of(ten, ten.Allow),
			Lowered: true, Declared: []declaration.Amount{{Count: 8, Per: 5 * time.Minute}}}})
	require.Equal(t, finding.Agrees, v.Kind)
	assert.Equal(t, finding.Likely, v.Confidence)
	assert.Contains(t, v.Reason, "Measured with 3 per 10s in place of 8 per 5m")
}
