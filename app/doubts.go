package app

// Rule: Never exit 0 where nothing was checked.

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

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
	NotStored    DoubtRule = "not-stored" // the result could not be kept where it was wanted
)

// DefaultMostUnproven is the share of planned crossings, in percent, that may be
// unproven or unsent.
const DefaultMostUnproven = 20

// routesWithout is the share of routes, one in so many, that may have no admitted
// control.
const routesWithout = 10

// Checked is how far a sweep got: what the rules about doubts go by.
type Checked struct {
	Planned  int      `json:"planned"`  // crossings of the plan, without inferred ones
	Unproven int      `json:"unproven"` // of them, those whose verdict is not proven either way
	Unsent   int      `json:"unsent"`   // of them, those that were not sent
	Routes   int      `json:"routes"`   // that somebody may enter, and that the target's rules let be sent
	Without  []string `json:"without"`  // of them, those without an admitted control
	Refused  []string `json:"refused"`  // identities whose credential a control needed and that could not be obtained
}

// checked says how far the sweep got.
func (r *run) checked(items []check.Item) Checked {
	c := Checked{Planned: len(r.probes), Without: []string{}, Refused: []string{}}
	kinds := make(map[string]*check.Item, len(items))
	for i := range items {
		kinds[items[i].Probe.Key()] = &items[i]
	}
	entered := map[string]bool{}
	for _, p := range r.probes {
		f := r.facts.of(p.Key())
		switch it, ok := kinds[p.Key()]; {
		case f == nil, strings.HasPrefix(f.Lost, notSent):
			c.Unsent++
		case !ok || it.Verdict.Kind == finding.Unproven:
			c.Unproven++
		}
		if !p.IsControl {
			continue
		}
		if _, ok := entered[p.Route]; !ok {
			entered[p.Route] = false
		}
		if it, ok := kinds[p.Key()]; ok && it.Class == check.Admitted {
			entered[p.Route] = true
		}
		if f != nil && f.NoCredential && !slices.Contains(c.Refused, p.Caller.Identity) {
			c.Refused = append(c.Refused, p.Caller.Identity)
		}
	}
	if !r.sweep.Partial { // a part has the routes that were asked for
		for i, rt := range r.doc.Routes {
			if _, ok := entered[rt.Key()]; !ok && someoneEnters(r.doc, i) && !r.plan.ByTarget(rt.Key()) {
				entered[rt.Key()] = false
			}
		}
	}
	for k, in := range entered {
		if c.Routes++; !in {
			c.Without = append(c.Without, k)
		}
	}
	slices.Sort(c.Without)
	return c
}

// someoneEnters says whether the declaration admits anybody at a route.
func someoneEnters(d *declaration.Document, i int) bool {
	if access.Decide(d, i, access.Caller{State: access.Absent}).Outcome == access.Admit {
		return true
	}
	for _, id := range d.Identities {
		if access.Decide(d, i, access.Caller{Identity: id, State: access.Sound}).Outcome == access.Admit {
			return true
		}
	}
	return false
}

// Doubts are the reasons why a sweep's result is none to build on. most is the
// share of planned crossings, in percent, that may be unproven or unsent.
func (res *Result) Doubts(r *Run, most float64) []Doubt {
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
	if n := len(c.Without); n*routesWithout > c.Routes {
		names := c.Without
		more := ""
		if n > 5 {
			names, more = names[:5], fmt.Sprintf(" and %d more", n-5)
		}
		add(NoControls, "%d of %d routes that somebody may enter have no admitted control, so that refusals there "+
			"mean nothing: %s%s", n, c.Routes, strings.Join(names, ", "), more)
	}
	if open := c.Unproven + c.Unsent; c.Planned > 0 && float64(open)*100 > most*float64(c.Planned) {
		add(MostUnproven, "%d of %d planned crossings are unproven or unsent (%.0f%%, at most %s%% may be)", open,
			c.Planned, math.Floor(float64(open)*100/float64(c.Planned)), percent(most))
	}
	if res.NotStored != "" {
		add(NotStored, "%s", res.NotStored)
	}
	return out
}

// What a sweep came to, as an exit code of a command.
const (
	Clean  = 0
	Found  = 1 // findings at or above a severity
	Doubts = 3 // the result is none to build on; it comes before Found
)

// Code is the exit code of a sweep.
func (res *Result) Code(r *Run, most float64, level finding.Severity) int {
	switch {
	case len(res.Doubts(r, most)) > 0:
		return Doubts
	case slices.ContainsFunc(res.Findings, func(f finding.Finding) bool { return f.Severity.AtLeast(level) }):
		return Found
	}
	return Clean
}

func percent(p float64) string { return strings.TrimSuffix(fmt.Sprintf("%.1f", p), ".0") }

// unsentWhy counts what was planned and has no fact.
func (r *run) unsentWhy() *Unsent {
	n := 0
	for _, p := range r.probes {
		if r.facts.of(p.Key()) == nil {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return &Unsent{Why: "the sweep ended before their turn came", Probes: n}
}
