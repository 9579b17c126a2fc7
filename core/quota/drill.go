package quota

import (
	"cmp"
	"slices"
)

// Budget is what a drill may use.
type Budget struct {
	Calls int
	Ticks Micros
}

// Step is what a drill does next.
type Step struct {
	At     Micros // from which on; 0 is at once
	Many   int    // calls, one after the other; a drill ends with none
	Stop   bool   // after the first refusal, or the first admission when it waits for one
	Beside bool   // all at the same time, told with SawBeside
	Why    string
}

// Drill finds out what limits calls, from answers alone. It says what to send
// next, from what it has seen; nothing is sent here and no clock is read.
//
// It begins with calls one after the other until one is refused; waits, asking
// rarely, until one is admitted again; does so twice; and then, while several
// kinds of limiter explain what was seen, chooses the pattern of calls by which
// they part most.
//
// Where nothing of the first stretch is refused, that goes on by Further calls, a
// few at a time. Where nothing is refused even so: with single calls after a pause, which
// show whether the others were slow or waited; and with calls beside each other,
// more each time, which show what limits how many run at once, and how many may
// wait.
type Drill struct {
	Budget  Budget
	Burst   int    // calls that the first stretch has at most
	Further int    // by which it goes on where none of them was refused, while there is time
	Hint    Micros // after which the service said that it admits again; 0 when it did not
	Side    int    // calls that are sent at the same time at most; 0 sends none
	AtOnce  int    // how many are thought to run at once; 0 when nothing is known

	Declared Stack // what is thought to limit calls; nil when nothing is known

	Calls  []Seen
	state  state
	rounds int   // waits that ended
	asked  int64 // tick of the last question while waiting
	shut   int64 // tick of the refusal that began the wait
	begun  int64
	queue  []Step
	edges  int
	Fits   []Fit
	Cap    Cap   // a second count, which ended what the Fits explain
	Stack  Stack // the declared limiters that explain it together

	waits, turns int  // calls that waited; of those, that came after one that did not
	paused       bool // calls after a pause were made
	batch        int
	size         int // of the last batch
	sure         int // batches that were refused in part
}

type state int

const (
	filling state = iota
	waiting
	probing
	pausing // single calls, each after a pause
	beside  // calls at the same time
	done
)

// Next says what to do at tick now.
func (d *Drill) Next(now Micros) Step {
	if d.begun == 0 {
		d.begun = now
	}
	left := d.Budget.Calls - len(d.Calls)
	if left < 1 || now-d.begun >= d.Budget.Ticks {
		d.finish()
		return Step{}
	}
	switch d.state {
	case filling:
		if some, w := d.parts(); some > 0 && len(d.Calls) == 0 {
			return Step{At: d.begin(now, w), Many: min(left, some), Stop: true, Why: "some of the calls that fit"}
		}
		if rest, yes := d.halfway(); yes {
			return Step{At: d.Calls[0].At + rest, Many: min(left, d.fill()), Stop: true,
				Why: "the rest of them, until one is refused"}
		}
		return Step{Many: min(left, d.fill()), Stop: true, Why: "calls until one is refused"}
	case waiting:
		at := max(d.soonest(), now)
		if at-d.begun >= d.Budget.Ticks {
			d.finish()
			return Step{}
		}
		return Step{At: at, Many: 1, Why: "waiting until one is admitted again"}
	case probing:
		if len(d.queue) == 0 {
			d.Fits = Infer(d.Calls, d.Declared)
			if !d.timeBeforePauses(now) || !d.design(now) {
				return d.after(now)
			}
		}
		return d.planned(left)
	case pausing:
		if len(d.queue) == 0 {
			return d.after(now)
		}
		return d.planned(left)
	case beside:
		if len(d.queue) == 0 && !d.together(now) {
			d.finish()
			return Step{}
		}
		return d.planned(left)
	default:
	}
	return Step{}
}

// planned is the next step of the queue, as far as the budget allows it.
func (d *Drill) planned(left int) Step {
	s := d.queue[0]
	d.queue = d.queue[1:]
	if s.At-d.begun >= d.Budget.Ticks {
		d.finish()
		return Step{}
	}
	s.Many = min(s.Many, left)
	return s
}

// after goes on where calls one after the other told all that they can.
func (d *Drill) after(now int64) Step {
	refused := slices.ContainsFunc(d.Calls, func(s Seen) bool { return !s.OK })
	switch {
	case !refused && !d.paused && d.AtOnce == 0 && !d.longWaits() && d.pauses(now):
		d.paused, d.state = true, pausing
		return d.Next(now)
	case d.state == pausing && d.waiting() && d.edges < maxEdges:
		d.state = probing
		return d.Next(now)
	case d.Side > 1 && (!refused || d.waiting() || d.AtOnce > 0):
		d.state = beside
		return d.Next(now)
	}
	d.finish()
	return Step{}
}

// timeBeforePauses says whether a pattern can be tried before the single calls
// that show whether calls waited at all: those must not be left out.
func (d *Drill) timeBeforePauses(now int64) bool {
	if !d.waiting() || d.paused || len(d.Fits) == 0 || d.longWaits() {
		return true
	}
	start, every, n := d.pauseTimes(now)
	f := d.Fits[0]
	whole := f.W // of what is full until it is empty again
	if f.Kind == Bucket {
		whole = f.W * f.Burst
	}
	return start+every*n+4*whole <= d.begun+d.Budget.Ticks
}

// pauseTimes are when single calls begin that come more rarely than what lets
// calls go, how far they are apart, and how many there are.
func (d *Drill) pauseTimes(now int64) (start, every, n int64) {
	f := d.Fits[0]
	if f.Kind == Bucket {
		return now + f.W, 2 * f.W, manyPauses
	}
	return now + f.W, 2 * f.W / max(1, f.N), d.rarePauses()
}

// rarePauses is how many single calls must be answered at once before late ones stand out.
func (d *Drill) rarePauses() int64 {
	w, waited := waitsOf(d.Calls), 0
	for i, c := range d.Calls {
		if w.waited(i, c) {
			waited++
		}
	}
	return max(manyPauses, int64(rarely*len(d.Calls)/max(1, waited))+1)
}

// pauses plans single calls, each after a pause: where all answers take long, to
// see how long one takes by itself; where some waited, more rarely than what
// lets them go, to see that none waits then.
func (d *Drill) pauses(now int64) bool {
	w := waitsOf(d.Calls)
	start, every, n := now, 4*w.usual, int64(fewPauses)
	if d.waiting() && len(d.Fits) > 0 {
		start, every, n = d.pauseTimes(now)
	} else if w.usual < slowAnswer {
		return false
	}
	for k := range n {
		d.queue = append(d.queue, Step{At: start + every*(k+1), Many: 1, Why: "by itself, after a pause"})
	}
	return true
}

const (
	slowAnswer = 12_000 // what takes as long may have waited
	fewPauses  = 5
	manyPauses = 21
)

// someWait says whether calls waited for their turn, one after the other.
func someWait(calls []Seen) bool {
	w := waitsOf(calls)
	n := 0
	for i, c := range alone(calls) {
		if !c.OK {
			return false // then what is slow is slow by itself
		}
		if w.waited(i, c) {
			n++
		}
	}
	return n >= 2
}

func (d *Drill) waiting() bool { return someWait(d.Calls) }

// longWaits says whether calls waited, each for so long that it was not the
// service which was slow.
func (d *Drill) longWaits() bool {
	w := waitsOf(d.Calls)
	for i, c := range alone(d.Calls) {
		if w.waited(i, c) && c.Took < longWait {
			return false
		}
	}
	return d.waiting()
}

const longWait = 1_000_000

// together plans the next calls that are sent at the same time: one more than
// are thought to run at once, then twice as many each time until some are
// refused; that again, for certainty. One alone comes after each batch: when it
// is refused as well, it was not that they came together.
func (d *Drill) together(now int64) bool {
	last := d.lastBatch()
	refused := slices.ContainsFunc(last, func(s Seen) bool { return !s.OK })
	longest := int64(0)
	for _, s := range last {
		longest = max(longest, s.Took)
	}
	switch {
	case d.batch == 0:
		d.size = min(d.Side, max(2, d.AtOnce+1))
	case refused && d.sure >= sureBatches, !refused && d.size >= d.Side:
		return false
	case refused:
		d.sure++
	case longest > longestBatch:
		return false
	default:
		d.size = min(d.Side, 2*d.size)
	}
	d.batch++
	at := now + max(pauseBetween, longest/2)
	if f := d.Fits; d.waiting() && len(f) > 0 {
		at += min(2*f[0].W, longestBatch) // those that waited have their turn behind them
	}
	d.queue = append(d.queue, Step{At: at, Many: d.size, Beside: true, Why: "at the same time"},
		Step{Many: 1, Why: "by itself, after those"})
	return true
}

const (
	sureBatches  = 2         // batches again, once one was refused in part
	pauseBetween = 20_000    // ticks between batches
	longestBatch = 2_000_000 // of which the last call waited as long: no larger one is sent
)

// lastBatch are the calls that were sent together last.
func (d *Drill) lastBatch() (out []Seen) {
	for _, s := range d.Calls {
		if s.Batch == d.batch && s.Batch > 0 {
			out = append(out, s)
		}
	}
	return out
}

// SawBeside tells the drill of calls that were sent at the same time, in any
// order.
func (d *Drill) SawBeside(list []Seen) {
	slices.SortStableFunc(list, func(a, b Seen) int { return cmp.Compare(a.At, b.At) })
	for _, s := range list {
		s.Batch = max(1, d.batch)
		d.Calls = append(d.Calls, s)
	}
}

// fill is how many calls a stretch has at most: later ones no more than a
// little above what the first had.
func (d *Drill) fill() int {
	if d.further() && len(d.Calls) >= d.Burst {
		return min(furtherBy, d.Burst+d.Further-len(d.Calls))
	}
	if list := stretches(d.Calls); len(list) > 1 {
		return list[0].to - list[0].from + 2
	}
	return d.Burst
}

// furtherBy is how many calls come between two looks at the time, beyond the first stretch.
const furtherBy = 8

// further says whether the first stretch goes on although it is full.
func (d *Drill) further() bool {
	return d.Further > 0 && d.rounds == 0 && len(d.Calls) < d.Burst+d.Further
}

// gap is how long to wait until the next question: a share of the wait so far,
// so that the window is found within that share; about the hint it asks closer.
func (d *Drill) gap() int64 {
	waited := d.asked - d.shut
	if d.Hint > 0 && waited < d.Hint {
		if rest := d.Hint - waited; rest > d.Hint/10 {
			return max(rest-d.Hint/20, 10_000)
		}
		return max(d.Hint/40, 10_000)
	}
	return max(15_000, waited*6/100)
}

// Saw tells the drill of a call.
func (d *Drill) Saw(s Seen) {
	s.Idle = d.state == pausing
	d.Calls = append(d.Calls, s)
	switch d.state {
	case filling:
		if !s.OK {
			d.state, d.shut, d.asked = waiting, s.At, s.At
		} else if d.queues(s) || d.Side > 1 && d.rounds == 0 && s.At+s.Took-d.begun > d.Budget.Ticks/2 {
			d.state = probing // the rest of the time is for what calls beside each other show
		}
	case waiting:
		d.asked = s.At
		if s.OK {
			d.Hint = s.At - d.shut // what took so long may take as long again
			if d.rounds++; d.rounds < 3 {
				d.state = filling
			} else {
				d.state = probing
			}
		}
	default:
	}
}

// queues counts calls that waited for their turn, and says when they were
// enough to know what lets them go.
func (d *Drill) queues(s Seen) bool {
	n := len(d.Calls) - 1
	w := waitsOf(d.Calls)
	if !w.waited(n, s) {
		return false
	}
	d.waits++
	if n > 1 && !w.waited(n-1, d.Calls[n-1]) {
		d.turns++
	}
	enough := enoughTurns
	if s.At-d.begun > d.Budget.Ticks/8 {
		enough-- // they take long
	}
	return d.waits >= enoughWaits || d.turns >= enough
}

const (
	enoughWaits = 12
	enoughTurns = 3
)

// Enough says, within a step that stops, whether it has shown what it was to
// show.
func (d *Drill) Enough() bool { return d.state != filling }

// Filled is told when a stretch ended without a refusal.
func (d *Drill) Filled() {
	if _, yes := d.halfway(); yes {
		return // the rest comes later
	}
	if d.state == filling && !d.further() {
		d.state = probing
	}
}

// Done says whether nothing more is to be sent.
func (d *Drill) Done() bool { return d.state == done }

// Finish ends the drill early: nothing more is sent.
func (d *Drill) Finish() {
	if d.state != done {
		d.finish()
	}
}

func (d *Drill) finish() {
	d.state = done
	d.Cap = Cap{}
	if d.Stack = wholeStack(d.Calls, d.Declared); d.Stack != nil {
		d.Fits = nil // each alone explains less
		return
	}
	if d.Fits = Infer(d.Calls, d.Declared); len(d.Fits) > 0 && foremost(d.Fits)[0].AsDeclared {
		return // that it stays shut was foretold too
	}
	if before, c := Capped(d.Calls); c.Calls > 0 {
		d.Cap, d.Fits = c, Infer(before, d.Declared)
	}
}

// design chooses the pattern by which the remaining fits part most, and puts
// its steps into the queue. False when none tells them apart, or no more may be
// tried.
func (d *Drill) design(now int64) bool {
	rest := Remaining(d.Fits, len(alone(d.Calls)))
	if len(rest) == 0 || d.edges >= maxEdges {
		return false
	}
	d.edges++
	if len(rest) == 1 {
		return d.refine(rest[0], now)
	}
	n, w := rest[0].N, int64(0)
	for _, f := range rest {
		if f.Kind == Bucket {
			w, n = max(w, f.W*f.Burst), max(n, f.Burst)
		} else {
			w, n = max(w, f.W), max(n, f.N)
		}
	}
	// From idle: some of the calls, the rest a part of the window later, and
	// after its end as many as get in.
	most, best := 1, []Step(nil)
	left := d.Budget.Calls - len(d.Calls)
	try := func(steps []Step) {
		all := 0
		for _, s := range steps {
			all += s.Many
		}
		if all > left {
			return // what is cut off tells little
		}
		var answers []string
		for _, f := range rest {
			answers = append(answers, f.answer(d.Calls, steps))
		}
		slices.Sort(answers)
		if k := len(slices.Compact(answers)); k > most {
			most, best = k, steps
		}
	}
	if rest[0].Kind == Bucket {
		// Emptied from full, then asked a little faster than it fills.
		steps := []Step{{At: now + w + w/4, Many: int(n + 2), Why: "emptying what is full"}}
		for k := range int64(24) {
			steps = append(steps, Step{At: steps[0].At + rest[0].W*(k+1)*6/10, Many: 1,
				Why: "a little faster than it fills"})
		}
		try(steps)
	}
	for _, part := range []int64{2, 3, 4} {
		for _, share := range []int64{50, 30, 70, 85} {
			some := max(1, n/part)
			for _, off := range []int64{1, 3, 5, 7} {
				start := now + w + w*off/8
				steps := []Step{
					{At: start, Many: int(some), Why: "some of the calls that fit"},
					{At: start + w*share/100, Many: int(n - some + 1), Why: "the rest, later in the window"},
					{At: start + w + w/20, Many: int(n + 1), Why: "as many as get in after its end"},
				}
				try(steps)
			}
		}
	}
	d.queue = best
	return best != nil
}

// maxEdges is how many patterns a drill designs at most.
const maxEdges = 5

// refine asks more often, where one kind is left and its window is not known
// closely: calls a little faster than it admits them. Those that wait have shown it by how
// far apart they began.
func (d *Drill) refine(f Fit, now int64) bool {
	if f.W == 0 || (f.WHigh-f.WLow)*100 <= f.W*7 || spacing(alone(d.Calls)) > 0 {
		return false
	}
	every := f.W / 16
	if f.Kind == Bucket {
		every = f.W * 6 / 10
	}
	for k := range int64(40) {
		d.queue = append(d.queue, Step{At: now + every*(k+1), Many: 1, Why: "a little faster than it admits"})
	}
	return true
}

// answer is what a fit would answer to steps, after what was seen.
func (f Fit) answer(calls []Seen, steps []Step) string {
	g := NewGate([]Limit{f.Limit})
	for _, c := range calls {
		if t := c.At + f.Phase; g.Next(t) <= t {
			g.Call(t, 1)
		} else {
			g.refused(t)
		}
	}
	var out []byte
	for _, s := range steps {
		n := byte(0)
		for k := range s.Many {
			if g.Call(s.At+f.Phase+int64(k)*1500, 1).OK {
				n++
			}
		}
		out = append(out, n)
	}
	return string(out)
}
