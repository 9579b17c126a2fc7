package accounts

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
)

// The reports of a script.
const (
	signUp      = "sign up"
	signIn      = "sign in"
	before      = "before it is confirmed"
	openTo      = "another route"
	askFor      = "ask for the link"
	arrived     = "the message"
	confirm     = "follow the link"
	signInAgain = "sign in again"
	after       = "once it is confirmed"
)

// The slots.
const (
	first  = "access" // the session
	second = "access again"
	link   = "link"
	taken  = "taken " // and what the login needs of the sign-up's answer
)

// poll is how long to wait between two looks into a mailbox.
const poll = 250 * time.Millisecond

// newcomer is a script under way.
type newcomer struct {
	*check.Telling
	c *check.Context
	s *declaration.Scheme
	d Detail
}

// Script makes an account and uses it.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		x := newcomer{t, c, c.Doc.SchemeNamed(Of(p).Scheme), Of(p)}
		if r := x.One(x.signUp()); r.Fate != check.Answered || r.Class(c.Doc.Answers) != check.Admitted {
			return
		}
		in := x.signIn(signIn, first)
		if x.d.Way == Confirmed {
			if in {
				x.confirmed(p)
			}
			return
		}
		if x.d.Way == SignsIn && !in {
			x.perhapsConfirmed()
		}
	})
}

// signUp is the request that makes the account. Its removal is owed from then on.
func (x newcomer) signUp() check.Call {
	a := x.s.Account
	call := check.Call{Name: signUp, Request: check.Template(&a.Request, x.fill), Retry: true, Effect: check.Creates}
	call.Makes, call.Take = check.Made()
	call.Makes.Record = check.AccountOf(x.s.Name)
	if a.ID != "" {
		call.Take = []check.Take{{Slot: call.Makes.Slot, At: string(a.ID), Plain: true}}
	}
	for n, at := range a.Take {
		call.Take = append(call.Take, check.Take{Slot: taken + n, At: string(at),
			Plain: !(declaration.Credential{}).Secret(n)})
	}
	if x.d.By.Identity != "" {
		call.As = []check.Present{{Caller: x.d.By}}
	}
	return call
}

// fill is what stands for a name of the account's request, and of what is sent for it later.
func (x newcomer) fill(name string) (check.Fill, bool) {
	if name == x.c.Doc.PasswordPart(x.s) {
		return x.password(), true
	}
	switch name {
	case "fresh":
		return check.Fill{Made: "probe"}, true
	case "fresh:email":
		return check.Fill{Made: "probe", Form: check.AsEmail}, true
	case "fresh:uuid":
		return check.Fill{Made: "probe", Form: check.AsUUID}, true
	case "id":
		m, _ := check.Made()
		return check.Fill{Slot: m.Slot}, true
	}
	if _, ok := x.c.Target.Values[name]; ok {
		return check.Fill{Name: name}, true
	}
	if attr, ok := strings.CutPrefix(name, declaration.CallerPrefix); ok {
		return x.attribute(attr)
	}
	return check.Fill{Made: "probe-" + name}, slices.Contains(x.s.Account.Placeholders(), name)
}

// password is that of the account.
func (x newcomer) password() check.Fill {
	least := x.s.Account.Password.Least
	switch x.d.Way {
	case Short:
		return check.Fill{Made: "password", Form: check.AsPassword, Size: least - 1}
	case Common:
		return check.Fill{Text: x.d.Word}
	case Named:
		n, _ := nameOf(x.c.Doc, x.s)
		f, _ := x.fill(n)
		return f
	default:
	}
	return check.Fill{Made: "password", Form: check.AsPassword, Size: max(least, usual)}
}

// usual is how many characters a good password has where the rule asks for fewer.
const usual = 24

// attribute is what the account's own request says of it: {caller.email} is its member email.
func (x newcomer) attribute(name string) (check.Fill, bool) {
	text := check.MemberOf(&x.s.Account.Request, name)
	for part, n := range check.Names(text) {
		if n != "" && part == "" && text == "{"+n+"}" {
			return x.fill(n)
		}
	}
	return check.Fill{Text: text}, text != ""
}

// signIn opens a session of the account and says whether it was given one.
func (x newcomer) signIn(name, slot string) bool {
	take := check.Take{Slot: slot, At: string(x.s.Login.Take["access"])}
	if x.s.Kind == declaration.Cookie {
		take = check.Take{Slot: slot, From: check.FromCookie, At: x.s.Field}
	}
	r := x.One(check.Call{Name: name, Retry: true, Take: []check.Take{take},
		Request: check.Template(x.s.Login, func(n string) (check.Fill, bool) {
			switch from := x.c.Doc.AccountFill(x.s, n); from {
			case "":
				return x.fill(n)
			case "take":
				return check.Fill{Slot: taken + n}, true
			default:
				return x.fill(from)
			}
		})})
	return r.Took[slot] != ""
}

// as presents the account's session.
func (x newcomer) as(slot string) []check.Present {
	return []check.Present{{Caller: check.Caller{Scheme: x.s.Name}, Slot: slot}}
}

// enter asks a route as the account.
func (x newcomer) enter(name string, q check.Request, slot string) check.Report {
	return x.One(check.Call{Name: name, Request: q, As: x.as(slot), Effect: check.Safe, Retry: true})
}

// confirmed is tried before and after a link of its own was followed.
func (x newcomer) confirmed(p *check.Probe) {
	if r := x.enter(before, x.d.Asks, first); r.Fate != check.Answered {
		return
	}
	if x.d.Open.Method != "" {
		x.enter(openTo, x.d.Open, first)
	}
	rt := x.c.Doc.Routes[x.c.Doc.RouteNamed(p.Route)]
	if x.follow(x.c.Doc.SchemeNamed(x.d.Link), rt) && x.signIn(signInAgain, second) {
		x.enter(after, x.d.Asks, second)
	}
}

// perhapsConfirmed signs in once more after a confirmation that needs no session to be asked
// for: a message that came with the sign-up.
func (x newcomer) perhapsConfirmed() {
	for _, rt := range x.c.Doc.Routes {
		i := x.c.Doc.RouteNamed(rt.Key())
		if len(rt.Changes) == 0 || x.c.Doc.Entry(i) == nil {
			continue
		}
		for _, l := range x.c.Doc.Accepted(x.c.Doc.Entry(i)) {
			if l.Kind == declaration.Link && l.Arrives != nil && x.read(l, "") &&
				x.open(rt) && x.signIn(signInAgain, second) {
				return
			}
		}
	}
}

// follow asks for a link of the account's own and follows it.
func (x newcomer) follow(l *declaration.Scheme, rt *declaration.Route) bool {
	ask := check.Call{Name: askFor, Request: check.Template(l.Issue, x.fill), As: x.as(first), Retry: true}
	old := ""
	if l.Arrives == nil {
		ask.Take = []check.Take{{Slot: link, From: check.FromLink, At: string(l.Issue.Take["link"]), Scheme: l.Name}}
	} else {
		old = x.Send(x.mailbox(l))[0].Took[link]
	}
	r := x.One(ask)
	if r.Fate != check.Answered || r.Class(x.c.Doc.Answers) != check.Admitted {
		return false
	}
	if l.Arrives == nil {
		return r.Took[link] != "" && x.open(rt)
	}
	return x.read(l, old) && x.open(rt)
}

// open follows the link that was taken.
func (x newcomer) open(rt *declaration.Route) bool {
	r := x.One(check.Call{Name: confirm, Retry: true,
		Request: check.Request{Method: rt.Method(), Host: rt.Host, Path: rt.Path(), Link: link}})
	return r.Fate == check.Answered && r.Class(x.c.Doc.Answers) == check.Admitted
}

// mailbox reads the mailbox where links of a scheme arrive.
func (x newcomer) mailbox(l *declaration.Scheme) check.Call {
	q := check.Template(&l.Arrives.Read, x.fill)
	q.Query = check.QueryOf(l.Arrives.Query)
	for _, kv := range l.Arrives.Query {
		for _, n := range check.Names(kv[1]) {
			if f, ok := x.fill(n); n != "" && ok {
				q.Fill[n] = f
			}
		}
	}
	return check.Call{Name: arrived, Request: q, Effect: check.Safe, Retry: true,
		Take: []check.Take{{Slot: link, From: check.FromLink, At: string(l.Arrives.Find), Scheme: l.Name}}}
}

// read waits for a message with another link than before.
func (x newcomer) read(l *declaration.Scheme, old string) bool {
	for until := x.Now() + cmp.Or(l.Arrives.Within, poll); ; {
		r := x.Send(x.mailbox(l))[0]
		if now := r.Took[link]; now != "" && now != old {
			x.Keep(r)
			return true
		}
		if x.Now() >= until {
			x.Keep(r)
			return false
		}
		x.Wait(min(poll, until-x.Now()))
	}
}
