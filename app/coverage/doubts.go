package coverage

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"millgate/app/events"
	"millgate/core/finding"
)

// Rule: Never exit 0 where nothing was checked.

// Doubt is why a sweep says less than it seems to: its result is none to build on,
// whatever it found.
type Doubt struct {
	Rule DoubtRule `json:"rule"`
	Text string    `json:"text"`
}

// DoubtRule says which rule holds.
type DoubtRule string

// The rules, in the order in which they are told.
const (
	NotEnded     DoubtRule = "not-ended"  // it was stopped, or is still running
	NotReached   DoubtRule = "target"     // the target could not be checked any further
	NoCredential DoubtRule = "credential" // one that a control needs could not be obtained
	NoControls   DoubtRule = "controls"   // too many routes have no admitted control
	MostUnproven DoubtRule = "unproven"   // too many planned crossings are unproven or unsent
	NotDecided   DoubtRule = "undecided"  // of too many routes nobody has decided who may call them
	NotStored    DoubtRule = "not-stored" // the result could not be kept where it was wanted
)

// DefaultMostUnproven is the share of planned crossings, in percent, that may be
// unproven or unsent.
const DefaultMostUnproven = 20

// routesWithout is the share of routes, one in so many, that may have no admitted
// control.
const routesWithout = 10

// Doubts are the reasons why a sweep's result is none to build on. most is the
// share of planned crossings, in percent, that may be unproven or unsent.
func (res *Result) Doubts(r *events.Run, most float64) []Doubt {
	out := []Doubt{}
	add := func(rule DoubtRule, format string, args ...any) {
		out = append(out, Doubt{rule, fmt.Sprintf(format, args...)})
	}
	done, failed := r.Ended()
	switch {
	case failed:
		add(NotReached, "%s", r.Note)
	case !done && r.Note != "":
		add(NotEnded, "%s", r.Note)
	case !done:
		add(NotEnded, "the sweep is %s and has no result", r.State)
	}
	c := res.Checked
	if len(c.Refused) > 0 && !failed { // a target that answers nothing gives none either
		add(NoCredential, "a credential that a control needs could not be obtained: %s", strings.Join(c.Refused, ", "))
	}
	whole := r.Shard == "" // how much is checked is asked of all shards together
	if n := len(c.Without); whole && n*routesWithout > c.Routes {
		names := c.Without
		more := ""
		if n > 5 {
			names, more = names[:5], fmt.Sprintf(" and %d more", n-5)
		}
		add(NoControls, "%d of %d routes that somebody may enter have no admitted control, so that refusals there "+
			"mean nothing: %s%s", n, c.Routes, strings.Join(names, ", "), more)
	}
	if open := c.Unproven + c.Unsent; whole && c.Planned > 0 && float64(open)*100 > most*float64(c.Planned) {
		add(MostUnproven, "%d of %d planned crossings are unproven or unsent (%.0f%%, at most %s%% may be)", open,
			c.Planned, math.Floor(float64(open)*100/float64(c.Planned)), percent(most))
	}
	if all := c.Routes + c.Undecided; whole && float64(c.Undecided)*100 > most*float64(all) {
		add(NotDecided, "of %d of %d routes nobody has decided who may call them, so that nothing was checked there "+
			"(%.0f%%, at most %s%% may be)", c.Undecided, all, math.Floor(float64(c.Undecided)*100/float64(all)),
			percent(most))
	}
	if res.NotStored != "" {
		add(NotStored, "%s", res.NotStored)
	}
	return out
}

// What a sweep came to, as an exit code of a command.
const (
	Clean  = 0
	Found  = 1 // findings that a pipeline stops for
	Doubts = 3 // the result is none to build on; it comes before Found
)

// Code is the exit code of a sweep; stops says of each finding whether a pipeline stops for it.
func (res *Result) Code(r *events.Run, most float64, stops func(finding.Finding) bool) int {
	switch {
	case len(res.Doubts(r, most)) > 0:
		return Doubts
	case slices.ContainsFunc(res.Findings, stops):
		return Found
	}
	return Clean
}

func percent(p float64) string { return strings.TrimSuffix(fmt.Sprintf("%.1f", p), ".0") }
