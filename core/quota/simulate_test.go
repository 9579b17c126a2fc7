package quota

import (
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const second = int64(1_000_000)

func TestPatterns(t *testing.T) {
	calls, _ := Arrivals{Pattern: Steady, Count: 4, Every: 100, For: 200}.Calls(nil)
	assert.Equal(t, []int64{0, 25, 50, 75, 100, 125, 150, 175}, calls)
	calls, _ = Arrivals{Pattern: Bursts, Count: 3, Every: 100, For: 150}.Calls(nil)
	assert.Equal(t, []int64{0, 0, 0, 100, 100, 100}, calls)
	calls, cut := Arrivals{Pattern: Steady, Count: 1, Every: 1, For: 1 << 40}.Calls(nil)
	assert.Len(t, calls, maxCalls)
	assert.True(t, cut)
}

// Eight per five minutes: sixteen in a moment at the edge of two windows on the
// clock, eight in a sliding one.
func TestTheEdgeOfAWindow(t *testing.T) {
	for kind, most := range map[Kind]int64{FixedClock: 16, FixedFirst: 15, SlidingLog: 8} {
		s := Stack{{Kind: kind, N: 8, W: 300 * second}}
		got := Simulate(s, Arrivals{Pattern: Edges, For: 600 * second}, Options{})
		require.Len(t, got.Peaks, 1)
		assert.Equal(t, most, got.Peaks[0].Most, kind)
		assert.Equal(t, most, got.Peaks[0].Ceiling, kind)
	}
}

func TestSimulationAddsUp(t *testing.T) {
	r := rand.New(rand.NewSource(9)) //nolint:gosec // the same each time
	for range 100 {
		s := Stack{limits(r), limits(r)}
		a := Arrivals{Pattern: []Pattern{Steady, Bursts, Edges}[r.Intn(3)], Count: int64(1 + r.Intn(40)),
			Every: int64(1 + r.Intn(200)), For: int64(1 + r.Intn(3000))}
		opt := Options{Nodes: []Nodes{{}, {3, Never}, {3, 0}, {3, 100}}[r.Intn(4)], Bins: 1 + r.Intn(50)}
		if r.Intn(3) == 0 {
			opt.Restart = int64(1 + r.Intn(1000))
		}
		got := Simulate(s, a, opt)
		var came, admitted, queued, refused, began int64
		for _, b := range got.Bins {
			began += b.Began
			assert.LessOrEqual(t, began, b.Ceiling, "%+v %+v", s, opt)
			came, admitted, queued, refused = came+b.Came, admitted+b.Admitted, queued+b.Queued, refused+b.Refused
		}
		assert.Equal(t, [4]int64{got.Came, got.Admitted, got.Queued, got.Refused},
			[4]int64{came, admitted, queued, refused})
		assert.Equal(t, got.Came, got.Admitted+got.Queued+got.Refused)
		for _, p := range got.Peaks {
			assert.LessOrEqual(t, p.Most, p.Ceiling, "%+v %+v", s, opt)
		}
	}
}

func TestNodesThatCountAlone(t *testing.T) {
	s := Stack{{Kind: FixedFirst, N: 8, W: 300 * second}}
	a := Arrivals{Pattern: Bursts, Count: 60, Every: 300 * second, For: 300 * second}
	assert.Equal(t, int64(8), Simulate(s, a, Options{}).Admitted)
	assert.Equal(t, int64(24), Simulate(s, a, Options{Nodes: Nodes{3, Never}}).Admitted)
	assert.Equal(t, int64(8), Simulate(s, a, Options{Nodes: Nodes{3, 0}}).Admitted)
	steady := Arrivals{Pattern: Steady, Count: 60, Every: 300 * second, For: 300 * second}
	assert.Equal(t, int64(9), Simulate(s, steady, Options{Nodes: Nodes{3, 15 * second}}).Admitted,
		"three come between two tellings, so that one is too many")
	assert.Equal(t, int64(16), Simulate(s, steady, Options{Restart: 200 * second}).Admitted)
}

func TestDeclaredQuotas(t *testing.T) {
	amounts := func(l ...string) (out []declaration.Amount) {
		for _, a := range l {
			x, err := declaration.ParseAmount(a)
			require.NoError(t, err)
			out = append(out, x)
		}
		return out
	}
	q := &declaration.Quota{Model: declaration.FixedWindow, Starts: "clock", Queue: 2}
	assert.Equal(t, Stack{{Kind: FixedClock, N: 8, W: 300 * second, Queue: 2},
		{Kind: FixedClock, N: 100, W: 86400 * second, Queue: 2}}, Of(q, amounts("8 per 5m", "100 per 1d")))
	q = &declaration.Quota{Model: declaration.TokenBucket}
	assert.Equal(t, Stack{{Kind: Bucket, N: 10, W: 10 * second, Burst: 10}}, Of(q, amounts("10 per 10s")))
	q = &declaration.Quota{Model: declaration.LeakyBucket, Queue: 4}
	assert.Equal(t, Stack{{Kind: Bucket, N: 10, W: 10 * second, Burst: 1, Queue: 4}}, Of(q, amounts("10 per 10s")))
	q = &declaration.Quota{Model: declaration.SlidingWindow, Counts: "all"}
	assert.True(t, Of(q, amounts("10 per 10s"))[0].CountAll)
	q = &declaration.Quota{Model: declaration.Concurrency}
	assert.Equal(t, Stack{{Kind: Concurrent, N: 1}}, Of(q, []declaration.Amount{{Count: 1}}))
}

func TestWhatIsCounted(t *testing.T) {
	q := &declaration.Quota{CountedBy: []declaration.CountKey{{By: "identity"}, {By: "address"}},
		Exempt: []declaration.Exemption{
			{Kind: "address", Ref: declaration.Ref{Name: "10.0.0.0/8"}},
			{Kind: "role", Ref: declaration.Ref{Name: "director"}}, {Kind: "target", Ref: declaration.Ref{Name: "lab"}},
			{Kind: "identity", Ref: declaration.Ref{Name: "quill"}}}}
	for _, c := range []struct {
		c       Caller
		key     string
		counted bool
	}{
		{Caller{Identity: "imre", Address: "192.0.2.1"}, "identity=imre", true},
		{Caller{Address: "192.0.2.1"}, "address=192.0.2.1", true},
		{Caller{}, "none", true},
		{Caller{Identity: "imre", Address: "10.1.2.3"}, "", false},
		{Caller{Identity: "imre", Address: "::ffff:10.1.2.3"}, "", false},
		{Caller{Identity: "odell", Roles: map[string]bool{"director": true}}, "", false},
		{Caller{Identity: "imre", Target: "lab"}, "", false},
		{Caller{Identity: "quill"}, "", false},
	} {
		key, counted := KeyOf(q, c.c)
		assert.Equal(t, c.key, key)
		assert.Equal(t, c.counted, counted)
	}
	h := &declaration.Quota{CountedBy: []declaration.CountKey{{By: "header", Header: "X-Client"}}}
	key, _ := KeyOf(h, Caller{Header: func(n string) string { return n + "!" }})
	assert.Equal(t, "header:X-Client=X-Client!", key)
}
