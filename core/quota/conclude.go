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
		out = append(out, m.refusedBy(c))
	}
	for _, c := range m.Claims {
		out = append(out, m.honest(c))
	}
	return out
}

// refusedBy adds who refuses, where the direct address showed it.
func (m *Measured) refusedBy(c Conclusion) Conclusion {
	a := m.Direct
	switch {
	case a.Way == "":
		return c
	case a.Passed:
		c.Text += " The gateway refuses: behind it no call was refused meanwhile."
	case a.Status == m.Status:
		c.Text += " The service refuses, or what stands before it at its direct address too."
	default:
		c.Text += " Whether the gateway refuses or the service was not found out."
	}
	c.Because = append(c.Because, fmt.Sprintf("at %s a call was answered %d meanwhile", a.Way, a.Status))
	return c
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
	case m.Side().Limit > 0, len(m.Stack) > 0:
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
func (m *Measured) FirstStretch() Calls {
	w := m.waits()
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
func (s Stack) Longest() (w Micros) {
	for _, l := range s {
		w = max(w, l.W)
	}
	return w
}

// Shortest is the shortest window of a stack, in ticks; 0 without one.
func (s Stack) Shortest() (least Micros) {
	for _, l := range s {
		if least == 0 || l.W < least {
			least = l.W
		}
	}
	return least
}

// Moment is how many calls a stack lets through in a moment, or at the same time.
func (s Stack) Moment() Calls {
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
		if f.CountAll {
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
		c.Text = fmt.Sprintf("At least %d wait for their turn.", s.Queue)
	case m.Crowd != nil && m.Crowd.Waited > 0:
		return m.Crowd.waits()
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
