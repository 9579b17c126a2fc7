package crossing

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/finding"
)

// Gather says which gaps are one fault. Where nobody gets in both without a credential and
// with a broken one, there is no guard: whatever else got in has the same cause. Where a broken
// credential is taken for a sound one behind its scheme, that it is turned away elsewhere for
// its caller's role or record comes from that.
func (Family) Gather(_ *check.Context, all []check.Judged) {
	in := map[string]map[string]bool{} // by route
	passes := map[string]bool{}        // schemes whose broken credentials are taken
	absent, broken := "credential "+string(access.Absent), "credential "+string(access.Broken)
	for _, x := range all {
		for _, g := range x.Gaps {
			if x.Probe.Caller.Identity == "" && !g.Aside && g.Row.Kind == finding.Unprotected {
				if in[x.Probe.Route] == nil {
					in[x.Probe.Route] = map[string]bool{}
				}
				in[x.Probe.Route][g.Row.Cause] = true
			}
		}
	}
	for _, x := range all {
		if m := in[x.Probe.Route]; m[broken] && !m[absent] {
			passes[x.Probe.Caller.Scheme] = true
		}
	}
	none, taken := finding.RowOf(rows, noGuard), finding.RowOf(rows, broken)
	for _, x := range all {
		m := in[x.Probe.Route]
		for k := range x.Gaps {
			g := &x.Gaps[k]
			switch {
			case m[absent] && m[broken]:
				if g.Row.Kind == finding.Unprotected || g.Row.Kind == finding.OverPermissive {
					g.Row, g.What, g.Who, g.Aside, g.Wide = none, "", "", false, finding.Scope{}
				}
			case x.Probe.Caller.State == access.Broken && g.Row.Kind == finding.WrongRefusal &&
				passes[x.Probe.Caller.Scheme]:
				g.Row, g.What = taken, ""
				g.Wide = finding.Scope{Of: finding.AtScheme, Name: x.Probe.Caller.Scheme}
			}
		}
	}
}

// minProof is how many values of the owner's answer must appear.
const minProof = 2

// judging is a crossing with everything that is known of it.
type judging struct {
	c       *check.Context
	p       *check.Probe
	f       *check.Fact
	e       *check.Evidence
	x       access.Expectation
	r       check.Report // of the request, of which status and header fields are looked at
	answer  check.Answer
	class   check.Class
	who     string
	control *check.Control // nil where none was sent
	v       check.Verdict
}

// Judge holds what was seen against what the declaration expects of the caller.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	j := &judging{c: c, p: p, f: fact, e: e, x: f.Expect(c, p), who: f.Who(p)}
	if len(fact.Reports) == 0 {
		return check.Unproven("nothing was sent")
	}
	j.answer = check.AnswerOf(fact.Reports[0].Exchange)
	j.r, j.class = check.Head(fact.Reports[0]), check.Classify(j.answer, c.Doc.Answers)
	j.control = check.ControlOf(c, e, p.Control, of(p).ControlBy)
	j.verdict()
	if g, ok := check.CarriedOut(c, p, fact, j.who, j.x); ok {
		j.v.Gaps = slices.Insert(j.v.Gaps, 0, g)
	}
	j.v.Answers = fact.Reports[:1:1]
	j.v.AnyShape = p.Of == AcceptHTML // who asks for a page may be answered with one
	return j.v
}

func (j *judging) agrees(proof check.Proof, format string, args ...any) {
	j.v.Says, j.v.Proof = fmt.Sprintf(format, args...), proof
}

func (j *judging) unproven(format string, args ...any) {
	u := check.Unproven(format, args...)
	j.v.Says, j.v.Proof = u.Says, u.Proof
}

func (j *judging) gap(kind finding.Kind, cause, says string, proof check.Proof) {
	g := gapOf(kind, cause)
	g.Rung, g.Says, g.Proof = j.x.Decider, says, proof
	g.Aside = j.p.Of != ""
	switch {
	case cause == "credential "+string(access.Broken) && j.p.Caller.Scheme != "":
		// What tells a sound credential is one piece of code for a scheme.
		g.Wide = finding.Scope{Of: finding.AtScheme, Name: j.p.Caller.Scheme}
	case kind == finding.WrongRefusal:
		// How callers are turned away is one piece of code, wherever it stands.
		g.Wide = check.GuardScope(j.c.Doc, j.p.Route)
	}
	if cause == ownership {
		g.Who = j.p.Caller.Identity
	}
	j.v.Gaps = append(j.v.Gaps, g)
}

// shown is what an answer's status and header fields show by themselves.
func (j *judging) shown() check.Proof { return check.Shown(j.r) }

func (j *judging) speaks() check.Proof { return check.Speaks(j.r) }

func (j *judging) verdict() {
	a := j.answer
	switch {
	case j.class == check.Unreachable:
		j.unproven("no answer: %s", a.Error)
		return
	case j.class == check.Throttled:
		j.unproven("throttled (429) each time it was sent")
		return
	case j.x.Outcome == access.Admit:
		j.mustEnter()
		return
	case j.x.Outcome == access.Either && (j.class == check.Admitted || j.class == check.Refused):
		j.agrees(j.shown(), "an open route; a broken credential was answered %s", a.Code())
		return
	case j.class == check.Admitted && j.p.Of != "" && j.control != nil && !check.SameType(a, j.control.Answer):
		if n, proof := j.revealed(j.control.Answer, nil); n >= minProof {
			j.gap(finding.Unprotected, asPage, fmt.Sprintf("%s must be answered %d (%s), and was shown %d values of "+
				"what %s gets (%s, %s).", j.who, j.x.Status(), j.x.Reason(), n, j.control.Who, a.Code(),
				a.Header("Content-Type")),
				proof)
			return
		}
		j.gap(finding.WrongRefusal, "refuse page", fmt.Sprintf("%s must be answered %d (%s), it was shown a page "+
			"(%s, %s)", j.who, j.x.Status(), j.x.Reason(), a.Code(), a.Header("Content-Type")), j.speaks())
		return
	case j.class == check.Admitted:
		j.admitted()
		return
	case j.x.Outcome == access.Closed:
		switch j.class {
		case check.Refused, check.Forbidden, check.Hidden, check.WrongMethod:
			j.agrees(j.speaks(), "for nobody, and answered %s", a.Code())
		default:
			j.unproven("for nobody, and answered %s", a.Code())
		}
		return
	}
	j.turnedAway()
}

// turnedAway judges a refusal where one is declared.
func (j *judging) turnedAway() {
	a, k := j.answer, j.control
	unfair := k.Unfair()
	switch {
	case j.class == check.Failed && unfair == "" && (j.x.Decider == 2 || j.x.Decider == 3) && j.failsAgain() != nil:
		j.gap(finding.WrongRefusal, "refuse "+string(check.Failed), fmt.Sprintf("%s must be answered %d (%s), and "+
			"the service fails (%s), once more a moment later; %s was admitted with the same request", j.who,
			j.x.Status(), j.x.Reason(), a.Code(), k.Who), check.Shown(j.r, *j.failsAgain()))
	case of(j.p).Apart != "" && unfair == "" && (j.class == check.Forbidden || j.class == check.Hidden):
		// Whatever is not there is not there for anybody.
		j.agrees(check.TurnedAway(j.r, *k.Report, k.Class), "%s: answered %s, and %s was admitted where both belong "+
			"together", j.x.Reason(), a.Code(), k.Who)
	case j.class == check.Failed:
		j.unproven("the service failed (%s)%s, so nothing is known about the guard", a.Code(), j.overSince())
	case unfair != "":
		j.unproven("answered %s, but %s", a.Code(), unfair)
	case j.class == check.Invalid && !bytes.Equal(a.Sent, k.Answer.Sent):
		j.unproven("answered %s to another body than the control's", a.Code())
	case check.AsDeclared(j.x, j.class, a.Status):
		j.agrees(check.TurnedAway(j.r, *k.Report, k.Class), "%s: %s, and %s was admitted with the same request",
			j.x.Outcome, j.x.Reason(), k.Who)
	case j.class == check.WrongMethod && j.x.Outcome != access.Refuse:
		j.unproven("answered %s, which says nothing about the caller", a.Code())
	case j.spent():
		j.unproven("%s", check.SpentText(a))
	default:
		must, declared := fmt.Sprintf("be answered %d (%s)", j.x.Status(), j.x.Reason()), j.x.Outcome.String()
		switch {
		case j.x.Outcome == access.Either:
			must = "be answered as anybody is, or 401: the route is open"
		case !j.x.Plain():
			declared = otherwise
		}
		j.gap(finding.WrongRefusal, declared+" "+string(j.class), fmt.Sprintf("%s must %s, it was %s",
			j.who, must, check.Describe(j.class, a)), check.TurnedAway(j.r, *k.Report, k.Class))
	}
}

// spent says whether the answer may speak of what the control did.
func (j *judging) spent() bool {
	k := j.control
	return k != nil && k.Class == check.Admitted && j.c.Doc.Routes[j.c.Doc.RouteNamed(j.p.Route)].Unsafe() &&
		check.Spent(k.Answer, j.answer)
}

// mustEnter judges a caller that must be admitted.
func (j *judging) mustEnter() {
	a := j.answer
	if j.spent() && j.class != check.Admitted {
		j.unproven("%s", check.SpentText(a))
		return
	}
	switch j.class {
	case check.Admitted:
		j.agrees(j.shown(), "admit: %s, and answered %s", j.x.Reason(), a.Code())
		j.followed()
	case check.Refused, check.Forbidden, check.Hidden, check.ToLogin:
		// Another caller who is admitted by the same request shows that this one was
		// turned away for who it is.
		proof := j.speaks()
		if j.control != nil && j.control.Class == check.Admitted {
			proof = check.TurnedAway(j.r, *j.control.Report, j.control.Class)
		}
		j.gap(finding.OverRestrictive, "admit "+string(j.class), fmt.Sprintf("%s must be admitted (%s), it was %s",
			j.who, j.x.Reason(), check.Describe(j.class, a)), proof)
	case check.Invalid:
		j.unproven("the request is not fair yet: the service answered %s", a.Code())
	case check.WrongMethod:
		j.unproven("the service does not know this method here (%s)", a.Code())
	default:
		j.failed()
	}
}

// failed judges a failure for who must be admitted.
func (j *judging) failed() {
	again := j.failsAgain()
	if again == nil {
		j.unproven("the service failed (%s)%s", j.answer.Code(), j.overSince())
		return
	}
	proof := check.Speaks(j.r, check.Head(*again))
	if j.control != nil && j.control.Class == check.Admitted {
		j.gap(finding.OverRestrictive, "admit "+string(check.Failed), fmt.Sprintf("%s must be admitted (%s), and the "+
			"service fails (%s), once more a moment later; %s was admitted with the same request", j.who, j.x.Reason(),
			j.answer.Code(), j.control.Who), proof)
		return
	}
	for _, key := range of(j.p).Near {
		if f := j.e.Of(key); f != nil && len(f.Reports) > 0 && f.Reports[0].Class(j.c.Doc.Answers) == check.Admitted {
			j.gap(finding.OverRestrictive, servesNoOne, fmt.Sprintf("%s must be admitted (%s), and the service fails "+
				"(%s), once more a moment later, as for everybody here; %s works", j.who, j.x.Reason(), j.answer.Code(),
				f.Reports[0].Exchange.Method+" "+pathOf(f.Reports[0].Exchange.URL)), proof)
			return
		}
	}
	j.unproven("the service failed twice (%s), and no route beside this one is known to work", j.answer.Code())
}

// pathOf is the path of an address, as people read it.
func pathOf(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Path
	}
	return address
}

// failsAgain is the report of a second failure, nil without.
func (j *judging) failsAgain() *check.Report {
	r, ok := j.f.Named(onceMore)
	if ok && r.Fate == check.Answered && r.Class(j.c.Doc.Answers) == check.Failed {
		return &r
	}
	return nil
}

// overSince says that a failure was over a moment later.
func (j *judging) overSince() string {
	if r, ok := j.f.Named(onceMore); ok && r.Fate == check.Answered {
		return fmt.Sprintf(", and a moment later answered %d", r.Exchange.Status)
	}
	return ""
}

// revealed is how many values of another answer this one shows, in whatever form, but for those
// of a third and those of any page: the proof is whole where the page of an address that nobody
// has was seen.
func (j *judging) revealed(theirs check.Answer, but map[string]bool) (n int, proof check.Proof) {
	var common map[string]bool
	beside, sent := j.f.Named(elsewhere)
	switch {
	case j.answer.Parts():
		proof = j.shown() // a name and its value stand nowhere by chance
	case sent && beside.Fate == check.Answered:
		common, proof = check.AnswerOf(beside.Exchange).Reveals(theirs), check.Shown(j.r, beside)
	default:
		proof = j.speaks()
	}
	for k := range j.answer.Reveals(theirs) {
		if !but[k] && !common[k] {
			n++
		}
	}
	return n, proof
}

// followed judges what shows whether an admitted request had its effect.
func (j *judging) followed() {
	for _, u := range j.c.Doc.Routes[j.c.Doc.RouteNamed(j.p.Route)].Then {
		what := FollowName(u, cmp.Or(u.As.Name, j.p.Caller.Identity, "nobody"))
		r, sent := j.f.Named(what)
		if !sent {
			continue
		}
		a := check.AnswerOf(r.Exchange)
		switch {
		case r.Fate == check.Unsent:
			j.agrees(j.speaks(), "%s; its effect was not seen: %s", j.v.Says, r.Why)
		case a.Status == 0 || a.Status == 429 || a.Status >= 500:
			j.agrees(j.speaks(), "%s; its effect was not seen: %s was answered %s", j.v.Says, what, a.Code())
		default:
			if miss := misses(u, a); miss != "" {
				j.gap(finding.OverRestrictive, "no effect", fmt.Sprintf("%s was answered %s, and it was not carried "+
					"out: %s was %s.", j.who, j.answer.Code(), what, miss), check.Shown(j.r, r))
			} else {
				j.v.Says += "; " + what + " shows that it was carried out"
			}
		}
	}
}

// admitted judges a caller that got in and must not.
func (j *judging) admitted() {
	p, a, proof, also := j.p, j.answer, j.shown(), ""
	otherForm := len(a.Body) > 0 && !a.Parts() && j.control != nil && j.control.Answer.Parts()
	switch {
	case a.Status >= 300:
		proof = j.speaks()
	case otherForm && j.control.Class == check.Admitted:
		var n int
		if n, proof = j.revealed(j.control.Answer, nil); n >= minProof {
			also = fmt.Sprintf(" %d values of what %s gets stand in it.", n, j.control.Who)
		} else {
			proof, also = j.speaks(), check.StrangeText
		}
	case j.control.Strange(a):
		proof, also = j.speaks(), check.StrangeText
	}
	if p.Caller.Identity == "" {
		what := "without a credential"
		if p.Caller.State == access.Broken {
			what = "with a broken credential"
		}
		j.gap(finding.Unprotected, "credential "+string(p.Caller.State), fmt.Sprintf("Nobody got in: answered %s %s. "+
			"The declaration says %s: %s.%s", a.Code(), what, j.x.Outcome, j.x.Reason(), also), proof)
		return
	}
	if j.x.Subject == ownership {
		changed, how := check.ReadBack(j.f)
		switch n, whose, shared := j.sharedValues(); {
		case how == check.Altered || how == check.Gone:
			proof, also = changed, fmt.Sprintf(" The owner's record is %s afterwards.", how)
		case n >= minProof:
			proof, also = shared, fmt.Sprintf(" %d values of %s's answer are in it.", n, whose)
		case of(p).Apart == anothersPlace && j.showsOwn():
			j.agrees(j.speaks(), "answered %s with the caller's own record, wherever the path says that it stands",
				a.Code())
			return
		default:
			proof = j.speaks()
		}
	}
	j.gap(finding.OverPermissive, j.x.Subject, fmt.Sprintf("%s got in: answered %s. The declaration says %s: %s.%s",
		j.who, a.Code(), j.x.Outcome, j.x.Reason(), also), proof)
}

// sharedValues counts values of the answer to somebody who may see the record, its owner if it
// can be, that the caller's own records do not have and that the caller was shown.
func (j *judging) sharedValues() (n int, whose string, proof check.Proof) {
	var owner *check.Answer
	for _, x := range of(j.p).Owner {
		if f := j.e.Of(x.Key); f != nil && len(f.Reports) > 0 && f.Reports[0].Exchange.Status == 200 {
			a := check.AnswerOf(f.Reports[0].Exchange)
			owner, whose = &a, x.Who
		}
	}
	if owner == nil {
		return 0, "", check.Proof{}
	}
	n, proof = j.revealed(*owner, j.ownValues())
	return n, whose, proof
}

// ownValues are those that the caller is shown of records that it is admitted on.
func (j *judging) ownValues() map[string]bool {
	own := map[string]bool{}
	for _, key := range of(j.p).Own {
		if f := j.e.Of(key); f != nil && len(f.Reports) > 0 {
			maps.Copy(own, check.AnswerOf(f.Reports[0].Exchange).Values())
		}
	}
	return own
}

// showsOwn says whether the answer shows what the caller is shown of the record anyway.
func (j *judging) showsOwn() bool {
	own, n := j.ownValues(), 0
	for v := range j.answer.Values() {
		if own[v] {
			n++
		}
	}
	return n >= minProof
}
