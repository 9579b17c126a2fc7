package quota

import (
	"slices"
)

// Pattern is how calls come.
type Pattern string

const (
	Steady  Pattern = "steady" // evenly
	Bursts  Pattern = "bursts" // so many at once, again and again
	Edges   Pattern = "edges"  // as much as gets through: at the edges of windows, or whenever there is room
	FromLog Pattern = "log"    // as recorded
)

// Arrivals are the calls of a simulation.
type Arrivals struct {
	Pattern Pattern
	Count   int64   // for Steady and Bursts: calls in each Every
	Every   int64   // ticks
	For     int64   // ticks that the pattern goes on
	Times   []int64 // for FromLog, in order, from 0 on
}

// maxCalls is how many calls a simulation has at most.
const maxCalls = 2_000_000

// Calls are the ticks at which calls come, in order. cut is true when there
// would be more than are simulated.
func (a Arrivals) Calls(s Stack) (out []int64, cut bool) {
	if a.Pattern == FromLog {
		return a.Times[:min(len(a.Times), maxCalls)], len(a.Times) > maxCalls
	}
	if a.Pattern == Edges {
		return a.edges(s)
	}
	if a.Count < 1 || a.Every < 1 {
		return nil, false
	}
	for k := int64(0); ; k++ {
		at := k / a.Count * a.Every
		if a.Pattern == Steady {
			at += mulDiv(k%a.Count, a.Every, a.Count)
		}
		if at >= a.For {
			return out, false
		}
		if len(out) == maxCalls {
			return out, true
		}
		out = append(out, at)
	}
}

// edges is the pattern of the members' attacks of which most gets through.
func (a Arrivals) edges(s Stack) (best []int64, cut bool) {
	most := int64(-1)
	for _, l := range s {
		for _, how := range Attacks(l) {
			calls := how.Calls(l, max(1, a.For), maxCalls)
			if len(calls) == 0 {
				continue
			}
			g := NewGate(s)
			n := int64(0)
			for _, t := range calls {
				if g.Call(t, 1).OK {
					n++
				}
			}
			if n > most {
				best, most = calls, n
			}
		}
	}
	// The phase on the clock stays; the picture begins a little before.
	return best, len(best) == maxCalls
}

// Options of a simulation.
type Options struct {
	Nodes   Nodes
	Restart int64 // tick at which all counts are forgotten; 0 for never
	Hold    int64 // ticks that a call takes, for concurrency
	Bins    int   // of the picture; 0 is 60
}

// Bin is a part of the picture: calls that came in [From, From + width).
type Bin struct {
	From     int64
	Came     int64
	Admitted int64 // at once
	Queued   int64 // admitted after a wait
	Refused  int64
	Began    int64 // of all, those that began in this bin
	Ceiling  int64 // of the time from the first bin's beginning to this one's end
}

// Peak compares what began in an interval with its ceiling.
type Peak struct {
	Window  int64 // ticks of the interval
	Limit   int64 // the member's number
	Most    int64 // that began in any interval of that length
	At      int64 // where it begins
	Ceiling int64 // Unlimited where nothing limits it
}

// Simulated is what comes of a pattern.
type Simulated struct {
	From, Width int64 // of the bins
	Bins        []Bin
	Came        int64
	Admitted    int64
	Queued      int64
	Refused     int64
	LongestWait int64
	Peaks       []Peak // one for each member with a window
	Cut         bool   // there were more calls than are simulated
}

// Simulate runs calls through a stack.
func Simulate(s Stack, a Arrivals, opt Options) Simulated {
	calls, cut := a.Calls(s)
	out := Simulated{Cut: cut, Came: int64(len(calls))}
	bins := opt.Bins
	if bins < 1 {
		bins = 60
	}
	last := int64(0)
	if len(calls) > 0 {
		out.From, last = calls[0], calls[len(calls)-1]
	}
	span := max(last+1-out.From, min(a.For, 1<<50), 1)
	out.Width = max(1, ceilDiv(span, int64(bins)))
	out.Bins = make([]Bin, ceilDiv(span, out.Width))
	for i := range out.Bins {
		out.Bins[i].From = out.From + int64(i)*out.Width
	}
	at := func(t int64) *Bin {
		if i := (t - out.From) / out.Width; i >= 0 && i < int64(len(out.Bins)) {
			return &out.Bins[i]
		}
		return nil
	}
	nodes := newNodes(s, opt)
	type start struct{ came, at int64 }
	starts := make([]start, 0, len(calls))
	restarted := opt.Restart == 0
	for _, t := range calls {
		if !restarted && t >= opt.Restart {
			nodes.reset()
			restarted = true
			starts = slices.DeleteFunc(starts, func(x start) bool { // who waits is sent away
				lost := x.at >= opt.Restart && x.at > x.came
				if lost {
					b := at(x.came)
					b.Queued, b.Refused = b.Queued-1, b.Refused+1
					out.Queued, out.Refused = out.Queued-1, out.Refused+1
				}
				return lost
			})
		}
		d := nodes.call(t, opt.Hold)
		b := at(t)
		b.Came++
		switch {
		case !d.OK:
			b.Refused++
			out.Refused++
			continue
		case d.At > t:
			b.Queued++
			out.Queued++
		default:
			b.Admitted++
			out.Admitted++
		}
		starts = append(starts, start{t, d.At})
	}
	began := make([]int64, len(starts))
	for i, x := range starts {
		began[i] = x.at
		out.LongestWait = max(out.LongestWait, x.at-x.came)
		if b := at(x.at); b != nil {
			b.Began++
		}
	}
	out.measure(s, opt, began)
	return out
}

// measure fills in what a stack lets through at most, beside what began.
func (out *Simulated) measure(s Stack, opt Options, began []int64) {
	ceiling := func(d int64) int64 {
		c := s.CeilingOf(opt.Nodes, d)
		if opt.Restart > 0 && c != Unlimited {
			one, _ := s.Ceiling(d)
			c = mul(c/max(1, one), s.Restarted(d))
		}
		return c
	}
	for i := range out.Bins {
		out.Bins[i].Ceiling = ceiling(int64(i+1) * out.Width)
	}
	slices.Sort(began) // several nodes begin out of order
	for _, l := range s {
		if l.W < 1 || l.Kind == Concurrent {
			continue
		}
		p := Peak{Window: l.W, Limit: l.N, Ceiling: ceiling(l.W)}
		p.Most, p.At = busiest(began, l.W)
		out.Peaks = append(out.Peaks, p)
	}
}

// busiest is the interval of w ticks in which most begin.
func busiest(began []int64, w int64) (most, at int64) {
	k := 0
	for i, t := range began {
		for began[k] <= t-w {
			k++
		}
		if n := int64(i - k + 1); n > most {
			most, at = n, began[k]
		}
	}
	return most, at
}

// several are the nodes of a simulation; calls go to them in turn.
type several struct {
	gates []*Gate
	turn  int
	sync  int64
	next  int64 // when they tell each other again
	took  []int64
	span  int64 // how far back what was taken counts
}

func newNodes(s Stack, opt Options) *several {
	n := max(1, opt.Nodes.N)
	if opt.Nodes.Sync == 0 {
		n = 1
	}
	v := &several{sync: opt.Nodes.Sync}
	for range n {
		v.gates = append(v.gates, NewGate(s))
	}
	for _, l := range s {
		v.span = max(v.span, 2*l.W)
		if l.Kind == Bucket && l.N > 0 {
			v.span = max(v.span, mulDiv(l.Burst+1, l.W, l.N))
		}
	}
	v.next = v.sync
	return v
}

func (v *several) reset() {
	for _, g := range v.gates {
		g.Reset()
	}
	v.took = v.took[:0]
}

func (v *several) call(t, hold int64) Decision {
	if len(v.gates) > 1 && v.sync != Never && t >= v.next {
		v.tell(t, hold)
	}
	g := v.gates[v.turn]
	v.turn = (v.turn + 1) % len(v.gates)
	d := g.Call(t, hold)
	if d.OK && len(v.gates) > 1 && v.sync != Never {
		v.took = append(v.took, d.At)
	}
	return d
}

// tell makes every node count what all of them have taken.
func (v *several) tell(t, hold int64) {
	v.next = (t/v.sync + 1) * v.sync
	slices.Sort(v.took)
	k, _ := slices.BinarySearch(v.took, t-v.span)
	v.took = v.took[k:]
	for _, g := range v.gates {
		for _, l := range g.limits {
			l.Reset()
			for _, at := range v.took {
				l.Take(at, hold)
			}
		}
	}
}
