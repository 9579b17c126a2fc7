package quota

import (
	"fmt"
	"slices"
)

// Side is what calls at the same time showed.
type Side struct {
	Most    int   // sent together at most
	Limit   int   // how many run at once; 0 when nothing limits them, or it was not found out
	Queue   int   // how many waited at most
	Refused bool  // some were refused
	Rate    bool  // one alone was refused right after: it was not that they came together
	Usual   int64 // ticks that an answer takes by itself
	Trip    int64 // of them on the way
	Ran     int   // how many ran at the same moment at least, of those that were admitted at once; twice so
	All     bool  // of the most that were sent together, all were admitted at once
	Seen    []string
}

// work is how long the service works on a call at least: the least time that one
// took, without the way. It is the base line that calls at the same time are held
// against; 0 without one.
func (m *Measured) work() int64 {
	least := int64(-1)
	for _, s := range m.Calls {
		if s.OK && !s.Gap && (least < 0 || s.Took < least) {
			least = s.Took
		}
	}
	return max(0, least-m.Trip) * 4 / 5 // it may be a little quicker another time
}

// ranTogether is how many calls must have run at the same moment, whenever within
// its time each of them did: between the first sent and the last answered of some
// of them there is only so much time, and each needs work of it.
func ranTogether(calls []Seen, work int64) (least int) {
	for _, from := range calls {
		for _, to := range calls {
			s, e, sum := from.At, to.At+to.Took, int64(0)
			for _, c := range calls {
				if c.At >= s && c.At+c.Took <= e {
					sum += min(work, c.Took)
				}
			}
			if e > s {
				least = max(least, int((sum+(e-s)-1)/(e-s)))
			}
		}
	}
	return least
}

// quick is how long a call of a batch takes at most that did not wait. A batch is sent when
// nothing waits any more, so that who waits in it waits for a whole turn.
func (m *Measured) quick(w wait) int64 {
	if each := spacing(alone(m.Calls)); each > 0 {
		return max(w.quick(), w.usual+each/2)
	}
	return w.quick()
}

// Side reads the batches of a drill. That all of a batch are answered, some
// later, may be the machine; that some are refused is not.
func (m *Measured) Side() (out Side) {
	w := m.waits()
	out.Usual, out.Trip = w.usual, m.Trip
	quick := m.quick(w)
	waits := m.waiting()
	work := m.work()
	var ran []int         // in each batch, at the same moment
	var refusing [][2]int // of batches that were refused in part, how many were admitted at once and later
	for i := 0; i < len(m.Calls); {
		if m.Calls[i].Batch == 0 {
			i++
			continue
		}
		k, at, late, refused, gap := i, 0, 0, 0, false
		var admitted []Seen
		for k < len(m.Calls) && m.Calls[k].Batch == m.Calls[i].Batch {
			switch s := m.Calls[k]; {
			case s.At-m.Calls[i].At > max(w.usual/2, leastWait):
				// The pace of the target, or a slow machine, kept it apart.
			case !s.OK:
				refused++
			case s.Took > quick:
				late++
			default:
				at++
				admitted = append(admitted, s)
			}
			gap = gap || m.Calls[k].Gap
			k++
		}
		n := at + late + refused
		if n < 2 {
			out.Seen = append(out.Seen, fmt.Sprintf("%d calls were not sent together: the target's pace keeps them "+
				"apart", k-i))
			i = k
			continue
		}
		if n >= out.Most {
			out.Most, out.All = n, at == n
		}
		if work >= runsLongEnough && !gap {
			ran = append(ran, ranTogether(admitted, work))
		}
		text := fmt.Sprintf("of %d at the same time %d were admitted at once", n, at)
		if late > 0 {
			text += fmt.Sprintf(", %d later", late)
		}
		if refused > 0 {
			text += fmt.Sprintf(", %d refused", refused)
		}
		if alone := k < len(m.Calls) && m.Calls[k].Batch == 0; alone && refused > 0 {
			switch s := m.Calls[k]; {
			case !s.OK:
				out.Rate = true
				text += "; one alone right after was refused too"
			case s.Took > w.from || s.Took > 2*quick+waitFloor:
				out.Rate = true
				text += "; one alone right after had to wait too"
			default:
				text += "; one alone right after was admitted"
			}
		}
		if gap {
			text += "; the drill stood still meanwhile"
		}
		out.Seen = append(out.Seen, text)
		switch {
		case refused > 0:
			refusing = append(refusing, [2]int{at, late})
		case waits && len(refusing) == 0:
			out.Queue = max(out.Queue, late)
		}
		i = k
	}
	// A busy machine makes the base line long and a batch look as if it had run together, once.
	if slices.Sort(ran); len(ran) > 1 {
		out.Ran = ran[len(ran)-2]
	}
	out.settle(m, refusing, quick, waits)
	return out
}

// settle says how many run at once and how many wait, by the batches that were refused in part.
func (s *Side) settle(m *Measured, refusing [][2]int, quick int64, waits bool) {
	if s.Refused = len(refusing) > 0; s.Refused {
		s.Limit, s.Queue = agreed(refusing)
	}
	if s.Rate || len(m.Fits) > 0 || someWait(m.Calls) {
		s.Limit = 0 // the rate explains it, or may
	}
	if s.Queue > 0 && !waits && m.lateByItself(quick) {
		s.Limit, s.Queue = 0, 0 // who was late need not have waited
	}
}

// lateByItself says whether calls by themselves are answered late often enough that who was
// late in a batch may have been so by chance: more than one in fifty.
func (m *Measured) lateByItself(quick int64) bool {
	late, all := 0, 0
	for i, c := range m.Calls {
		if i > 0 && c.Batch == 0 && c.OK {
			if all++; c.Took > quick+waitFloor {
				late++
			}
		}
	}
	return late*50 > all
}

// agreed is how many run at once and how many wait, by what batches that were refused in part
// admitted at once and later. A slow machine makes an answer late or a call leave late, so
// that one batch may look otherwise; how many were admitted in all is the same, or more where
// some had ended before others came. Most of those that admitted least must agree: without
// that it is neither.
func agreed(batches [][2]int) (limit, queue int) {
	all := func(b [2]int) int { return b[0] + b[1] }
	least := all(slices.MinFunc(batches, func(a, b [2]int) int { return all(a) - all(b) }))
	of, like := 0, map[[2]int]int{}
	for _, b := range batches {
		if all(b) == least {
			of++
			like[b]++
		}
	}
	for b, n := range like {
		if 2*n > of {
			return b[0], b[1]
		}
	}
	return 0, 0
}

// waiting says whether calls one after the other waited for their turn.
func (m *Measured) waiting() bool { return m.waits().from < never && someWait(m.Calls) }

// waits tells calls that waited from those that were answered at once; where that is not shown
// nothing waited.
func (m *Measured) waits() wait {
	w := waitsOf(m.Calls)
	if !w.stands(m.Calls) {
		w.from = never
	}
	return w
}

// AtOnce is how many ran at the same time, -1 where that does not show.
func (s Side) AtOnce() int {
	switch {
	case s.Limit > 0:
		return s.Limit
	case s.Ran == 0:
		return -1
	}
	return s.Ran
}

// Long says whether calls take long enough to run beside each other when they
// are sent together.
func (s Side) Long() bool { return s.Usual-s.Trip >= runsLongEnough }

func (m *Measured) atOnce(declared Stack) Conclusion {
	s := m.Side()
	c := Conclusion{About: AboutAtOnce, Because: s.Seen, Sure: Likely}
	switch {
	case s.Most == 0 && len(s.Seen) > 0:
		c.Text, c.Sure = "Not found out: at the target's pace calls do not run beside each other.", Open
	case s.Most == 0:
		return Conclusion{}
	case s.Limit > 0:
		c.Text = fmt.Sprintf("%d run at the same time; more are refused.", s.Limit)
		if s.Queue > 0 {
			c.Text = fmt.Sprintf("%d run at the same time, %d more wait, and more are refused.", s.Limit, s.Queue)
		}
	case s.Rate:
		c.Text, c.Sure = "A limit on how fast calls come, above what was sent one after the other: one alone was "+
			"turned away as well.", Possible
	case len(m.Fits) > 0:
		return Conclusion{} // the rate explains it
	case !s.Long() && !(len(declared) > 0 && declared[0].Kind == Concurrent):
		return Conclusion{} // nobody asked
	case !s.Long():
		c.Text, c.Sure = fmt.Sprintf("Not found out: the service takes %s for a call, too short to run beside "+
			"another for sure.", show(max(0, s.Usual-s.Trip))), Open
	case !s.All:
		c.Text, c.Sure = "Not found out: some of those at the same time were answered later than one by itself.", Open
	default:
		c.Text = fmt.Sprintf("%d at the same time were all admitted; at least %d of them ran together.", s.Most, s.Ran)
	}
	return c
}

// runsLongEnough is how long a call must take so that calls which are sent
// together run together.
const runsLongEnough = 15_000
