// Package history says what became of findings over sweeps.
//
// # Marks
//
// A sweep marks each finding that it or an earlier one had:
//
//   - gap: it is among the sweep's findings;
//   - clear: each of its probes was judged again, none shows a gap, and what is expected of each is what was
//     expected when the finding was last seen. Probes that only follow a gap to see where else it is are
//     not sent where there is none;
//   - moved: the same, but of some probe something else is expected now: the declaration changed, and with it
//     others may not be planned any more;
//   - unseen: a probe of it was left out, is unproven, shows another gap, or is not planned any more.
//
// # States
//
// The state of a finding at a sweep follows from its marks up to there. It is never set by hand:
//
//	new          a gap, and never one before
//	open         a gap, and one when it was last judged
//	back again   a gap, and clear or moved when it was last judged
//	mended       clear
//	moved        moved
//	not checked  unseen
//	waived       a gap that somebody accepted
//
// Where a waiver names no callers, it accepts the finding as it was in the first sweep that it held in: one that
// more callers show since then, or that is graver, is open again.
//
// So a finding is never called mended that was not probed, and none is lost: one that a sweep did not look at
// stays in the list, as not checked.
package history

import (
	"fmt"
	"slices"
	"time"

	"millgate/core/finding"
)

// Mark is what a sweep says of a finding.
type Mark string

// The marks. The zero Mark is of a sweep before the finding was first seen.
const (
	Gap    Mark = "gap"
	Clear  Mark = "clear"
	Moved  Mark = "moved"
	Unseen Mark = "unseen"
)

// State of a finding at a sweep.
type State string

// The states, those first that ask for somebody.
const (
	New        State = "new"
	Back       State = "back again"
	Open       State = "open"
	Waived     State = "waived" // instead of the three above
	NotChecked State = "not checked"
	MovedOn    State = "moved"
	Mended     State = "mended"
	Unknown    State = "" // it was not known yet
)

// States are all of them, those first that ask for somebody.
var States = []State{New, Back, Open, NotChecked, Waived, MovedOn, Mended}

// Asks says whether it asks for somebody: it is there, and nobody accepted it.
func (s State) Asks() bool { return s == New || s == Back || s == Open }

// Probed is what a sweep found out with one probe.
type Probed struct {
	Kind    finding.Kind `json:"kind"`              // of its verdict
	Expects string       `json:"expects,omitempty"` // what is declared of it: the same text is the same expectation
	// Widens: it is sent only where another probe shows a gap, to see where else it is.
	Widens bool `json:"widens,omitempty"`
}

// Sweep is one as its history is read.
type Sweep struct {
	ID       uint
	Revision uint // of the declaration
	At       time.Time
	Findings []finding.Finding
	Probed   map[string]Probed // by probe, of all that were planned
	// Anew: it is the sweep before it, read anew by another declaration or with probes that were sent again. A
	// finding whose mark stays the same keeps its state.
	Anew bool
}

// Line is one finding over sweeps.
type Line struct {
	Finding finding.Finding // as it was last seen
	Marks   []Mark          // by sweep
	// Whys say of each mark that is none of a gap why it is that.
	Whys []string
	// First and Last are the sweeps in which it was a gap first and last, Judged the last that did not
	// leave it unseen: indexes.
	First, Last, Judged int
	// Turns are the sweeps from which on other probes showed it than when it was seen before.
	Turns []Turn

	waived []bool
	anew   []bool            // shared: by sweep
	rests  map[string]Probed // what its probes found out when it was last seen
	as     *accepted         // nil where it is not waived
}

// Turn is a sweep in which a finding grew or shrank.
type Turn struct {
	At         int // an index
	Came, Went []string
}

// accepted is a finding as it was when a waiver was first seen to hold.
type accepted struct {
	by       finding.Waived
	callers  []string
	severity finding.Severity
}

// Follow follows every finding through sweeps, which come in the order in which they were made. The lines
// stand in the order in which their findings were first seen.
func Follow(sweeps []Sweep) []*Line {
	var b Book
	for _, s := range sweeps {
		b.Add(s)
	}
	return b.Lines
}

// Book follows findings through one sweep after the other. The zero Book has seen none.
type Book struct {
	Lines []*Line // in the order in which their findings were first seen
	known map[string]*Line
	anew  []bool
}

// Add is the next sweep.
func (b *Book) Add(s Sweep) {
	if b.known == nil {
		b.known = map[string]*Line{}
	}
	i := len(b.anew)
	b.anew = append(b.anew, s.Anew)
	has := map[string]bool{}
	for _, f := range s.Findings {
		l := b.known[f.ID]
		if has[f.ID] = true; l == nil {
			l = &Line{First: i, Marks: make([]Mark, i), Whys: make([]string, i), waived: make([]bool, i)}
			b.known[f.ID] = l
			b.Lines = append(b.Lines, l)
		}
		l.seen(f, i, s)
	}
	for _, l := range b.Lines {
		if l.anew = b.anew; has[l.Finding.ID] {
			continue
		}
		m, why := judge(l.Finding, l.rests, s)
		if m != Unseen {
			l.Judged = i
		}
		if m == Clear || m == Moved {
			l.as = nil
		}
		l.mark(m, why, false)
	}
}

// With are the lines with one more sweep; the book stays as it is.
func (b *Book) With(s Sweep) []*Line {
	next := Book{Lines: make([]*Line, len(b.Lines)), known: make(map[string]*Line, len(b.known)),
		anew: slices.Clip(b.anew)}
	for i, l := range b.Lines {
		own := *l
		own.Marks, own.Whys, own.waived, own.Turns = slices.Clip(l.Marks), slices.Clip(l.Whys), slices.Clip(l.waived),
			slices.Clip(l.Turns)
		next.Lines[i], next.known[l.Finding.ID] = &own, &own
	}
	next.Add(s)
	return next.Lines
}

func (l *Line) mark(m Mark, why string, waived bool) {
	l.Marks, l.Whys, l.waived = append(l.Marks, m), append(l.Whys, why), append(l.waived, waived)
}

// seen marks it a gap in a sweep that has it.
func (l *Line) seen(f finding.Finding, i int, s Sweep) {
	if i > l.First {
		if came, went := Apart(l.Finding, f); came != nil || went != nil {
			l.Turns = append(l.Turns, Turn{i, came, went})
		}
	}
	why := l.accept(f)
	waived := f.Waived != nil && why == ""
	if !waived {
		f.Waived = nil
	}
	l.Finding, l.Last, l.Judged, l.rests = f, i, i, restsOn(f, s)
	l.mark(Gap, why, waived)
}

// accept holds a finding against what was accepted of it; why it is open all the same, "" where it is not.
func (l *Line) accept(f finding.Finding) (why string) {
	switch {
	case f.Waived == nil:
		l.as = nil
		return ""
	case l.as == nil || !l.as.by.Same(*f.Waived):
		l.as = &accepted{*f.Waived, slices.Concat(f.Callers, f.Inferred), f.Severity}
		return ""
	case !f.Waived.Whoever:
		return ""
	case f.Severity != l.as.severity && f.Severity.AtLeast(l.as.severity):
		return fmt.Sprintf("it was accepted as %s, and is %s", l.as.severity, f.Severity)
	}
	for _, who := range slices.Concat(f.Callers, f.Inferred) {
		if !slices.Contains(l.as.callers, who) {
			return "it was accepted before " + who + " showed it"
		}
	}
	return ""
}

// restsOn is what the probes of a finding found out in a sweep that has it.
func restsOn(f finding.Finding, s Sweep) map[string]Probed {
	out := make(map[string]Probed, len(f.Probes))
	for _, p := range f.Probes {
		out[p] = s.Probed[p]
	}
	return out
}

// judge marks a finding that a sweep does not have; rests is what its probes found out when it was last seen.
func judge(f finding.Finding, rests map[string]Probed, s Sweep) (Mark, string) {
	if len(f.Probes) == 0 {
		return Unseen, "it names no probe"
	}
	moved, gone, judged := "", "", false
	for _, p := range f.Probes {
		now, ok := s.Probed[p]
		switch {
		case !ok && rests[p].Widens:
			continue // what it followed shows no gap any more
		case !ok:
			gone = p
			continue
		case now.Kind == finding.Unprobed:
			return Unseen, "not sent: " + p
		case now.Kind.IsGap():
			return Unseen, "it shows another gap: " + p
		case now.Kind != finding.Agrees:
			return Unseen, fmt.Sprintf("%s: %s", now.Kind.Name(), p)
		case now.Expects != rests[p].Expects && moved == "":
			moved = fmt.Sprintf("expected was %q, and is %q: %s", rests[p].Expects, now.Expects, p)
		}
		judged = true
	}
	switch {
	case !judged && gone != "":
		return Unseen, "not planned any more: " + gone
	case !judged:
		return Unseen, "what its probes followed was not seen"
	case moved != "": // what is not planned any more is not for the same reason
		return Moved, moved
	case gone != "":
		return Unseen, "not planned any more: " + gone
	}
	return Clear, ""
}

// At is the state of a finding at a sweep.
func (l *Line) At(i int) State {
	if i < l.First || i >= len(l.Marks) {
		return Unknown
	}
	switch l.Marks[i] {
	case Clear:
		return Mended
	case Moved:
		return MovedOn
	case Unseen:
		return NotChecked
	default:
	}
	switch {
	case l.waived[i]:
		return Waived
	case i == l.First:
		return New
	case l.anew[i] && l.Marks[i-1] == Gap && !l.waived[i-1]:
		return l.At(i - 1)
	}
	for k := i - 1; k >= l.First; k-- {
		switch l.Marks[k] {
		case Gap:
			return Open
		case Clear, Moved:
			return Back
		default: // not looked at
		}
	}
	return Open
}

// Now is the state at the last sweep.
func (l *Line) Now() State { return l.At(len(l.Marks) - 1) }

// From is the sweep since which it has the state that it has now, an index: an open one was new or back in that,
// and may have been unchecked between.
func (l *Line) From() int {
	now, i := l.Now(), len(l.Marks)-1
	for ; i > l.First; i-- {
		if before := l.At(i - 1); before != now && !(now.Asks() && (before.Asks() || before == NotChecked)) {
			break
		}
	}
	return i
}

// Change is what became of a finding from one sweep to a later one.
type Change string

// The changes.
const (
	IsNew     Change = "new"         // never a gap before the later sweep
	IsBack    Change = "back"        // none in the earlier, and one before it or between the two
	Unchanged Change = "unchanged"   // a gap in both
	IsMended  Change = "mended"      // a gap in the earlier; clear in the later
	HasMoved  Change = "moved"       // a gap in the earlier; moved in the later
	NotSeen   Change = "not checked" // a gap in the earlier; unseen in the later
	NoChange  Change = ""            // a gap in neither
)

// Changes are all of them, those first that a pipeline stops for.
var Changes = []Change{IsNew, IsBack, Unchanged, IsMended, HasMoved, NotSeen}

// Between is what became of a finding from sweep a to sweep b, indexes, a before b.
func (l *Line) Between(a, b int) Change {
	was, is := l.gap(a), l.gap(b)
	switch {
	case was && is:
		return Unchanged
	case is && l.First < b:
		return IsBack
	case is:
		return IsNew
	case !was:
		return NoChange
	}
	switch l.Marks[b] {
	case Clear:
		return IsMended
	case Moved:
		return HasMoved
	default:
		return NotSeen
	}
}

func (l *Line) gap(i int) bool { return i >= 0 && i < len(l.Marks) && l.Marks[i] == Gap }

// Apart are the probes of a finding that came and that went from one time it was seen to the next.
func Apart(before, after finding.Finding) (came, went []string) {
	return without(after.Probes, before.Probes), without(before.Probes, after.Probes)
}

// without is a list less what stands in another.
func without(list, other []string) (out []string) {
	in := make(map[string]bool, len(other))
	for _, p := range other {
		in[p] = true
	}
	for _, p := range list {
		if !in[p] {
			out = append(out, p)
		}
	}
	return out
}

// Stops are the findings that a pipeline stops for: of those that are new or back.
func Stops(lines []*Line, a, b int, on finding.FailOn) (out []*Line) {
	for _, l := range lines {
		if c := l.Between(a, b); (c == IsNew || c == IsBack) && on.Stops(l.Finding) {
			out = append(out, l)
		}
	}
	return out
}
