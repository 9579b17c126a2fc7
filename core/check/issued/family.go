// Package issued checks what logins, cookies and links give out.
//
// Once for every class of callers and scheme, what a declared identity is given is looked at:
// the token's claims and signature, the cookie's attributes, the link's end. Nothing is sent
// for it where the identity is signed in already. What was seen is kept without the
// credential, and held against the declaration and the standards: what a declaration does not
// ask for is worth knowing, and no gap.
package issued

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/session"
	"millgate/core/token"
)

// Family is that of what is given out.
type Family struct{}

// Detail is what a link is asked for with.
type Detail struct {
	Params map[string]string
	Record check.Record
}

const version = 1 // of what a script measures, which is nothing beside its report

// Name is that of its probes.
func (Family) Name() string { return "issued" }

// Version is that of its data.
func (Family) Version() int { return version }

// Decode reads nothing.
func (Family) Decode(v int, _ []byte) (check.Data, error) {
	if v != version {
		return nil, fmt.Errorf("version %d of what was given out is not known", v)
	}
	return nil, nil
}

// Cost is nothing: the identity is signed in anyway.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{} }

// Vouches says that what a login gave shows that its credential works.
func (Family) Vouches(*check.Probe) bool { return true }

// Cell is the identity's at the login.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, "what it is given"
}

// Who is the identity, and what it is given.
func (Family) Who(p *check.Probe) string { return p.Caller.Identity + " (what it is given)" }

// Expect is that something is given.
func (Family) Expect(*check.Context, *check.Probe) access.Expectation {
	return access.Expectation{Outcome: access.Admit}
}

// Plan plans a look at what each class is given by each login, and at one link of each scheme.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	for _, class := range p.Classes() {
		id, _ := check.Members(c.Doc, class)
		for _, cr := range id.Credentials {
			s := c.Doc.SchemeNamed(cr.Scheme.Name)
			if s == nil || s.Kind != declaration.Bearer && s.Kind != declaration.Cookie || s.Login == nil {
				continue
			}
			p.Add(check.Probe{ID: check.ID{Family: f.Name(), Route: check.KeyOf(c.Doc, s.Login),
				Caller: check.Caller{Identity: id.Name, Scheme: s.Name, State: access.Sound}}, Phase: check.SafeFirst})
		}
	}
	done := map[string]bool{}
	for i := range c.Doc.Routes {
		ctl, _ := p.ControlAt(i)
		if ctl == nil || done[ctl.Caller.Scheme] {
			continue
		}
		s := c.Doc.SchemeNamed(ctl.Caller.Scheme)
		if s == nil || s.Kind != declaration.Link || s.Issue == nil {
			continue
		}
		done[s.Name] = true
		if ctl.Record.Lent() {
			continue // its own control shows that it works
		}
		x := check.Probe{ID: ctl.ID, Phase: check.SafeFirst, Control: ctl.Control,
			Detail: Detail{Params: check.ParamsOf(ctl), Record: ctl.Record}}
		x.Family = f.Name()
		p.Add(x)
	}
}

// Script looks.
func (Family) Script(_ *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		l := check.Look{Name: "what it is given", Caller: p.Caller}
		if d, ok := p.Detail.(Detail); ok {
			l.Params = map[string]string{}
			for n, v := range d.Params {
				l.Params[n] = v
			}
			if d.Record.Param != "" {
				l.Params[d.Record.Param], l.Params["id"] = d.Record.Value, d.Record.Value
			}
		}
		t.Keep(t.Look(l))
	})
}

// Judge holds what was given against the declaration and the standards.
func (Family) Judge(c *check.Context, p *check.Probe, f *check.Fact, _ *check.Evidence) check.Verdict {
	s := c.Doc.SchemeNamed(p.Caller.Scheme)
	if len(f.Reports) == 0 || f.Reports[0].Given == nil || s == nil {
		return check.Unproven("no token was obtained")
	}
	r := f.Reports[0]
	v := check.Verdict{Says: "what is issued is as declared", Proof: check.Shown(r)}
	n := 0
	for _, j := range judged(c, p, s, r.Given) {
		row := finding.RowOf(rows, "token "+j.ID)
		if row == nil { // worth knowing, and no gap: the declaration does not ask for it
			n++
			continue
		}
		v.Gaps = append(v.Gaps, check.Gap{Cause: row, Rung: 3, Proof: check.Shown(r),
			Scope: finding.Scope{Of: finding.AtScheme, Name: s.Name},
			Says: fmt.Sprintf("The %s that %s is given: %s. %s (%s)", word(s), p.Caller.Identity, j.Text, j.Why,
				j.Standard)})
	}
	if n > 0 {
		v.Says = fmt.Sprintf("what is issued is as declared; %d more are worth knowing", n)
	}
	return v
}

// judged is what is wrong with what was given out, by a declaration.
func judged(c *check.Context, p *check.Probe, s *declaration.Scheme, g *check.Given) (out []session.Judged) {
	life := c.Doc.LifetimeNamed(s.Lifetime["access"].Name)
	switch {
	case g.Shown != nil:
		x := token.Context{Now: g.At, Received: g.At, Doc: c.Doc, Scheme: s, Values: c.Target.Values,
			Identity: c.Doc.IdentityNamed(p.Caller.Identity)}
		for _, j := range g.Shown.Judge(x) {
			out = append(out, session.Judged{ID: j.ID, Text: j.Text, Why: j.Why, Standard: j.Standard,
				Severity: j.Severity})
		}
		return out
	case g.Cookie != nil:
		return session.JudgeCookie(*g.Cookie, s, life)
	case g.Link != nil:
		leads := session.JudgeLinkPath(g.Link.Path, asked(c, p))
		if s.Expires == "" {
			return leads // its end is not in it
		}
		return append(session.JudgeLink(g.Link.Ends, g.Link.Said, g.At, life), leads...)
	}
	return g.Judged
}

// asked is the path that a link was asked for.
func asked(c *check.Context, p *check.Probe) string {
	d, _ := p.Detail.(Detail)
	path := c.Doc.Routes[c.Doc.RouteNamed(p.Route)].Path()
	issue := c.Doc.SchemeNamed(p.Caller.Scheme).Issue.Placeholders()
	put := func(name, value string) {
		if slices.Contains(issue, name) || name == d.Record.Param && slices.Contains(issue, "id") {
			path = strings.ReplaceAll(path, "{"+name+"}", value)
		}
	}
	put(d.Record.Param, d.Record.Value)
	for n, v := range d.Params {
		put(n, v)
	}
	return path
}

// word names what a scheme gives out.
func word(s *declaration.Scheme) string {
	switch s.Kind {
	case declaration.Cookie:
		return "cookie"
	case declaration.Link:
		return "link"
	default:
	}
	return "token"
}

// Before is the fact of a look as versions before kept it.
func Before(g *check.Given) *check.Fact {
	return &check.Fact{Family: Family{}.Name(), Version: version, Began: g.At, Reports: []check.Report{
		{Name: "what it is given", Fate: check.Answered, Given: g}}}
}

// Causes are those of tokens, cookies and links.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "issued", Title: "What logins give out",
		Shown: "The token, cookie or link that a login of a declared identity gave was read and held against the " +
			"declaration and the standards; its signature was verified with the keys of its scheme.",
		Refuted: "The issuer's own answer about it (introspection), keys that verify it, the declared clock skew.",
		Rows:    rows}
}

var rows = slices.Concat(token.Causes(), session.IssuedCauses)

// Declared is how long the caller's credentials may live.
func (Family) Declared(c *check.Context, p *check.Probe) string {
	return check.LifetimesOf(c, p.Caller.Scheme)
}
