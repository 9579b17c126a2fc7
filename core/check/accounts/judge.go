package accounts

import (
	"fmt"
	"slices"

	"millgate/core/check"
	"millgate/core/declaration"
)

// judging is what a judge knows.
type judging struct {
	c *check.Context
	p *check.Probe
	f *check.Fact
	e *check.Evidence
	d Detail
}

// Judge says what came of the account.
func (Family) Judge(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) check.Verdict {
	j := judging{c, p, f, e, Of(p)}
	up, ok := j.f.Named(signUp)
	var v check.Verdict
	switch {
	case !ok || up.Fate != check.Answered:
		v = check.Unproven("no account was made")
	case j.d.Way == SignsIn:
		v = j.signsIn(up)
	case j.d.Way == Confirmed:
		v = j.confirmed(up)
	default:
		v = j.refused(up)
	}
	if ok && j.d.Way != Confirmed {
		v.Answers = []check.Report{up}
	}
	return v
}

// admitted says whether the report of a name is of an admission.
func (j judging) admitted(name string) (r check.Report, in bool) {
	r, ok := j.f.Named(name)
	return r, ok && r.Fate == check.Answered && r.Class(j.c.Doc.Answers) == check.Admitted
}

// session says whether a login gave one.
func session(r check.Report) bool {
	return r.Took[first] != "" || r.Took[second] != ""
}

// signsIn judges an account whose password obeys the rule.
func (j judging) signsIn(up check.Report) check.Verdict {
	code := check.AnswerOf(up.Exchange).Code()
	if _, in := j.admitted(signUp); !in {
		return check.Unproven("the sign-up was answered %s, so that there is no account to look at", code)
	}
	var v check.Verdict
	for _, r := range j.f.Reports {
		if len(r.Echoed) > 0 {
			v.Gaps = append(v.Gaps, check.Gap{Cause: echoed, Proof: check.Shown(check.Head(r)),
				Says: fmt.Sprintf("The answer to %s (%s) shows the password that was sent.", r.Name,
					check.AnswerOf(r.Exchange).Code())})
			break
		}
	}
	in, sent := j.f.Named(signIn)
	again, _ := j.f.Named(signInAgain)
	in.Exchange.Content, again.Exchange.Content = "", "" // what is asked is whether a session was given
	switch {
	case session(in):
		v.Says, v.Proof = "an account was made and signs in", check.Shown(check.Head(up), in)
	case session(again):
		v.Says, v.Proof = "an account was made, and signs in once its address is confirmed",
			check.Shown(check.Head(up), again)
	case !sent || in.Fate != check.Answered || in.Class(j.c.Doc.Answers) == check.Failed ||
		in.Class(j.c.Doc.Answers) == check.Throttled:
		v.Says = "an account was made, and whether it signs in was not seen: " + check.AnswerOf(in.Exchange).Code()
	default:
		how := fmt.Sprintf("A new account was made (%s), and its login was answered %s with no session.", code,
			check.AnswerOf(in.Exchange).Code())
		if !j.loginWorks() {
			v.Says = how + " No login of a declared identity was seen to work either"
			break
		}
		v.Gaps = append(v.Gaps, check.Gap{Cause: unusable, Proof: check.Shown(check.Head(up), in),
			Says: how + " That of a declared identity works."})
	}
	return v
}

// loginWorks says whether a session of a declared identity was admitted somewhere.
func (j judging) loginWorks() bool {
	return slices.ContainsFunc(j.d.Works, func(key string) bool {
		f := j.e.Of(key)
		return f != nil && len(f.Reports) > 0 &&
			(f.Reports[0].Given != nil || f.Reports[0].Class(j.c.Doc.Answers) == check.Admitted)
	})
}

// refused judges a password that the rule refuses.
func (j judging) refused(up check.Report) check.Verdict {
	a := check.AnswerOf(up.Exchange)
	what := j.what()
	if _, in := j.admitted(signUp); in {
		g := check.Gap{Cause: weak, Proof: check.Speaks(check.Head(up))}
		g.Says = fmt.Sprintf("An account was made (%s) with %s.", a.Code(), what)
		if r, ok := j.f.Named(signIn); ok && session(r) {
			r.Exchange.Content = ""
			g.Proof, g.Says = check.Shown(check.Head(up), check.Head(r)), g.Says+" It signs in with that."
		}
		return check.Verdict{Gaps: []check.Gap{g}}
	}
	switch class := up.Class(j.c.Doc.Answers); class {
	case check.Invalid, check.Forbidden, check.Refused:
		good := j.e.Of(j.d.Good)
		if good == nil || len(good.Reports) == 0 || good.Reports[0].Class(j.c.Doc.Answers) != check.Admitted {
			return check.Unproven("answered %s, but the same with a good password was not admitted either", a.Code())
		}
		return check.Verdict{Says: fmt.Sprintf("%s is refused (%s), and the same with a good password was admitted",
			what,
			a.Code()), Proof: check.TurnedAway(check.Head(up), check.Head(good.Reports[0]), check.Admitted)}
	default:
		return check.Unproven("the service answered %s", a.Code())
	}
}

// what names the password that was tried.
func (j judging) what() string {
	rule := declaration.PasswordRule{}
	if s := j.c.Doc.SchemeNamed(j.d.Scheme); s != nil && s.Account != nil {
		rule = s.Account.Password
	}
	switch j.d.Way {
	case Short:
		return fmt.Sprintf("a password of %d characters, where %d are asked for", rule.Least-1, rule.Least)
	case Named:
		return "its own name as the password"
	default:
	}
	return fmt.Sprintf("the common password %q", j.d.Word)
}

// confirmed judges what a confirmation did.
func (j judging) confirmed(up check.Report) check.Verdict {
	if _, in := j.admitted(signUp); !in {
		return check.Unproven("the sign-up was answered %s, so that there is no account to confirm",
			check.AnswerOf(up.Exchange).Code())
	}
	if in, ok := j.f.Named(signIn); !ok || !session(in) {
		return check.Unproven("the new account could not sign in: %s", check.AnswerOf(in.Exchange).Code())
	}
	first, was := j.admitted(before)
	if was {
		return check.Unproven("%s admits the new account before it is confirmed (%s), so that what changes does not "+
			"show",
			j.d.Asks.Path, check.AnswerOf(first.Exchange).Code())
	}
	if r, in := j.admitted(askFor); !in {
		return check.Unproven("the request for a link was answered %s", check.AnswerOf(r.Exchange).Code())
	}
	r, in := j.admitted(confirm)
	switch _, sent := j.f.Named(confirm); {
	case !sent:
		return check.Unproven("no link of the target came in time")
	case !in:
		return check.Unproven("the link that was given out was answered %s", check.AnswerOf(r.Exchange).Code())
	}
	now, ok := j.f.Named(after)
	switch {
	case !ok || now.Fate != check.Answered:
		return check.Unproven("the account could not sign in again after it was confirmed")
	case now.Class(j.c.Doc.Answers) == check.Admitted:
		return check.Verdict{Proof: check.Shown(check.Head(first), check.Head(r), check.Head(now)),
			Says: fmt.Sprintf("a new account was answered %s at %s, and %s once it was confirmed",
				check.AnswerOf(first.Exchange).Code(), j.d.Asks.Path, check.AnswerOf(now.Exchange).Code())}
	case now.Class(j.c.Doc.Answers) != first.Class(j.c.Doc.Answers):
		return check.Unproven("%s answered %s before and %s once it was confirmed", j.d.Asks.Path,
			check.AnswerOf(first.Exchange).Code(), check.AnswerOf(now.Exchange).Code())
	}
	other, in := j.admitted(openTo)
	if !in {
		return check.Unproven("still turned away at %s (%s), and whether such an account may enter there at all was "+
			"not seen", j.d.Asks.Path, check.AnswerOf(now.Exchange).Code())
	}
	return check.Verdict{Gaps: []check.Gap{{Cause: inVain, Rung: 5,
		Proof: check.Shown(check.Head(first), check.Head(r), check.Head(now), check.Head(other)),
		Says: fmt.Sprintf("A new account was confirmed (%s), and is answered %s at %s as before; %s, which asks for "+
			"the same but that, admits it.", check.AnswerOf(r.Exchange).Code(), check.AnswerOf(now.Exchange).Code(),
			j.d.Asks.Path, j.d.Open.Path)}}}
}
