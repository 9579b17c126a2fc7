package verdict

import (
	"fmt"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/probe"
	"millgate/core/session"
)

// Judged is one thing that is said about what was issued.
type Judged = session.Judged

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
