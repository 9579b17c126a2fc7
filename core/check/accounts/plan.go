package accounts

import (
	"fmt"
	"slices"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// Plan plans what is done with accounts of each scheme.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	made := slices.ContainsFunc(c.Doc.Schemes, func(s *declaration.Scheme) bool { return s.Account != nil })
	for _, rt := range c.Doc.Routes {
		if len(rt.Changes) > 0 && !made {
			p.Leave(check.Omission{Route: rt.Key(), What: "what it changes",
				Why: "no scheme says how an account is made that it could be tried with (account)"})
		}
	}
	for _, s := range c.Doc.Schemes {
		if s.Account == nil {
			continue
		}
		key := check.KeyOf(c.Doc, &s.Account.Request)
		leave := func(what, why string, byTarget bool) {
			p.Leave(check.Omission{Route: key, What: what, Why: why, ByTarget: byTarget})
		}
		by, why := maker(c, p, s)
		switch {
		case c.Target.Unsafe == declaration.UnsafeRefused:
			leave("a new account", "the target does not allow unsafe methods", true)
			continue
		case c.Target.Unsafe == declaration.UnsafeMade && s.Account.Remove == nil:
			leave("a new account", "the target allows unsafe methods on made records only, and nothing removes an "+
				"account",
				true)
			continue
		case why != "":
			leave("a new account", why, false)
			continue
		}
		x := planning{f, c, p, s, key, Detail{Scheme: s.Name, By: by, Works: p.Using(s.Name)}}
		x.passwords(x.add(key, SignsIn, x.d), leave)
		x.confirmations()
	}
}

// planning is that of one scheme.
type planning struct {
	f   Family
	c   *check.Context
	p   *check.Planning
	s   *declaration.Scheme
	key string // of the route that makes an account
	d   Detail
}

// maker is who makes an account: nobody, or who is the control of the route.
func maker(c *check.Context, p *check.Planning, s *declaration.Scheme) (by check.Caller, why string) {
	i := access.RouteOf(c.Doc, &s.Account.Request)
	if s.Login == nil {
		return by, fmt.Sprintf("%s has no login that it could sign in with", s.Name)
	}
	if i < 0 || access.Open(c.Doc, i) {
		return check.Caller{State: access.Absent}, ""
	}
	ctl, _ := p.ControlAt(i)
	if ctl == nil || ctl.Caller.Identity == "" {
		return by, "no caller who must be admitted can be sent"
	}
	return ctl.Caller, ""
}

func (x planning) add(route string, way Way, d Detail) *check.Probe {
	d.Way = way
	return x.p.Add(check.Probe{ID: check.ID{Family: x.f.Name(), Route: route, Caller: d.By,
		Of: x.s.Name + " " + string(way)}, Phase: check.ThenRaising, Unsafe: true, Detail: d})
}

// passwords plans those that the rule refuses.
func (x planning) passwords(good *check.Probe, leave func(what, why string, byTarget bool)) {
	rule := x.s.Account.Password
	if good == nil || rule.Least == 0 && len(rule.Refuses) == 0 {
		return
	}
	if x.c.Doc.PasswordPart(x.s) == "" {
		leave("weak passwords", "the account's request has no password; write {fresh:password} where it stands", false)
		return
	}
	d := x.d
	d.Good = good.Key()
	if rule.Least > 1 {
		x.add(x.key, Short, d)
	}
	for _, refused := range rule.Refuses {
		switch refused {
		case declaration.PasswordName:
			if _, ok := nameOf(x.c.Doc, x.s); !ok {
				leave("a password equal to the name", "the account's request has no name that is made up", false)
				continue
			}
			x.add(x.key, Named, d)
		case declaration.PasswordCommon:
			if d.Word = common(rule); d.Word == "" {
				leave("a common password", "none that is known is as long as the rule asks", false)
				continue
			}
			x.add(x.key, Common, d)
		}
	}
}

// nameOf is the placeholder of an account's request that names the account.
func nameOf(d *declaration.Document, s *declaration.Scheme) (name string, ok bool) {
	sent := s.Account.Placeholders()
	for _, n := range s.Login.Placeholders() {
		if slices.Contains(sent, n) && n != d.PasswordPart(s) {
			return n, true
		}
	}
	for _, n := range []string{"fresh", "fresh:email"} {
		if slices.Contains(sent, n) {
			return n, true
		}
	}
	return "", false
}

// confirmations plans the routes that change attributes of an account and are entered by a link.
func (x planning) confirmations() {
	for i, rt := range x.c.Doc.Routes {
		if len(rt.Changes) == 0 || x.c.Doc.Entry(i) == nil {
			continue
		}
		leave := func(why string) {
			x.p.Leave(check.Omission{Route: rt.Key(), What: "what it changes", Why: why})
		}
		k := slices.IndexFunc(x.c.Doc.Accepted(x.c.Doc.Entry(i)), func(l *declaration.Scheme) bool {
			return l.Kind == declaration.Link && l.Issue != nil
		})
		if k < 0 {
			leave("no link that something gives out leads there")
			continue
		}
		d := x.d
		d.Link = x.c.Doc.Accepted(x.c.Doc.Entry(i))[k].Name
		asks, open := x.asking(rt.Changes)
		if asks < 0 {
			leave("no safe route without parameters asks for it")
			continue
		}
		d.Asks = x.p.Address(asks)
		if open >= 0 {
			d.Open = x.p.Address(open)
		}
		x.add(rt.Key(), Confirmed, d)
	}
}

// asking is a safe route that asks for one of the attributes as it will be, and one that asks
// for the same but that; -1 without.
func (x planning) asking(changes map[string]any) (asks, open int) {
	asks, open = -1, -1
	doc := x.c.Doc
	fits := func(i int) *declaration.Entry {
		e := doc.Admission(i)
		if e == nil || doc.Routes[i].Method() != "GET" || len(doc.Routes[i].Parameters()) > 0 ||
			!slices.Contains(doc.Accepted(e), x.s) || access.Open(doc, i) {
			return nil
		}
		return e
	}
	for i := range doc.Routes {
		if e := fits(i); e != nil && asks < 0 {
			for attr, v := range changes {
				if want, ok := e.Given[attr]; ok && fmt.Sprint(want) == fmt.Sprint(v) {
					asks = i
				}
			}
		}
	}
	if asks < 0 {
		return asks, open
	}
	of := doc.Admission(asks)
	for i := range doc.Routes {
		e := fits(i)
		if e != nil && open < 0 && len(e.Given) == 0 && slices.Equal(e.Scope, of.Scope) &&
			!slices.ContainsFunc(doc.Identities, func(id *declaration.Identity) bool {
				return doc.Admits(e, id).All != doc.Admits(of, id).All
			}) {
			open = i
		}
	}
	return asks, open
}
