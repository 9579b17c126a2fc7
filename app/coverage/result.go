// Package coverage says what a sweep came to, and what it could not see: what is unproven,
// unsent, left out and left behind, each with its reason, and whether the result is one to
// build on.
package coverage

import (
	"time"

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

// Facts are what is known of probes, by their keys; nil of those of which nothing is.
type Facts interface {
	Of(key string) *snapshot.Fact
}

// Swept is a sweep to account for.
type Swept struct {
	Doc     *declaration.Document
	Plan    *check.Plan
	Probes  []*check.Probe // that were to be sent
	Facts   Facts
	Items   map[string]check.Item // what they were judged to be, by probe
	Partial bool                  // only what was asked for
}

// Conclude is what probes of a plan come to by their facts, as they were judged, at a moment. Partial: they are
// only what was asked for.
func Conclude(pl *check.Plan, probes []*check.Probe, facts Facts, items []check.Item, partial bool, at time.Time,
	made []Leftover) Result {
	d, t := pl.Context.Doc, pl.Context.Target
	s := Swept{Doc: d, Plan: pl, Probes: probes, Facts: facts, Items: make(map[string]check.Item, len(items)),
		Partial: partial}
	for _, it := range items {
		s.Items[it.Probe.Key()] = it
	}
	notFair := s.Unfair()
	for i := range notFair {
		notFair[i] = notFair[i].Short()
	}
	figure, findings := s.Figure(), finding.Waive(d, check.Gather(pl.Context, pl.Families, items), at)
	return Result{Findings: findings, Counts: check.Count(pl.Families, items, findings), Figure: &figure, Left: pl.Left,
		Plan: planning.Of(d, pl, t, nil), Made: made, Unsent: s.Unsent(), Unproven: s.Unproven(), NotFair: notFair,
		Checked: s.Checked(), Probed: s.Probed()}
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
