package sweep

import (
	"maps"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/finding"
)

// unsentWhy counts what was planned and has no fact.
func (r *run) unsentWhy() *Unsent {
	n := 0
	for _, p := range r.probes {
		if r.facts.Of(p.Key()) == nil {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return &Unsent{Why: "the sweep ended before their turn came", Probes: n}
}

// Result is what a sweep came to.
type Result struct {
	Counts   finding.Counts    `json:"counts"`
	Findings []finding.Finding `json:"findings"`
	Left     []check.Omission  `json:"left"`
	Made     []Leftover        `json:"made"`
	Plan     PlanSummary       `json:"plan"`
	Unsent   []Unsent          `json:"unsent"`
	Checked  Checked           `json:"checked"`
	// NotStored says why the result is nowhere but here.
	NotStored string `json:"notStored,omitempty"`
}

// Unsent are probes that could not be sent as they were meant, for one reason.
type Unsent struct {
	Why    string `json:"why"`
	Probes int    `json:"probes"`
}

// Leftover is something that a sweep made and could not remove.
type Leftover struct {
	Route string `json:"route"`
	What  string `json:"what"`
	Why   string `json:"why"`
}

const notSent = "not sent: "

// unsent counts the probes that were not sent, by reason.
func (r *run) unsent() []Unsent {
	n := map[string]int{}
	for _, p := range r.probes {
		if f := r.facts.Of(p.Key()); f != nil && strings.HasPrefix(f.Lost, notSent) {
			n[strings.TrimPrefix(f.Lost, notSent)]++
		}
	}
	out := []Unsent{}
	for _, why := range slices.Sorted(maps.Keys(n)) {
		out = append(out, Unsent{why, n[why]})
	}
	if u := r.unsentWhy(); u != nil {
		out = append(out, *u)
	}
	return out
}
