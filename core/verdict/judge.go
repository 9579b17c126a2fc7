package verdict

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"mime"
	"strconv"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/mask"
	"millgate/core/probe"
)

// minProof is how many values of the owner's answer must appear.
const minProof = 2

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
	// For a foreign record: the owner's answer about it, and the answers about
	// the caller's own records.
	Owner *check.Answer
	Own   []check.Answer
	// After an unsafe probe that was turned away: "" when its record was not
	// read again, "unchanged", "changed" or "gone".
	ReadBack string
	// For a raised role: where the role was seen, "" when it was not.
	Raised string
	// What the route's follow-ups were answered, after an admitted answer.
	Then []FollowedUp
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

// FollowedUp is a follow-up and what it was answered.
type FollowedUp struct {
	FollowUp *declaration.FollowUp
	Answer   check.Answer
	Lost     string // why it was not sent
}

// Misses says what the answer does not show, "" when it shows everything.
func (f FollowedUp) Misses() string {
	u, a := f.FollowUp, f.Answer
	switch {
	case f.Lost != "":
		return ""
	case u.Status == 0 && (a.Status < 200 || a.Status >= 300):
		return fmt.Sprintf("answered %s in place of 2xx", status(a))
	case u.Status != 0 && a.Status != u.Status:
		return fmt.Sprintf("answered %s in place of %d", status(a), u.Status)
	}
	for _, p := range u.Has {
		if _, ok := check.Lookup(a.JSON(), p); !ok {
			return "its answer has no " + p
		}
	}
	for _, p := range u.Lacks {
		if _, ok := check.Lookup(a.JSON(), p); ok {
			return "its answer still has " + p
		}
	}
	return ""
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
	case p.Kind == probe.Around:
		return "nobody (" + p.Way + ")"
	case p.Kind == probe.Accept:
		return "nobody (" + p.Way + ")"
	case p.Kind == probe.Credential:
		return "nobody (" + p.Way + ", made of " + p.Donor + "'s " + p.Scheme + ")"
	case p.Kind == probe.Issued:
		return p.Identity + " (what it is given)"
	case p.Kind == probe.QuotaDrill && p.Identity != "":
		return p.Identity + " (quota drill)"
	case p.Kind == probe.QuotaDrill:
		return "nobody (quota drill)"
	case p.Identity == "" && p.State == access.Broken:
		return "nobody (broken credential)"
	case p.Identity == "":
		return "nobody (no credential)"
	}
	return p.Identity
}

func status(a check.Answer) string {
	if a.Status == 0 {
		return "no answer"
	}
	return strconv.Itoa(a.Status)
}

// Judge gives the verdict on one probe.
func Judge(in Input) Verdict {
	v := Verdict{Class: check.Classify(in.Answer, in.Doc.Answers)}
	if v.nothing(in) {
		return v
	}
	switch in.Probe.Kind {
	case probe.Crossing, probe.Accept:
		v.crossing(in)
	case probe.Around:
		v.around(in)
	case probe.Malformed:
		v.malformed(in)
	case probe.UnknownPath, probe.Neighbour, probe.OtherMethod:
		v.stray(in)
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
		if s.Kind == finding.WrongRefusal && (wrong || in.Probe.Way == probe.AcceptHTML) {
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
			status(in.Answer)))
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
		v.Gaps = append(v.Gaps, Gap{Kind: g.Cause.Kind, Rung: g.Rung, Cause: g.Cause.Cause + g.What, Reason: says,
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

func (v *Verdict) crossing(in Input) {
	p, x, a := in.Probe, in.Probe.Expect, in.Answer
	who := CallerLabel(p)
	if v.Class == check.Unreachable {
		v.unproven("no answer: " + a.Error)
		return
	}
	if v.Class == check.Throttled {
		v.unproven("throttled (429) each time it was sent")
		return
	}
	switch x.Outcome {
	case access.Admit:
		v.expectAdmit(in, who)
		return
	case access.Either:
		if v.Class == check.Admitted || v.Class == check.Refused {
			v.agrees(finding.Proven, fmt.Sprintf("an open route; a broken credential was answered %s", status(a)))
			return
		}
	default:
	}
	if v.Class == check.Admitted && p.Kind == probe.Accept && in.Control != nil && !sameType(a, in.Control.Answer) {
		v.gap(finding.WrongRefusal, x, "refuse page", fmt.Sprintf("%s must be answered 401 (%s), it was shown a page "+
			"(%s, %s)", who, x.Reason(), status(a), a.Header("Content-Type")), finding.Likely)
		return
	}
	if v.Class == check.Admitted {
		v.admitted(in, who)
		return
	}
	fair, why := in.fair()
	if x.Outcome == access.Closed {
		switch v.Class {
		case check.Refused, check.Forbidden, check.Hidden, check.WrongMethod:
			v.agrees(finding.Likely, fmt.Sprintf("for nobody, and answered %s", status(a)))
		default:
			v.unproven(fmt.Sprintf("for nobody, and answered %s", status(a)))
		}
		return
	}
	want := map[access.Outcome]check.Class{access.Refuse: check.Refused, access.Forbid: check.Forbidden,
		access.Hide: check.Hidden, access.Either: check.Refused}[x.Outcome]
	switch {
	case v.Class == check.Failed:
		v.unproven(fmt.Sprintf("the service failed (%s), so nothing is known about the guard", status(a)))
	case !fair:
		v.unproven(fmt.Sprintf("answered %s, but %s", status(a), why))
	case v.Class == want:
		v.agrees(finding.Proven, fmt.Sprintf("%s: %s, and %s was admitted with the same request", x.Outcome, x.Reason(),
			in.Control.Caller))
	case v.Class == check.WrongMethod && x.Outcome != access.Refuse:
		v.unproven(fmt.Sprintf("answered %s, which says nothing about the caller", status(a)))
	case in.spent():
		v.unproven(spentText(a))
	case v.Class == check.Invalid && !bytes.Equal(a.Sent, in.Control.Answer.Sent):
		v.unproven(fmt.Sprintf("answered %s to another body than the control's", status(a)))
	default:
		v.gap(finding.WrongRefusal, x, string(x.Outcome.String())+" "+string(v.Class),
			fmt.Sprintf("%s must be answered %d (%s), it was %s", who, wantStatus(x), x.Reason(), describe(v.Class, a)),
			finding.Proven)
	}
}

func wantStatus(x access.Expectation) int {
	if s := x.Status(); s != 0 {
		return s
	}
	return 401
}

func describe(c check.Class, a check.Answer) string {
	switch c {
	case check.ToLogin:
		return fmt.Sprintf("sent to a login page (%d, %s)", a.Status, a.Header("Location"))
	case check.Invalid:
		return fmt.Sprintf("told that the request is invalid (%d)", a.Status)
	default:
	}
	return fmt.Sprintf("%d", a.Status)
}

// fair says whether the control shows the request to be a fair one.
func (in Input) fair() (bool, string) {
	if in.Control == nil {
		return false, "no caller that must be admitted was sent, so the request may be wrong itself"
	}
	if in.Control.Class != check.Admitted {
		return false, fmt.Sprintf("the control (%s) was not admitted either: %s", in.Control.Caller,
			status(in.Control.Answer))
	}
	return true, ""
}

// spent says whether an answer may speak of what the control did before: after an
// admitted request that made, used up or ended something, an equal one meets another
// state (RFC 9110 sections 15.5.1, 15.5.10, 15.5.11, 15.5.13 and 15.5.21).
func (in Input) spent() bool {
	c, a := in.Control, in.Answer
	if c == nil || c.Class != check.Admitted || in.Probe.IsControl || !declaration.UnsafeMethod(in.Probe.Method) ||
		c.Answer.At.IsZero() || !c.Answer.At.Before(a.At) {
		return false
	}
	switch a.Status {
	case 400, 409, 410, 412, 422:
		return true
	}
	return false
}

func spentText(a check.Answer) string {
	return fmt.Sprintf("answered %s after the control, which may have made, used up or ended what it was sent for",
		status(a))
}

func (v *Verdict) expectAdmit(in Input, who string) {
	a := in.Answer
	if in.spent() && v.Class != check.Admitted {
		v.unproven(spentText(a))
		return
	}
	switch v.Class {
	case check.Admitted:
		v.agrees(finding.Proven, fmt.Sprintf("admit: %s, and answered %s", in.Probe.Expect.Reason(), status(a)))
		v.followed(in, who)
	case check.Refused, check.Forbidden, check.Hidden, check.ToLogin:
		// Another caller who is admitted by the same request shows that this
		// one was turned away for who it is.
		c := finding.Likely
		if in.Control != nil && in.Control.Class == check.Admitted {
			c = finding.Proven
		}
		v.gap(finding.OverRestrictive, in.Probe.Expect, "admit "+string(v.Class),
			fmt.Sprintf("%s must be admitted (%s), it was %s", who, in.Probe.Expect.Reason(), describe(v.Class, a)), c)
	case check.Invalid:
		v.unproven(fmt.Sprintf("the request is not fair yet: the service answered %s", status(a)))
	case check.WrongMethod:
		v.unproven(fmt.Sprintf("the service does not know this method here (%s)", status(a)))
	default:
		v.unproven(fmt.Sprintf("the service failed (%s)", status(a)))
	}
}

// followed judges what shows whether an admitted request had its effect.
func (v *Verdict) followed(in Input, who string) {
	for _, f := range in.Then {
		as := cmp.Or(f.FollowUp.As.Name, in.Probe.Identity, "nobody")
		what := fmt.Sprintf("%s %s as %s", f.FollowUp.Method, f.FollowUp.Path, as)
		switch miss := f.Misses(); {
		case f.Lost != "":
			v.agrees(finding.Likely, fmt.Sprintf("%s; its effect was not seen: %s", v.Reason, f.Lost))
		case f.Answer.Status == 0 || f.Answer.Status == 429 || f.Answer.Status >= 500:
			v.agrees(finding.Likely, fmt.Sprintf("%s; its effect was not seen: %s was answered %s", v.Reason, what,
				status(f.Answer)))
		case miss != "":
			v.gap(finding.OverRestrictive, in.Probe.Expect, "no effect",
				fmt.Sprintf("%s was answered %s, and it was not carried out: %s was %s.", who, status(in.Answer), what,
					miss), finding.Proven)
		default:
			v.Reason += "; " + what + " shows that it was carried out"
		}
	}
}

func (v *Verdict) admitted(in Input, who string) {
	p, x, a := in.Probe, in.Probe.Expect, in.Answer
	conf := finding.Proven
	if a.Status >= 300 {
		conf = finding.Likely
	}
	if p.Identity == "" {
		cause := "credential " + string(p.State)
		if x.Outcome == access.Closed {
			x.Subject = "role"
		}
		what := "without a credential"
		if p.State == access.Broken {
			what = "with a broken credential"
		}
		v.gap(finding.Unprotected, x, cause, fmt.Sprintf("Nobody got in: answered %s %s. The declaration says %s: %s.",
			status(a), what, x.Outcome, x.Reason()), conf)
		return
	}
	proof := ""
	if x.Subject == "ownership" {
		conf = finding.Likely
		switch n := sharedValues(in); {
		case in.ReadBack == "changed" || in.ReadBack == "gone":
			conf, proof = finding.Proven, fmt.Sprintf(" The owner's record is %s afterwards.", in.ReadBack)
		case n >= minProof:
			conf, proof = finding.Proven, fmt.Sprintf(" %d values of %s's answer are in it.", n, p.Record.Owner)
		}
	}
	v.gap(finding.OverPermissive, x, x.Subject, fmt.Sprintf("%s got in: answered %s. The declaration says %s: %s.%s",
		who, status(a), x.Outcome, x.Reason(), proof), conf)
}

// sharedValues counts values of the owner's answer that the caller's own
// records do not have and that the caller was shown.
func sharedValues(in Input) int {
	if in.Owner == nil {
		return 0
	}
	own := map[string]bool{}
	for _, o := range in.Own {
		collect(o.JSON(), own)
	}
	theirs, shown := map[string]bool{}, map[string]bool{}
	collect(in.Owner.JSON(), theirs)
	collect(in.Answer.JSON(), shown)
	n := 0
	for k := range theirs {
		if shown[k] && !own[k] {
			n++
		}
	}
	return n
}

// collect gathers values with their member's name; short and common ones do
// not identify a record.
func collect(v any, into map[string]bool) { collectAt("", v, into) }

func collectAt(name string, v any, into map[string]bool) {
	switch x := v.(type) {
	case map[string]any:
		for k, m := range x {
			collectAt(k, m, into)
		}
	case []any:
		for _, m := range x {
			collectAt(name, m, into)
		}
	case string:
		if len(x) > 1 && !mask.Anonymous(x) {
			into[name+"="+x] = true
		}
	case json.Number:
		into[name+"="+x.String()] = true
	}
}

func (v *Verdict) around(in Input) {
	p, a := in.Probe, in.Answer
	fair, why := in.fair()
	through := a.Status >= 200 && a.Status < 300
	if p.Way == probe.OptionsMethod {
		// That a method is answered is no gap; that it shows the record is.
		through = through && fair && sameContent(a, in.Control.Answer)
	}
	switch {
	case through:
		conf := finding.Likely
		if fair && sameType(a, in.Control.Answer) {
			conf = finding.Proven
		}
		v.gap(finding.Unprotected, p.Expect, "way "+p.Way, fmt.Sprintf("The guard was stepped around %s: nobody was "+
			"answered %s.", byWay[p.Way], status(a)), conf)
	case a.Status == 0 && p.Way == probe.PastGateway:
		v.agrees(finding.Likely, "the direct address does not answer from here: "+a.Error)
	case a.Status == 0:
		v.unproven("no answer: " + a.Error)
	case v.Class == check.Failed || v.Class == check.Throttled:
		v.unproven("the service answered " + status(a))
	case !fair:
		v.unproven(fmt.Sprintf("answered %s, but %s", status(a), why))
	default:
		v.agrees(finding.Proven, fmt.Sprintf("%s leads nowhere: %s", p.Way, status(a)))
	}
}

// sameContent says whether an answer shows something of another.
func sameContent(a, b check.Answer) bool {
	if len(a.Body) == 0 {
		return false
	}
	theirs, shown := map[string]bool{}, map[string]bool{}
	collect(a.JSON(), shown)
	collect(b.JSON(), theirs)
	for k := range theirs {
		if shown[k] {
			return true
		}
	}
	return len(theirs) == 0 && bytes.Equal(a.Body, b.Body)
}

func sameType(a, b check.Answer) bool {
	x, _, err1 := mime.ParseMediaType(a.Header("Content-Type"))
	y, _, err2 := mime.ParseMediaType(b.Header("Content-Type"))
	if err1 == nil || err2 == nil {
		return err1 == nil && err2 == nil && x == y
	}
	return len(a.Body) == 0 && len(b.Body) == 0
}

func (v *Verdict) malformed(in Input) {
	switch {
	case in.Answer.Status == 0:
		v.unproven("no answer: " + in.Answer.Error)
	case v.Class == check.Failed || v.Class == check.Throttled:
		v.unproven(fmt.Sprintf("a malformed id was answered %s", status(in.Answer)))
	default:
		v.agrees(finding.Proven, fmt.Sprintf("a malformed id was answered %s", status(in.Answer)))
	}
}

func (v *Verdict) stray(in Input) {
	p, a := in.Probe, in.Answer
	switch {
	case a.Status == 0:
		v.unproven("no answer: " + a.Error)
	case v.Class == check.Throttled:
		v.unproven("throttled (429) each time it was sent")
	case a.Status >= 200 && a.Status < 300:
		if p.Kind == probe.Neighbour && in.Control != nil && in.Control.Class == check.Admitted {
			v.unproven("the service answers any path here, so this one may not exist")
			return
		}
		who, what := CallerLabel(p), "is served, and the inventory does not have it"
		if p.Kind == probe.UnknownPath {
			what = "is a made-up path, and it is served all the same"
		}
		v.gap(finding.Undeclared, p.Expect, "served", fmt.Sprintf("%s %s: %s was answered %s.", p.RouteKey, what, who,
			status(a)), finding.Proven)
	case v.Class == check.ToLogin || v.Class == check.Failed:
		v.gap(finding.WrongRefusal, p.Expect, "stray "+string(v.Class),
			fmt.Sprintf("what the inventory does not have must be answered 404 or 405, it was %s",
				describe(v.Class, a)), finding.Proven)
	default:
		v.agrees(finding.Proven, "not in the inventory, and turned away: "+status(a))
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
		v.unproven("a body that claims a role was answered " + status(in.Answer))
	case v.Class == check.Admitted && in.Control != nil && in.Control.Class != check.Admitted:
		v.unproven("the request without the claim was not admitted: " + status(in.Control.Answer))
	default:
		v.agrees(finding.Likely, fmt.Sprintf("a body that claims %q changed nothing that shows: %s", p.Claim,
			status(in.Answer)))
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
			CallerLabel(in.Probe), status(in.Answer), in.ReadBack)}}, v.Gaps...)
	return true
}
