package quotas

import (
	"cmp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
	"millgate/testkit/play"
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
		{"three at once", one, quota.Measured{Calls: slices.Concat(alone, calls(1, 40, 200, 200, 200),
			calls(1, 1, -200), calls(0, 40, 300), calls(2, 40, 400, 400, 400), calls(2, 1, -400), calls(0, 40, 500)),
			Status: 429}, finding.Unthrottled, "3 calls ran at the same time; one lets 1 run"},
		{"three at once, seen once", one, quota.Measured{Calls: slices.Concat(alone, calls(1, 40, 200, 200, 200),
			calls(1, 1, -200), calls(0, 40, 300)), Status: 429}, finding.Unproven,
			"It is a limit on how many run at once: 3. one lets 1 run"},
		{"any number at once", one, quota.Measured{Calls: slices.Concat(alone, calls(1, 40, 200, 200, 200, 200),
			calls(2, 40, 300, 300, 300, 300))},
			finding.Unthrottled, "4 calls at the same time were all admitted"},
		{"one at once, and disturbed", one,
			quota.Measured{Calls: append(append(alone, append(calls(1, 40, 200), calls(1, 1, -200)...)...),
				calls(0, 40, 300)...), Status: 429, Stood: 2}, finding.Unproven, "stood still"},
		{"one after the other", one, quota.Measured{Calls: append(append(alone, calls(1, 40, 200)...),
			append(calls(1, 82, 201), calls(1, 123, 202)...)...)}, finding.Unproven, "need not have run together"},
		{"one after the other, read late", one,
			quota.Measured{Calls: append(append(alone, calls(1, 55, 200)...), calls(1, 58, 215)...)}, finding.Unproven,
			"need not have run together"},
		{"any number at once, seen once", one, quota.Measured{Calls: append(alone, calls(1, 40, 200, 200, 200,
			200)...)},
			finding.Unproven, "need not have run together"},
		{"on a machine that is busy until then", one, quota.Measured{Calls: slices.Concat(calls(0, 90, 1, 100, 200),
			calls(1, 45, 300), calls(1, 80, 302), calls(0, 41, 400), calls(2, 40, 500), calls(2, 1, -500),
			calls(0, 90, 600)), Status: 429}, finding.Agrees, "within what one allows"},
		{"some later", one, quota.Measured{Calls: slices.Concat(alone, calls(1, 40, 200, 200), calls(1, 90, 200),
			calls(2, 40, 400, 400), calls(2, 90, 400))}, finding.Unthrottled, "2 calls ran at the same time"},
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
			v := judge(c.q, c.m, nil)
			kind, sure, _ := play.Said(v)
			assert.Equal(t, c.kind, kind, v.Says)
			says := v.Says
			for _, g := range v.Gaps {
				says += g.Says
				assert.Equal(t, finding.Scope{Of: finding.AtQuota, Name: c.q.Name}, g.Scope)
			}
			assert.Contains(t, says, c.says)
			if c.q == one && c.kind.IsGap() {
				assert.Equal(t, finding.Likely, sure, "when they began is not seen")
			}
		})
	}
	declared := *ten
	declared.Allow = []declaration.Amount{{Count: 8, Per: 5 * time.Minute}}
	v := judge(ten, quota.Measured{Calls: refused, Status: 429}, &declared)
	kind, sure, _ := play.Said(v)
	require.Equal(t, finding.Agrees, kind)
	assert.Equal(t, finding.Likely, sure)
	assert.Contains(t, v.Says, "Measured with 3 per 10s in place of 8 per 5m")
	require.Len(t, v.Answers, 1, "its shape is that of any answer")
	assert.Equal(t, refusal, v.Shape.Cause.Cause)
}

func TestWhetherAnythingLimitsTheCalls(t *testing.T) {
	ten := &declaration.Quota{Name: "ten", Allow: []declaration.Amount{{Count: 3, Per: 10 * time.Second}},
		Model: declaration.SlidingWindow, RefuseWith: 429}
	many := func(n int64) (out []quota.Seen) {
		for k := range n {
			out = append(out, calls(0, 1, k+1)...)
		}
		return out
	}
	// and goes on for longer than the window
	long := func(n int64) []quota.Seen { return append(many(n), calls(0, 1, 11_000)...) }
	refused := append(many(12), calls(0, 1, -20)...)
	for _, x := range []struct {
		m     quota.Measured
		cause string
	}{
		{quota.Measured{Calls: many(4)}, over},
		{quota.Measured{Calls: many(9)}, over},  // three nodes that count alone
		{quota.Measured{Calls: many(10)}, over}, // the window is not over
		{quota.Measured{Calls: long(10)}, none},
		{quota.Measured{Calls: long(9)}, over},
		{quota.Measured{Calls: many(10), Failed: 1}, over},
		{quota.Measured{Calls: refused, Status: 429}, over},
	} {
		v := judge(ten, x.m, nil)
		require.NotEmpty(t, v.Gaps)
		assert.Equal(t, x.cause, v.Gaps[0].Cause.Cause, v.Gaps[0].Says)
		assert.Equal(t, none, cmp.Or(v.Gaps[0].Cause.Same, v.Gaps[0].Cause.Cause), "it is one fault")
	}
}

// What the service says of its limits is held against what is declared; it may say more.
func TestWhatTheServiceSaysOfItself(t *testing.T) {
	ten := &declaration.Quota{Name: "ten", Allow: []declaration.Amount{{Count: 3, Per: 10 * time.Second}},
		Model: declaration.FixedWindow, RefuseWith: 429}
	for _, x := range []struct {
		name   string
		claims []quota.Claim
		want   string
	}{
		{"nothing", nil, ""},
		{"when to come again", []quota.Claim{{Form: quota.FormRetry, Limit: -1, Window: -1}}, ""},
		{"the declared one", []quota.Claim{{Form: quota.FormX, Limit: 3, Window: -1}}, ""},
		{"the declared one, and another", []quota.Claim{{Form: quota.FormStructured, Policy: "day", Limit: 99,
			Window: 86400_000_000}, {Form: quota.FormStructured, Policy: "ten", Limit: 3, Window: 10_000_000}}, ""},
		{"another number", []quota.Claim{{Form: quota.FormX, Limit: 5, Window: -1}},
			"Answers say 5 in X-RateLimit-Limit; ten is 3 per 10s."},
		{"another window", []quota.Claim{{Form: quota.FormStructured, Limit: 3, Window: 60_000_000}},
			"Answers say 3 per 1m0s in RateLimit; ten is 3 per 10s."},
	} {
		m := quota.Measured{Calls: append(calls(0, 1, 1, 2, 3), calls(0, 1, -4)...), Status: 429, Claims: x.claims,
			Fits: []quota.Fit{{Limit: quota.Limit{Kind: quota.FixedClock, N: 3, W: 10_000_000}}}}
		v := judge(ten, m, nil)
		if x.want == "" {
			assert.Empty(t, v.Gaps, x.name)
			assert.Contains(t, v.Says, "starts: clock says so", "its windows stand on the clock")
			continue
		}
		require.Len(t, v.Gaps, 1, x.name)
		assert.Equal(t, x.want, v.Gaps[0].Says)
	}
}

// judge judges a drill of a quota by ann; of another declared one, where the target lowers it.
func judge(q *declaration.Quota, m quota.Measured, declared *declaration.Quota) check.Verdict {
	c := &check.Context{Doc: &declaration.Document{Quotas: []*declaration.Quota{q}}, Target: &declaration.Target{}}
	if declared != nil {
		c.Doc.Quotas = []*declaration.Quota{declared}
		c.Target.Lowered = []declaration.Lowered{{Ref: declaration.Ref{Name: q.Name}, Allow: q.Allow}}
	}
	p := &check.Probe{ID: check.ID{Of: q.Name, Caller: check.Caller{Identity: "ann"}}}
	r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: max(m.Status, 200)}}
	return Family{}.Judge(c, p, &check.Fact{Reports: []check.Report{r}, Data: &Measured{Measured: m}}, nil)
}
