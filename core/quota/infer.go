package quota

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"sort"
)

// Seen is one call of a drill as it was seen from outside.
type Seen struct {
	At    Micros `json:"at"`              // when it was sent, on the clock
	Took  Micros `json:"took"`            // until its answer
	OK    bool   `json:"ok"`              // it was not refused for coming too often, whatever else was answered
	Idle  bool   `json:"idle,omitempty"`  // sent after a pause, to see how long an answer takes by itself
	Batch int    `json:"batch,omitempty"` // sent together with the others of this batch; 0 is alone
	// the drill stood still while it was under way: when it was decided is not known
	Gap bool `json:"gap,omitempty"`
}

// Fit is a limiter that explains what was seen.
type Fit struct {
	Limit
	Phase  int64 // what is added to the clock for windows on the clock
	Misses int   // calls that it would have decided otherwise
	late   int   // of them, those of the refusals at the very end
	far    int   // of them, those that were far from a turn
	WLow   int64 // windows between these explain it as well
	WHigh  int64
	// Its window is the declared one: it opened when that foretold it, and with another it would not have.
	AsDeclared bool `json:"asDeclared,omitempty"`
}

// noise is by how many ticks a call may have been decided earlier or later
// than it was sent: it travels, and the service's clock is not ours.
const noise = 8_000

// shortestOnClock is the shortest window on the clock that is tried: nobody
// aligns anything shorter, and with a free phase it would explain too much.
const shortestOnClock = 400_000

// seen are the calls of a drill as limiters are held against them.
type seen struct {
	calls []Seen
	noise int64 // ticks
}

// predict runs what was sent through a limiter and counts the calls that it
// would have decided otherwise. Calls that came within noise of a turn do not
// count. It gives up above most.
func (s seen) predict(l Limit, phase int64, most int) int { return s.predictAll(Stack{l}, phase, most) }

// predictAll is predict for a stack.
func (s seen) predictAll(stack Stack, phase int64, most int) int {
	g := NewGate(stack)
	calls, noise := s.calls, s.noise
	misses := 0
	for i := range calls {
		t := calls[i].At + phase
		d := g.Next(t)
		would := d <= t
		if would == calls[i].OK {
			if would {
				g.Call(t, 1)
			} else {
				g.refused(t)
			}
			continue
		}
		if calls[i].OK { // it was admitted, so that it counts
			if calls[i].Gap && d <= t+calls[i].Took {
				t = max(t, d) // it was decided on its way
			} else if d-t > noise {
				misses++
			}
			g.take(t)
		} else {
			if g.first(t-noise) <= t-noise && !calls[i].Gap {
				misses++
			}
			g.refused(t)
		}
		if misses > most {
			return misses
		}
	}
	return misses
}

// take counts a call that was admitted although the model would not.
func (g *Gate) take(t int64) {
	for _, l := range g.limits {
		l.Take(t, 1)
	}
	g.last = max(g.last, t)
}

func (g *Gate) refused(t int64) {
	for _, l := range g.limits {
		l.Refuse(t)
	}
}

// alone are the calls before the first batch: what came of a batch says
// nothing of windows.
func alone(calls []Seen) []Seen {
	if k := slices.IndexFunc(calls, func(s Seen) bool { return s.Batch > 0 }); k >= 0 {
		return calls[:k]
	}
	return calls
}

// stretch is a run of calls that were admitted one after the other, from the
// first after a refusal, or the very first, to the next refusal.
type stretch struct {
	from, to int // indexes; to is the refusal, or the number of calls
}

func stretches(calls []Seen) (out []stretch) {
	for i := 0; i < len(calls); {
		if !calls[i].OK {
			i++
			continue
		}
		k := i
		for k < len(calls) && calls[k].OK {
			k++
		}
		out = append(out, stretch{i, k})
		i = k
	}
	return out
}

// windowsOf are the lengths worth trying: closer than a percent apart, from the
// shortest that could show to what was watched.
func windowsOf(calls []Seen) (out []int64) {
	span := calls[len(calls)-1].At - calls[0].At
	for w := 20_000.0; w < float64(span)*1.1+40_000; w *= 1.01 {
		out = append(out, int64(w))
	}
	return out
}

// Infer finds the limiters that explain the calls of a drill, the best first:
// every kind with the numbers that it explains most with. Calls must be in the
// order in which they were sent, and at least one must have been refused or have
// waited. What is declared, where anything is, is tried as well.
func Infer(calls []Seen, declared Stack) []Fit {
	given := alone(calls)
	calls, waited := began(given)
	if len(calls) == 0 || !slices.ContainsFunc(calls, func(s Seen) bool { return !s.OK }) {
		return nil
	}
	if from := Slow(given); !waited && from < never {
		calls = slices.Clone(calls)
		for i := range calls { // when one that was slow was decided is not known
			calls[i].Gap = calls[i].Gap || calls[i].Took > from
		}
	}
	x := &search{calls: calls, log: seen{calls, noise}}
	if waited {
		// When calls that waited began is known less closely.
		if x.each = spacing(given); x.each > 0 {
			x.log.noise = max(noise, x.each/8, min(x.each/3, scatter(given, x.each)))
		}
	}
	list := stretches(calls)
	if x.numbers = numbersOf(list, len(calls)); len(x.numbers) == 0 {
		return nil // nothing was ever admitted
	}
	none := func(int64) []int64 { return []int64{0} }
	x.windows(Limit{Kind: FixedFirst}, none)
	x.windows(Limit{Kind: SlidingLog}, none)
	if !waited { // those that wait are not refused
		x.windows(Limit{Kind: SlidingLog, CountAll: true}, none)
	}
	sharp := openings(calls)
	clock := func(w int64) []int64 {
		out := make([]int64, 0, 17)
		// On the clock itself, and shifted: the service's clock is not ours.
		for k := int64(0); k < 16; k++ {
			out = append(out, k*w/16)
		}
		for _, at := range sharp {
			out = append(out, w-at%w)
		}
		return out
	}
	x.windows(Limit{Kind: FixedClock}, clock)
	for loose := range int64(3) {
		x.windows(Limit{Kind: TwoCounters, Loose: loose}, clock)
	}
	if !waited {
		x.windows(Limit{Kind: TwoCounters, CountAll: true}, clock)
	}
	x.buckets(list[0])
	if !waited {
		x.asDeclared(declared)
	}
	out := x.out
	// What shut at the very end was not seen to open again: something else may have shut it.
	upTo := calls[:list[len(list)-1].to]
	for i, f := range out {
		if !waited { // when those began that waited is known less closely
			out[i].far = seen{calls, max(x.log.noise, f.W/farOff)}.predict(f.Limit, f.Phase, f.Misses)
		}
		out[i].late = f.Misses - min(f.Misses, seen{upTo, x.log.noise}.predict(f.Limit, f.Phase, f.Misses))
	}
	sort.SliceStable(out, func(i, j int) bool {
		a, b := out[i], out[j]
		if a.Misses != b.Misses {
			return a.Misses < b.Misses
		}
		if a.AsDeclared != b.AsDeclared {
			return a.AsDeclared
		}
		return a.Kind < b.Kind || a.Kind == b.Kind && a.Burst+a.N < b.Burst+b.N
	})
	return out
}

// farOff is the part of a window by which a call must be off at least that no disturbance explains.
const farOff = 20

// mostSharp is how many openings a window of the clock is tried to begin at.
const mostSharp = 3

// openings are the instants at which calls were admitted again, those first that are known most
// exactly: by the refusal right before.
func openings(calls []Seen) (out []int64) {
	type bracket struct{ at, wide int64 }
	var all []bracket
	for i := 1; i < len(calls); i++ {
		if a, b := calls[i-1], calls[i]; b.OK && !a.OK && !a.Gap && !b.Gap {
			all = append(all, bracket{(a.At + b.At) / 2, b.At - a.At})
		}
	}
	slices.SortStableFunc(all, func(a, b bracket) int { return cmp.Compare(a.wide, b.wide) })
	for _, b := range all[:min(len(all), mostSharp)] {
		out = append(out, b.at)
	}
	return out
}

// Cap is a second count beside a limiter that was seen to open again and again: after Calls in
// all nothing was admitted for Shut, which is when the drill ended.
type Cap struct {
	Calls Calls  `json:"calls"`
	Shut  Micros `json:"shut"`
}

// Capped splits the calls of a drill where a second count shut it for good: it had opened at
// least twice, and then stayed shut for longer than the time before had any refusals, three
// times as long as ever before. Without that before is all of them, and there is no cap.
func Capped(calls []Seen) (before []Seen, c Cap) {
	list := alone(calls)
	c, longest, last := ending(list)
	if c.Shut < 3*longest || c.Shut == 0 {
		return calls, Cap{}
	}
	return list[:last+1], c
}

// ending is for how long calls were refused at the end, where that is told from what came before,
// beside the longest time before, and the last call that was admitted.
func ending(list []Seen) (c Cap, longest int64, last int) {
	opened, shut := 0, int64(-1)
	last = -1
	for i, s := range list {
		switch {
		case !s.OK && shut < 0:
			shut = s.At
		case s.OK:
			if shut >= 0 { // shut was seen until the last refusal
				opened, longest, shut = opened+1, max(longest, list[i-1].At-shut), -1
			}
			c.Calls++
			last = i
		}
	}
	if opened >= 2 && shut >= 0 && last+6 <= len(list) {
		c.Shut = list[len(list)-1].At - shut
	}
	return c, longest, last
}

// unsettled says whether a second count may have shut calls out at the end, without that it is
// plain: twice as long as ever before, not yet three times.
func unsettled(calls []Seen) bool {
	c, longest, _ := ending(alone(calls))
	return c.Shut >= 2*longest && c.Shut > 0 && c.Shut < 3*longest
}

// numbersOf are the numbers of calls that stretches admitted until one was refused, the
// largest first.
func numbersOf(list []stretch, calls int) []int64 {
	counts := map[int64]bool{}
	for _, s := range list {
		if s.to < calls && s.to-s.from >= 1 {
			counts[int64(s.to-s.from)] = true
		}
	}
	numbers := slices.Sorted(maps.Keys(counts))
	slices.Reverse(numbers)
	return numbers[:min(len(numbers), 6)]
}

// search is the search for limiters that explain calls.
type search struct {
	calls   []Seen
	log     seen
	each    int64 // how far apart those that waited began; 0 when none did
	numbers []int64
	out     []Fit
}

// windows tries a kind of window with each number; phases are where one of a length may begin.
func (x *search) windows(like Limit, phases func(w int64) []int64) {
	for _, n := range x.numbers {
		if n == 1 && !like.CountAll && (like.Kind == FixedFirst || like.Kind == SlidingLog) {
			continue // the same as a bucket of one
		}
		like.N = n
		ties, least := x.lengths(like, phases)
		if len(ties) == 0 {
			continue
		}
		var f Fit
		if like.Kind == FixedClock || like.Kind == TwoCounters {
			// The phase goes with the window, so that they are sought together.
			from := []Fit{ties[0], ties[len(ties)/2], ties[len(ties)-1]}
			if like.Kind == FixedClock {
				from = append(from, likeliest(least)...)
			}
			f = closer(from, x.log)
		} else {
			f = ties[0].around(x.log)
		}
		f.doubted(least)
		x.out = append(x.out, f)
	}
}

// lengths tries every length of window. Ties are those that explain most, least has for each
// length the phase that explains most.
func (x *search) lengths(like Limit, phases func(w int64) []int64) (ties []Fit, least map[int64]Fit) {
	best := math.MaxInt32 // calls that it misses
	least = map[int64]Fit{}
	slack := nearly
	if like.Kind == FixedClock {
		slack = roughly
	}
	for _, w := range windowsOf(x.calls) {
		if w < shortestOnClock && (like.Kind == FixedClock || like.Kind == TwoCounters) {
			continue
		}
		like.W = w
		for _, ph := range phases(w) {
			m := x.log.predict(like, ph, min(best, math.MaxInt32-slack)+slack)
			f := Fit{Limit: like, Phase: ph, Misses: m}
			if old, ok := least[w]; !ok || m < old.Misses {
				least[w] = f
			}
			switch {
			case m < best:
				best, ties = m, append(ties[:0], f)
			case m == best && m < math.MaxInt32:
				ties = append(ties, f)
			}
		}
	}
	return ties, least
}

// buckets tries buckets that the first stretch emptied: tokens came while it did, so that one
// held less than it gave.
func (x *search) buckets(first stretch) {
	took := x.calls[max(first.to-1, first.from)].At - x.calls[first.from].At
	buckets, least := map[int64]*Fit{}, map[int64]Fit{}
	n := int64(first.to - first.from)
	for _, w := range windowsOf(x.calls) { // one token in each w
		refill := took / w
		for b := max(1, n-refill-1); b <= n; b++ {
			best := buckets[b]
			if best == nil {
				best = &Fit{Misses: math.MaxInt32}
				buckets[b] = best
			}
			l := Limit{Kind: Bucket, N: 1, W: w, Burst: b}
			m := x.log.predict(l, 0, min(best.Misses, math.MaxInt32-nearly)+nearly)
			if m < best.Misses {
				*best = Fit{Limit: l, Misses: m}
			}
			if old, ok := least[w]; !ok || m < old.Misses {
				least[w] = Fit{Limit: l, Misses: m}
			}
		}
	}
	for _, f := range buckets {
		if f.Misses < math.MaxInt32 {
			g := x.spaced(f.around(x.log))
			if x.each == 0 {
				g.doubted(least)
			}
			x.out = append(x.out, g)
		}
	}
}

// spaced is a bucket with the window that those that waited show, where they do.
func (x *search) spaced(g Fit) Fit {
	switch each := x.each; {
	case each == 0:
	case each*20 >= g.WLow*19 && each*20 <= g.WHigh*21:
		g = g.measured(each)
	case x.log.predict(g.withWindow(each), 0, g.Misses+nearly) <= g.Misses+nearly:
		// As many that were late could have hidden it.
		g.Misses += nearly
		g = g.measured(each)
	default: // two ways of knowing it disagree, so that it is neither
		g.WLow, g.WHigh = min(g.WLow, each), max(g.WHigh, each)
	}
	return g
}

// nearly is by how many calls more another window may miss and still be one that the
// machine's own disturbances could have hidden.
const nearly = 2

// roughly is by how many calls more a window of the clock may miss at first: in large
// steps the right one may be off by a part of a window for each that was watched.
const roughly = 12

// likeliest are the windows that explain most in large steps, each of its own neighbourhood: a wrong one
// has many neighbours that are as wrong.
func likeliest(least map[int64]Fit) (out []Fit) {
	all := slices.Collect(maps.Values(least))
	slices.SortFunc(all, func(a, b Fit) int {
		return cmp.Or(a.Misses-b.Misses, int(a.W-b.W))
	})
	for _, f := range all {
		if len(out) == 12 {
			break
		}
		if !slices.ContainsFunc(out, func(o Fit) bool { return abs(o.W-f.W)*50 <= o.W }) {
			out = append(out, f)
		}
	}
	return out
}

// doubted widens what the window may be to all that explain nearly as much. A window of
// four thirds of the right one has every third edge in common with it: a few calls
// that were late are enough to prefer it.
func (f *Fit) doubted(least map[int64]Fit) {
	for w, l := range least {
		if l.Misses <= f.Misses+nearly {
			f.WLow, f.WHigh = min(f.WLow, w), max(f.WHigh, w)
		}
	}
}

// closer seeks window and phase in small steps around what explained most in
// large ones, and takes the middle of what explains it best. The clock began long ago, so
// that a phase is kept as what it is at the first call: another window would else have
// another phase there.
func closer(list []Fit, log seen) Fit {
	best, all := list[0].Misses, []Fit{list[0]}
	begin := log.calls[0].At
	for _, from := range list {
		off := (begin + from.Phase) % from.W
		for dw := int64(-8); dw <= 8; dw++ {
			for dp := int64(-8); dp <= 8; dp++ {
				f := from
				f.W += from.W * dw / 800
				f.Phase = ((off+f.W*dp/128-begin)%f.W + f.W) % f.W
				m := log.predict(f.Limit, f.Phase, best)
				if f.Misses = m; m < best {
					best, all = m, all[:0:0]
				}
				if m == best {
					all = append(all, f)
				}
			}
		}
	}
	sort.Slice(all, func(i, j int) bool { return all[i].W < all[j].W })
	f := all[len(all)/2]
	f.WLow, f.WHigh = all[0].W, all[len(all)-1].W
	return f
}

// measured is the fit with a window that is known from how far apart calls began that
// waited for their turn: to a twentieth.
func (f Fit) measured(each int64) Fit {
	f.W = each
	f.WLow = min(each, max(f.WLow, each-each/20))
	f.WHigh = max(each, min(f.WHigh, each+each/20))
	return f
}

// withWindow is its limiter with another window.
func (f Fit) withWindow(w int64) Limit {
	l := f.Limit
	l.W = w
	return l
}

// around looks how far the window can be moved without explaining less, and
// takes the middle of that.
func (f Fit) around(log seen) Fit {
	misses := func(w int64) int {
		ph := f.Phase
		if ph != 0 {
			ph = mulDiv(f.Phase, w, f.W)
		}
		return log.predict(f.withWindow(w), ph, f.Misses)
	}
	edge := func(step float64) int64 {
		good := f.W
		for w := float64(f.W); ; {
			w *= step
			if w > float64(f.W)*2 || w < float64(f.W)/2 || misses(int64(w)) > f.Misses {
				return good
			}
			good = int64(w)
		}
	}
	f.WLow, f.WHigh = edge(1/1.002), edge(1.002)
	mid := (f.WLow + f.WHigh) / 2
	if misses(mid) <= f.Misses && f.Phase == 0 {
		f.W = mid
	}
	return f
}

// Told are the remaining fits, none where too many kinds remain for their
// numbers to mean anything.
func Told(fits []Fit, calls int) []Fit {
	// One whose window may as well be an eighth longer has no number to be told.
	rest, vague := []Fit(nil), math.MaxInt
	for _, f := range foremost(Remaining(fits, calls)) {
		if (f.WHigh-f.WLow)*8 > f.W {
			vague = min(vague, f.Misses)
		} else {
			rest = append(rest, f)
		}
	}
	if len(rest) > 0 && vague <= rest[0].Misses {
		return nil // what has no number explains it as well
	}
	kinds := map[Kind]bool{}
	for _, f := range rest {
		kinds[f.Kind] = true
	}
	if len(kinds) > mostKinds {
		return nil
	}
	return rest
}

// foremost are those that foretold what was seen, where some did and none explains more than they
// do; or all.
func foremost(fits []Fit) []Fit {
	told := slices.DeleteFunc(slices.Clone(fits), func(f Fit) bool { return !f.AsDeclared })
	if len(told) == 0 || told[0].Misses > fits[0].Misses+1 {
		return fits
	}
	return told
}

// mostKinds is how many kinds are named beside each other.
const mostKinds = 3

// mostFar is how many calls may be far off for no reason that is known.
const mostFar = 2

// Remaining are the fits that cannot be told from the best by what was seen. Refusals at the very
// end speak for none: what they would have ended with was not seen.
func Remaining(fits []Fit, calls int) (out []Fit) {
	best := math.MaxInt
	for _, f := range fits {
		best = min(best, f.Misses-f.late)
	}
	for _, f := range fits {
		far := max(0, f.far-f.late) // several of them are another limiter's
		if m := f.Misses - f.late; m <= best+2+calls/100 && m*15 <= calls+15 && far <= mostFar+calls/100 {
			out = append(out, f)
		}
	}
	return out
}
