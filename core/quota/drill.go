package quota

import (
	"slices"
)

// Budget is what a drill may use.
type Budget struct {
	Calls int
	Ticks int64
}

// Step is what a drill does next.
type Step struct {
	At   int64 // tick from which on; 0 is at once
	Many int   // calls, one after the other; a drill ends with none
	Stop bool  // after the first refusal, or the first admission when it waits for one
	Why  string
}

// Drill finds out what limits calls, from answers alone. It says what to send
// next, from what it has seen; nothing is sent here and no clock is read.
//
// It begins with calls one after the other until one is refused; waits, asking
// rarely, until one is admitted again; does so twice; and then, while several
// kinds of limiter explain what was seen, chooses the pattern of calls by which
// they part most.
type Drill struct {
	Budget Budget
	Burst  int   // calls that the first stretch has at most
	Hint   int64 // ticks after which the service said that it admits again; 0 when it did not

	Calls  []Seen
	state  state
	rounds int   // waits that ended
	asked  int64 // tick of the last question while waiting
	shut   int64 // tick of the refusal that began the wait
	begun  int64
	queue  []Step
	edges  int
	Fits   []Fit
}

type state int

const (
	filling state = iota
	waiting
	probing
	done
)

// Next says what to do at tick now.
func (d *Drill) Next(now int64) Step {
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
		return Step{Many: min(left, d.fill()), Stop: true, Why: "calls until one is refused"}
	case waiting:
		at := max(d.asked+d.gap(), now)
		if at-d.begun >= d.Budget.Ticks {
			d.finish()
			return Step{}
		}
		return Step{At: at, Many: 1, Why: "waiting until one is admitted again"}
	case probing:
		if len(d.queue) == 0 && !d.design(now) {
			d.finish()
			return Step{}
		}
		s := d.queue[0]
		d.queue = d.queue[1:]
		if s.At-d.begun >= d.Budget.Ticks {
			d.finish()
			return Step{}
		}
		s.Many = min(s.Many, left)
		return s
	}
	return Step{}
}

// fill is how many calls a stretch has at most: later ones no more than a
// little above what the first had.
func (d *Drill) fill() int {
	if list := stretches(d.Calls); len(list) > 1 {
		return list[0].to - list[0].from + 2
	}
	return d.Burst
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
	d.Calls = append(d.Calls, s)
	switch d.state {
	case filling:
		if !s.OK {
			d.state, d.shut, d.asked = waiting, s.At, s.At
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
	}
}

// Filled is told when a stretch ended without a refusal.
func (d *Drill) Filled() {
	if d.state == filling {
		if d.rounds == 0 {
			d.finish()
			return
		}
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
	d.Fits = Infer(d.Calls)
}

// design chooses the pattern by which the remaining fits part most, and puts
// its steps into the queue. False when none tells them apart, or no more may be
// tried.
func (d *Drill) design(now int64) bool {
	d.Fits = Infer(d.Calls)
	rest := Remaining(d.Fits, len(d.Calls))
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
	if n < 2 {
		return false
	}
	// From idle: some of the calls, the rest a part of the window later, and
	// after its end as many as get in.
	most, best := 1, []Step(nil)
	try := func(steps []Step) {
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
			steps = append(steps, Step{At: steps[0].At + rest[0].W*(k+1)*6/10, Many: 1, Why: "a little faster than it fills"})
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
// closely: calls a little faster than it admits them.
func (d *Drill) refine(f Fit, now int64) bool {
	if f.W == 0 || (f.WHigh-f.WLow)*100 <= f.W*7 {
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
