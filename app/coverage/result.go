// Package coverage says what a sweep came to, and what it could not see: what is unproven,
// unsent, left out and left behind, each with its reason, and whether the result is one to
// build on.
package coverage

import (
	"maps"
	"slices"
	"strings"

	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Result is what a sweep came to.
type Result struct {
	Counts   finding.Counts    `json:"counts"`
	Findings []finding.Finding `json:"findings"`
	Left     []check.Omission  `json:"left"`
	Made     []Leftover        `json:"made"`
	Plan     planning.Summary  `json:"plan"`
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

// NotSent begins what is said of a probe that was not sent.
const NotSent = "not sent: "

// Swept is a sweep to account for.
type Swept struct {
	Doc     *declaration.Document
	Plan    *check.Plan
	Probes  []*check.Probe // that were to be sent
	Facts   *snapshot.Known
	Items   []check.Item // what they were judged to be
	Partial bool         // only what was asked for
}

// Unsent counts the probes that were not sent, by reason.
func (s Swept) Unsent() []Unsent {
	n := map[string]int{}
	never := 0
	for _, p := range s.Probes {
		if f := s.Facts.Of(p.Key()); f == nil {
			never++
		} else if strings.HasPrefix(f.Lost, NotSent) {
			n[strings.TrimPrefix(f.Lost, NotSent)]++
		}
	}
	out := []Unsent{}
	for _, why := range slices.Sorted(maps.Keys(n)) {
		out = append(out, Unsent{why, n[why]})
	}
	if never > 0 {
		out = append(out, Unsent{Why: "the sweep ended before their turn came", Probes: never})
	}
	return out
}
