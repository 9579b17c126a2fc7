// Package coverage says what a sweep came to, and what it could not see: what is unproven,
// unsent, left out and left behind, each with its reason, and whether the result is one to
// build on.
package coverage

import (
	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/history"
)

// Result is what a sweep came to.
type Result struct {
	Counts   finding.Counts    `json:"counts"`
	Findings []finding.Finding `json:"findings"`
	Left     []check.Omission  `json:"left"`
	Made     []Leftover        `json:"made"`
	Plan     planning.Summary  `json:"plan"`
	Unsent   []Unseen          `json:"unsent"`
	Unproven []Unseen          `json:"unproven"`
	NotFair  []Unfair          `json:"notFair"` // with the first bytes of what was sent and said
	Checked  Checked           `json:"checked"`
	Figure   *Figure           `json:"coverage,omitempty"` // nil in results of versions before
	// Probed is what each probe found out, for what comes later: without it nothing is said to be mended.
	Probed map[string]history.Probed `json:"probed,omitempty"`
	// NotStored says why the result is nowhere but here.
	NotStored string `json:"notStored,omitempty"`
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
	Doc    *declaration.Document
	Plan   *check.Plan
	Probes []*check.Probe // that were to be sent
	Facts  interface {
		Of(key string) *snapshot.Fact
	}
	Items   map[string]check.Item // what they were judged to be, by probe
	Partial bool                  // only what was asked for
}

// Result is what the sweep came to; what was made is left to whoever made it.
func (s Swept) Result(findings []finding.Finding, plan planning.Summary, made []Leftover) Result {
	notFair := s.Unfair()
	for i := range notFair {
		notFair[i] = notFair[i].Short()
	}
	figure := s.Figure()
	return Result{Findings: findings, Figure: &figure, Left: s.Plan.Left, Plan: plan, Made: made, Unsent: s.Unsent(),
		Unproven: s.Unproven(), NotFair: notFair, Checked: s.Checked(), Probed: s.Probed()}
}

// Probed is what each probe found out.
func (s Swept) Probed() map[string]history.Probed {
	out := make(map[string]history.Probed, len(s.Probes))
	for key, it := range s.Items {
		out[key] = history.Probed{Kind: it.Verdict.Kind, Expects: s.Plan.Expects(it.Probe),
			Widens: it.Probe.Widens != ""}
	}
	for _, p := range s.Probes {
		if _, judged := out[p.Key()]; !judged { // it was not sent
			out[p.Key()] = history.Probed{Kind: finding.Unprobed, Expects: s.Plan.Expects(p)}
		}
	}
	return out
}
