package quota

// Attack is a pattern of calls that gets as much through a limiter as it can.
type Attack struct {
	Name   string
	Before int64 // ticks before the interval, relative to its beginning, at which one call opens a window; 0 for none
	Start  int64 // where on the clock the interval begins
}

// Attacks are the patterns of which one reaches the ceiling of a limit, for
// every interval.
func Attacks(l Limit) []Attack {
	list := []Attack{{Name: "from idle"}}
	switch l.Kind {
	case FixedClock:
		list = append(list, Attack{Name: "riding the window's edge", Start: 10*l.W - 1})
	case TwoCounters:
		list = append(list, Attack{Name: "riding the window's edge", Start: 10*l.W - 1})
	case FixedFirst:
		if l.N > 1 && l.W > 1 {
			// A call opened the window early; its rest ends with the first tick.
			list = append(list, Attack{Name: "riding the window's edge", Before: l.W - 1, Start: 10 * l.W})
		}
	default:
	}
	return list
}

// Reached is how many calls begin in d ticks when one comes whenever it is
// admitted; for two counters as late in each window as it can.
func (a Attack) Reached(l Limit, d int64) int64 {
	n := int64(0)
	for _, t := range a.Calls(l, d, 1<<40) {
		if t >= a.Start && t < a.Start+d {
			n++
		}
	}
	return n
}

// Calls are the ticks at which the calls of an attack come, most of them in an
// interval of d ticks from Start on; at most so many.
func (a Attack) Calls(l Limit, d, most int64) (out []int64) {
	g := NewGate(Stack{l})
	if a.Before > 0 {
		out = append(out, a.Start-a.Before)
		g.Call(a.Start-a.Before, 1)
	}
	for t := a.Start; t < a.Start+d && int64(len(out)) < most; {
		if c := g.Call(t, 1); c.OK {
			out = append(out, t)
			continue
		} else if c.Retry >= a.Start+d {
			break
		} else {
			t = c.Retry
		}
		if l.Kind == TwoCounters {
			// The count before weighs least at the end of a window.
			end := (floorDiv(t, l.W)+1)*l.W - 1
			t = min(max(t, end), a.Start+d-1)
		}
	}
	return out
}
