package quota

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Rule: What a drill says of a limiter holds, however slow some answers are.

// truth is a world with what it really is.
type truth struct {
	name   string
	limits []Limit // none: nothing limits calls
	hold   int64
	once   int // declared
}

// truths are the worlds of the matrix.
func truths() (out []truth) {
	add := func(name string, hold int64, limits ...Limit) { out = append(out, truth{name, limits, hold, 0}) }
	for _, w := range []int64{second, 3 * second, 60 * second, 3600 * second} {
		for _, n := range []int64{1, 4, 25} {
			for _, k := range []Kind{FixedFirst, FixedClock, SlidingLog, TwoCounters} {
				add(fmt.Sprintf("%s %d per %s", k, n, Span(w)), 0, Limit{Kind: k, N: n, W: w})
			}
			add(fmt.Sprintf("log %d per %s, counts all", n, Span(w)), 0, Limit{Kind: SlidingLog, N: n, W: w,
				CountAll: true})
			add(fmt.Sprintf("bucket of %d, %d per %s", 2*n, n, Span(w)), 0, Limit{Kind: Bucket, N: n, W: w,
				Burst: 2 * n})
		}
	}
	for _, hold := range []int64{0, 20 * ms, 150 * ms, 600 * ms} {
		add(fmt.Sprintf("nothing, %s each", Span(hold)), hold)
	}
	for _, n := range []int64{1, 2, 5} {
		add(fmt.Sprintf("%d at once", n), 60*ms, Limit{Kind: Concurrent, N: n})
		add(fmt.Sprintf("%d at once, 3 wait", n), 60*ms, Limit{Kind: Concurrent, N: n, Queue: 3})
	}
	add("5 a second and 20 a minute", 0, Limit{Kind: FixedFirst, N: 5, W: second}, Limit{Kind: FixedFirst,
		N: 20, W: 60 * second})
	add("a bucket of 4 and 30 an hour", 0, Limit{Kind: Bucket, N: 2, W: second, Burst: 4},
		Limit{Kind: FixedClock, N: 30, W: 3600 * second})
	add("a queue of 10 that lets one through each 100 ms", 0, Limit{Kind: Bucket, N: 1, W: 100 * ms, Burst: 1,
		Queue: 10})
	return out
}

// falsehoods are what is said for certain or likely of a world, and is not so.
func (w truth) falsehoods(m *Measured) (out []string) {
	no := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	of := func(k Kind) *Limit {
		for i := range w.limits {
			if w.limits[i].Kind == k {
				return &w.limits[i]
			}
		}
		return nil
	}
	for _, c := range m.Conclude(nil) {
		if c.Sure != Proven && c.Sure != Likely {
			continue
		}
		switch c.About {
		case AboutLimiter:
			if len(m.Fits) == 0 || len(kindsOf(m.Fits)) > 1 {
				break
			}
			f := m.Fits[0]
			if f.number() == 1 && len(w.limits) == 1 && w.limits[0].N == 1 && !f.CountAll {
				break // one at a time looks alike, whatever it is called
			}
			if l := of(f.Kind); l == nil || l.CountAll != f.CountAll {
				no("it is no %s", f.Name())
			}
		case AboutLimit:
			if len(m.Fits) > 0 && !slices.ContainsFunc(w.limits, func(l Limit) bool {
				n := Fit{Limit: l}.number()
				return abs(n-m.Fits[0].number()) <= max(1, n/10)
			}) {
				no("not %d at once", m.Fits[0].number())
			}
			if len(w.limits) == 0 {
				no("nothing limits: %s", c.Text)
			}
		case AboutWindow:
			if len(m.Fits) == 0 {
				no("no window was found: %s", c.Text)
				break
			}
			f := m.Fits[0]
			if !slices.ContainsFunc(w.limits, func(l Limit) bool {
				each, mine := l.W, f.W
				if l.Kind == Bucket {
					each = l.W / l.N
				}
				if f.Kind != Bucket && l.Kind == Bucket || f.Kind == Bucket && l.Kind != Bucket {
					return l.N == 1 && abs(each-mine)*10 <= each
				}
				return abs(each-mine)*20 <= 3*each || f.WLow <= each && each <= f.WHigh
			}) {
				no("not %s", c.Text)
			}
		case AboutQueue:
			if !slices.ContainsFunc(w.limits, func(l Limit) bool { return l.Queue > 0 }) {
				no("nothing waits: %s", c.Text)
			}
		}
	}
	s := m.Side()
	switch l := of(Concurrent); {
	case s.Limit > 0 && l == nil:
		no("not a limit of %d at once", s.Limit)
	case s.Limit > 0 && int64(s.Limit) != l.N:
		no("not %d at once, it is %d", s.Limit, l.N)
	case s.Queue > 0 && s.Refused && l != nil && int64(s.Queue) != l.Queue:
		no("not %d wait, it is %d", s.Queue, l.Queue)
	}
	return out
}

// budgets are those of a drill within a sweep, and of one that somebody asked for.
var budgets = []Budget{{Calls: 300, Ticks: 3 * second}, {Calls: 400, Ticks: 60 * second},
	{Calls: 1200, Ticks: 75 * second}}

// declaredOf is what is declared of a world: what is so, something else, or nothing.
func (w truth) declaredOf(turn int64) Stack {
	switch {
	case turn == 0:
		return nil
	case turn == 1 || len(w.limits) == 0:
		return w.limits
	case turn == 2: // another window
		l := w.limits[0]
		l.W = l.W * 3 / 4
		return Stack{l}
	}
	l := w.limits[0] // another kind
	if l.Kind = FixedClock; w.limits[0].Kind == FixedClock {
		l.Kind = FixedFirst
	}
	return Stack{l}
}

// misled are drills of which something false was said once: they are always run.
var misled = []string{
	// Its windows were looked for at sixteen places each, none close enough, and two counters were preferred.
	"fixed window on the clock 1 per 3s, 1 of 0 slow, 1m0s",
	// Two counters of another length refused what the second count did, at the very end.
	"a bucket of 4 and 30 an hour, 1 of 20 slow, 1m0s",
	// The second count shut it for nearly three times as long as the first, and one of the clock was fitted.
	"5 a second and 20 a minute, 1 of 20 slow, 1m0s",
}

func TestNothingFalseIsSaid(t *testing.T) {
	rounds, every := 2, 7
	if os.Getenv("MILLGATE_MATRIX") == "" { // make soak has more of them
		every = 500
	}
	began := time.Now()
	bad := map[string]int{}
	n, k, told := 0, 0, 0
	for _, w := range truths() {
		for _, slow := range []int{0, 100, 20, 5} {
			for _, b := range budgets {
				for seed := range 4 * int64(rounds) {
					turn := seed / int64(rounds)
					seed %= int64(rounds)
					if k++; k%every != 0 && (turn > 0 || !slices.Contains(misled, fmt.Sprintf("%s, 1 of %d slow, "+
						"%s", w.name, slow,
						Span(b.Ticks)))) {
						continue
					}
					d := world{limits: w.limits, hold: w.hold, slow: slow, phase: 337 * ms * (seed + 1),
						start: 7 * second * turn,
						drill: Drill{Budget: b, Burst: 60, Side: 12, AtOnce: w.once,
							Declared: w.declaredOf(turn)}}.drive(seed)
					m := measured(d)
					n++
					if len(m.Fits) > 0 || m.Side().Limit > 0 {
						told++
					}
					for _, f := range w.falsehoods(m) {
						bad[fmt.Sprintf("%s, 1 of %d slow, %s, %d: %s", w.name, slow, Span(b.Ticks), turn, f)]++
					}
				}
			}
		}
	}
	var list []string
	for k, v := range bad {
		list = append(list, fmt.Sprintf("%d× %s", v, k))
	}
	slices.Sort(list)
	t.Logf("%d drills in %s, %d named a limiter", n, time.Since(began).Round(time.Second), told)
	assert.Empty(t, list, strings.Join(list, "\n"))
}
