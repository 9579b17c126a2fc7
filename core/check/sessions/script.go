// Package sessions follows a session from its beginning to after its end: what is
// renewed, what a logout ends and when, and whether a refresh token can be used twice
// (RFC 6749 section 6, RFC 7009, RFC 7662, RFC 9700 section 4.14).
//
// A drill opens sessions of its own, so that it disturbs no other probe. The first is
// used, renewed and logged out, and what is left of it is tried; the second finds out
// about refresh tokens that are used twice; with two more a caller logs out with the
// refresh token of a neighbour.
package sessions

import (
	"slices"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/pointer"
	"millgate/core/session"
)

// Drill is a session drill: who, with what, and how it is seen that a session works.
type Drill struct {
	Identity  string
	Neighbour string // whose refresh token is tried at the logout; "" leaves that out
	Scheme    *declaration.Scheme
	Use       check.Request // a safe one that admits the identity, without a credential
	Longest   time.Duration // to wait for an ended credential to be refused
	Idle      time.Duration // after how long a session ends that is not used, 0 where nothing says so
}

// Measured is what a drill measured.
type Measured struct {
	session.Drilled
	Ends   time.Time     `json:"ends"`   // when the access credential says that it ends; zero where it does not
	Seen   time.Duration `json:"seen"`   // that was seen, since the drill began
	Failed bool          `json:"failed"` // the first login gave no credential
	// Split says that what was ended was admitted over a connection of its own, when all nodes had
	// long had the time to know.
	Split bool `json:"split,omitempty"`
	// Tried is how many credentials that were ended before were tried again, and Revived how many of
	// them were admitted.
	Tried   int `json:"tried,omitempty"`
	Revived int `json:"revived,omitempty"`
}

// Before is what a drill of an earlier version measured, as this one keeps it.
func Before(d session.Drilled, began time.Time) *Measured {
	m := &Measured{Drilled: d}
	if d.Life > 0 {
		m.Ends = began.Add(d.Life)
	}
	return m
}

// Of is what it measured, with the life of the access credential: how long it was good
// for when it was given.
func (m *Measured) Of(began time.Time) session.Drilled {
	d := m.Drilled
	if !m.Ends.IsZero() {
		d.Life = m.Ends.Sub(began.Add(m.Seen)).Round(time.Second)
	}
	return d
}

// poll is how often an ended credential is tried.
const poll = 250 * time.Millisecond

// Script follows the sessions of a drill.
func Script(d *declaration.Document, t *declaration.Target, x Drill) check.Script {
	return check.Tell(func(tell *check.Telling) {
		s := &script{Drill: x, doc: d, target: t, Telling: tell, m: &Measured{}}
		tell.Measured(s.m)
		if s.first() {
			s.second()
			s.other()
		}
	})
}

type script struct {
	Drill
	*check.Telling
	doc    *declaration.Document
	target *declaration.Target
	m      *Measured
}

// granted names the slots of what a login or a renewal gave; "" was not given.
type granted struct{ access, refresh string }

// template is a request of the declaration with the values of an identity, and what
// slots stand for names before them.
func (s *script) template(q *declaration.Request, identity string, slots map[string]string) check.Request {
	fills := check.FillsOf(s.doc, s.target, identity, s.Scheme.Name)
	return check.Template(q, func(n string) (check.Fill, bool) {
		if slot, ok := slots[n]; ok {
			return check.Fill{Slot: slot}, slot != ""
		}
		return fills(n)
	})
}

func ok2xx(r check.Report) bool { return r.Exchange.Status >= 200 && r.Exchange.Status < 300 }

// redirects says that a cookie's service may answer with a page to go to.
func (s *script) redirects(r check.Report) bool {
	return s.Scheme.Kind == declaration.Cookie && r.Exchange.Status/100 == 3
}

// grants is a login or a renewal, which puts what it gives into slots named after it.
func (s *script) grants(name string, q *declaration.Request, identity, refresh string) (check.Call, granted) {
	g := granted{name + ": access", name + ": refresh"}
	take := []check.Take{{Slot: g.access, At: string(q.Take["access"])}}
	if s.Scheme.Kind == declaration.Cookie {
		take[0].From, take[0].At = check.FromCookie, s.Scheme.Field
	} else if p := q.Take["refresh"]; p != "" {
		take = append(take, check.Take{Slot: g.refresh, At: string(p)})
	}
	return check.Call{Name: name, Request: s.template(q, identity, map[string]string{"refresh": refresh}), Take: take,
		Retry:  true,
		Effect: check.Again}, g
}

// gave is what of it was given.
func (s *script) gave(r check.Report, g granted) granted {
	if (!ok2xx(r) && !s.redirects(r)) || r.Took[g.access] == "" {
		return granted{}
	}
	if r.Took[g.refresh] == "" {
		g.refresh = ""
	}
	return g
}

// step keeps what came of a call as a step.
func (s *script) step(r check.Report, worked bool) {
	s.Keep(r)
	s.m.Steps = append(s.m.Steps, session.Step{Name: r.Name, At: r.Begin.Round(time.Millisecond),
		Status: r.Exchange.Status, Worked: worked})
}

func (s *script) grant(name string, q *declaration.Request, refresh string) (check.Report, granted) {
	c, g := s.grants(name, q, s.Identity, refresh)
	r := s.Send(c)[0]
	g = s.gave(r, g)
	s.step(r, g.access != "")
	return r, g
}

// using is a request with the credential in a slot.
func (s *script) using(name, slot string) check.Call {
	return check.Call{Name: name, Request: s.Use, Retry: true, Effect: check.Safe,
		As: []check.Present{{Caller: check.Caller{Identity: s.Identity, Scheme: s.Scheme.Name}, Slot: slot}}}
}

func (s *script) admitted(r check.Report) bool {
	return r.Class(s.doc.Answers) == check.Admitted
}

func (s *script) use(name, slot string) {
	r := s.Send(s.using(name, slot))[0]
	s.step(r, s.admitted(r))
}

// ask asks the issuer whether a token is active (RFC 7662 section 2).
func (s *script) ask(name, slot string) {
	q := s.Scheme.Introspect
	if q == nil {
		return
	}
	fills := check.FillsOf(s.doc, s.target, s.Scheme.IntrospectAs.Name, "")
	request := check.Template(q, func(n string) (check.Fill, bool) {
		if n == "token" {
			return check.Fill{Slot: slot}, true
		}
		return fills(n)
	})
	r := s.Send(check.Call{Name: name, Request: request, Retry: true, Effect: check.Safe})[0]
	body := []byte(r.Exchange.Content)
	active, _ := check.Points(body, "/active")
	s.step(r, r.Exchange.Status == 200 && active == "true")
	if n, ok := check.Points(body, "/exp"); ok && s.m.Ends.IsZero() {
		if d := seconds(n); d > 0 {
			s.m.Ends, s.m.Seen = time.Unix(int64(d/time.Second), 0), r.End
		}
	}
}

func seconds(n string) time.Duration {
	d, err := time.ParseDuration(n + "s")
	if err != nil {
		return 0
	}
	return d
}

// lives notes how long the credentials of the first login say that they live.
func (s *script) lives(r check.Report, g granted) {
	said := func(at pointer.JSON) time.Duration {
		n, _ := check.Points([]byte(r.Exchange.Content), at)
		return seconds(n)
	}
	s.m.Said, s.m.Idle = said("/expires_in"), said("/refresh_expires_in")
	s.m.Ends, s.m.Seen = r.Ends[g.access], r.End
}

// rotated says whether a renewal gave another refresh token: other marks are other
// secrets.
func rotated(from, to check.Report, a, b granted) bool {
	return b.refresh != "" && to.Took[b.refresh] != from.Took[a.refresh]
}

// first opens a session, renews it, ends it and tries what is left of it. It is false
// where there was none.
func (s *script) first() bool {
	var beside granted
	if s.Scheme.Logout != nil {
		if _, beside = s.grant(session.LogInBeside, s.Scheme.Login, ""); beside.access == "" {
			s.m.Failed = true
			return false // the same again would count as another wrong secret
		}
	}
	in, g := s.grant(session.LogIn, s.Scheme.Login, "")
	if g.access == "" {
		s.m.Failed = true
		return false
	}
	s.lives(in, g)
	s.use(session.Use, g.access)
	s.ask(session.AskIssuer, g.access)
	if s.Scheme.Refresh != nil && g.refresh != "" {
		r, next := s.grant(session.Refresh, s.Scheme.Refresh, g.refresh)
		s.m.Rotated = rotated(in, r, g, next)
		if next.access != "" {
			if next.refresh == "" {
				next.refresh = g.refresh
			}
			g = next
			s.use(session.UseRenewed, g.access)
		}
	}
	if s.Scheme.Logout == nil {
		return true
	}
	s.logOutNobody()
	s.use(session.UseBeside, beside.access) // a service may let a caller have one session alone
	used := s.Now()
	out := s.Send(s.logout(session.LogOut, g))[0]
	ended := ok2xx(out) || s.redirects(out)
	s.step(out, ended)
	if ended {
		s.afterwards(g, out.End)
		if s.Idle == 0 || s.Now()-used < s.Idle { // it may have ended by itself
			s.use(session.UseBesideAfter, beside.access)
		}
	}
	return true
}

// logout ends a session. It bears the access credential where its body does not name
// the session, or its route asks for one.
func (s *script) logout(name string, g granted) check.Call {
	q := s.Scheme.Logout
	c := check.Call{Name: name, Retry: true, Effect: check.Again,
		Request: s.template(q, s.Identity, map[string]string{"access": g.access, "refresh": g.refresh})}
	if !slices.Contains(q.Placeholders(), "refresh") || access.Guarded(s.doc, q) {
		c.As = []check.Present{{Caller: check.Caller{Identity: s.Identity, Scheme: s.Scheme.Name}, Slot: g.access}}
	}
	return c
}

// afterwards tries what a logout should have ended.
func (s *script) afterwards(g granted, ended time.Duration) {
	for tries := 0; ; tries++ {
		r := s.Send(s.using(session.UseAfterLogout, g.access))[0]
		works := s.admitted(r)
		s.m.Waited = (r.End - ended).Round(time.Millisecond)
		if works {
			s.m.After = s.m.Waited
		}
		last := !works || s.m.Waited >= s.Longest
		if tries == 0 || last { // only the first and the last of the tries are told
			s.step(r, works)
		}
		if last {
			s.m.Outlived = works
			break
		}
		s.Wait(poll)
	}
	if !s.m.Outlived {
		s.nodes(g.access)
		s.Bury(check.Bury{Slot: g.access, Caller: check.Caller{Identity: s.Identity, Scheme: s.Scheme.Name}})
	}
	s.ask(session.AskIssuerAfter, g.access)
	if s.Scheme.Refresh != nil && g.refresh != "" {
		s.grant(session.RefreshAfterLogout, s.Scheme.Refresh, g.refresh)
	}
	r := s.Send(s.logout(session.LogOutAgain, g))[0]
	s.step(r, ok2xx(r))
}

// logOutNobody sends a logout without anything that names a session. It is only tried
// where the body names one: without a credential the route's own guard is what answers.
func (s *script) logOutNobody() {
	q := *s.Scheme.Logout
	if !slices.Contains(q.Placeholders(), "refresh") || access.Guarded(s.doc, &q) {
		return
	}
	q.JSON = check.WithoutMembers(q.JSON, "json", []string{"refresh", "access"})
	q.Form = slices.DeleteFunc(slices.Clone(q.Form), func(kv [2]string) bool {
		return kv[1] == "{refresh}" ||
			kv[1] == "{access}"
	})
	r := s.Send(check.Call{Name: session.LogOutNobody, Request: s.template(&q, s.Identity, nil), Retry: true,
		Effect: check.Again})[0]
	s.step(r, ok2xx(r))
}

// second opens a session and uses one of its refresh tokens twice.
func (s *script) second() {
	if s.Scheme.Refresh == nil {
		return
	}
	in, g := s.grant(session.LogInAgain, s.Scheme.Login, "")
	if g.access == "" || g.refresh == "" {
		return
	}
	r, next := s.grant(session.RefreshAgain, s.Scheme.Refresh, g.refresh)
	if next.access == "" {
		return
	}
	s.m.Rotated = s.m.Rotated || rotated(in, r, g, next)
	s.grant(session.OldRefresh, s.Scheme.Refresh, g.refresh)
	if next.refresh != "" {
		s.grant(session.RefreshAfterReuse, s.Scheme.Refresh, next.refresh)
	}
}

// other logs out as the identity with the refresh token of a neighbour, where a logout
// needs both, and looks whether the neighbour's session is over.
func (s *script) other() {
	if s.Neighbour == "" || s.Scheme.Logout == nil || s.Scheme.Refresh == nil {
		return
	}
	open := func(name, identity string) granted {
		c, g := s.grants(name, s.Scheme.Login, identity, "")
		return s.gave(s.Send(c)[0], g)
	}
	theirs := open("the neighbour logs in", s.Neighbour)
	if theirs.refresh == "" {
		return // it has no credential at hand: nothing to try
	}
	mine := open("log in beside the neighbour", s.Identity)
	if mine.access == "" {
		return
	}
	r := s.Send(s.logout(session.LogOutOther, granted{mine.access, theirs.refresh}))[0]
	s.step(r, ok2xx(r))
	s.grant(session.NeighbourRefresh, s.Scheme.Refresh, theirs.refresh)
}
