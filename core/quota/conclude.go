package quota

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Sureness is how certain a conclusion is.
type Sureness string

const (
	Proven   Sureness = "proven"   // counted: it holds whatever limiter is there
	Likely   Sureness = "likely"   // nothing else that is known explains what was seen
	Possible Sureness = "possible" // one of several that explain it
	Claimed  Sureness = "said"     // the service says so, and it was not put to the test
	Open     Sureness = "open"     // not found out
)

// Conclusion is one thing that a drill found out, or could not.
type Conclusion struct {
	About   string
	Text    string
	Sure    Sureness
	Because []string // what was seen
	Wrong   bool     // what is said of it does not hold
}

// What conclusions are about, in this order.
const (
	AboutLimiter = "limiter"
	AboutLimit   = "limit"
	AboutWindow  = "window"
	AboutRefused = "refused calls"
	AboutQueue   = "queue"
	AboutAtOnce  = "at the same time"
	AboutKey     = "counted by"
	AboutRoutes  = "routes"
	AboutNodes   = "nodes"
	AboutRefusal = "refusal"
)

// Conclude says what a drill found out about each thing that makes a limiter,
// beside what is declared for the caller who was sent.
func (m *Measured) Conclude(declared Stack) (out []Conclusion) {
	if m.Full || len(m.Calls) == 0 {
		return []Conclusion{{About: AboutLimiter, Text: m.Found(), Sure: Open}}
	}
	out = append(out, m.limiter(), m.limitFound(), m.windowFound(declared), m.refusedCalls(), m.queueFound())
	out = append(out, m.atOnce(declared), m.countedBy(), m.routesFound(), m.nodesFound(declared))
	out = slices.DeleteFunc(out, func(c Conclusion) bool { return c.Text == "" })
	if m.Status != 0 {
		c := Conclusion{About: AboutRefusal, Text: fmt.Sprintf("Refused with %d, and asks to come again in %s.",
			m.Status, show(m.Said)), Sure: Proven, Because: m.Fields}
		if m.Said < 0 {
			c.Text = fmt.Sprintf("Refused with %d; it does not say when to come again.", m.Status)
		}
		out = append(out, c)
	}
	for _, c := range m.Claims {
		out = append(out, m.honest(c))
	}
	return out
}

func show(ticks int64) string {
	d := Span(ticks)
	if d < time.Millisecond {
		return "under a millisecond"
	}
	if d >= 10*time.Second {
		return d.Round(time.Second / 10).String()
	}
	return d.Round(time.Millisecond).String()
}

func (m *Measured) limiter() Conclusion {
	c := Conclusion{About: AboutLimiter, Text: m.Found(), Sure: Open}
	n, ok := len(m.Calls), 0
	for _, s := range m.Calls {
		if s.OK {
			ok++
		}
	}
	c.Because = []string{fmt.Sprintf("%d calls in %.1f s, %d of them admitted", n, m.Seconds, ok)}
	switch {
	case m.Disturbed() || m.Failed > 0: // it was not found out
	case len(m.Fits) > 0:
		if c.Sure = Possible; len(kindsOf(m.Fits)) == 1 {
			c.Sure = Likely
		}
		of := len(alone(m.Calls))
		for _, f := range m.Fits {
			but := ""
			if f.Misses > 0 {
				but = fmt.Sprintf(" but %d of", f.Misses)
			}
			c.Because = append(c.Because, fmt.Sprintf("%s explains all%s %d calls", f.Name(), but, of))
		}
	case m.Side().Limit > 0:
		c.Sure = Likely
	case !m.Refused() && !m.Waits:
		c.Sure = Proven // as far as it goes
	}
	return c
}

func kindsOf(fits []Fit) (out []Kind) {
	for _, f := range fits {
		if !slices.Contains(out, f.Kind) {
			out = append(out, f.Kind)
		}
	}
	return out
}

// number is what a fit holds at once.
func (f Fit) number() int64 {
	if f.Kind == Bucket {
		return f.Burst
	}
	return f.N
}

// limitFound: how many at once.
func (m *Measured) limitFound() Conclusion {
	c := Conclusion{About: AboutLimit, Sure: Likely}
	first := m.FirstStretch()
	switch {
	case len(m.Fits) > 0:
		low, high := m.Fits[0].number(), m.Fits[0].number()
		for _, f := range m.Fits {
			low, high = min(low, f.number()), max(high, f.number())
		}
		c.Text = fmt.Sprintf("%d at once, from full.", low)
		if high > low {
			c.Text, c.Sure = fmt.Sprintf("Between %d and %d at once, from full.", low, high), Possible
		}
	case m.Refused() && first > 0 && m.Side().Limit == 0:
		c.Text, c.Sure = fmt.Sprintf("At least %d at once; the next was refused.", first), Proven
	case m.Waits && first > 0:
		c.Text, c.Sure = fmt.Sprintf("%d at once; the next waits for its turn.", first), Proven
	default:
		return Conclusion{}
	}
	c.Because = []string{fmt.Sprintf("the first %d calls were admitted one after the other, in %s", first,
		show(m.firstTook()))}
	return c
}

// FirstStretch is how many calls were admitted before the first was refused, or
// waited.
func (m *Measured) FirstStretch() int64 {
	w := waitsOf(m.Calls)
	for i, s := range m.Calls {
		if !s.OK || s.Batch > 0 || w.waited(i, s) {
			return int64(i)
		}
	}
	return int64(len(m.Calls))
}

func (m *Measured) firstTook() int64 {
	if n := m.FirstStretch(); n > 0 {
		s := m.Calls[n-1]
		return s.At + s.Took - m.Calls[0].At
	}
	return 0
}

// windowFound: until when, or how fast it fills.
func (m *Measured) windowFound(declared Stack) Conclusion {
	c := Conclusion{About: AboutWindow, Sure: Likely}
	if len(m.Fits) > 0 {
		f := m.Fits[0]
		kinds := kindsOf(m.Fits)
		if len(kinds) > 1 {
			c.Sure = Possible
		}
		var names []string
		for _, k := range kinds {
			i := slices.IndexFunc(m.Fits, func(f Fit) bool { return f.Kind == k })
			g := m.Fits[i]
			text := show(g.W)
			if g.Kind == Bucket {
				text = "one more each " + text
			}
			if g.WHigh > g.WLow {
				text += fmt.Sprintf(" (%s to %s fit)", show(g.WLow), show(g.WHigh))
			}
			if !slices.Contains(names, text) {
				names = append(names, text)
			}
		}
		c.Text = upper(strings.Join(names, "; ")) + "."
		if w := m.longestShut(); w > 0 && f.Kind != Bucket {
			c.Because = append(c.Because, fmt.Sprintf("refused for %s, then admitted again", show(w)))
		}
		return c
	}
	if !m.Refused() && !m.Waits || m.Side().Limit > 0 {
		return Conclusion{}
	}
	for _, l := range m.Claims {
		if l.Window > 0 {
			return Conclusion{About: AboutWindow, Sure: Claimed, Text: fmt.Sprintf("%s, as %s says; the drill did "+
				"not wait for it.", show(l.Window), l.name())}
		}
	}
	if m.Said > 0 {
		return Conclusion{About: AboutWindow, Sure: Claimed, Text: fmt.Sprintf("Room again in %s, as it says; the "+
			"drill did not wait for it.", show(m.Said))}
	}
	text := "Longer than the drill could wait."
	if m.longestShut() > 0 || m.Kinds > 0 {
		text = "Not found out."
	} else if len(declared) > 0 && declared.Longest() > m.span() {
		text += fmt.Sprintf(" The declared one is %s; a lowered limit in the target's `drill` would let it be "+
			"measured.", show(declared.Longest()))
	}
	return Conclusion{About: AboutWindow, Sure: Open, Text: text}
}

// Longest is the longest window of a stack, in ticks; 0 where nothing has one.
func (s Stack) Longest() (w int64) {
	for _, l := range s {
		w = max(w, l.W)
	}
	return w
}

// Shortest is the shortest window of a stack, in ticks; 0 without one.
func (s Stack) Shortest() (least int64) {
	for _, l := range s {
		if least == 0 || l.W < least {
			least = l.W
		}
	}
	return least
}

// Moment is how many calls a stack lets through in a moment, or at the same time.
func (s Stack) Moment() int64 {
	if len(s) == 1 && s[0].Kind == Concurrent {
		return s[0].N
	}
	n, _ := s.Ceiling(2)
	return n
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (m *Measured) span() int64 {
	n := len(m.Calls)
	return m.Calls[n-1].At + m.Calls[n-1].Took - m.Calls[0].At
}

// longestShut is the longest time from a refusal to the next admission.
func (m *Measured) longestShut() (longest int64) {
	shut := int64(-1)
	for _, s := range alone(m.Calls) {
		switch {
		case !s.OK && shut < 0:
			shut = s.At
		case s.OK && shut >= 0:
			longest, shut = max(longest, s.At-shut), -1
		}
	}
	return longest
}

// refusedCalls: whether they are counted.
func (m *Measured) refusedCalls() Conclusion {
	all, some := false, false
	for _, f := range m.Fits {
		if f.Kind == SlidingLog && f.CountAll {
			all = true
		} else {
			some = true
		}
	}
	switch {
	case len(m.Fits) == 0:
		return Conclusion{}
	case all && some:
		return Conclusion{About: AboutRefused, Sure: Open, Text: "Whether refused calls count was not found out."}
	case all:
		return Conclusion{About: AboutRefused, Sure: Likely,
			Text: "They count too: who goes on calling stays shut out."}
	}
	if !m.Refused() {
		return Conclusion{} // they waited
	}
	c := Conclusion{About: AboutRefused, Sure: Likely, Text: "They do not count: it opened while calls went on being " +
		"refused."}
	if n := m.asked(); n > 0 {
		c.Because = []string{fmt.Sprintf("%d calls were refused before one was admitted again", n)}
	}
	return c
}

// asked is the most refused calls before one was admitted again.
func (m *Measured) asked() (most int) {
	n := 0
	for _, s := range alone(m.Calls) {
		if s.OK {
			most, n = max(most, n), 0
			continue
		}
		n++
	}
	return most
}

// queueFound: how many may wait.
func (m *Measured) queueFound() Conclusion {
	c := Conclusion{About: AboutQueue, Sure: Likely}
	s := m.Side()
	waits := 0
	for _, waited := range m.Waited()[:len(alone(m.Calls))] {
		if waited {
			waits++
		}
	}
	switch {
	case s.Queue > 0 && s.Refused:
		c.Text = fmt.Sprintf("%d wait for their turn, the next is refused.", s.Queue)
	case s.Queue > 0:
		c.Text, c.Sure = fmt.Sprintf("At least %d wait for their turn.", s.Queue), Proven
	case m.Queued > 0 && m.Status != 0:
		c.Text = fmt.Sprintf("%d wait for their turn, the next is refused.", m.Queued)
		c.Because = []string{fmt.Sprintf("of calls sent together while others waited, %d were not answered and the "+
			"others were refused", m.Queued)}
		return c
	case m.Queued > 0:
		c.Text, c.Sure = fmt.Sprintf("At least %d wait for their turn.", m.Queued), Proven
		return c
	case waits > 2 || m.Waits:
		c.Text = "Calls wait for their turn; how many may was not found out."
		c.Sure = Open
	default:
		return Conclusion{}
	}
	if waits > 0 {
		c.Because = append(c.Because, fmt.Sprintf("%d calls one after the other were answered late; an answer by "+
			"itself takes %s", waits, show(s.Usual)))
	}
	c.Because = append(c.Because, s.Seen...)
	return c
}

// Side is what calls at the same time showed.
type Side struct {
	Most    int   // sent together at most
	Limit   int   // how many run at once; 0 when nothing limits them, or it was not found out
	Queue   int   // how many waited at most
	Refused bool  // some were refused
	Rate    bool  // one alone was refused right after: it was not that they came together
	Usual   int64 // ticks that an answer takes by itself
	Trip    int64 // of them on the way
	Ran     int   // how many ran at the same moment at least, of those that were admitted at once
	All     bool  // of the most that were sent together, all were admitted at once
	Seen    []string
}

// work is how long the service works on a call at least: the least time that one
// alone took before any were sent together, without the way. It is the base line
// that calls at the same time are held against; 0 without one.
func (m *Measured) work() int64 {
	least := int64(-1)
	for _, s := range alone(m.Calls) {
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
	w := waitsOf(m.Calls)
	out.Usual, out.Trip = w.usual, m.Trip
	quick := m.quick(w)
	waits := m.waiting()
	work := m.work()
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
			out.Ran = max(out.Ran, ranTogether(admitted, work))
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
	if out.Refused = len(refusing) > 0; out.Refused {
		out.Limit, out.Queue = agreed(refusing)
	}
	if out.Rate || len(m.Fits) > 0 {
		out.Limit = 0 // the rate explains it
	}
	return out
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
func (m *Measured) waiting() bool { return someWait(m.Calls) }

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

// countedBy: what the count goes by, from other ways and other callers.
func (m *Measured) countedBy() Conclusion {
	c := Conclusion{About: AboutKey, Sure: Likely}
	var around []string
	for _, a := range m.Around {
		how := "refused too"
		if a.Passed {
			how = "got through"
			around = append(around, a.Way)
		} else if a.Status != m.Status {
			how = fmt.Sprintf("answered %d", a.Status)
		}
		c.Because = append(c.Because, "with "+a.Way+": "+how)
	}
	switch {
	case m.Other != "" && m.OtherStatus == m.Passes:
		c.Text = "Each caller by itself: " + m.Other + " was admitted meanwhile."
		if slices.ContainsFunc(m.Around, func(a Around) bool { return a.Way == FreshToken && !a.Passed }) {
			c.Text = "The caller, not the token: " + m.Other + " was admitted meanwhile, a fresh token of the same " +
				"caller was not."
		}
	case m.Other != "":
		c.Text = "What callers share: " + m.Other + " was turned away as well."
	case len(m.Around) == 0:
		return Conclusion{}
	case len(around) == 0:
		c.Text = "By none of what was changed: no other way got through."
	default:
		c.Text = "By something that the caller writes."
	}
	if b := m.Bare; b.Way != "" {
		switch {
		case !b.Passed:
			c.Because = append(c.Because, fmt.Sprintf("%s: answered %d", b.Way, b.Status))
		case b.Status == m.Passes:
			c.Because = append(c.Because, b.Way+": admitted, counted by something else")
		default:
			c.Because = append(c.Because, fmt.Sprintf("%s: answered %d, counted by something else or not at all", b.Way,
				b.Status))
		}
	}
	if len(around) > 0 {
		c.Text += " Stepped around with " + strings.Join(around, ", ") + "."
	}
	return c
}

func (m *Measured) routesFound() Conclusion {
	if m.Route.Way == "" {
		return Conclusion{}
	}
	c := Conclusion{About: AboutRoutes, Sure: Likely, Because: []string{fmt.Sprintf("%s was answered %d while this "+
		"one was refused", m.Route.Way, m.Route.Status)}}
	switch {
	case m.Route.Passed:
		c.Text = "Each route has its own count."
	case m.Route.Status == m.Status:
		c.Text = "Routes share one count."
	default:
		c.Text, c.Sure = "Whether routes share the count was not found out.", Open
	}
	return c
}

// nodesFound: whether several nodes count alone. What answers say is left falls
// by one with each call of one count, and more slowly the more counts there are.
func (m *Measured) nodesFound(declared Stack) Conclusion {
	c := Conclusion{About: AboutNodes, Sure: Likely}
	first := m.FirstStretch()
	for _, l := range m.Claims {
		n := min(first, int64(len(l.Left)))
		if n < 4 {
			continue
		}
		high, low, said := int64(-1), int64(-1), int64(0)
		for _, v := range l.Left[:n] {
			if v < 0 {
				continue
			}
			if said++; high < 0 || v > high {
				high = v
			}
			if low < 0 || v < low {
				low = v
			}
		}
		if said < 4 || high == low {
			continue
		}
		if k := (said + (high-low+1)/2) / (high - low + 1); k >= 2 {
			c.Text = fmt.Sprintf("%d that count alone.", k)
			c.Because = []string{fmt.Sprintf("%s says that %d to %d are left over %d calls: each number about %d times",
				l.name(), high, low, said, k)}
			return c
		}
		c.Text = "One count, whichever nodes the calls came to."
		c.Because = []string{fmt.Sprintf("%s falls from %d to %d over %d calls", l.name(), high, low, said)}
		return c
	}
	if !m.Refused() || len(declared) == 0 || first == 0 || m.Side().Limit > 0 {
		return Conclusion{}
	}
	moment, _ := declared.Ceiling(max(1, m.firstTook()))
	n := declared.First()
	switch k := first / max(1, n); {
	case first > moment && k >= 2:
		c.Text, c.Sure = fmt.Sprintf("As %d nodes that count alone would; or the limit is %d times as high.", k, k),
			Possible
		c.Because = []string{fmt.Sprintf("%d calls were admitted before one was refused, %d are declared", first, n)}
	case first <= moment:
		c.Text = "One count, whichever nodes the calls came to."
		c.Because = []string{fmt.Sprintf("%d calls were admitted before one was refused, %d are declared", first, n)}
	default:
		return Conclusion{}
	}
	return c
}

func (c Claim) name() string {
	if c.Policy != "" {
		return fmt.Sprintf("%s %q", c.Form, c.Policy)
	}
	return c.Form
}

// FreshToken is the way around of a new token of the same caller.
const FreshToken = "a fresh token of the same caller"
