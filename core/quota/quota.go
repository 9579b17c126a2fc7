// Package quota has exact models of limiters, and answers what they come to:
// how many calls an interval lets through in the worst case, how long a call
// waits, how long a number of attempts takes, what a window's edge, several
// nodes and a restart add.
//
// # Models
//
// N calls per W, in five kinds:
//
//   - fixed window: at most N in each window of length W. Windows stand on the
//     clock, or the first call after one has ended begins the next;
//   - sliding window: at most N in any interval of length W (a log of calls); or
//     the approximation with two counters, which takes the count of the window
//     before in the share that it still overlaps;
//   - token bucket: B tokens, N are added in each W, a call takes one. The leaky
//     bucket that refuses at once is the same thing seen from below: it holds B
//     and N leak out in each W;
//   - leaky bucket with a queue: what does not fit waits for its turn;
//   - concurrency: at most N at the same time.
//
// Any of them may have a queue: Q calls may wait, oldest first, each for a
// limited time. A stack admits what all of its members admit.
//
// # Time
//
// Time is an argument, a whole number of ticks of one microsecond since some
// instant on the clock (Tick). Nothing is rounded, so that a simulation is
// exact. Calls must come in order of time.
//
// # Ceiling
//
// The ceiling of an interval of d ticks is the most calls that begin in any
// [t, t+d), over every pattern of calls and every past. For one limiter:
//
//	window on the clock    N · (1 + ⌈(d−1)/W⌉)
//	window of first call   the greater of N · ⌈d/W⌉ and N − 1 + N · ⌈(d−1)/W⌉
//	sliding log            N · ⌈d/W⌉
//	bucket                 B + ⌊(d−1) · N / W⌋
//	concurrency            N · (1 + ⌊(d−1)/h⌋), where each call takes h at least
//
// So 8 per 5 min in windows on the clock let 16 calls through in a moment: 8 at
// the end of one window, 8 at the beginning of the next.
package quota

import (
	"math"
	"math/bits"
	"slices"
	"time"
)

// Tick is the unit of time.
const Tick = time.Microsecond

// Micros is a time, or how long something takes, in ticks; Calls is a number of calls. They are
// other names of int64: whoever counts in that hands it over as it is (decision 055).
type (
	Micros = int64
	Calls  = int64
)

// Ticks are the ticks of a duration, at least one for anything above zero.
func Ticks(d time.Duration) Micros {
	if d <= 0 {
		return 0
	}
	return max(1, int64(d/Tick))
}

// Kind of a limiter.
type Kind string

const (
	FixedClock  Kind = "fixed window on the clock"
	FixedFirst  Kind = "fixed window from the first call"
	SlidingLog  Kind = "sliding window"
	TwoCounters Kind = "sliding window of two counters"
	Bucket      Kind = "bucket"
	Concurrent  Kind = "concurrency"
)

// Limit is one limiter. The zero Limit lets nothing through.
type Limit struct {
	Kind     Kind
	N        Calls
	W        Micros // N per this long; for concurrency the least that a call takes, 0 when it is not known
	Burst    Calls  // for buckets
	Queue    Calls  // how many may wait
	Loose    int64  // for two counters, in halves of a call: how far one may go above the estimate, since some round it
	Timeout  Micros // that one waits at most; 0 is without end
	CountAll bool   // refused calls count too: a sliding window then stays shut to a caller who does not pause
}

// Decision about one call.
type Decision struct {
	OK    bool
	At    Micros // when it begins: later than it came when it waited
	Retry Micros // when refused: the first tick at which one call would be admitted; math.MaxInt64 when never
}

// Limiter decides calls in order of time. A call takes hold ticks, which
// matters for concurrency alone.
type Limiter interface {
	// First is the first tick from t on at which a call would be admitted, if
	// nothing comes before it; math.MaxInt64 when there is none.
	First(t Micros) Micros
	// Take admits a call at tick t, which First gave.
	Take(t, hold Micros)
	// Refuse is told of a call that was refused at tick t.
	Refuse(t Micros)
	// Reset forgets all that was counted, as a restart does.
	Reset()
}

// never is later than anything.
const never = math.MaxInt64

// New makes the limiter without its queue; Gate adds that.
func New(l Limit) Limiter {
	switch l.Kind {
	case FixedClock:
		return &fixed{n: l.N, w: l.W, clock: true, end: math.MinInt64}
	case FixedFirst:
		return &fixed{n: l.N, w: l.W, end: math.MinInt64}
	case SlidingLog:
		return &sliding{n: l.N, w: l.W, all: l.CountAll}
	case TwoCounters:
		return &twoCounters{n: l.N, w: l.W, loose: l.Loose, all: l.CountAll, start: math.MinInt64}
	case Bucket:
		return newBucket(l)
	case Concurrent:
		return &concurrent{n: l.N}
	}
	return closed{}
}

type closed struct{}

func (closed) First(int64) int64 { return never }
func (closed) Take(int64, int64) {}
func (closed) Refuse(int64)      {}
func (closed) Reset()            {}

// floorDiv rounds towards minus infinity; b is positive.
func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func ceilDiv(a, b int64) int64 { return -floorDiv(-a, b) }

// fixed counts in windows.
type fixed struct {
	n, w, count, end int64
	clock            bool
}

func (f *fixed) First(t int64) int64 {
	switch {
	case f.n < 1:
		return never
	case t >= f.end || f.count < f.n:
		return t
	}
	return f.end
}

func (f *fixed) Take(t, _ int64) {
	if t >= f.end {
		f.count = 0
		if f.clock {
			f.end = (floorDiv(t, f.w) + 1) * f.w
		} else {
			f.end = t + f.w
		}
	}
	f.count++
}

func (f *fixed) Refuse(int64) {}
func (f *fixed) Reset()       { f.count, f.end = 0, math.MinInt64 }

// sliding keeps a log of the last n calls that count.
type sliding struct {
	n, w int64
	all  bool
	log  []int64 // a ring once it is full; grows until then
	next int
}

func (s *sliding) First(t int64) int64 {
	switch {
	case s.n < 1:
		return never
	case int64(len(s.log)) < s.n:
		return t
	}
	return max(t, s.log[s.next]+s.w)
}

func (s *sliding) push(t int64) {
	if int64(len(s.log)) < s.n {
		s.log = append(s.log, t)
		return
	}
	if len(s.log) == 0 {
		return
	}
	s.log[s.next] = t
	if s.next++; s.next == len(s.log) {
		s.next = 0
	}
}

func (s *sliding) Take(t, _ int64) { s.push(t) }
func (s *sliding) Refuse(t int64) {
	if s.all {
		s.insert(t)
	}
}

// insert counts a call that may have come before one that waits for its turn: the log stays in
// order, and keeps the last n.
func (s *sliding) insert(t int64) {
	n := len(s.log)
	if n == 0 || t >= s.log[(s.next+n-1)%n] {
		s.push(t)
		return
	}
	all := slices.Concat(s.log[s.next:], s.log[:s.next])
	at, _ := slices.BinarySearch(all, t)
	if all = slices.Insert(all, at, t); int64(len(all)) > s.n {
		all = all[1:]
	}
	s.log, s.next = all, 0
}
func (s *sliding) Reset() { s.log, s.next = s.log[:0], 0 }

// twoCounters admits a call while the share of the last window's count that
// still overlaps, and this window's count, leave room for one more.
type twoCounters struct {
	n, w, loose, start, last, count int64
	all                             bool // refused calls count too
}

func (s *twoCounters) roll(t int64) {
	if s.start != math.MinInt64 && t >= s.start && t-s.start < s.w {
		return // in the same window; dividing is what takes longest
	}
	start := floorDiv(t, s.w) * s.w
	switch {
	case s.start == math.MinInt64 || start-s.start > s.w:
		s.last, s.count, s.start = 0, 0, start
	case start > s.start:
		s.last, s.count, s.start = s.count, 0, start
	}
}

func (s *twoCounters) First(t int64) int64 {
	if s.n < 1 {
		return never
	}
	if ahead := *s; s.start == math.MinInt64 || t-s.start >= s.w {
		ahead.roll(t) // whoever comes next may come before t
		s = &ahead
	}
	at := max(t, s.start)
	if room := s.n - s.count - 1; room >= 0 {
		// last · (w − e) ≤ room · w, for the time e since the window began.
		e := s.opens(s.last, room)
		if e < s.w {
			return max(at, s.start+e)
		}
	}
	// In the next window this one's count weighs, and its own is none.
	e := s.opens(s.count, s.n-1)
	return max(at, s.start+s.w+e)
}

// opens is the time in a window from which on last leaves room.
func (s *twoCounters) opens(last, room int64) int64 {
	over := 2*(last-room) - s.loose
	if over <= 0 {
		return 0
	}
	// e ≥ w · (last − room − loose/2) / last
	hi, lo := bits.Mul64(uint64(s.w), uint64(over))
	q, r := bits.Div64(hi, lo, uint64(2*last))
	if r > 0 {
		q++
	}
	return int64(q) //nolint:gosec // at most w
}

func (s *twoCounters) Take(t, _ int64) { s.roll(t); s.count++ }
func (s *twoCounters) Refuse(t int64) {
	if s.all {
		s.Take(t, 0)
	}
}
func (s *twoCounters) Reset() { s.last, s.count, s.start = 0, 0, math.MinInt64 }

// bucket holds burst tokens and gets n in each w. It remembers the instant at
// which it is full again, in ticks times n, so that nothing is rounded.
type bucket struct {
	n, w, burst int64
	full        int64 // in ticks · n
	fresh       bool
}

func newBucket(l Limit) Limiter {
	if l.N < 1 || l.W < 1 || l.Burst < 1 {
		return closed{}
	}
	g := gcd(l.N, l.W)
	return &bucket{n: l.N / g, w: l.W / g, burst: l.Burst, fresh: true}
}

func gcd(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// First: one token is there when at most burst − 1 are still to come.
func (b *bucket) First(t int64) int64 {
	if b.fresh {
		return t
	}
	return max(t, ceilDiv(b.full-(b.burst-1)*b.w, b.n))
}

func (b *bucket) Take(t, _ int64) {
	now := t * b.n
	if b.fresh || b.full < now {
		b.full, b.fresh = now, false
	}
	b.full += b.w
}

func (b *bucket) Refuse(int64) {}
func (b *bucket) Reset()       { b.fresh = true }

// concurrent keeps the ends of what runs, the earliest first.
type concurrent struct {
	n    int64
	ends []int64 // a binary heap
}

func (c *concurrent) First(t int64) int64 {
	switch {
	case c.n < 1:
		return never
	case int64(len(c.ends)) < c.n || c.ends[0] <= t: // what has ended by then runs until then
		return t
	}
	return c.ends[0]
}

func (c *concurrent) Take(t, hold int64) {
	for len(c.ends) > 0 && c.ends[0] <= t {
		c.pop()
	}
	c.ends = append(c.ends, t+max(hold, 1))
	for i := len(c.ends) - 1; i > 0; {
		p := (i - 1) / 2
		if c.ends[p] <= c.ends[i] {
			break
		}
		c.ends[p], c.ends[i] = c.ends[i], c.ends[p]
		i = p
	}
}

func (c *concurrent) pop() {
	last := len(c.ends) - 1
	c.ends[0] = c.ends[last]
	c.ends = c.ends[:last]
	for i := 0; ; {
		k := 2*i + 1
		if k >= last {
			return
		}
		if k+1 < last && c.ends[k+1] < c.ends[k] {
			k++
		}
		if c.ends[i] <= c.ends[k] {
			return
		}
		c.ends[i], c.ends[k] = c.ends[k], c.ends[i]
		i = k
	}
}

func (c *concurrent) Refuse(int64) {}
func (c *concurrent) Reset()       { c.ends = c.ends[:0] }

// Gate is a stack of limiters with a queue in front of it. The zero Gate
// admits everything: nothing limits it.
type Gate struct {
	limits  []Limiter
	queue   int64
	timeout int64
	waiting []int64 // when those that wait leave, in order; from head on
	head    int
	last    int64 // when the last admitted one begins
}

// NewGate makes the gate of a stack. Its queue is the longest of its members',
// with that one's timeout.
func NewGate(stack []Limit) *Gate {
	g := &Gate{last: math.MinInt64}
	for _, l := range stack {
		g.limits = append(g.limits, New(l))
		if l.Queue > g.queue {
			g.queue, g.timeout = l.Queue, l.Timeout
		}
	}
	return g
}

// Call decides a call that comes at tick t and takes hold ticks.
func (g *Gate) Call(t, hold Micros) Decision {
	at := g.first(max(t, g.last))
	if at <= t {
		for _, l := range g.limits {
			l.Take(t, hold)
		}
		g.last = t
		return Decision{OK: true, At: t}
	}
	if g.queue > 0 {
		for g.head < len(g.waiting) && g.waiting[g.head] <= t {
			g.head++
		}
		if g.head > 64 && g.head*2 > len(g.waiting) { // half of it has left
			g.waiting = append(g.waiting[:0], g.waiting[g.head:]...)
			g.head = 0
		}
		if int64(len(g.waiting)-g.head) < g.queue && at != never {
			if g.timeout > 0 && at-t > g.timeout {
				leaves := t + g.timeout // it waits in vain, and may leave before others
				k, _ := slices.BinarySearch(g.waiting[g.head:], leaves)
				g.waiting = slices.Insert(g.waiting, g.head+k, leaves)
				return Decision{Retry: at}
			}
			for _, l := range g.limits {
				l.Take(at, hold)
			}
			g.last = at
			g.waiting = append(g.waiting, at)
			return Decision{OK: true, At: at}
		}
	}
	for _, l := range g.limits {
		l.Refuse(t)
	}
	return Decision{Retry: at}
}

// Next is the first tick from t on at which a call would be admitted at once;
// nothing is counted.
func (g *Gate) Next(t Micros) Micros { return g.first(max(t, g.last)) }

// first is the first tick from t on at which all admit.
func (g *Gate) first(t int64) int64 {
	if len(g.limits) == 1 {
		return g.limits[0].First(t)
	}
	for {
		at := t
		for _, l := range g.limits {
			at = max(at, l.First(at))
		}
		if at == t || at == never {
			return at
		}
		t = at
	}
}

// Reset forgets all counts, as a restart does. Who waits is sent away.
func (g *Gate) Reset() {
	for _, l := range g.limits {
		l.Reset()
	}
	g.waiting, g.head, g.last = g.waiting[:0], 0, math.MinInt64
}
