// Package verdict turns an answer into a verdict and verdicts into findings.
//
// Families of checks (core/check) judge their own probes; this package turns what they say
// into verdicts, and gathers gaps into findings.
package verdict

import (
	"fmt"

	"millgate/core/check"
	"millgate/core/finding"
)

// Input is everything a verdict is made from.
type Input struct {
	Context  *check.Context
	Families check.Families
	Probe    *check.Probe
	Answer   check.Answer
	// Sick: it failed while the service as a whole did.
	Sick bool
	// Lost is set when the probe was sent but its answer never seen.
	Lost string
}

// Gap is one way in which expectation and observation part.
type Gap struct {
	Kind       finding.Kind       `json:"kind"`
	Rung       int                `json:"rung"` // the rung that should have failed; 0 without
	Subject    string             `json:"subject"`
	Cause      string             `json:"cause"` // stable word for gathering
	Reason     string             `json:"reason"`
	Confidence finding.Confidence `json:"confidence"`
	// Of a family of its own: its cause, and where one mend would be.
	Row   *finding.Row  `json:"-"`
	Scope finding.Scope `json:"-"`
}

// Verdict on one probe.
type Verdict struct {
	Kind       finding.Kind       `json:"kind"` // the worst of the gaps, or unproven, or agrees
	Class      check.Class        `json:"class"`
	Confidence finding.Confidence `json:"confidence"`
	Reason     string             `json:"reason"`
	Gaps       []Gap              `json:"gaps,omitempty"`
	Does       string             `json:"does,omitempty"` // for a page: what it can do
}

// watched takes what watchers say of an answer that a family judged.
func (v *Verdict) watched(in Input, r check.Report, of check.Verdict) {
	for _, f := range in.Families {
		w, ok := f.(check.Watcher)
		if !ok {
			continue
		}
		gaps, unsure := w.Watch(in.Context, in.Probe.Route, r)
		if unsure != "" && v.Kind == finding.Agrees {
			v.agrees(finding.Likely, v.Reason+"; "+unsure)
		}
		wrong := len(v.Gaps) > 0 && v.Gaps[0].Kind == finding.WrongRefusal
		for _, g := range gaps {
			if g.Cause.Kind == finding.WrongRefusal && (wrong || of.AnyShape) {
				continue
			}
			if s := of.Shape; s.Cause != nil && g.Cause.Kind == s.Cause.Kind {
				s.Says, s.Proof = g.Says, g.Proof
				g = s
			}
			v.Gaps = append(v.Gaps, gapOf(g, "answer"))
		}
	}
}

// gapOf is a family's gap.
func gapOf(g check.Gap, subject string) Gap {
	says := g.Says
	if hid := g.Proof.Hid(); hid != "" {
		says += " Not all was seen: " + hid + "."
	}
	return Gap{Kind: g.Cause.Kind, Rung: g.Rung, Subject: subject, Cause: g.Cause.Cause + g.What, Reason: says,
		Confidence: g.Proof.Confidence(), Row: g.Cause, Scope: g.Scope}
}

// nothing says that nothing can be concluded, whatever was looked for: no answer was
// seen, or it failed while the service as a whole did.
func (v *Verdict) nothing(in Input) bool {
	switch {
	case in.Lost != "":
		v.unproven(in.Lost)
	case in.Sick && (v.Class == check.Failed || v.Class == check.Unreachable):
		v.unproven(fmt.Sprintf("answered %s while controls that were admitted before failed as well",
			in.Answer.Code()))
	default:
		return false
	}
	return true
}

// Of is the verdict of a family of its own on a probe.
func Of(in Input, judge func() check.Verdict) Verdict {
	v := Verdict{Class: check.Classify(in.Answer, in.Context.Doc.Answers)}
	if v.nothing(in) {
		return v
	}
	of := judge()
	v.Confidence, v.Reason, v.Does = of.Proof.Confidence(), of.Says, of.Does
	v.Kind = finding.Agrees
	if v.Confidence == finding.NotSure {
		v.Kind = finding.Unproven
	}
	if hid := of.Proof.Hid(); hid != "" {
		v.Reason += "; " + hid
	}
	for _, g := range of.Gaps {
		if g.Proof.Confidence() == finding.NotSure { // it is none, then
			v.unproven(g.Says)
			continue
		}
		subject := ""
		if g.Cause.Kind == finding.OverPermissive {
			subject = g.Cause.Cause
		}
		v.Gaps = append(v.Gaps, gapOf(g, subject))
	}
	for _, r := range of.Answers {
		v.watched(in, r, of)
	}
	v.worst()
	return v
}

// worst makes the worst of the gaps the verdict.
func (v *Verdict) worst() {
	for _, g := range v.Gaps {
		if !v.Kind.IsGap() || finding.Worse(g.Kind, v.Kind) {
			v.Kind, v.Confidence, v.Reason = g.Kind, g.Confidence, g.Reason
		}
	}
}

func (v *Verdict) agrees(c finding.Confidence, reason string) {
	v.Kind, v.Confidence, v.Reason = finding.Agrees, c, reason
}

func (v *Verdict) unproven(reason string) {
	v.Kind, v.Confidence, v.Reason = finding.Unproven, finding.NotSure, reason
}
