package verdict

import (
	"fmt"
	"strings"

	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Input is everything a verdict is made from.
type Input struct {
	Doc    *declaration.Document
	Probe  *check.Probe
	Answer check.Answer
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

// answer holds an answer against what is said of any: its shape, and what it must not show.
func (v *Verdict) answer(in Input, a check.Answer, shape check.Gap) {
	var schema map[int]*declaration.Shape
	if i := in.Doc.RouteNamed(in.Probe.Route); i >= 0 {
		schema = in.Doc.Routes[i].Answers
	}
	if list := unsought(a, in.Doc.Answers); len(list) > 0 && v.Kind == finding.Agrees {
		v.agrees(finding.Likely, fmt.Sprintf("%s; whether it shows %s was not checked: that was declared after it was "+
			"sent, and not all of the answer was kept", v.Reason, strings.Join(list, ", ")))
	}
	wrong := len(v.Gaps) > 0 && v.Gaps[0].Kind == finding.WrongRefusal
	for _, s := range CheckAnswer(a, in.Doc.Answers, schema) {
		// Who asks for a page may be answered with one.
		if s.Kind == finding.WrongRefusal && (wrong || in.Probe.Of == crossing.AcceptHTML) {
			continue
		}
		g := Gap{Kind: s.Kind, Subject: "answer", Cause: s.Cause, Reason: s.Reason, Confidence: finding.Proven}
		if shape.Cause != nil && s.Kind == shape.Cause.Kind {
			g.Row, g.Cause, g.Rung, g.Scope = shape.Cause, shape.Cause.Cause+shape.What, shape.Rung, shape.Scope
		}
		v.Gaps = append(v.Gaps, g)
	}
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
	v := Verdict{Class: check.Classify(in.Answer, in.Doc.Answers)}
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
		says := g.Says
		if hid := g.Proof.Hid(); hid != "" {
			says += " Not all was seen: " + hid + "."
		}
		subject := ""
		if g.Cause.Kind == finding.OverPermissive {
			subject = g.Cause.Cause
		}
		v.Gaps = append(v.Gaps, Gap{Kind: g.Cause.Kind, Rung: g.Rung, Subject: subject,
			Cause: g.Cause.Cause + g.What, Reason: says,
			Confidence: g.Proof.Confidence(), Row: g.Cause, Scope: g.Scope})
	}
	for _, r := range of.Answers {
		v.answer(in, check.AnswerOf(r.Exchange), of.Shape)
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
