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

// The states, those first that ask for somebody. A waived one is shown instead of the first three.
const (
	New        State = "new"
	Back       State = "back again"
	Open       State = "open"
	NotChecked State = "not checked"
	MovedOn    State = "moved"
	Mended     State = "mended"
	Unknown    State = "" // it was not known yet
)

// IsGap says whether it is there now.
func (s State) IsGap() bool { return s == New || s == Back || s == Open }

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
}

// Follow follows every finding through sweeps, which come in the order in which they were made. The lines
// stand in the order in which their findings were first seen.
func Follow(sweeps []Sweep) []*Line {
	var lines []*Line
	known := map[string]*Line{}
	rests := map[string]map[string]Probed{} // what the probes of a finding found out when it was last seen
	for i, s := range sweeps {
		has := map[string]bool{}
		for _, f := range s.Findings {
			if has[f.ID] = true; known[f.ID] == nil {
				known[f.ID] = &Line{First: i, Marks: make([]Mark, i, len(sweeps)), Whys: make([]string, i, len(sweeps))}
				lines = append(lines, known[f.ID])
			}
			l := known[f.ID]
			l.Finding, l.Last, l.Judged = f, i, i
			l.Marks, l.Whys = append(l.Marks, Gap), append(l.Whys, "")
			rests[f.ID] = restsOn(f, s)
		}
		for _, l := range lines {
			if has[l.Finding.ID] {
				continue
			}
			m, why := judge(l.Finding, rests[l.Finding.ID], s)
			if l.Marks, l.Whys = append(l.Marks, m), append(l.Whys, why); m != Unseen {
				l.Judged = i
			}
		}
	}
	return lines
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
	if i == l.First {
		return New
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
	for _, p := range after.Probes {
		if !slices.Contains(before.Probes, p) {
			came = append(came, p)
		}
	}
	for _, p := range before.Probes {
		if !slices.Contains(after.Probes, p) {
			went = append(went, p)
		}
	}
	return came, went
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
