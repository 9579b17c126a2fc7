package quota

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever senders begin at their own moments, each within its share, the whole limiter admits all of it.
func TestSharesKeepTheWhole(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 18))
	for range 300 {
		senders := 2 + rnd.IntN(5)
		l := Limit{N: int64(senders) + rnd.Int64N(20), W: 1000 + rnd.Int64N(5000),
			Kind: []Kind{FixedClock, FixedFirst, SlidingLog, Bucket}[rnd.IntN(4)]}
		if l.Kind == Bucket {
			l.Burst = int64(senders) + rnd.Int64N(20)
		}
		whole, of := NewGate([]Limit{l}), make([]*Gate, senders)
		for i := range of {
			of[i] = NewGate(Stack{l}.Share(senders))
		}
		calls := 0
		for at, i := int64(0), 0; at < 5*l.W; at, i = at+rnd.Int64N(20), rnd.IntN(senders) {
			if of[i].Next(at) > at {
				continue
			}
			require.True(t, of[i].Call(at, 1).OK)
			calls++
			require.True(t, whole.Call(at, 1).OK, "%+v by %d senders at %d", l, senders, at)
		}
		assert.Greater(t, int64(calls), int64(senders), "%+v", l)
	}
}

func TestSharesOfLittle(t *testing.T) {
	few := Stack{{Kind: FixedFirst, N: 3, W: 60, Queue: 5, Timeout: 9}}
	assert.Equal(t, Stack{{Kind: SlidingLog, N: 1, W: 100}}, few.Share(5), "one at once, and then three in 60")
	assert.Equal(t, Stack{{Kind: FixedFirst, N: 3, W: 60}}, few.Share(1), "one sender has all of it")
	assert.Equal(t, Stack{{Kind: Concurrent, N: 4}}, Stack{{Kind: Concurrent, N: 4}}.Share(3))
	assert.Equal(t, Stack{{Kind: Bucket, N: 1, W: 30, Burst: 2}}, Stack{{Kind: Bucket, N: 2, W: 20, Burst: 7}}.Share(3))
}
