package verdict

import (
	"fmt"

	"millgate/core/access"
	"millgate/core/probe"
	"millgate/core/severity"
)

// Judged is one thing that is said about an issued token.
type Judged struct {
	ID       string            `json:"id"`
	Severity severity.Severity `json:"severity"`
	Text     string            `json:"text"`
	Why      string            `json:"why"`
	Standard string            `json:"standard"`
}

// credential judges a probe with a credential that is broken in one way. Only
// what is admitted says something about the soundness check; how a refusal
// looks is judged by the crossing with a broken credential.
func (v *Verdict) credential(in Input) {
	p, a := in.Probe, in.Answer
	if v.Class == Unreachable {
		v.unproven("no answer: " + a.Error)
		return
	}
	fair, why := in.fair()
	switch {
	case v.Class == Admitted && p.Way == probe.Ended:
		x := p.Expect
		x.Subject = "lifetime"
		v.gap(Lifetime, x, "afterlife", fmt.Sprintf("A token of %s worked after its session was logged out: answered %s.", p.Donor, status(a)), Proven)
	case v.Class == Admitted:
		x := p.Expect
		x.Decider, x.Subject = 3, "soundness"
		v.gap(Unprotected, x, "token "+p.Way, fmt.Sprintf("A credential that is broken (%s) was accepted: answered %s. It must be refused: it is not sound.", p.Way, status(a)), Proven)
	case v.Class == Throttled || v.Class == Failed:
		v.unproven("the service answered " + status(a))
	case !fair:
		v.unproven(fmt.Sprintf("answered %s, but %s", status(a), why))
	default:
		v.agrees(Proven, fmt.Sprintf("%s: turned away with %s, and %s was admitted with the same request", p.Way, status(a), in.Control.Caller))
	}
}

// lifetimes are judgements about how long a token lives; the others that
// count are weaknesses.
var lifetimes = map[string]bool{"too-long": true, "exp-missing": true, "date-milliseconds": true}

// minor are judgements that are worth knowing and no gap: the declaration does
// not ask for it.
func minor(j Judged) bool { return !j.Severity.AtLeast(severity.Medium) }

// issued judges the token that a login gave.
func (v *Verdict) issued(in Input) {
	p := in.Probe
	if in.Issued == nil {
		v.unproven("no token was obtained")
		return
	}
	n := 0
	for _, j := range *in.Issued {
		if minor(j) {
			n++
			continue
		}
		kind := WeakToken
		if lifetimes[j.ID] {
			kind = Lifetime
		}
		x := access.Expectation{Outcome: access.Admit, Decider: 3, Subject: "token"}
		v.gap(kind, x, "token "+j.ID, fmt.Sprintf("The token that the login of %s gives: %s. %s (%s)", p.Identity, j.Text, j.Why, j.Standard), Proven)
	}
	v.agrees(Proven, "the token of the login is as declared")
	if n > 0 {
		v.Reason = fmt.Sprintf("the token of the login is as declared; %d more are worth knowing", n)
	}
}
