package quota

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const ms = int64(1000)

func measured(d *Drill) *Measured {
	m := &Measured{Said: -1, Passes: 200}
	m.Explain(d)
	if m.Refused() {
		m.Status = 429
	}
	return m
}

func conclusions(m *Measured, declared Stack) map[string]Conclusion {
	out := map[string]Conclusion{}
	for _, c := range m.Conclude(declared) {
		out[c.About] = c
	}
	return out
}

func TestHowManyRunAtOnce(t *testing.T) {
	for _, c := range []struct {
		name  string
		limit Limit
		hold  int64
		once  int // declared
		want  int
		queue int
		says  string
	}{
		{"one", Limit{Kind: Concurrent, N: 1}, 40 * ms, 1, 1, 0, "1 run at the same time; more are refused"},
		{"four, undeclared", Limit{Kind: Concurrent, N: 4}, 60 * ms, 0, 4, 0, "4 run at the same time"},
		{"more than declared", Limit{Kind: Concurrent, N: 3}, 60 * ms, 1, 3, 0, "3 run at the same time"},
		{"some wait", Limit{Kind: Concurrent, N: 2, Queue: 3}, 90 * ms, 0, 2, 3, "2 run at the same time, 3 more wait"},
		{"none", Limit{Kind: Bucket, N: 1_000_000, W: second, Burst: 1_000_000}, 50 * ms, 0, 0, 0,
			"16 at the same time were all admitted"},
		{"too short to tell", Limit{Kind: Bucket, N: 1_000_000, W: second, Burst: 1_000_000}, 0, 1, 0, 0,
			"too short to run beside another"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := world{limits: []Limit{c.limit}, hold: c.hold, drill: Drill{Budget: Budget{300, 60 * second}, Burst: 20,
				Side: 16, AtOnce: c.once}}.drive(3)
			m := measured(d)
			s := m.Side()
			assert.Equal(t, c.want, s.Limit, "%v", s.Seen)
			assert.Equal(t, c.queue, s.Queue, "%v", s.Seen)
			assert.Contains(t, conclusions(m, Stack{{Kind: Concurrent, N: 1}})[AboutAtOnce].Text, c.says)
			assert.Empty(t, m.Fits)
		})
	}
}

// Calls that wait in place of being refused show the same limiter, and how many
// may wait.
func TestAQueueIsSeenFromItsDelays(t *testing.T) {
	for _, c := range []struct {
		limit Limit
		kinds string
		queue int
	}{
		{Limit{Kind: Bucket, N: 10, W: second, Burst: 1, Queue: 4}, "one each 100ms", 4},
		{Limit{Kind: Bucket, N: 5, W: second, Burst: 6, Queue: 3}, "a bucket of 6, one more each 200ms", 3},
		{Limit{Kind: SlidingLog, N: 12, W: 2 * second, Queue: 2}, "12 per 2", 2},
	} {
		t.Run(c.kinds, func(t *testing.T) {
			t.Parallel()
			d := world{limits: []Limit{c.limit}, drill: Drill{Budget: Budget{400, 75 * second}, Burst: 60,
				Side: 16}}.drive(5)
			m := measured(d)
			require.NotEmpty(t, m.Fits)
			text := m.Found()
			assert.Contains(t, text, "wait for their turn")
			assert.Contains(t, strings.NewReplacer("99ms", "100ms", "101ms", "100ms", "199ms", "200ms", "201ms",
				"200ms", "1.99", "2", "1.98", "2").Replace(text), c.kinds)
			q := conclusions(m, nil)[AboutQueue]
			assert.Contains(t, q.Text, fmt.Sprintf("%d wait for their turn", c.queue), "%v", q.Because)
		})
	}
}

// Where the machine makes calls and answers late, a queue is named as it is or not at all.
func TestALateQueueHasNoOtherName(t *testing.T) {
	for _, c := range []struct {
		limit Limit
		late  int64
		told  bool // a machine that is as late takes neither limiter nor queue away
		seeds int64
	}{
		{Limit{Kind: Bucket, N: 10, W: second, Burst: 1, Queue: 4}, 0, true, 5},
		{Limit{Kind: Bucket, N: 10, W: second, Burst: 1, Queue: 4}, 20 * ms, true, 4},
		{Limit{Kind: Bucket, N: 10, W: second, Burst: 1, Queue: 4}, 40 * ms, false, 10},
		{Limit{Kind: Bucket, N: 5, W: second, Burst: 1, Queue: 6}, 0, true, 4},
		{Limit{Kind: Bucket, N: 5, W: second, Burst: 1, Queue: 6}, 30 * ms, true, 4},
	} {
		for seed := range c.seeds {
			t.Run(fmt.Sprintf("%d late %d, %d", c.limit.Queue, c.late/ms, seed), func(t *testing.T) {
				t.Parallel()
				drill := Drill{Budget: Budget{400, 45 * second}, Burst: 60, Side: 16}
				m := measured(world{limits: []Limit{c.limit}, late: c.late, drill: drill}.drive(seed))
				if c.told {
					require.NotEmpty(t, m.Fits, m.Found())
				}
				for _, f := range m.Fits {
					if f.Kind == Bucket {
						assert.InEpsilon(t, c.limit.W/c.limit.N, f.W, 0.1, m.Found())
					}
				}
				if c.told {
					assert.Equal(t, Bucket, m.Fits[0].Kind, m.Found())
				}
				assert.EqualValues(t, c.limit.Queue, m.Side().Queue, "%v", m.Side().Seen)
			})
		}
	}
}

// A service that is slow by itself is not one that lets calls wait.
func TestSlownessIsNoQueue(t *testing.T) {
	for _, w := range []world{{hold: 60 * ms}, {slow: 7}, {slow: 3}, {slow: 23, hold: 30 * ms}} {
		w.drill = Drill{Budget: Budget{400, 60 * second}, Burst: 60, Side: 16}
		m := measured(w.drive(11))
		assert.Empty(t, m.Fits, "%+v: %s", w, m.Found())
		assert.Zero(t, m.Side().Queue)
		assert.NotContains(t, conclusions(m, nil), AboutQueue)
		assert.Contains(t, m.Found(), "there is no limit")
	}
}

// at makes calls from their times in milliseconds; a minus is a refusal.
func at(list ...int64) (out []Seen) {
	for _, v := range list {
		out = append(out, Seen{At: max(v, -v) * ms, Took: ms, OK: v > 0})
	}
	return out
}

func TestHonestFields(t *testing.T) {
	fit := []Fit{{Limit: Limit{Kind: FixedFirst, N: 3, W: 2 * second}}}
	calls := at(1, 2, 3, -4, -1000, 2100, 2101)
	now := time.Unix(1_790_000_000, 0)
	for _, c := range []struct {
		name   string
		fields []string // of each call
		about  string
		wrong  string // "" when it holds
	}{
		{"a sound set", []string{`RateLimit-Policy: "a";q=3;w=2`, "", "", `RateLimit: "a";r=0;t=2`}, `RateLimit "a"`,
			""},
		{"another number", []string{`RateLimit-Policy: "a";q=9;w=2`}, `RateLimit "a"`,
			"it says 9, and admits 3 at once"},
		{"another window", []string{`RateLimit-Policy: "a";q=3;w=60`}, `RateLimit "a"`,
			"1m0s for each window, 2s was found"},
		{"some left", []string{"", "", "", `RateLimit: "a";r=2;t=2`}, `RateLimit "a"`,
			"1 refusals say that calls are left, the last 2"},
		{"too early", []string{"", "", "", "Retry-After: 0", "Retry-After: 0"}, "Retry-After", ""},
		{"far too early", []string{"", "", "", "X-RateLimit-Reset: 0"}, "X-RateLimit-Limit", ""},
		{"draft 07", []string{"RateLimit-Policy: 3;w=2", "", "", "RateLimit: limit=3, remaining=0, reset=2"},
			"RateLimit", ""},
		{"draft 07, some left", []string{"RateLimit-Policy: 3;w=2", "", "", "RateLimit: limit=3, remaining=2, reset=2"},
			"RateLimit", "1 refusals say that calls are left, the last 2"},
		{"another policy has calls left", []string{`RateLimit-Policy: "a";q=3;w=2, "day";q=90;w=86400`, "", "",
			`RateLimit: "a";r=0;t=2, "day";r=87;t=999`}, `RateLimit "day"`, ""},
		{"another policy is wider", []string{`RateLimit-Policy: "a";q=3;w=2, "day";q=90;w=86400`}, `RateLimit "a"`, ""},
		{"older fields", []string{"RateLimit-Limit: 3, 3;w=2\nRateLimit-Remaining: 2"}, "RateLimit-Limit", ""},
		{"seconds since 1970", []string{"", "", "", fmt.Sprintf("X-RateLimit-Limit: 3\nX-RateLimit-Reset: %d",
			now.Unix()+2)}, "X-RateLimit-Limit", ""},
		{"a date", []string{"", "", "", "Retry-After: " + now.Add(2*time.Second).UTC().Format("Mon, 02 Jan 2006 "+
			"15:04:05 GMT")}, "Retry-After", ""},
		{"not a number", []string{"X-RateLimit-Limit: many"}, "X-RateLimit-Limit", "cannot be read"},
		{"not structured", []string{`RateLimit-Policy: "a;q=3`}, "RateLimit", "cannot be read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var claims Claims
			for i := range calls {
				var fields [][2]string
				if i < len(c.fields) && c.fields[i] != "" {
					for _, l := range strings.Split(c.fields[i], "\n") {
						k, v, _ := strings.Cut(l, ": ")
						fields = append(fields, [2]string{k, v})
					}
				}
				claims.Add(fields, now)
			}
			m := &Measured{Calls: calls, Fits: fit, Status: 429, Said: -1, Claims: claims.List}
			got := conclusions(m, nil)[c.about]
			require.NotEmpty(t, got.Text)
			if c.wrong == "" {
				assert.False(t, got.Wrong, got.Text)
				assert.Contains(t, got.Text, "Holds")
				return
			}
			assert.True(t, got.Wrong)
			assert.Contains(t, got.Text, c.wrong)
		})
	}
	var claims Claims
	for range 3 {
		claims.Add(nil, now)
	}
	claims.Add([][2]string{{"Retry-After", "1"}}, now)
	m := &Measured{Calls: at(1, 2, 3, -4, -2500, 5000), Status: 429, Claims: claims.List}
	assert.Contains(t, conclusions(m, nil)["Retry-After"].Text, "to come again in 1s, and refuses 1.487s after that")
}

// Who asks before the time that was said tells nothing of it: the limiter may count that.
func TestWhoAsksBeforeTellsNothing(t *testing.T) {
	var claims Claims
	now := time.Unix(1_790_000_000, 0)
	for range 3 {
		claims.Add(nil, now)
	}
	claims.Add([][2]string{{"Retry-After", "1"}}, now)
	m := &Measured{Calls: at(1, 2, 3, -4, -500, -2500, 5000), Status: 429, Claims: claims.List}
	assert.False(t, conclusions(m, nil)["Retry-After"].Wrong)
	// A limiter that was inferred speaks against what is said, and does not prove it wrong.
	claims = Claims{}
	claims.Add([][2]string{{"X-RateLimit-Limit", "9"}}, now)
	m = &Measured{Calls: at(1, 2, 3, -4, -1000, 2100), Status: 429, Claims: claims.List,
		Fits: []Fit{{Limit: Limit{Kind: FixedFirst, N: 3, W: 2 * second}}}}
	c := conclusions(m, nil)["X-RateLimit-Limit"]
	assert.Equal(t, []any{true, Likely}, []any{c.Wrong, c.Sure})
}

func TestWhatIsAsked(t *testing.T) {
	var c Claims
	now := time.Unix(1_790_000_000, 0)
	assert.EqualValues(t, -1, c.Asked())
	c.Add([][2]string{{"RateLimit", `"a";r=0;t=7`}, {"Retry-After", "5"}}, now)
	assert.EqualValues(t, 5*second, c.Asked(), "Retry-After comes first")
	c.Add([][2]string{{"RateLimit", `"a";r=0;t=7, "b";r=1;t=9`}}, now)
	assert.EqualValues(t, 9*second, c.Asked())
	c.Add(nil, now)
	assert.EqualValues(t, -1, c.Asked())
	require.Len(t, c.List, 3)
	assert.Equal(t, []int64{7 * second, 7 * second}, c.List[0].Reset)
}

func TestNodesSeenFromOutside(t *testing.T) {
	declared := Stack{{Kind: FixedFirst, N: 4, W: 60 * second}}
	var claims Claims
	calls := at(1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, -13)
	for i := range calls {
		claims.Add([][2]string{{"X-RateLimit-Remaining", fmt.Sprint(max(0, 3-i/3))}}, time.Time{})
	}
	m := &Measured{Calls: calls, Status: 429, Said: -1, Claims: claims.List}
	c := conclusions(m, declared)[AboutNodes]
	assert.Equal(t, "3 that count alone.", c.Text)
	assert.Equal(t, Likely, c.Sure)
	m.Claims = nil
	c = conclusions(m, declared)[AboutNodes]
	assert.Contains(t, c.Text, "As 3 nodes that count alone would; or the limit is 3 times as high")
	assert.Equal(t, Possible, c.Sure)
	m.Calls = at(1, 2, 3, 4, -5)
	assert.Contains(t, conclusions(m, declared)[AboutNodes].Text, "One count")
}

func TestWhatWasNotFoundOutIsSaid(t *testing.T) {
	declared := Stack{{Kind: FixedFirst, N: 4, W: 300 * second}}
	m := &Measured{Calls: at(1, 2, 3, 4, -5, -900), Status: 429, Said: -1}
	c := conclusions(m, declared)
	assert.Equal(t, Open, c[AboutWindow].Sure)
	assert.Contains(t, c[AboutWindow].Text, "The declared one is 5m0s; a lowered limit")
	assert.Contains(t, c[AboutRefusal].Text, "does not say when")
	m.Said = 120 * second
	c = conclusions(m, declared)
	assert.Equal(t, Claimed, c[AboutWindow].Sure)
	assert.Contains(t, c[AboutWindow].Text, "Room again in 2m0s, as it says; the drill did not wait")
	m.Claims = []Claim{{Form: FormStructured, Policy: "a", Limit: 4, Window: 300 * second}}
	c = conclusions(m, declared)
	assert.Contains(t, c[AboutWindow].Text, `5m0s, as RateLimit "a" says`)
	m.Around = []Around{{Way: "X-Real-IP", Status: 200, Passed: true}, {Way: FreshToken, Status: 429}}
	m.Other, m.OtherStatus, m.Passes = "bea", 200, 200
	m.Route = Around{Way: "GET /b", Status: 200, Passed: true}
	c = conclusions(m, declared)
	assert.Contains(t, c[AboutKey].Text, "The caller, not the token: bea was admitted meanwhile")
	assert.Contains(t, c[AboutKey].Text, "Stepped around with X-Real-IP")
	assert.Equal(t, "Each route has its own count.", c[AboutRoutes].Text)
	m.Full = true
	assert.Len(t, m.Conclude(declared), 1)
}

// A call that waited is answered after later ones: what began before it was
// answered is no proof of more in less time.
func TestBeyondKnowsThoseThatWait(t *testing.T) {
	s := Stack{{Kind: SlidingLog, N: 3, W: 10 * second}}
	m := &Measured{Calls: []Seen{{At: 0, Took: 10, OK: true}, {At: 20, Took: 10, OK: true},
		{At: 40, Took: 10, OK: true},
		{At: 5 * second, Took: 5*second + 20, OK: true, Batch: 1}, {At: 5*second + 1, Took: 10, OK: false, Batch: 1}}}
	_, _, _, yes := m.Beyond(s)
	assert.False(t, yes)
	m.Calls[4] = Seen{At: 5*second + 1, Took: 6 * second, OK: true, Batch: 1}
	m.Calls = append(m.Calls, Seen{At: 5*second + 2, Took: 10, OK: true, Batch: 1})
	n, c, _, yes := m.Beyond(s)
	assert.True(t, yes, "the last was answered at once")
	assert.EqualValues(t, 4, n)
	assert.EqualValues(t, 3, c)
}

// Calls that the pace of the target keeps apart do not run together.
func TestThePaceKeepsCallsApart(t *testing.T) {
	m := &Measured{}
	for k := range int64(3) {
		m.Calls = append(m.Calls, Seen{At: k * 200 * ms, Took: 40 * ms, OK: true})
	}
	for k := range int64(6) {
		m.Calls = append(m.Calls, Seen{At: 1000*ms + k*200*ms, Took: 40 * ms, OK: true, Batch: 1})
	}
	s := m.Side()
	assert.Zero(t, s.Most)
	c := conclusions(m, Stack{{Kind: Concurrent, N: 1}})[AboutAtOnce]
	assert.Equal(t, Open, c.Sure)
	assert.Contains(t, c.Text, "at the target's pace")
}

// One batch that a slow machine disturbed is no queue, and makes none of one.
func TestBatchesAgree(t *testing.T) {
	for _, c := range []struct {
		batches      [][2]int
		limit, queue int
	}{
		{[][2]int{{3, 0}}, 3, 0},
		{[][2]int{{0, 3}, {3, 0}, {3, 0}}, 3, 0},
		{[][2]int{{2, 5}, {3, 4}, {2, 5}}, 2, 5},
		{[][2]int{{4, 0}, {3, 0}, {5, 0}}, 3, 0},
		{[][2]int{{2, 1}, {3, 0}}, 0, 0},
	} {
		limit, queue := agreed(c.batches)
		assert.Equal(t, []int{c.limit, c.queue}, []int{limit, queue}, "%v", c.batches)
	}
}

// How sure something is fits what is said: what was not found out is open.
func TestNothingFoundOutIsOpen(t *testing.T) {
	limiter := func(m Measured) Conclusion { return conclusions(&m, nil)[AboutLimiter] }
	assert.Equal(t, Proven, limiter(Measured{Calls: at(1, 2, 3)}).Sure, "none of three was refused")
	for says, m := range map[string]Measured{"stood still": {Calls: at(1, 2, 3), Stood: 2},
		"1 calls failed": {Calls: at(1, 2, 3), Failed: 1}} {
		c := limiter(m)
		assert.Contains(t, c.Text, says)
		assert.Equal(t, Open, c.Sure, says)
	}
}
