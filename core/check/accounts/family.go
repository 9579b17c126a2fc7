// Package accounts checks how accounts come to be, and what a mailed link does to one.
//
// # What is sent
//
// Where a scheme says how an account is made (`account`):
//
//   - one is made with a password that obeys the declared rule, and signs in with it;
//   - others are made with passwords that the rule refuses: one character too short, equal to
//     the account's name, a word that many take;
//   - where a route changes attributes of who calls it (`changes`) and is entered by a link, a
//     new account signs in, is tried at a route that asks for the attribute, asks for the link,
//     takes it from the answer or the mailbox, follows it, signs in again and is tried again.
//
// No declared identity is changed by that, and what was made is removed as is declared.
//
// # What is concluded
//
// A password that was sent and stands in an answer is Leaking, whatever the declaration says
// must never be shown. An account that cannot sign in is Over-restrictive, where the login of
// a declared identity shows that the login itself is a fair one; it may have to be confirmed
// first, and is then. A refused password that is taken is Over-permissive, proven where it
// signs in. A confirmation after which the account is turned away as before is Over-restrictive,
// proven where the same account is admitted by a route that asks for the same but the attribute.
package accounts

import (
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Family is that of accounts.
type Family struct{ check.Unmeasured }

// Way is what is done with a new account; it stands in ids.
type Way string

// The ways.
const (
	SignsIn   Way = "signs in"
	Short     Way = "short password"
	Named     Way = "its name as password"
	Common    Way = "common password"
	Confirmed Way = "confirmed"
)

// Detail is what a new account is made with, and what it is held against.
type Detail struct {
	Scheme string
	Way    Way
	By     check.Caller  // who makes it; the zero one is nobody
	Word   string        // of Common: the password
	Good   string        // of a refused password: the probe of the same with a good one
	Works  []string      // probes that show whether the scheme's login works
	Link   string        // of Confirmed: the scheme of the link
	Asks   check.Request // of Confirmed: a route that asks for what it changes
	Open   check.Request // and one that asks for the same but that; without a method there is none
}

// Of is the detail of a probe.
func Of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Name is that of its probes.
func (Family) Name() string { return "account" }

// Cost is the calls of the longest way that is known beforehand; a mailbox is read as often as
// it takes.
func (Family) Cost(c *check.Context, p *check.Probe) check.Cost {
	d := Of(p)
	if d.Way != Confirmed {
		return check.Cost{Requests: 2}
	}
	cost := check.Cost{Requests: 8}
	if s := c.Doc.SchemeNamed(d.Link); s != nil && s.Arrives != nil {
		cost.Time = s.Arrives.Within
	}
	return cost
}

// Cell is nobody's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	says := "a new account: " + string(Of(p).Way)
	return check.Cell{Route: p.Route, Lens: check.Access, Key: Of(p).By.Identity}, says
}

// Who is the account.
func (Family) Who(p *check.Probe) string { return "a new account (" + string(Of(p).Way) + ")" }

// Expect is what the declaration says of the sign-up with such a password.
func (Family) Expect(_ *check.Context, p *check.Probe) access.Expectation {
	switch Of(p).Way {
	case Short, Named, Common:
		return access.Expectation{Outcome: access.Closed} // however it does that
	default:
	}
	return access.Expectation{Outcome: access.Admit}
}

// Causes are those of accounts.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "account", Title: "Accounts",
		Shown: "An account was made as the scheme's account says, and used. It is removed at the end of the sweep " +
			"where somebody is declared who may.",
		Refuted: "The login of a declared identity, that of the account after its confirmation, the same sign-up " +
			"with another password.",
		Rows: rows}
}

var (
	echoed = &finding.Row{Cause: "password echoed", Kind: finding.Leaking, Title: "The password is shown again",
		Means:  "The password of a new account stands in an answer, so that it is in logs and caches from then on.",
		Advice: "Leave it out of every answer; nobody needs to be told what was sent.",
		OWASP:  finding.API3, CWE: 201}
	unusable = &finding.Row{Cause: "account unusable", Kind: finding.OverRestrictive,
		Title:  "A new account cannot sign in",
		Means:  "The sign-up succeeds, and what it gave does not open a session.",
		Advice: "Let an account sign in with what it was made with, or say in the answer what it needs first.",
		OWASP:  finding.API8, CWE: 755}
	weak = &finding.Row{Cause: "weak password", Kind: finding.OverPermissive, Title: "A weak password is taken",
		Means:  "An account was made with a password that the declared rule refuses, so that it is guessed soon.",
		Advice: "Refuse what is too short, equal to the name or among the common ones, before an account is made.",
		OWASP:  finding.API2, CWE: 521, ByAnyone: true}
	inVain = &finding.Row{Cause: "changes nothing", Kind: finding.OverRestrictive, Title: "Confirmed, and nothing " +
		"changes",
		Means:  "The confirmation is answered as done, and the account is turned away as before.",
		Advice: "Write what was confirmed where the guard reads it, and let new sessions have it.",
		OWASP:  finding.API8, CWE: 755}
	rows = []*finding.Row{echoed, unusable, weak, inVain}
)

// commonWords are passwords that many take, the shortest first.
var commonWords = []string{"password", "password1", "1234567890", "password123", "password1234", "iloveyou12345",
	"qwertyuiop1234", "passwordpassword", "passwordpassword1234", "password1password1password1"}

// common is a common password that is as long as a rule asks; "" without.
func common(rule declaration.PasswordRule) string {
	for _, w := range commonWords {
		if len(w) >= rule.Least {
			return w
		}
	}
	return ""
}
