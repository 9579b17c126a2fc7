// Package logins checks that a login turns away who does not know the secret.
//
// # What is sent
//
// For each scheme with a login, as one identity: the login with another secret, with an
// empty one, without one, and with a name that nobody has. Wherever the declaration puts
// what it knows to be a secret (path, query, header fields, body), that is what is
// replaced. An unknown name that is admitted may have been signed up: the same name with
// yet another secret is refused then, and the account is listed as left behind.
//
// # What is concluded
//
// A login that gives a credential all the same is Unprotected. Turned away, it agrees only
// where the right secret in the same place was admitted: the request may be wrong itself.
// Where an unknown name is turned away otherwise than a wrong secret, anybody can find out
// who has an account.
package logins

import (
	"math"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Family is that of logins with something wrong in them.
type Family struct{}

// The ways in which a login is wrong. They stand in ids.
const (
	secret = "" // another one
	empty  = "empty secret"
	absent = "no secret"
	name   = "unknown name" // and another secret
)

var with = map[string]string{secret: "a wrong secret", empty: "an empty secret", absent: "no secret",
	name: "an unknown name"}

// Detail is what a login is held against.
type Detail struct {
	Works []string // the probes that present what the right secret gives
}

// Measured is what a script came to know.
type Measured struct {
	// SignedUp: the login made an account for a name that it did not know.
	SignedUp bool `json:"signedUp"`
}

const version = 1 // of Measured

// Name is that of its probes.
func (Family) Name() string { return "wrong-secret" }

// Plan plans the logins.
func (Family) Plan(c *check.Context, p *check.Planning) {
	for _, s := range c.Doc.Schemes {
		if s.Kind != declaration.Bearer && s.Kind != declaration.Cookie || s.Login == nil {
			continue
		}
		key := check.KeyOf(c.Doc, s.Login)
		if c.Target.Unsafe != declaration.UnsafeAllowed {
			p.Leave(check.Omission{Route: key, What: "a login with a wrong secret", ByTarget: true,
				Why: "the target does not allow it; write  unsafe: allowed"})
			continue
		}
		who, most, why := closes(c, s)
		if why != "" {
			p.Leave(check.Omission{Route: key, What: "a login with a wrong secret", Why: why})
			continue
		}
		for id := range c.Doc.Ranked() {
			cr := id.Credential(s.Name)
			if cr == nil || who != "" && id.Name != who {
				continue
			}
			if !hasPart(cr, true) {
				p.Leave(check.Omission{Route: key, Caller: id.Name, What: "a login with a wrong secret",
					Why: "none of what it is filled with is known to be a secret; write the secret as env:NAME or " +
						"kept:NAME"})
				break
			}
			d := Detail{Works: p.Using(s.Name)}
			first := ""
			for n, way := range []string{secret, empty, absent, name} {
				if way != name && n >= most {
					p.Leave(check.Omission{Route: key, Caller: id.Name, What: "a login with " + with[way],
						Why: "so many wrong secrets would close the account"})
					continue
				}
				who := check.Caller{Identity: id.Name, Scheme: s.Name, State: access.Broken}
				x := check.Probe{ID: check.ID{Family: "wrong-secret", Route: key, Caller: who, Of: way},
					Phase: check.ThenTurnedAway, Unsafe: true, Detail: d}
				if way == name {
					if !hasPart(cr, false) {
						continue
					}
					x.Control = first // it must look like a wrong secret does
				}
				if p.Add(x); way == secret {
					first = x.Key()
				}
			}
			break
		}
	}
}

// closes says of a login whether wrong secrets may close accounts there: who is the one that is
// given up for it, "" where none is closed, and most how many wrong secrets may be sent before it
// is. why says that none may be sent.
func closes(c *check.Context, s *declaration.Scheme) (who string, most int, why string) {
	most = math.MaxInt
	i := access.RouteOf(c.Doc, s.Login)
	if i < 0 {
		return "", most, ""
	}
	for _, k := range c.Doc.QuotasAt[i] {
		q, _ := c.Target.Quota(c.Doc.Quotas[k])
		if !q.ByAccount() {
			continue
		}
		if who = q.Sacrificed(); who == "" {
			return "", 0,
				"it could close an account that people use; name one that is given up for it:  locks: { tried_on: " +
					"NAME } of the quota " + q.Name
		}
		for _, a := range q.Allow {
			most = min(most, a.Count-1)
		}
	}
	return who, most, ""
}

// hasPart says whether a credential has a part that is known to be a secret, or one that
// is none.
func hasPart(c *declaration.Credential, secret bool) bool {
	for n := range c.Fill {
		if c.Secret(n) == secret {
			return true
		}
	}
	return false
}

// What is made up in the place of a part.
const (
	nobody = "nobody"
	wrong  = "wrong"
	other  = "other" // another wrong secret
)

// Script sends the login.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		m := &Measured{}
		t.Measured(m)
		r := t.One(check.Call{Name: "log in with " + with[p.Of], Request: login(c, p, wrong), Retry: true})
		if p.Of != name || r.Class(c.Doc.Answers) != check.Admitted {
			return
		}
		again := t.One(check.Call{Name: "log in with the same name and another secret", Request: login(c, p, other),
			Retry: true})
		switch again.Class(c.Doc.Answers) {
		case check.Refused, check.Forbidden, check.Hidden, check.Invalid:
			m.SignedUp = true
			t.Left(check.Left{What: "account", Made: nobody, Why: "the login signs up a name that it does not know; " +
				"remove the account by hand"})
		default:
		}
	})
}

// login is the login of a probe, with a word for what is made up in place of secrets.
func login(c *check.Context, p *check.Probe, word string) check.Request {
	s, id := c.Doc.SchemeNamed(p.Caller.Scheme), c.Doc.IdentityNamed(p.Caller.Identity)
	q, cr := *s.Login, id.Credential(s.Name)
	if p.Of == absent {
		var secrets []string
		for n := range cr.Fill {
			if cr.Secret(n) {
				secrets = append(secrets, n)
			}
		}
		holds := func(f [2]string) bool {
			return slices.ContainsFunc(secrets, func(n string) bool { return strings.Contains(f[1], "{"+n+"}") })
		}
		q.JSON = check.WithoutMembers(q.JSON, "json", secrets)
		q.Form = slices.DeleteFunc(slices.Clone(q.Form), holds)
		q.Headers = slices.DeleteFunc(slices.Clone(q.Headers), holds)
	}
	return check.LoginAs(c, &q, id, s.Name, func(part bool) (check.Fill, bool) {
		switch {
		case part && (p.Of == empty || p.Of == absent):
			return check.Fill{}, true
		case part:
			return check.Fill{Made: word}, true
		case p.Of == name:
			return check.Fill{Made: nobody}, true
		}
		return check.Fill{}, false
	})
}

// Cost is one login.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Expect is that it is refused.
func (Family) Expect(*check.Context, *check.Probe) access.Expectation {
	return access.Expectation{Outcome: access.Refuse, Decider: 3, Subject: "soundness"}
}

// Causes are those of logins.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "login", Title: "Logins",
		Shown: "A login of a declared identity was sent with something wrong in it: the secret, or the name. It is " +
			"proven where a credential was given all the same.",
		Refuted: "The right secret in the same place is not admitted either; a sign-up behind the login.",
		Rows:    rows}
}

var rows = []*finding.Row{
	{Cause: "wrong secret", Kind: finding.Unprotected, ByAnyone: true, Title: "Any secret logs in",
		Means:  "A login with a wrong, an empty or no secret gave a credential, so that a name is enough.",
		Advice: "Compare the secret before a token is issued.", OWASP: finding.API2, CWE: 287},
	{Cause: "account", Kind: finding.Leaking, Title: "Tells who has an account",
		Means: "An unknown name and a wrong secret are answered differently, so that anybody can find out who has an " +
			"account.",
		// observable response discrepancy
		Advice: "Answer an unknown name exactly as a wrong secret.", OWASP: finding.API2, CWE: 204,
		Refuted: "Digits and long runs of letters and digits differ in every answer and are not compared."},
}

// Cell is the identity's at the login.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, "login with " + with[p.Of]
}

// Who is the identity, and what it does wrong.
func (Family) Who(p *check.Probe) string {
	if p.Of == secret {
		return p.Caller.Identity + " (wrong secret)"
	}
	return p.Caller.Identity + " (" + p.Of + ")"
}

// Version is that of Measured.
func (Family) Version() int { return version }

// Decode reads Measured.
func (Family) Decode(v int, data []byte) (check.Data, error) {
	return check.DecodeAs[Measured](v, version, data, "a login")
}

// Before is the fact of a login as versions before kept it.
func Before(x check.Exchange, signedUp bool) *check.Fact {
	return &check.Fact{Family: Family{}.Name(), Version: version, Began: x.At,
		Reports: []check.Report{check.ReportOf("", x)}, Data: &Measured{SignedUp: signedUp}}
}
