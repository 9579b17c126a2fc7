package quota

import (
	"fmt"
	"slices"
	"strings"
)

// honest holds what answers say of a limit against what calls then met. What one answer says
// against itself, a wait as long as it says, and more calls than any limiter with its numbers
// admits prove that it does not hold; a limiter that was inferred makes that likely.
func (m *Measured) honest(c Claim) Conclusion {
	out := Conclusion{About: c.name(), Sure: Claimed}
	var wrong []string
	held, sure := false, Likely // something was put to the test
	note := func(ok bool, how Sureness, text string) {
		held = true
		out.Because = append(out.Because, text)
		if !ok {
			wrong = append(wrong, text)
			if how == Proven {
				sure = Proven
			}
		}
	}
	check := func(ok bool, text string) { note(ok, Proven, text) }
	if c.Bad != "" {
		check(false, "it cannot be read: "+c.Bad)
	}
	if n := m.FirstStretch(); c.Limit >= 0 && n > 0 && m.Refused() && m.Side().Limit == 0 {
		switch {
		case slices.ContainsFunc(m.Fits, func(f Fit) bool {
			return f.number() == c.Limit ||
				m.perWindow(f, c) == c.Limit
		}):
			check(true, fmt.Sprintf("it says %d, and so it is", c.Limit))
		case len(m.Fits) > 0 && m.Cap.Calls == 0 && !m.others(c):
			note(false, Likely, fmt.Sprintf("it says %d, and admits %d at once", c.Limit, m.Fits[0].number()))
		case n == c.Limit:
			check(true, fmt.Sprintf("it says %d, and so many were admitted at once", c.Limit))
		case c.Window > 0 && n > 2*c.Limit*(1+m.firstTook()/c.Window): // whatever its kind, from full
			check(false, fmt.Sprintf("it says %d, and admitted %d in %s", c.Limit, n, show(m.firstTook())))
		}
	}
	if c.Window > 0 && len(m.Fits) > 0 {
		f := m.Fits[0]
		w := f.W
		if f.Kind == Bucket && c.Limit > 0 { // any window says as much, with its number
			w = mul(f.W, c.Limit)
		}
		if ok := Near(w, c.Window); ok || !m.others(c) {
			note(ok, Likely, fmt.Sprintf("it says %s for each window, %s was found", show(c.Window), show(w)))
		}
	}
	m.left(c, check)
	m.reset(c, check)
	switch {
	case len(wrong) > 0:
		out.Text, out.Sure, out.Wrong = "Does not hold: "+strings.Join(wrong, "; ")+".", sure, true
	case held:
		out.Text, out.Sure = "Holds, as far as it was put to the test.", Likely
	default:
		out.Text = "Not put to the test."
	}
	return out
}

func abs(n int64) int64 { return max(n, -n) }

// Near says whether two times are the same to a tenth.
func Near(a, b Micros) bool { return abs(a-b)*10 <= max(a, b) }

// others says whether answers speak of another limit as well: then it need not be this one that
// refused calls.
func (m *Measured) others(c Claim) bool {
	return slices.ContainsFunc(m.Claims, func(o Claim) bool {
		return o.name() != c.name() && (o.Limit >= 0 && o.Limit != c.Limit || o.Window > 0 && o.Window != c.Window)
	})
}

// spentElsewhere says whether the answer to a call says of another limit that nothing is left.
func (m *Measured) spentElsewhere(c Claim, call int) bool {
	return slices.ContainsFunc(m.Claims, func(o Claim) bool {
		return o.name() != c.name() && call < len(o.Left) && o.Left[call] == 0
	})
}

// perWindow is how many a bucket gets in the window that is claimed.
func (m *Measured) perWindow(f Fit, c Claim) int64 {
	if f.Kind != Bucket || c.Window < 1 {
		return -1
	}
	return (c.Window + f.W/2) / f.W
}

// left: how many more are said to get through.
func (m *Measured) left(c Claim, check func(bool, string)) {
	said, broken, last := 0, 0, int64(-1)
	for i, v := range c.Left {
		if v < 0 || i >= len(m.Calls) || m.Calls[i].Batch > 0 {
			continue
		}
		said++
		if !m.Calls[i].OK && v > 0 && !m.spentElsewhere(c, i) {
			broken, last = broken+1, v
		}
	}
	switch {
	case broken > 0:
		check(false, fmt.Sprintf("%d refusals say that calls are left, the last %d", broken, last))
	case said > 0 && m.Refused():
		check(true, "none is said to be left when calls are refused")
	}
}

// wholeSecond is by how much a time in whole seconds may come too early when it
// was rounded down.
const wholeSecond = 1_000_000

// reset: when there is said to be room again. That it refuses after that counts where nobody
// asked before: a limiter may count what it refuses.
func (m *Measured) reset(c Claim, check func(bool, string)) {
	late, early, kept := int64(0), int64(0), false
	var saidLate, saidEarly int64
	for i, v := range c.Reset {
		if v < 0 || i >= len(m.Calls) || m.Calls[i].OK || m.Calls[i].Batch > 0 {
			continue
		}
		due := m.Calls[i].At + m.Calls[i].Took + v
		for k, s := range m.Calls[i+1:] {
			if s.Batch > 0 || !s.OK && k > 0 {
				break
			}
			if s.OK {
				kept = true
				if by := due - wholeSecond - noise - s.At; by > early {
					early, saidEarly = by, v
				}
				break
			}
			if by := s.At - due - noise; by > late {
				late, saidLate = by, v
			}
		}
	}
	switch {
	case late > wholeSecond:
		check(false, fmt.Sprintf("it says to come again in %s, and refuses %s after that", show(saidLate), show(late)))
	case late > 0:
		check(true, fmt.Sprintf("up to %s too early, as when seconds are rounded down", show(late)))
	case early > 0 && c.Form == FormRetry:
		check(true, fmt.Sprintf("more cautious than it must be: a call was admitted %s before the %s were over",
			show(early+wholeSecond), show(saidEarly)))
	case kept:
		check(true, "calls were admitted when it says")
	}
}
