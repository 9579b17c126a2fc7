package quota

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Rule: A window of a minute is known after 75 seconds, where it is the declared one.

func TestAMinute(t *testing.T) {
	minute := func(k Kind, n int64) Limit {
		l := Limit{Kind: k, N: n, W: 60 * second}
		if k == Bucket {
			l.Burst = n
		}
		return l
	}
	for _, n := range []int64{4, 25} {
		for _, k := range []Kind{FixedFirst, FixedClock, SlidingLog, Bucket} {
			for _, start := range []int64{0, 33, 40} { // the clock's window begins at 40
				if k == Bucket && start == 33 {
					continue // two counters whose window begins soon admit the same
				}
				t.Run(fmt.Sprintf("%d, %s, %d s", n, k, start), func(t *testing.T) {
					d := world{limits: []Limit{minute(k, n)}, start: start * second, drill: Drill{
						Budget: Budget{Calls: 800, Ticks: 75 * second}, Burst: 120,
						Declared: Stack{minute(FixedFirst, n)}}}.drive(start)
					m := measured(d)
					require.Len(t, kindsOf(m.Fits), 1, m.Found())
					f := m.Fits[0]
					assert.Equal(t, k, f.Kind, m.Found())
					assert.Equal(t, n, f.number(), m.Found())
					if k == Bucket {
						assert.InDelta(t, 60*second/n, f.W, float64(3*second/n))
					} else {
						assert.Equal(t, 60*second, f.W, m.Found())
					}
					assert.LessOrEqual(t, m.Lasted(), 75*second)
					assert.Zero(t, m.Cap)
				})
			}
		}
	}
}

// What is declared is told only where another window would not have opened then.
func TestAnotherWindowThanDeclared(t *testing.T) {
	for _, w := range []int64{40, 50, 70, 90} {
		for _, k := range []Kind{FixedFirst, FixedClock, SlidingLog} {
			d := world{limits: []Limit{{Kind: k, N: 6, W: w * second}}, start: 11 * second, drill: Drill{
				Budget: Budget{Calls: 800, Ticks: 75 * second}, Burst: 40,
				Declared: Stack{{Kind: k, N: 6, W: 60 * second}}}}.drive(w)
			for _, f := range measured(d).Fits {
				assert.False(t, f.AsDeclared, "%s per %d s: %s", k, w, f.Name())
			}
		}
	}
}

func TestNothingThatOpened(t *testing.T) {
	d := world{limits: []Limit{{Kind: FixedFirst, N: 6, W: 60 * second}}, drill: Drill{
		Budget: Budget{Calls: 100, Ticks: 3 * second}, Burst: 9,
		Declared: Stack{{Kind: FixedFirst, N: 6, W: 60 * second}}}}.drive(1)
	for _, f := range d.Fits {
		assert.False(t, f.AsDeclared, "it was not seen to open: %s", f.Name())
	}
}

func TestADeclaredStack(t *testing.T) {
	both := Stack{{Kind: FixedFirst, N: 5, W: second}, {Kind: FixedFirst, N: 20, W: 60 * second}}
	day := Limit{Kind: FixedFirst, N: 1000, W: 24 * 3600 * second}
	seen := func(limits Stack) (out []Seen) {
		g := NewGate(limits)
		for at := int64(1); at < 75*second; at += 50 * ms {
			out = append(out, Seen{At: at, Took: ms, OK: g.Call(at, 1).OK})
		}
		return out
	}
	assert.Equal(t, both, wholeStack(seen(both), both))
	assert.Equal(t, both, wholeStack(seen(both), append(both[:2:2], day)), "that one was not seen")
	assert.Nil(t, wholeStack(seen(both[:1]), both), "the second is not there")
	assert.Nil(t, wholeStack(seen(both), Stack{both[0], {Kind: FixedFirst, N: 20, W: 50 * second}}))
	assert.Nil(t, wholeStack(seen(both), both[:1]), "it is no stack")

	m := Measured{Stack: both, Calls: seen(both)}
	assert.Equal(t, "It is the declared 5 per 1s, fixed window from the first call, and 20 per 1m0s, fixed window "+
		"from the first call.", m.Found())
}
