package quota

import (
	"fmt"
	"math/rand"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// worst tries every pattern of calls of some ticks, up to most calls in each,
// and returns for every d the most that begin in any interval of d ticks.
func worst(t testing.TB, stack Stack, ticks int64, most int) []int64 {
	t.Helper()
	best := make([]int64, ticks+1)
	pattern := make([]int, ticks)
	begins := make([]int64, ticks)
	var try func(k int64)
	try = func(k int64) {
		if k < ticks {
			for n := 0; n <= most; n++ {
				pattern[k] = n
				try(k + 1)
			}
			return
		}
		clear(begins)
		g := NewGate(stack)
		for tick, n := range pattern {
			for range n {
				if d := g.Call(int64(tick), 1); d.OK && d.At < ticks {
					begins[d.At]++
				}
			}
		}
		for from := range ticks {
			sum := int64(0)
			for to := from; to < ticks; to++ {
				sum += begins[to]
				best[to-from+1] = max(best[to-from+1], sum)
			}
		}
	}
	try(0)
	return best
}

// The closed forms are what brute force finds, for every interval that the
// horizon shows whole.
func TestCeilingsByBruteForce(t *testing.T) {
	for _, l := range []Limit{
		{Kind: FixedClock, N: 1, W: 3}, {Kind: FixedClock, N: 2, W: 3}, {Kind: FixedClock, N: 2, W: 4},
		{Kind: FixedClock, N: 2, W: 1},
		{Kind: FixedFirst, N: 1, W: 3}, {Kind: FixedFirst, N: 2, W: 3}, {Kind: FixedFirst, N: 2, W: 2},
		{Kind: FixedFirst, N: 2, W: 1},
		{Kind: SlidingLog, N: 1, W: 3}, {Kind: SlidingLog, N: 2, W: 3}, {Kind: SlidingLog, N: 2, W: 4},
		{Kind: SlidingLog, N: 2, W: 3, CountAll: true},
		{Kind: TwoCounters, N: 2, W: 3}, {Kind: TwoCounters, N: 2, W: 4}, {Kind: TwoCounters, N: 1, W: 2},
		{Kind: TwoCounters, N: 2, W: 2},
		{Kind: Bucket, N: 1, W: 3, Burst: 2}, {Kind: Bucket, N: 1, W: 3, Burst: 1},
		{Kind: Bucket, N: 2, W: 3, Burst: 2}, {Kind: Bucket, N: 3, W: 2, Burst: 2},
		{Kind: Bucket, N: 1, W: 2, Burst: 1, Queue: 2},
		{Kind: SlidingLog, N: 1, W: 2, Queue: 1},
	} {
		name := fmt.Sprintf("%s %d per %d burst %d queue %d", l.Kind, l.N, l.W, l.Burst, l.Queue)
		t.Run(name, func(t *testing.T) {
			ticks := int64(9)
			if l.Queue > 0 {
				ticks = 8
			}
			got := worst(t, Stack{l}, ticks, 2)
			// A past of a window must fit before the interval.
			for d := int64(1); d <= ticks-l.W; d++ {
				assert.Equal(t, l.Ceiling(d), got[d], "in %d ticks", d)
			}
			for d := ticks - l.W + 1; d <= ticks; d++ {
				assert.LessOrEqual(t, got[d], l.Ceiling(d), "in %d ticks", d)
			}
		})
	}
	assert.Zero(t, Limit{}.Ceiling(100), "the zero limit lets nothing through")
	d := NewGate([]Limit{{}}).Call(0, 1)
	assert.False(t, d.OK)
}

func TestConcurrencyByBruteForce(t *testing.T) {
	// Every call takes one tick in worst, so that N begin in each.
	l := Limit{Kind: Concurrent, N: 2, W: 1}
	got := worst(t, Stack{l}, 6, 3)
	for d := int64(1); d <= 6; d++ {
		assert.Equal(t, l.Ceiling(d), got[d])
	}
}

func TestStacksByBruteForce(t *testing.T) {
	for _, s := range []Stack{
		{{Kind: FixedClock, N: 2, W: 2}, {Kind: FixedClock, N: 3, W: 6}},
		{{Kind: SlidingLog, N: 1, W: 2}, {Kind: Bucket, N: 1, W: 3, Burst: 2}},
		{{Kind: FixedFirst, N: 2, W: 3}, {Kind: SlidingLog, N: 3, W: 5}},
	} {
		got := worst(t, s, 9, 2)
		for d := int64(1); d <= 9; d++ {
			c, _ := s.Ceiling(d)
			assert.LessOrEqual(t, got[d], c, "%v in %d ticks", s, d)
		}
	}
}

func limits(r *rand.Rand) Limit {
	n, w := int64(1+r.Intn(30)), int64(1+r.Intn(500))
	l := Limit{Kind: []Kind{FixedClock, FixedFirst, SlidingLog, TwoCounters, Bucket}[r.Intn(5)], N: n, W: w}
	if l.Kind == Bucket {
		l.Burst = int64(1 + r.Intn(30))
	}
	if r.Intn(3) == 0 {
		l.Queue = int64(r.Intn(5))
		l.Timeout = int64(r.Intn(3) * 50)
	}
	return l
}

// No pattern beats a ceiling: random limits, random calls, every interval that
// begins with a call.
func TestNoPatternBeatsTheCeiling(t *testing.T) {
	r := rand.New(rand.NewSource(5)) //nolint:gosec // the same each time
	for range 400 {
		s := Stack{limits(r)}
		if r.Intn(3) == 0 {
			s = append(s, limits(r))
		}
		g := NewGate(s)
		var at []int64
		now := int64(0)
		for range 400 {
			if r.Intn(4) == 0 {
				now += int64(r.Intn(200))
			} else if r.Intn(2) == 0 {
				now++
			}
			d := g.Call(now, 1)
			switch {
			case d.OK && d.At < now, !d.OK && d.Retry != never && d.Retry <= now:
				t.Fatalf("at %d: %+v", now, d)
			case d.OK:
				at = append(at, d.At)
			}
		}
		require.True(t, slices.IsSorted(at), "oldest first")
		for i := range at {
			for k := i; k < len(at); k += 1 + r.Intn(7) {
				if c, _ := s.Ceiling(at[k] - at[i] + 1); int64(k-i+1) > c {
					t.Fatalf("%d from %d to %d, and the ceiling is %d: %+v", k-i+1, at[i], at[k], c, s)
				}
			}
		}
	}
}

// And some pattern reaches it: calls that come whenever one is admitted, from
// the moment that is worst for the limiter.
func TestSomePatternReachesTheCeiling(t *testing.T) {
	r := rand.New(rand.NewSource(6)) //nolint:gosec // the same each time
	for range 300 {
		l := limits(r)
		l.Queue = 0
		d := int64(1 + r.Intn(2000))
		want := l.Ceiling(d)
		best := int64(0)
		for _, how := range Attacks(l) {
			best = max(best, how.Reached(l, d))
		}
		if l.Kind == Bucket && l.Burst <= ceilDiv(l.N, l.W) {
			require.LessOrEqual(t, best, want)
			continue // what the bucket cannot hold between two ticks is lost
		}
		require.Equal(t, want, best, "%+v in %d", l, d)
	}
}

func TestWithin(t *testing.T) {
	for _, s := range []Stack{{{Kind: FixedClock, N: 8, W: 300}}, {{Kind: Bucket, N: 3, W: 100, Burst: 5}},
		{{Kind: SlidingLog, N: 4, W: 60}, {Kind: FixedFirst, N: 20, W: 1000}}} {
		for _, n := range []int64{1, 4, 9, 100, 1000} {
			d, ok := s.Within(n)
			require.True(t, ok)
			c, _ := s.Ceiling(d + 1)
			assert.GreaterOrEqual(t, c, n)
			if d > 0 {
				c, _ = s.Ceiling(d)
				assert.Less(t, c, n, "no shorter time does")
			}
		}
	}
	_, ok := Stack{{}}.Within(1)
	assert.False(t, ok)
	d, ok := Stack{}.Within(1e9)
	assert.True(t, ok)
	assert.Zero(t, d, "nothing limits it")
}

func TestWaiting(t *testing.T) {
	// One leaves every 100 ticks, three may wait.
	s := Stack{{Kind: Bucket, N: 1, W: 100, Burst: 1, Queue: 3}}
	g := NewGate(s)
	var at []int64
	for range 5 {
		d := g.Call(0, 1)
		if !d.OK {
			at = append(at, -1)
			continue
		}
		at = append(at, d.At)
	}
	assert.Equal(t, []int64{0, 100, 200, 300, -1}, at)
	w, ok := s.LongestWait()
	assert.True(t, ok)
	assert.Equal(t, int64(300), w)
	assert.Equal(t, int64(400), g.Call(100, 1).At, "the oldest has left, so there is a place")

	s[0].Timeout = 150
	g = NewGate(s)
	at = at[:0]
	for range 4 {
		d := g.Call(0, 1)
		if !d.OK {
			at = append(at, -1)
			continue
		}
		at = append(at, d.At)
	}
	assert.Equal(t, []int64{0, 100, -1, -1}, at, "two would wait for longer than they may")
	w, _ = s.LongestWait()
	assert.Equal(t, int64(150), w)

	// Two at once, each takes 50 ticks.
	g = NewGate(Stack{{Kind: Concurrent, N: 2, Queue: 1}})
	assert.Equal(t, int64(0), g.Call(0, 50).At)
	assert.Equal(t, int64(10), g.Call(10, 50).At)
	assert.Equal(t, int64(50), g.Call(20, 50).At)
	assert.False(t, g.Call(20, 50).OK)
	assert.Equal(t, int64(60), g.Call(55, 50).At)
}

func TestLongestWaitIsReached(t *testing.T) {
	r := rand.New(rand.NewSource(8)) //nolint:gosec // the same each time
	for range 200 {
		l := limits(r)
		l.Queue, l.Timeout = int64(1+r.Intn(6)), 0
		s := Stack{l}
		want, ok := s.LongestWait()
		require.True(t, ok)
		longest := int64(0)
		for _, full := range []int64{-1, 0} { // the window before, for two counters
			for _, at := range []int64{0, l.W - 1} {
				g := NewGate(s)
				if full == 0 && l.Kind == TwoCounters {
					for range l.N {
						g.limits[0].Take(-1, 1)
					}
				}
				for range l.N + l.Burst + l.Queue + 3 {
					if d := g.Call(at, 1); d.OK {
						longest = max(longest, d.At-at)
					}
				}
			}
		}
		require.Equal(t, want, longest, "%+v", l)
	}
}

func TestNeverBinds(t *testing.T) {
	for _, c := range []struct {
		s    Stack
		i    int
		want bool
	}{
		{Stack{{Kind: FixedClock, N: 8, W: 300}, {Kind: FixedClock, N: 5000, W: 86400}}, 1, true},
		{Stack{{Kind: FixedClock, N: 8, W: 300}, {Kind: FixedClock, N: 2400, W: 86400}}, 1, true},
		{Stack{{Kind: FixedClock, N: 8, W: 300}, {Kind: FixedClock, N: 2304, W: 86400}}, 1, true},
		{Stack{{Kind: FixedClock, N: 8, W: 300}, {Kind: FixedFirst, N: 2311, W: 86400}}, 1, false},
		{Stack{{Kind: FixedClock, N: 8, W: 300}, {Kind: FixedClock, N: 2303, W: 86400}}, 1, false},
		{Stack{{Kind: SlidingLog, N: 8, W: 300}, {Kind: FixedClock, N: 2304, W: 86400}}, 1, true},
		{Stack{{Kind: FixedClock, N: 8, W: 300}, {Kind: FixedClock, N: 2400, W: 86400}}, 0, false},
		{Stack{{Kind: SlidingLog, N: 5, W: 10}, {Kind: Bucket, N: 1, W: 1, Burst: 20}}, 1, true},
		{Stack{{Kind: SlidingLog, N: 5, W: 10}, {Kind: Bucket, N: 1, W: 2, Burst: 4}}, 1, false},
		{Stack{{Kind: SlidingLog, N: 5, W: 10}, {Kind: Bucket, N: 1, W: 3, Burst: 40}}, 1, false},
		{Stack{{Kind: FixedClock, N: 8, W: 300}}, 0, false},
		{Stack{{Kind: SlidingLog, N: 5, W: 10}, {Kind: TwoCounters, N: 5, W: 10}}, 1, false},
		{Stack{{Kind: SlidingLog, N: 5, W: 10}, {Kind: TwoCounters, N: 10, W: 10}}, 1, true},
		{Stack{{Kind: SlidingLog, N: 5, W: 10}, {Kind: SlidingLog, N: 9, W: 10, CountAll: true}}, 1, false},
	} {
		assert.Equal(t, c.want, c.s.NeverBinds(c.i), "%v", c.s)
	}
}

func TestNodesAndRestarts(t *testing.T) {
	s := Stack{{Kind: FixedClock, N: 8, W: 300}}
	assert.Equal(t, int64(16), s.CeilingOf(Nodes{}, 300))
	assert.Equal(t, int64(48), s.CeilingOf(Nodes{3, Never}, 300))
	assert.Equal(t, int64(16), s.CeilingOf(Nodes{3, 0}, 300))
	assert.Equal(t, int64(24), s.Restarted(300), "two windows, and one of them twice")
	assert.Equal(t, int64(8), s.Restarted(1))
	assert.Equal(t, int64(16), s.Restarted(2))
	b := Stack{{Kind: Bucket, N: 1, W: 10, Burst: 5}}
	assert.Equal(t, int64(5+5+9), b.Restarted(101))
	for _, s := range []Stack{b, {{Kind: SlidingLog, N: 3, W: 7}}, {{Kind: FixedFirst, N: 2, W: 5}}} {
		for d := int64(1); d < 60; d++ {
			best := int64(0)
			for p := int64(0); p <= d; p++ {
				x, _ := s.Ceiling(p)
				y, _ := s.Ceiling(d - p)
				best = max(best, x+y)
			}
			assert.Equal(t, best, s.Restarted(d), "%v in %d", s, d)
		}
	}
	for _, w := range []int64{1, 2, 3, 7} { // windows on the clock, from every moment, restarted at each
		l := Limit{Kind: FixedClock, N: 3, W: w}
		for d := int64(1); d < 30; d++ {
			best := int64(0)
			for from := range w {
				for restart := range d + 1 {
					g, n := NewGate([]Limit{l}), int64(0)
					for k := range d {
						if k == restart {
							g.Reset()
						}
						for g.Call(from+k, 1).OK {
							n++
						}
					}
					best = max(best, n)
				}
			}
			assert.Equal(t, best, Stack{l}.Restarted(d), "%v in %d", l, d)
		}
	}
}

// What a stack looks ahead for does not make it forget what runs, or which window it is in.
func TestLookingAheadForgetsNothing(t *testing.T) {
	s := Stack{{Kind: Concurrent, N: 2}, {Kind: SlidingLog, N: 3, W: 1000}}
	g := NewGate(s)
	assert.True(t, g.Call(0, 500).OK)
	assert.True(t, g.Call(1, 10).OK)
	assert.True(t, g.Call(20, 800).OK)
	assert.False(t, g.Call(30, 1).OK, "two run, and the log is full until 1000")
	assert.False(t, g.Call(31, 1).OK)
	l := New(Limit{Kind: TwoCounters, N: 4, W: 100})
	for range 4 {
		l.Take(10, 0)
	}
	ahead := l.First(350)
	assert.Equal(t, int64(350), ahead)
	assert.Greater(t, l.First(20), int64(100), "the window is full")
}

// Refused calls that count come before those that wait: what begins stays within the ceiling.
func TestRefusedCallsThatCountBesideAQueue(t *testing.T) {
	r := rand.New(rand.NewSource(15)) //nolint:gosec // the same each time
	for range 300 {
		l := Limit{Kind: SlidingLog, N: int64(1 + r.Intn(6)), W: int64(20 + r.Intn(200)), CountAll: true,
			Queue: int64(1 + r.Intn(4)), Timeout: int64(r.Intn(3) * 60)}
		g, now := NewGate([]Limit{l}), int64(0)
		var at []int64
		for range 300 {
			now += int64(r.Intn(30))
			if d := g.Call(now, 1); d.OK {
				at = append(at, d.At)
			}
		}
		most, _ := busiest(at, l.W)
		require.LessOrEqual(t, most, l.Ceiling(l.W), "%+v", l)
	}
}

// A model by another way: the log of all calls, asked each time.
func TestSlidingAgainstALog(t *testing.T) {
	r := rand.New(rand.NewSource(7)) //nolint:gosec // the same each time
	for _, all := range []bool{false, true} {
		l := Limit{Kind: SlidingLog, N: 5, W: 100, CountAll: all}
		g := NewGate(Stack{l})
		var counted []int64
		now := int64(0)
		for range 2000 {
			now += int64(r.Intn(30))
			n := int64(0)
			for _, c := range counted {
				if c > now-l.W {
					n++
				}
			}
			d := g.Call(now, 1)
			require.Equal(t, n < l.N, d.OK)
			if d.OK || all {
				counted = append(counted, now)
			}
		}
	}
}

func BenchmarkDecisions(b *testing.B) {
	for _, c := range []struct {
		name  string
		stack Stack
	}{
		{"fixed window", Stack{{Kind: FixedFirst, N: 100, W: 1000}}},
		{"fixed window on the clock", Stack{{Kind: FixedClock, N: 100, W: 1000}}},
		{"sliding log", Stack{{Kind: SlidingLog, N: 100, W: 1000}}},
		{"two counters", Stack{{Kind: TwoCounters, N: 100, W: 1000}}},
		{"bucket", Stack{{Kind: Bucket, N: 100, W: 1000, Burst: 50}}},
		{"bucket with a queue", Stack{{Kind: Bucket, N: 100, W: 1000, Burst: 50, Queue: 20}}},
		{"bucket with a queue of 20,000", Stack{{Kind: Bucket, N: 200, W: 1000, Burst: 50, Queue: 20_000}}},
		{"concurrency", Stack{{Kind: Concurrent, N: 20}}},
		{"stack of three", Stack{{Kind: FixedFirst, N: 100, W: 1000}, {Kind: SlidingLog, N: 500, W: 10000},
			{Kind: Bucket, N: 100, W: 1000, Burst: 50}}},
	} {
		b.Run(c.name, func(b *testing.B) {
			g := NewGate(c.stack)
			b.ReportAllocs()
			t := int64(0)
			for i := range b.N {
				t += int64(i & 7)
				g.Call(t, 40)
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds()/1e6, "M/s")
		})
	}
}

// How long a quota stays shut goes by when its calls came.
func TestShutFor(t *testing.T) {
	calls := []Seen{{At: 0, OK: true}, {At: 400_000, OK: true}, {At: 500_000, Took: 100_000}}
	for _, c := range []struct {
		l    Limit
		left Micros
	}{
		{Limit{Kind: FixedFirst, N: 2, W: 2_000_000}, 1_400_000},
		{Limit{Kind: SlidingLog, N: 2, W: 2_000_000}, 1_400_000},
		{Limit{Kind: Bucket, N: 1, W: 1_000_000, Burst: 2}, 400_000},
		{Limit{Kind: FixedFirst, N: 3, W: 2_000_000}, 0},
	} {
		assert.Equal(t, c.left, (&Measured{Calls: calls}).ShutFor(Stack{c.l}), c.l.Kind)
	}
	assert.Zero(t, (&Measured{}).ShutFor(Stack{{Kind: FixedFirst, N: 1, W: 1}}))
}
