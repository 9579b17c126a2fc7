package quota

import (
	"math"
	"slices"
)

// What is declared is a hypothesis: it says beforehand when calls will be admitted again. A
// limiter that opened then, and would not have with another window, is told before those that
// were fitted to what was seen, which have their window from that alone. So one opening is
// enough, and a window of a minute is known after little more than a minute.

const (
	// wellBeyond is how much longer or shorter another window is that must explain less.
	wellBeyond = 15 // in a hundred
	// offClock is how far the service's clock may be from ours.
	offClock = 1_500_000
	// firstPart is the part of a window after which the rest of the calls that fit are sent.
	firstPart = 8
	// closeBy is the part of a window by which it is asked before and after it is to open.
	closeBy = 100
	// afterClock is the part of a window that a drill begins after the clock's at least: one that begins
	// with that would look like it.
	afterClock = 15
)

// member is the limiter of the declared stack that refuses first from full, where it has a window.
func (d *Drill) member() (l Limit, ok bool) {
	for _, m := range d.Declared {
		if m.Kind != Concurrent && m.W > 0 && (!ok || m.number() < l.number()) {
			l, ok = m, true
		}
	}
	return l, ok
}

// number is what a limiter holds at once.
func (l Limit) number() Calls {
	if l.Kind == Bucket {
		return l.Burst
	}
	return l.N
}

// parts says whether the first stretch is sent in two parts: where there is time to see the
// declared window open once, and not often enough for other patterns. It is how many the first
// part has.
func (d *Drill) parts() (some int, w Micros) {
	l, ok := d.member()
	if n := l.number(); !ok || n < 2 || d.Budget.Ticks < l.W+l.W/firstPart+l.W/closeBy ||
		d.Budget.Ticks > 3*l.W {
		return 0, 0
	}
	return int(l.number() / 2), l.W
}

// halfway says whether the first part was sent, and how long after the first call the rest is.
func (d *Drill) halfway() (rest Micros, yes bool) {
	some, w := d.parts()
	return w / firstPart, some > 0 && len(d.Calls) == some && d.rounds == 0
}

// begin is when the first call is sent: not right after a window of the clock has begun, since
// that one would then end with one of the first call.
func (d *Drill) begin(now, w Micros) Micros {
	return max(now, floorDiv(now, w)*w+w/afterClock)
}

// foretold are the instants about which it is asked whether a limiter with the declared window has
// opened, in order.
func (d *Drill) foretold() (out []Micros) {
	some, w := d.parts()
	if some == 0 || len(d.Calls) <= some {
		return nil
	}
	first, l := d.Calls[0].At, Limit{}
	at := []Micros{first + w, d.Calls[some].At + w}
	if l, _ = d.member(); !l.CountAll { // then each question keeps it shut
		for t := (floorDiv(first, w) + 1) * w; t <= first+2*w; t += w {
			at = append(at, t)
		}
	}
	for _, t := range at {
		if out = append(out, t+w/closeBy); !l.CountAll {
			out = append(out, t-w/closeBy)
		}
	}
	slices.Sort(out)
	return out
}

// soonest is when to ask next while calls are refused: as often as is known, and about the
// instants that are foretold. What counts refused calls is asked then alone.
func (d *Drill) soonest() Micros {
	list := d.foretold()
	if list == nil {
		return d.asked + d.gap()
	}
	_, w := d.parts()
	at := d.asked + max(d.gap(), w/closeBy)
	if d.rounds > 0 { // what opens now tells kinds apart
		at = d.asked + w*3/closeBy/2
	}
	i, _ := slices.BinarySearch(list, d.asked+1)
	if i == len(list) {
		return at
	}
	if l, _ := d.member(); l.CountAll {
		return list[i]
	}
	return min(at, list[i])
}

// asDeclared tries limiters with the declared window, of each kind, with each number that
// stretches had. Those that explain what was seen, and would not with another window, are
// told.
func (x *search) asDeclared(declared Stack) {
	if len(stretches(x.calls)) < 2 { // nothing was seen to open
		return
	}
	for _, m := range declared {
		if m.Kind == Concurrent || m.W < 1 {
			continue
		}
		for _, burst := range slices.Compact([]Calls{m.N, m.number()}) { // more came while it was emptied
			x.holds(Limit{Kind: Bucket, N: m.N, W: m.W, Burst: burst}.oneEach())
		}
		for _, n := range x.numbers {
			for _, k := range []Kind{FixedFirst, SlidingLog} {
				x.holds(Limit{Kind: k, N: n, W: m.W})
			}
			x.holds(Limit{Kind: SlidingLog, N: n, W: m.W, CountAll: true})
			if m.W >= shortestOnClock {
				x.holds(Limit{Kind: FixedClock, N: n, W: m.W})
				// How they round makes three of them, so that one may open at the instant by chance.
				for loose := int64(0); loose < 3 && n > 1 && m.Kind == SlidingLog; loose++ {
					x.holds(Limit{Kind: TwoCounters, N: n, W: m.W, Loose: loose})
				}
			}
		}
	}
}

// holds keeps a limiter where it explains what was seen and would not with another window.
func (x *search) holds(l Limit) {
	best := Fit{Limit: l, Misses: math.MaxInt32}
	phases := []Micros{0}
	if l.Kind == FixedClock || l.Kind == TwoCounters {
		off := min(offClock, l.W/20)
		for k := int64(-5); k <= 5; k++ {
			phases = append(phases, ((k*off/5)%l.W+l.W)%l.W)
		}
	}
	for _, ph := range phases {
		if m := x.log.predict(l, ph, best.Misses); m < best.Misses {
			best.Phase, best.Misses = ph, m
		}
	}
	// What is off by more than any disturbance refutes it.
	off := max(x.log.noise, l.W/closeBy*2)
	if (seen{x.calls, off}).predict(l, best.Phase, 0) > 0 || best.Misses > len(x.calls)/15+1 {
		return
	}
	for _, share := range []int64{-wellBeyond, wellBeyond} {
		other := best
		if len(phases) > 1 { // where it stands on the clock is what it foretells
			other.Phase = ((best.Phase+l.W*share/100)%l.W + l.W) % l.W
		} else {
			other.W += l.W * share / 100
		}
		if x.log.predict(other.Limit, other.Phase, best.Misses) <= best.Misses {
			return
		}
	}
	best.AsDeclared = true
	best.WLow, best.WHigh = l.W, l.W
	x.out = append(x.out, best)
}

// wholeStack are the members of a declared stack that together decide calls as was seen, and each of which
// is seen: with another window of it they would not. nil where it is not so, or of one alone.
func wholeStack(calls []Seen, declared Stack) (out Stack) {
	list := alone(calls)
	if _, waited := began(list); len(declared) < 2 || waited || len(stretches(list)) < 2 || declared.Shortest() == 0 {
		return nil
	}
	log := seen{list, noise}
	misses := log.predictAll(declared, 0, nearly)
	far := seen{list, max(noise, declared.Shortest()/closeBy*2)}
	if misses > nearly || far.predictAll(declared, 0, 0) > 0 {
		return nil
	}
	for i, l := range declared {
		less := true
		for _, share := range []int64{100 - wellBeyond, 100 + wellBeyond} {
			other := slices.Clone(declared)
			other[i].W = l.W * share / 100
			less = less && log.predictAll(other, 0, misses+1) > misses
		}
		if less {
			out = append(out, l)
		}
	}
	if len(out) < 2 {
		return nil
	}
	return out
}

// oneEach is a limiter as fits have it: a bucket gets one token at a time.
func (l Limit) oneEach() Limit {
	if l.Kind == Bucket && l.N > 0 {
		l.W, l.N = max(1, l.W/l.N), 1
	}
	return l
}
