package quota

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// First is how many calls a stack admits at once when nothing came before: its
// least number.
func (s Stack) First() Calls {
	n := int64(Unlimited)
	for _, l := range s {
		if l.Kind == Bucket {
			n = min(n, l.Burst)
		} else {
			n = min(n, l.N)
		}
	}
	return n
}

// Around is a call that was made while calls were refused, another way.
type Around struct {
	Way    string `json:"way"`
	Status int    `json:"status"`
	Passed bool   `json:"passed"` // it was answered as an admitted call each time, and plain ones between were refused
}

// Measured is what a drill saw.
type Measured struct {
	Calls []Seen `json:"calls"`
	Fits  []Fit  `json:"fits,omitempty"` // that remain
	// of limiters that explain what was seen; more than are named when there are no fits
	Kinds       int      `json:"kinds,omitempty"`
	Status      int      `json:"status"` // of the first refusal; 0 when nothing was refused
	Passes      int      `json:"passes"` // the status of calls that were not
	Said        int64    `json:"said"`   // ticks that Retry-After asked for; -1 without
	Fields      []string `json:"fields,omitempty"`
	Around      []Around `json:"around,omitempty"`
	Bare        Around   `json:"bare,omitzero"`   // without the credential, while calls were refused
	Other       string   `json:"other,omitempty"` // another caller, who was sent while calls were refused
	OtherStatus int      `json:"otherStatus,omitempty"`
	Route       Around   `json:"route,omitzero"`   // another route that the quota counts, while this one was refused
	Direct      Around   `json:"direct,omitzero"`  // past the gateway, while calls were refused
	Crowd       *Crowd   `json:"crowd,omitempty"`  // nil where the quota was not filled beyond what may wait
	Trip        int64    `json:"trip,omitempty"`   // ticks of a round trip to the target
	Claims      []Claim  `json:"claims,omitempty"` // what answers say of limits
	Full        bool     `json:"full,omitempty"`   // the very first call was refused
	// calls during which the drill stood still: the processor was taken away
	Stood   int     `json:"stood,omitempty"`
	Failed  int     `json:"failed,omitempty"` // calls that the service failed at, which are no part of Calls
	Waits   bool    `json:"waits,omitempty"`  // the last call was not answered in the drill's time
	Cap     Cap     `json:"cap,omitzero"`     // a second count, which ended what the Fits explain
	Stack   Stack   `json:"stack,omitempty"`  // the declared limiters that together explain what was seen
	Budget  int     `json:"budget"`
	Seconds float64 `json:"seconds"`
}

// Beyond says whether more calls began in some interval than a stack lets
// through in any: the interval is measured from before the first was sent to
// after the last was answered, and a little more since clocks do not run alike,
// so that it is never too short.
func (m *Measured) Beyond(s Stack) (calls, ceiling Calls, in time.Duration, yes bool) {
	var ok []Seen
	for _, c := range m.Calls {
		if c.OK {
			ok = append(ok, c)
		}
	}
	worst, ends := int64(0), make([]int64, 0, len(ok))
	for i := range ok {
		// One that waited may be answered after a later one.
		ends = ends[:0]
		for _, c := range ok[i:] {
			ends = append(ends, c.At+c.Took)
		}
		slices.Sort(ends)
		for k := range ends {
			n, d := int64(k+1), ends[k]-ok[i].At+1
			if c, _ := s.Ceiling(d + d/clocksApart + 2); n > c && n-c > worst {
				worst, calls, ceiling, in, yes = n-c, n, c, Span(d), true
			}
		}
		if i > 400 {
			break // a stretch begins early or not at all
		}
	}
	return calls, ceiling, in, yes
}

// clocksApart: two clocks run apart by less than one in so many. They are slewed
// by 500 in a million at most (RFC 5905 section 11.3).
const clocksApart = 1000

// Lasted is how long calls were sent.
func (m *Measured) Lasted() Micros {
	if len(m.Calls) == 0 {
		return 0
	}
	return m.span()
}

// ShutFor is for how long after the last answer a stack still refuses, when it counted what was admitted as
// early as it can have; 0 where it would admit the next call at once.
func (m *Measured) ShutFor(s Stack) Micros {
	if len(m.Calls) == 0 {
		return 0
	}
	g := NewGate(s)
	for _, c := range m.Calls {
		if c.OK {
			g.Call(c.At, 1)
		}
	}
	last := m.Calls[len(m.Calls)-1]
	at := last.At + last.Took
	if d := g.Call(at, 1); !d.OK {
		return d.Retry - at
	}
	return 0
}

// Most is the most calls that were admitted in any interval of w ticks.
func (m *Measured) Most(w Micros) Calls {
	var at []int64
	for _, c := range m.Calls {
		if c.OK {
			at = append(at, c.At)
		}
	}
	n, _ := busiest(at, w)
	return n
}

// Begun is for each call how many were admitted in the w ticks that end with
// it, itself among them; of no ticks, how many admitted ones ran when it came.
func (m *Measured) Begun(w Micros) []int {
	out := make([]int, len(m.Calls))
	if w == 0 {
		for i, c := range m.Calls {
			for _, o := range m.Calls {
				if o.OK && o.At <= c.At && c.At < o.At+o.Took {
					out[i]++
				}
			}
		}
		return out
	}
	from, n := 0, 0
	for i, c := range m.Calls {
		if c.OK {
			n++
		}
		for from < i && m.Calls[from].At <= c.At-max(w, 1) {
			if m.Calls[from].OK {
				n--
			}
			from++
		}
		out[i] = n
	}
	return out
}

// Waited says for each call whether it waited for its turn.
func (m *Measured) Waited() []bool {
	w := m.waits()
	out := make([]bool, len(m.Calls))
	for i, c := range m.Calls {
		if c.Batch > 0 {
			out[i] = c.OK && c.Took > m.quick(w)
			continue
		}
		out[i] = w.waited(i, c)
	}
	return out
}

// Refused says whether any call was.
func (m *Measured) Refused() bool {
	return slices.ContainsFunc(m.Calls, func(s Seen) bool { return !s.OK })
}

// Name says in words what a fit is.
func (f Fit) Name() string {
	d := func(t int64) string { return Span(t).Round(time.Millisecond).String() }
	if f.Kind == Bucket && f.Burst == 1 {
		return "one each " + d(f.W)
	}
	if f.Kind == Bucket {
		return fmt.Sprintf("a bucket of %d, one more each %s", f.Burst, d(f.W))
	}
	if f.CountAll {
		return fmt.Sprintf("%d per %s, %s that counts refused calls too", f.N, d(f.W), f.Kind)
	}
	return fmt.Sprintf("%d per %s, %s", f.N, d(f.W), f.Kind)
}

// Disturbed says whether the drill stood still so often that what it saw names no
// limiter. What was counted is counted all the same.
func (m *Measured) Disturbed() bool { return m.Stood*20 > len(m.Calls) }

// Explain keeps the fits of a drill that remain.
func (m *Measured) Explain(d *Drill) {
	of := len(alone(d.Calls))
	m.Stack = d.Stack
	m.Cap, m.Calls, m.Fits, m.Kinds, m.Stood = d.Cap, d.Calls, Told(d.Fits, of), len(kindsOf(Remaining(d.Fits, of))), 0
	for _, c := range m.Calls {
		if c.Gap {
			m.Stood++
		}
	}
	if len(m.Fits) > 0 && m.Fits[0].Misses > nearly && unsettled(d.Calls) {
		m.Fits = nil // one limiter was fitted to what two may have refused
	}
	if w := waitsOf(m.Calls); m.Disturbed() || m.Failed > 0 || !w.stands(m.Calls) {
		m.Fits, m.Kinds, m.Stack = nil, 0, nil
	}
	if n := len(m.Calls); n > 0 {
		m.Seconds = Span(m.Calls[n-1].At + m.Calls[n-1].Took - m.Calls[0].At).Seconds()
	}
}

// Found says in words what was found out, and how sure that is.
func (m *Measured) Found() string {
	switch {
	case m.Full:
		return "The first call was refused, so that the quota was full before the drill began."
	case m.Disturbed():
		return fmt.Sprintf("The drill stood still during %d of %d calls, since the processor was taken away: what "+
			"refuses them was not found out. Run it again when less else runs.", m.Stood, len(m.Calls))
	case m.Failed > 0:
		return fmt.Sprintf("%d calls failed in place of being admitted or refused, so that what refuses them was not "+
			"found out.", m.Failed)
	case m.Side().Limit > 0:
		s := m.Side()
		if s.Queue > 0 {
			return fmt.Sprintf("It is a limit on how many run at once: %d, and %d more wait.", s.Limit, s.Queue)
		}
		return fmt.Sprintf("It is a limit on how many run at once: %d.", s.Limit)
	case len(m.Stack) > 0:
		names := make([]string, len(m.Stack))
		for i, l := range m.Stack {
			names[i] = Fit{Limit: l.oneEach()}.Name()
		}
		return "It is the declared " + strings.Join(names, ", and ") + "."
	case (m.Waits || m.waiting()) && len(m.Fits) == 0:
		more := ""
		if m.Kinds > mostKinds {
			more = fmt.Sprintf(" %d kinds of limiter explain what was seen, more time would tell them apart.", m.Kinds)
		}
		return fmt.Sprintf("After %d calls the next ones wait for their turn.%s", m.FirstStretch(), more)
	case !m.Refused() && len(m.Fits) == 0:
		return fmt.Sprintf("None of %d calls in %.1f s was refused: there is no limit, or one above that; more "+
			"calls, or faster ones, would tell.", len(m.Calls), m.Seconds)
	case len(m.Fits) == 0:
		if m.Kinds > 1 {
			return fmt.Sprintf("Calls were refused; %d kinds of limiter explain what was seen, more time would tell "+
				"them apart.", m.Kinds)
		}
		if m.Kinds == 1 {
			return "Calls were refused; what refuses them has no number that was seen closely enough."
		}
		if m.longestShut() > 0 {
			return "Calls were refused and admitted again, as no single limiter that is known would: there are " +
				"several counts, or it is of another kind."
		}
		return "Calls were refused; what refuses them was not found out with so few calls."
	}
	beside := ""
	if m.Cap.Calls > 0 {
		beside = fmt.Sprintf(" And a second count: after %d calls in all none was admitted for %s, until the drill "+
			"ended.", m.Cap.Calls, show(m.Cap.Shut))
	}
	names := make([]string, 0, len(m.Fits))
	kinds := map[Kind]bool{}
	for _, f := range m.Fits {
		if !kinds[f.Kind] {
			kinds[f.Kind] = true
			names = append(names, f.Name())
		}
	}
	waits := ""
	if m.waiting() {
		waits = " Calls beyond it wait for their turn."
	}
	if len(names) == 1 {
		if kinds[Bucket] && waits == "" && m.Fits[0].Burst > 1 {
			waits = " (A token bucket, or a leaky bucket that refuses at once: they look the same.)"
		}
		return "It is " + names[0] + "." + waits + beside
	}
	return "It is one of: " + strings.Join(names, "; ") + "." + tellApart(kinds) + waits + beside
}

// tellApart names the probe that would part the kinds that remain.
func tellApart(kinds map[Kind]bool) string {
	switch {
	case kinds[FixedFirst] && kinds[SlidingLog]:
		return " Some calls early in a window, the rest late, and as many as get in after its end would tell them " +
			"apart."
	case kinds[FixedClock] && kinds[TwoCounters]:
		return " As many as get in right after a full window would tell them apart: two counters still weigh that one."
	case kinds[FixedClock]:
		return " Calls after a pause that is no multiple of the window would tell them apart: a clock does not wait " +
			"for them."
	case kinds[Bucket]:
		return " Calls a little faster than it fills, right after it was emptied, would tell them apart."
	}
	return " More windows, each with fewer calls than it admits and then as many as get in, would tell them apart."
}
