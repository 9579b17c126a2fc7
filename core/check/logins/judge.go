package logins

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Judge judges what a login with something wrong in it was answered.
func (Family) Judge(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) check.Verdict {
	r := f.Reports[0]
	v := verdict(c, p, f, e)
	v.Answers = []check.Report{r}
	return v
}

func verdict(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) check.Verdict {
	r := f.Reports[0]
	status := r.Exchange.Status
	switch r.Class(c.Doc.Answers) {
	case check.Unreachable:
		return check.Unproven("no answer: %s", cmp.Or(r.Exchange.Error, r.Why))
	case check.Failed, check.Throttled:
		return check.Unproven("the service answered %d", status)
	case check.Admitted:
		if m, _ := f.Data.(*Measured); m != nil && m.SignedUp {
			return check.Verdict{Proof: check.Speaks(f.Reports...), Says: "the login is a sign-up as well: an " +
				"unknown name was admitted, and then refused with another secret"}
		}
		proof, shown := check.Speaks(r), "no token in the answer"
		if s := c.Doc.SchemeNamed(p.Caller.Scheme); s != nil && s.Login != nil && gives(r, s) {
			proof, shown = check.Shown(r), "and a token was issued"
		} else if _, ok := works(c, p, e); !ok {
			return check.Unproven("answered %d with no token, and the right secret gave none either", status)
		}
		return check.Verdict{Gaps: []check.Gap{{Cause: finding.RowOf(rows, "wrong secret"), Rung: 3, Proof: proof,
			Says: fmt.Sprintf("A login as %s with %s was answered %d, %s.", p.Caller.Identity, with[p.Of], status,
				shown)}}}
	default:
	}
	right, ok := works(c, p, e)
	if !ok {
		return check.Unproven("answered %d, but the right secret in the same place was not admitted either", status)
	}
	v := check.Verdict{Proof: check.TurnedAway(r, right, check.Admitted), Says: fmt.Sprintf("turned away: %d", status)}
	if p.Of == name {
		differs(&v, r, e.Of(p.Control))
	}
	return v
}

// works is a report of the right secret in the same place: what it gives was taken, or was
// presented and admitted.
func works(c *check.Context, p *check.Probe, e *check.Evidence) (check.Report, bool) {
	d, _ := p.Detail.(Detail)
	for _, key := range d.Works {
		f := e.Of(key)
		if f == nil || len(f.Reports) == 0 {
			continue
		}
		r := f.Reports[0]
		if r.Fate == check.Answered && (r.Given != nil || len(r.Took) > 0 || r.Class(c.Doc.Answers) == check.Admitted) {
			return r, true
		}
	}
	return check.Report{}, false
}

// gives says whether the answer of a login gives a credential of the scheme.
func gives(r check.Report, s *declaration.Scheme) bool {
	a := check.AnswerOf(r.Exchange)
	if s.Kind != declaration.Cookie {
		text, ok := check.Points(a.Body, s.Login.Take["access"])
		return ok && text != ""
	}
	return slices.ContainsFunc(a.Headers.All("Set-Cookie"), func(set string) bool {
		return strings.HasPrefix(set, s.Field+"=")
	})
}

// differs adds that an unknown name is turned away otherwise than a wrong secret.
func differs(v *check.Verdict, r check.Report, control *check.Fact) {
	if control == nil || len(control.Reports) == 0 {
		return
	}
	wrong := control.Reports[0]
	a, b := check.AnswerOf(r.Exchange), check.AnswerOf(wrong.Exchange)
	how := "in its text"
	switch {
	case b.Status == 0 || b.Status == 429 || b.Status >= 500 || b.Status < 300:
		return
	case a.Status != b.Status:
		how = fmt.Sprintf("%d and %d", a.Status, b.Status)
	case sameWords(a, b):
		v.Says = fmt.Sprintf("turned away as a wrong secret is: %d", a.Status)
		return
	}
	v.Gaps = append(v.Gaps, check.Gap{Cause: finding.RowOf(rows, "account"), Proof: check.Shown(r, wrong),
		Says: fmt.Sprintf("A login with an unknown name and one with a wrong secret are answered differently (%s), so "+
			"that anybody can find out who has an account.", how)})
}

// sameWords compares two bodies without what differs in every answer: digits and long runs
// of letters and digits.
func sameWords(a, b check.Answer) bool {
	return changing.ReplaceAllString(string(a.Body), "") == changing.ReplaceAllString(string(b.Body), "")
}

var changing = regexp.MustCompile(`[0-9]+|[A-Za-z0-9_-]*[0-9][A-Za-z0-9_-]*`)
