package quota

import (
	"fmt"
	"math"
	"math/bits"
	"slices"
	"time"
)

// Unlimited is the ceiling of what limits nothing.
const Unlimited = math.MaxInt64

// mulDiv is ⌊a·b/c⌋ for what is not negative, Unlimited where it does not fit.
func mulDiv(a, b, c int64) int64 {
	hi, lo := bits.Mul64(uint64(a), uint64(b))
	if hi >= uint64(c) {
		return Unlimited
	}
	q, _ := bits.Div64(hi, lo, uint64(c))
	if q > math.MaxInt64 {
		return Unlimited
	}
	return int64(q)
}

func mul(a, b int64) int64 { return mulDiv(a, b, 1) }

func add(a, b int64) int64 {
	if a > Unlimited-b {
		return Unlimited
	}
	return a + b
}

// Ceiling is the most calls that begin in any interval of d ticks. It is
// reached by some pattern of calls; for a bucket that holds no more than a tick
// brings, by less than is lost in rounding to whole ticks.
func (l Limit) Ceiling(d Micros) Calls {
	if d < 1 || l.N < 1 {
		return 0
	}
	switch l.Kind {
	case FixedClock:
		return mul(l.N, 1+ceilDiv(d-1, l.W))
	case FixedFirst:
		return max(mul(l.N, ceilDiv(d, l.W)), add(l.N-1, mul(l.N, ceilDiv(d-1, l.W))))
	case SlidingLog:
		return mul(l.N, ceilDiv(d, l.W))
	case TwoCounters:
		return l.twoCounters(d)
	case Bucket:
		if l.Burst < 1 || l.W < 1 {
			return 0
		}
		return add(l.Burst, mulDiv(d-1, l.N, l.W))
	case Concurrent:
		if l.W < 1 {
			return Unlimited
		}
		return mul(l.N, 1+(d-1)/l.W)
	}
	return 0
}

// twoCounters: the worst is a window that nothing came before, full in its last
// tick; each that follows is filled as late as it lets itself be, since the
// count before weighs least then.
func (l Limit) twoCounters(d int64) int64 {
	// In a window whose predecessor has last, what has come e ticks in.
	room := func(last, e int64) int64 {
		// ⌊n + loose/2 − last·(w−e)/w⌋, at most n
		hi, lo := bits.Mul64(uint64(last), uint64(l.W-e))
		q, r := bits.Div64(hi, lo, uint64(l.W))
		part := 2 * r // in halves of w
		if part > uint64(l.W*l.Loose) {
			q++
		} else if l.Loose == 2 && q > 0 && r == 0 {
			q--
		}
		return min(l.N, max(0, l.N-int64(q)))
	}
	// The interval begins in the first window's last tick, or earlier by less
	// than a window: then its end is earlier too, which only loses.
	rest := d - 1
	total, last := l.N, l.N
	full := rest / l.W
	if full > 3 {
		// From the second window on each lets the same through.
		steady := room(last, l.W-1)
		steady = room(steady, l.W-1)
		first := room(l.N, l.W-1)
		total = add(total, first)
		total = add(total, mul(steady, full-1))
		last = steady
	} else {
		for range full {
			last = room(last, l.W-1)
			total += last
		}
	}
	if e := rest % l.W; e > 0 {
		total = add(total, room(last, e-1))
	}
	return total
}

// Stack is a list of limits that must all have room.
type Stack []Limit

// Ceiling is the most calls that begin in any interval of d ticks: the least
// of the members' ceilings, which no pattern beats. exact is false for several
// members: some stacks let a little less through.
func (s Stack) Ceiling(d Micros) (n Calls, exact bool) {
	n = Unlimited
	for _, l := range s {
		n = min(n, l.Ceiling(d))
	}
	return n, len(s) == 1
}

// Within is the time in which n calls can begin, the first and the last among
// them: an attacker who chooses the moment needs no more. ok is false when it
// never happens.
func (s Stack) Within(n Calls) (ticks Micros, ok bool) {
	if c, _ := s.Ceiling(1); c >= n {
		return 0, true
	}
	lo, hi := int64(1), int64(2)
	for {
		if c, _ := s.Ceiling(hi); c >= n {
			break
		}
		if hi > Unlimited/4 {
			return Never, false
		}
		lo, hi = hi, hi*2
	}
	for hi-lo > 1 {
		mid := lo + (hi-lo)/2
		if c, _ := s.Ceiling(mid); c >= n {
			hi = mid
		} else {
			lo = mid
		}
	}
	return hi - 1, true
}

// LongestWait is how long a call waits at most before it begins; 0 without a
// queue. ok is false where it depends on how long calls take.
func (s Stack) LongestWait() (ticks Micros, ok bool) {
	var q, timeout int64
	for _, l := range s {
		if l.Queue > q {
			q, timeout = l.Queue, l.Timeout
		}
	}
	if q == 0 {
		return 0, true
	}
	ok = true
	for _, l := range s {
		switch l.Kind {
		case Concurrent:
			ok = false
		case Bucket:
			// The last that waits comes when the bucket has just been emptied.
			each := ceilDiv(q*l.W, l.N)
			if l.Burst == 1 {
				each = q * ceilDiv(l.W, l.N) // an empty bucket keeps no part of a tick
			}
			ticks = max(ticks, each)
		case TwoCounters:
			ticks = max(ticks, l.waitOfTwo(q))
		default:
			ticks = max(ticks, mul(ceilDiv(q, max(l.N, 1)), l.W))
		}
	}
	if timeout > 0 {
		return min(timeout, max(ticks, timeout*b2i(!ok))), true
	}
	return ticks, ok
}

// waitOfTwo is how long the last of q waits behind two counters: the longest of those that come
// when a window has just been filled, in its first tick or its last, behind an empty one or a
// full one.
func (l Limit) waitOfTwo(q int64) (longest int64) {
	if l.N < 1 || l.W < 1 {
		return Never
	}
	for _, at := range []int64{0, l.W - 1} {
		for _, before := range []int64{0, l.N} {
			s := &twoCounters{n: l.N, w: l.W, loose: l.Loose, start: -l.W, count: before}
			for t := s.First(at); t == at; t = s.First(at) {
				s.Take(at, 0)
			}
			last := at
			for range q {
				last = s.First(last)
				s.Take(last, 0)
			}
			longest = max(longest, last-at)
		}
	}
	return longest
}

func b2i(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// NeverBinds says whether the others of the stack already let no more through
// than member i would, so that it refuses nothing that they admit. It is sure:
// false means that it could bind, or that this cannot be told.
func (s Stack) NeverBinds(i int) bool {
	l := s[i]
	rest := slices.Delete(slices.Clone(s), i, i+1)
	if len(rest) == 0 || l.N < 1 || l.Kind == Concurrent || l.CountAll { // what others refuse counts as well
		return false
	}
	if l.Kind != Bucket {
		for _, o := range rest {
			c := o.Ceiling(l.W)
			if l.Kind == TwoCounters { // it weighs the window before, whenever in it calls came
				c = o.Ceiling(2 * l.W)
			}
			if l.Kind == FixedClock && o.Kind == FixedClock && l.W%o.W == 0 {
				c = mul(o.N, l.W/o.W) // its windows divide this one's
			}
			if c <= l.N {
				return true
			}
		}
		return false
	}
	// The bucket's line must stay above the others' ceiling, which steps up at
	// the ends of their windows; one common period shows it all, and the rates
	// say the rest.
	for _, o := range rest {
		if o.Kind == Concurrent || o.N < 1 || o.W < 1 {
			continue
		}
		if mulDiv(o.N, l.W, o.W) > l.N {
			continue // it lets more through in the long run
		}
		below := o.Ceiling(1) <= l.Ceiling(1)
		for k := int64(0); below && k <= 64; k++ {
			for _, d := range []int64{k * o.W, k*o.W + 1, k*o.W + 2} {
				if d >= 1 && o.Ceiling(d) > l.Ceiling(d) {
					below = false
				}
			}
		}
		if below {
			return true
		}
	}
	return false
}

// Nodes are several instances behind one address.
type Nodes struct {
	N    int64 // how many; 0 and 1 are one
	Sync int64 // ticks between which they tell each other; 0 is one shared count, Never each its own
}

// Never is the Sync of nodes that count alone.
const Never = math.MaxInt64

// CeilingOf is the most calls that begin in any interval of d ticks through
// several nodes. Nodes that count alone let as much through as they are; nodes
// that tell each other now and then let that through between two tellings.
func (s Stack) CeilingOf(nodes Nodes, d Micros) Calls {
	c, _ := s.Ceiling(d)
	if nodes.N < 2 || nodes.Sync == 0 || c == Unlimited {
		return c
	}
	return mul(nodes.N, c)
}

// Restarted is the ceiling of d ticks in which all counts are forgotten once:
// the interval falls into two, each with its own, and windows on the clock stay where they are.
// For two counters, and for several members, it may be a little more than any pattern reaches.
func (s Stack) Restarted(d Micros) Calls {
	best := int64(Unlimited)
	for _, l := range s {
		best = min(best, l.restarted(d))
	}
	return best
}

func (l Limit) restarted(d int64) int64 {
	switch {
	case l.Kind == TwoCounters && l.W > 0:
		return add(2*l.N+2, mulDiv(d, l.N, l.W))
	case l.Kind == FixedClock && l.W > 0 && l.N > 0:
		// The clock goes on: the restart makes two of one of the windows that the interval
		// touches, which needs a tick of it on each side.
		return mul(l.N, min(d, 2+ceilDiv(d-1, l.W)))
	}
	best := l.Ceiling(d)
	// where a ceiling steps up; the other part is symmetric
	for _, p := range []int64{1, 2, d / 2, l.W, l.W + 1, l.W + 2} {
		if p >= 0 && p <= d {
			best = max(best, add(l.Ceiling(p), l.Ceiling(d-p)))
		}
	}
	return best
}

// String is a limit as a person writes it.
func (l Limit) String() string {
	if l.Kind == Concurrent {
		return fmt.Sprintf("%d at once", l.N)
	}
	return fmt.Sprintf("%d per %s", l.N, time.Duration(l.W)*Tick)
}
