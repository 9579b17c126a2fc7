package verdict

import (
	"cmp"
	"fmt"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/probe"
)

// Control is the probe that shows the request to be a fair one.
type Control struct {
	Caller string
	Answer check.Answer
	Class  check.Class
}

// Input is everything a verdict is made from.
type Input struct {
	Doc     *declaration.Document
	Probe   *probe.Probe
	Answer  check.Answer
	Control *Control // nil when there is none
	// After an unsafe probe that was turned away: "" when its record was not
	// read again, "unchanged", "changed" or "gone".
	ReadBack string
	// For a raised role: where the role was seen, "" when it was not.
	Raised string
	// For a login whose token was judged: what is said about the token; nil
	// when there is none.
	Issued *[]Judged
	// For a cookie sent by another site: its SameSite as it was set.
	SameSite string
	// For two credentials at once: the sound one's caller got in by itself.
	BesideEnters bool
	// For a quota drill: what it measured; nil when it did not get that far.
	Quota *QuotaSeen
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

// CallerLabel names a probe's caller in words.
func CallerLabel(p *probe.Probe) string {
	switch {
	case p.Who() != "":
		return p.Who()
	case p.Check != nil:
		return cmp.Or(p.Identity, "nobody") + " (" + p.Says() + ")"
	case p.Kind == probe.Credential:
		return "nobody (" + p.Way + ", made of " + p.Donor + "'s " + p.Scheme + ")"
	case p.Kind == probe.Issued:
		return p.Identity + " (what it is given)"
	case p.Kind == probe.QuotaDrill && p.Identity != "":
		return p.Identity + " (quota drill)"
	case p.Kind == probe.QuotaDrill:
		return "nobody (quota drill)"
	case p.Identity == "":
		return "nobody (no credential)"
	}
	return p.Identity
}

// Judge gives the verdict on one probe.
func Judge(in Input) Verdict {
	v := Verdict{Class: check.Classify(in.Answer, in.Doc.Answers)}
	if v.nothing(in) {
		return v
	}
	switch in.Probe.Kind {
	default: // a family's, which Of judges
	case probe.Malformed:
		v.malformed(in)
	case probe.RaisedRole:
		v.raised(in)
	case probe.Credential:
		v.credential(in)
	case probe.Issued:
		v.issued(in)
		v.worst()
		return v
	case probe.QuotaDrill:
		v.quotaDrill(in)
		v.worst()
		return v
	}
	if v.carriedOut(in) && v.Kind == finding.Unproven {
		v.Kind = finding.Agrees // replaced by the gap below
	}
	v.answer(in, in.Answer)
	v.worst()
	return v
}

// answer holds an answer against what is said of any: its shape, and what it must not show.
func (v *Verdict) answer(in Input, a check.Answer) {
	var schema map[int]*declaration.Shape
	if in.Probe.Route >= 0 && in.Probe.Kind != probe.OtherMethod {
		schema = in.Doc.Routes[in.Probe.Route].Answers
	}
	if list := unsought(a, in.Doc.Answers); len(list) > 0 && v.Kind == finding.Agrees {
		v.agrees(finding.Likely, fmt.Sprintf("%s; whether it shows %s was not checked: that was declared after it was "+
			"sent, and not all of the answer was kept", v.Reason, strings.Join(list, ", ")))
	}
	wrong := len(v.Gaps) > 0 && v.Gaps[0].Kind == finding.WrongRefusal
	for _, s := range CheckAnswer(a, in.Doc.Answers, schema) {
		// Who asks for a page may be answered with one.
		if s.Kind == finding.WrongRefusal && (wrong || in.Probe.Way == crossing.AcceptHTML) {
			continue
		}
		v.Gaps = append(v.Gaps, Gap{Kind: s.Kind, Subject: "answer", Cause: s.Cause, Reason: s.Reason,
			Confidence: finding.Proven})
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
		v.answer(in, check.AnswerOf(r.Exchange))
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

func (v *Verdict) gap(k finding.Kind, x access.Expectation, cause, reason string, c finding.Confidence) {
	v.Gaps = append(v.Gaps, Gap{Kind: k, Rung: x.Decider, Subject: x.Subject, Cause: cause, Reason: reason,
		Confidence: c})
}

// fair says whether the control shows the request to be a fair one.
func (in Input) fair() (bool, string) {
	if in.Control == nil {
		return false, "no caller that must be admitted was sent, so the request may be wrong itself"
	}
	if in.Control.Class != check.Admitted {
		return false, fmt.Sprintf("the control (%s) was not admitted either: %s", in.Control.Caller,
			in.Control.Answer.Code())
	}
	return true, ""
}

// spent says whether an answer may speak of what the control did before.
func (in Input) spent() bool {
	return in.Control != nil && in.Control.Class == check.Admitted && !in.Probe.IsControl &&
		declaration.UnsafeMethod(in.Probe.Method) && check.Spent(in.Control.Answer, in.Answer)
}

func (v *Verdict) malformed(in Input) {
	switch {
	case in.Answer.Status == 0:
		v.unproven("no answer: " + in.Answer.Error)
	case v.Class == check.Failed || v.Class == check.Throttled:
		v.unproven(fmt.Sprintf("a malformed id was answered %s", in.Answer.Code()))
	default:
		v.agrees(finding.Proven, fmt.Sprintf("a malformed id was answered %s", in.Answer.Code()))
	}
}

func (v *Verdict) raised(in Input) {
	p := in.Probe
	switch {
	case in.Raised != "":
		x := p.Expect
		x.Decider, x.Subject = 4, "body"
		who := CallerLabel(p)
		v.gap(finding.OverPermissive, x, "body "+p.Claim, fmt.Sprintf("%s raised a role through the body: %q with %s "+
			"was taken over, as seen in %s.", who, p.Claim, p.Role, in.Raised), finding.Proven)
	case v.Class == check.Failed || v.Class == check.Unreachable || v.Class == check.Throttled:
		v.unproven("a body that claims a role was answered " + in.Answer.Code())
	case v.Class == check.Admitted && in.Control != nil && in.Control.Class != check.Admitted:
		v.unproven("the request without the claim was not admitted: " + in.Control.Answer.Code())
	default:
		v.agrees(finding.Likely, fmt.Sprintf("a body that claims %q changed nothing that shows: %s", p.Claim,
			in.Answer.Code()))
	}
}

// carriedOut adds the gap of a request that was turned away and done all the
// same.
func (v *Verdict) carriedOut(in Input) bool {
	if v.Class == check.Admitted || in.ReadBack != "changed" && in.ReadBack != "gone" ||
		in.Probe.Expect.Outcome == access.Admit {
		return false
	}
	kind := finding.OverPermissive
	if in.Probe.Identity == "" {
		kind = finding.Unprotected
	}
	x := in.Probe.Expect
	v.Gaps = append([]Gap{{Kind: kind, Rung: x.Decider, Subject: x.Subject, Cause: "carried out",
		Confidence: finding.Proven,
		Reason: fmt.Sprintf("%s was answered %s, and it was carried out all the same: the record is %s afterwards.",
			CallerLabel(in.Probe), in.Answer.Code(), in.ReadBack)}}, v.Gaps...)
	return true
}
