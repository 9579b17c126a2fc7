package verdict

import (
	"fmt"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/probe"
	"millgate/core/session"
)

// Judged is one thing that is said about what was issued.
type Judged = session.Judged

// credential judges a probe with a credential that is broken in one way. Only
// what is admitted says something about the soundness check; how a refusal
// looks is judged by the crossing with a broken credential.
func (v *Verdict) credential(in Input) {
	p, a := in.Probe, in.Answer
	if v.Class == check.Unreachable {
		v.unproven("no answer: " + a.Error)
		return
	}
	fair, why := in.fair()
	soundness := p.Expect
	soundness.Decider, soundness.Subject = 3, "soundness"
	switch {
	case probe.MustEnter(p.Way):
		v.mustEnter(in)
	case v.Class == check.Admitted && p.Way == probe.Ended:
		x := p.Expect
		x.Subject = "lifetime"
		v.gap(finding.Lifetime, x, "afterlife", fmt.Sprintf("A credential of %s worked after its session was logged "+
			"out: answered %s.", p.Donor, a.Code()), finding.Proven)
	case v.Class == check.Admitted && p.Way == probe.CrossSite:
		v.crossSite(in, soundness)
	case v.Class == check.Admitted && in.BesideEnters:
		v.agrees(finding.Likely, fmt.Sprintf("admitted, as %s is without the broken credential", p.Beside))
	case v.Class == check.Admitted:
		v.gap(finding.Unprotected, soundness, "token "+p.Way, fmt.Sprintf("%s: answered %s. It must be refused: it "+
			"is not sound.", accepted(p), a.Code()), finding.Proven)
	case v.Class == check.Throttled || v.Class == check.Failed:
		v.unproven("the service answered " + a.Code())
	case !fair:
		v.unproven(fmt.Sprintf("answered %s, but %s", a.Code(), why))
	case in.spent():
		v.unproven(check.SpentText(a))
	default:
		v.agrees(finding.Proven, fmt.Sprintf("%s: turned away with %s, and %s was admitted with the same request",
			p.Way, a.Code(), in.Control.Caller))
	}
}

// accepted says what was accepted, as the beginning of a sentence.
func accepted(p *probe.Probe) string {
	switch p.Way {
	case probe.Repeated:
		return "The same signed request was accepted twice"
	case probe.OldTime:
		return "A request that was signed longer ago than is tolerated was accepted"
	case probe.OtherBody:
		return "A signature over another body was accepted"
	case probe.OtherRecord:
		return "A link that was given out for " + p.OtherID + " opened another record"
	case probe.Changed:
		return "A link with a changed end was accepted"
	case probe.InQuery:
		return "A token in the query was accepted, where it is written into logs and histories (RFC 6750 section 2.3)"
	case probe.BesideFirst, probe.BesideLast, probe.BesideOther:
		return fmt.Sprintf("A broken credential beside the sound one of %s, who may not enter, was accepted", p.Beside)
	}
	return "A credential that is broken (" + p.Way + ") was accepted"
}

// mustEnter judges what must be admitted although it looks unusual.
func (v *Verdict) mustEnter(in Input) {
	p, a := in.Probe, in.Answer
	cause, what, why := "scheme letters", `A sound token behind "bEARER"`,
		"the scheme's word has no letter case (RFC 9110 section 11.1)"
	if p.Way == probe.OtherBroken {
		cause, what, why = "stale beside", "A sound credential beside a broken one of "+p.BesideScheme,
			"which does not count here"
	}
	switch v.Class {
	case check.Admitted:
		v.agrees(finding.Proven, fmt.Sprintf("%s is admitted: %s", what, why))
	case check.Refused, check.Forbidden, check.Hidden, check.ToLogin, check.Invalid:
		if fair, why := in.fair(); !fair {
			v.unproven(fmt.Sprintf("answered %s, but %s", a.Code(), why))
			return
		}
		if in.spent() {
			v.unproven(check.SpentText(a))
			return
		}
		x := p.Expect
		x.Decider, x.Subject = 0, "credential"
		v.gap(finding.OverRestrictive, x, cause, fmt.Sprintf("%s was %s; %s.", what, turned(v.Class, a), why),
			finding.Proven)
	default:
		v.unproven("the service answered " + a.Code())
	}
}

// turned says how a caller was turned away, behind "was".
func turned(c check.Class, a check.Answer) string {
	if c == check.ToLogin || c == check.Invalid {
		return check.Describe(c, a)
	}
	return "answered " + check.Describe(c, a)
}

// crossSite judges a write that a page of another site sent with the cookie.
// A browser does not send a SameSite cookie there, so then nothing is open.
func (v *Verdict) crossSite(in Input, x access.Expectation) {
	if s := in.SameSite; s == "strict" || s == "lax" {
		v.agrees(finding.Likely, fmt.Sprintf("accepted with a foreign Origin, but the cookie is SameSite=%s, so that "+
			"a browser does not send it there", s))
		return
	}
	v.gap(finding.Unprotected, x, "token "+in.Probe.Way, fmt.Sprintf("A page of another site can act as %s: a write "+
		"with its cookie and a foreign Origin was answered %s, and the cookie is not SameSite.", in.Probe.Donor,
		in.Answer.Code()), finding.Proven)
}

// issued judges the token that a login gave.
func (v *Verdict) issued(in Input) {
	p := in.Probe
	if in.Issued == nil {
		v.unproven("no token was obtained")
		return
	}
	n := 0
	for _, j := range *in.Issued {
		row := finding.RowOf(issuedCauses, "token "+j.ID)
		if row == nil { // worth knowing, and no gap: the declaration does not ask for it
			n++
			continue
		}
		x := access.Expectation{Outcome: access.Admit, Decider: 3, Subject: "token"}
		what := credentialWord(in.Doc, p)
		v.gap(row.Kind, x, row.Cause, fmt.Sprintf("The %s that %s is given: %s. %s (%s)", what, p.Identity, j.Text,
			j.Why, j.Standard), finding.Proven)
	}
	v.agrees(finding.Proven, "what is issued is as declared")
	if n > 0 {
		v.Reason = fmt.Sprintf("what is issued is as declared; %d more are worth knowing", n)
	}
}

// credentialWord names what a scheme gives out.
func credentialWord(d *declaration.Document, p *probe.Probe) string {
	if s := d.SchemeNamed(p.Scheme); s != nil {
		switch s.Kind {
		case declaration.Cookie:
			return "cookie"
		case declaration.Link:
			return "link"
		default:
		}
	}
	return "token"
}
