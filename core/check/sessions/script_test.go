package sessions

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/session"
	"millgate/testkit/play"
)

const gate = `millgate: 1
targets: { t: { base: "http://127.0.0.1:1", values: { client: desk } } }
routes: [GET /a, POST /out, POST /ask]
schemes:
  s:
    kind: bearer
    login: { send: POST /in, json: { p: "{p}", c: "{client}" }, take: { access: /t, refresh: /r } }
    refresh: { send: POST /again, form: { r: "{refresh}" }, take: { access: /t, refresh: /r } }
    logout: { send: POST /out, json: { r: "{refresh}" } }
    introspect: { send: POST /ask, form: { token: "{token}", p: "{p}" }, as: ann }
identities: { ann: { credentials: { s: { p: kept:P } } }, bob: { credentials: { s: { p: kept:Q } } } }
access: [{ at: GET /a, who: signed-in }, { at: POST /ask, who: anyone }%s]
`

// issuer answers the calls of a drill: sessions by number, in the marks of what it gives.
type issuer struct {
	n        int
	of       map[string]int
	used     map[string]bool
	ended    map[int]time.Duration
	lingers  time.Duration
	same     bool          // renewals give the same refresh token
	lenient  bool          // a used refresh token works
	survives bool          // a session goes on after the reuse of its refresh token
	anybody  bool          // a logout that names nobody is answered 204
	endsAll  bool          // a logout ends every session
	nodes    bool          // what it ended is not known where a connection of its own leads
	nodesFor time.Duration // the same, for a while after it was first tried there
	tried    time.Duration
	one      bool // a login ends the sessions before it
	opaque   bool // its tokens say no end, and it says one where it is asked
	slots    map[string]string
}

func (s *issuer) answer(c check.Call, at time.Duration) check.Report {
	r := check.Report{Fate: check.Answered, Took: map[string]string{}, Ends: map[string]time.Time{}}
	slotOf := func(name string) string { return s.slots[c.Request.Fill[name].Slot] }
	give := func(id int, refresh string) {
		s.n++
		a := fmt.Sprint("‹token:a", s.n, "›")
		if !s.same || refresh == "" {
			refresh = fmt.Sprint("‹token:r", s.n, "›")
		}
		s.of[a], s.of[refresh] = id, id
		for i, v := range []string{a, refresh} {
			r.Took[c.Take[i].Slot], s.slots[c.Take[i].Slot] = v, v
		}
		if !s.opaque {
			r.Ends[c.Take[0].Slot] = time.Date(2026, 12, 1, 9, 10, 0, 0, time.UTC)
		}
		r.Exchange.Status, r.Exchange.Content = 200, `{"t":"x","r":"y","expires_in":600,"refresh_expires_in":3600}`
	}
	works := func(mark string) bool {
		id, ok := s.of[mark]
		end, over := s.ended[id]
		return ok && (!over || at < end+s.lingers)
	}
	r.Exchange.Status = 401
	switch c.Request.Path {
	case "/in":
		if s.n++; s.one {
			for _, id := range s.of {
				s.ended[id] = at
			}
		}
		give(s.n, "")
	case "/again":
		mark := slotOf("refresh")
		_, over := s.ended[s.of[mark]]
		switch {
		case s.of[mark] == 0 || over:
		case s.used[mark] && !s.lenient:
			if !s.survives {
				s.ended[s.of[mark]] = at
			}
		default:
			s.used[mark] = !s.same
			give(s.of[mark], mark)
		}
	case "/out":
		id := s.of[slotOf("refresh")]
		switch {
		case id == 0 && s.anybody:
			r.Exchange.Status = 204
		case id == 0:
			r.Exchange.Status = 400
		default:
			for _, o := range s.of {
				if _, over := s.ended[o]; !over && (o == id || s.endsAll) {
					s.ended[o] = at
				}
			}
			r.Exchange.Status = 204
		}
	case "/ask":
		exp := time.Date(2026, 12, 1, 9, 30, 0, 0, time.UTC).Unix()
		r.Exchange.Status, r.Exchange.Content = 200, fmt.Sprintf(`{"active":%t,"exp":%d}`, works(slotOf("token")), exp)
	default:
		if c.Apart && s.tried == 0 {
			s.tried = at
		}
		if len(c.As) == 1 && (works(s.slots[c.As[0].Slot]) || c.Apart && (s.nodes || at < s.tried+s.nodesFor)) {
			r.Exchange.Status = 200
		}
	}
	return r
}

func drill(t *testing.T, more string) (*declaration.Document, Drill) {
	d, msgs := declaration.Parse("x", []byte(fmt.Sprintf(gate, more)), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return d, Drill{Identity: "ann", Scheme: d.SchemeNamed("s"), Use: check.Request{Method: "GET", Path: "/a"},
		Longest: 2 * time.Second}
}

func newIssuer() *issuer {
	return &issuer{of: map[string]int{}, used: map[string]bool{}, ended: map[int]time.Duration{},
		slots: map[string]string{}}
}

func TestTheWholeSession(t *testing.T) {
	d, x := drill(t, "")
	f, sent := play.Run(Script(d, d.Targets[0], x), -1, newIssuer().answer)
	m := f.Data.(*Measured)
	var steps []string
	for i, s := range m.Steps {
		steps = append(steps, fmt.Sprint(s.Name, " ", s.Worked))
		assert.Equal(t, f.Reports[i].Name, s.Name, "reports stand beside the steps")
	}
	assert.Equal(t, []string{"log in, another session true", "log in true", "use true", "ask the issuer true",
		"refresh true", "use the renewed true",
		"log out naming no session false", "use the other session true", "log out true",
		"use after the logout false", "use after the logout, over a connection of its own false",
		"use after the logout, over a connection of its own false",
		"use after the logout, over a connection of its own false",
		"ask the issuer after the logout false", "refresh after the logout false",
		"log out again true", "use the other session after the logout true",
		"log in again true", "refresh again true", "the old refresh token again false",
		"refresh after the reuse false"}, steps)
	assert.True(t, m.Rotated)
	assert.Equal(t, []time.Duration{10 * time.Minute, time.Hour, 0, play.Took},
		[]time.Duration{m.Said, m.Idle, m.After, m.Waited})
	assert.Equal(t, 10*time.Minute, m.Of(f.Began).Life)
	assert.Empty(t, session.JudgeDrill(&m.Drilled, d, x.Scheme))

	in := sent[0].Request
	assert.Equal(t, check.Fill{Identity: "ann", Scheme: "s", Name: "p"}, in.Fill["p"], "no secret is in a script")
	assert.Equal(t, check.Fill{Name: "client"}, in.Fill["client"])
	assert.Equal(t, "r={refresh}", string(sent[4].Request.Body))
	for _, c := range sent {
		assert.NotEqual(t, check.Unsafe, c.Effect, "%s touches only what the drill began", c.Name)
		for _, p := range c.As {
			assert.Equal(t, "ann", p.Identity, "%s is counted as hers", c.Name)
		}
	}
}

// Each fault of a service shows in what is measured, and in what is said of it.
func TestFaults(t *testing.T) {
	for want, change := range map[string]func(*issuer){
		"no-rotation":   func(s *issuer) { s.same = true },
		"reuse-works":   func(s *issuer) { s.lenient = true },
		"family-lives":  func(s *issuer) { s.survives = true },
		"logout-nobody": func(s *issuer) { s.anybody = true },
		"afterlife":     func(s *issuer) { s.lingers = time.Hour },
		"logout-all":    func(s *issuer) { s.endsAll = true },
	} {
		d, x := drill(t, "")
		x.Scheme.Lifetime = map[string]declaration.Ref{"refresh": {Name: "r"}}
		d.Lifetimes = append(d.Lifetimes, &declaration.Lifetime{Name: "r", Rotates: true, Reuse: "ends-grant"})
		s := newIssuer()
		change(s)
		f, sent := play.Run(Script(d, d.Targets[0], x), -1, s.answer)
		m := f.Data.(*Measured)
		var ids []string
		for _, j := range session.JudgeDrill(&m.Drilled, d, x.Scheme) {
			ids = append(ids, j.ID)
		}
		assert.Equal(t, []string{want}, slices.Compact(ids), want)
		if want == "afterlife" {
			assert.True(t, m.Outlived)
			assert.GreaterOrEqual(t, m.After, x.Longest)
			tries := 0
			for _, c := range sent {
				if c.Name == session.UseAfterLogout {
					tries++
				}
			}
			assert.Equal(t, 9, tries, "four times in a second, for two seconds")
			n := 0
			for _, st := range m.Steps {
				if st.Name == session.UseAfterLogout {
					n++
				}
			}
			assert.Equal(t, 2, n, "the first and the last of the tries are told")
		}
	}
}

// A logout that ends every session is none where that is declared, or where a login did already.
func TestSessionsBesideEachOther(t *testing.T) {
	for name, change := range map[string]func(*issuer, *declaration.Scheme){
		"declared":                 func(s *issuer, x *declaration.Scheme) { s.endsAll, x.EndsAll = true, true },
		"a caller has one session": func(s *issuer, _ *declaration.Scheme) { s.one = true },
	} {
		d, x := drill(t, "")
		s := newIssuer()
		change(s, x.Scheme)
		f, _ := play.Run(Script(d, d.Targets[0], x), -1, s.answer)
		m := f.Data.(*Measured)
		for _, j := range session.JudgeDrill(&m.Drilled, d, x.Scheme) {
			assert.NotEqual(t, "logout-all", j.ID, name)
		}
		assert.Empty(t, m.Expect(session.UseBesideAfter, d, x.Scheme), name)
	}
}

func TestALoginThatGivesNothing(t *testing.T) {
	d, x := drill(t, "")
	f, sent := play.Run(Script(d, d.Targets[0], x), -1, func(check.Call, time.Duration) check.Report {
		return check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 401}}
	})
	assert.Len(t, sent, 1, "so often a wrong secret would lock the account")
	assert.True(t, f.Data.(*Measured).Failed)
}

// Where a logout needs a credential too, a neighbour's session is tried.
func TestTheNeighbour(t *testing.T) {
	d, x := drill(t, ", { at: POST /out, who: signed-in }")
	x.Neighbour = "bob"
	s := newIssuer()
	f, sent := play.Run(Script(d, d.Targets[0], x), -1, s.answer)
	m := f.Data.(*Measured)
	assert.Equal(t, []string{session.LogOutOther, session.NeighbourRefresh},
		[]string{m.Steps[len(m.Steps)-2].Name, m.Steps[len(m.Steps)-1].Name})
	var ids []string
	for _, j := range session.JudgeDrill(&m.Drilled, d, x.Scheme) {
		ids = append(ids, j.ID)
	}
	assert.Contains(t, ids, "logout-other", "ann ended bob's session")
	for _, c := range sent {
		if c.Name == session.LogOut || c.Name == session.LogOutOther {
			require.Len(t, c.As, 1)
			assert.True(t, strings.HasSuffix(c.As[0].Slot, "access"))
		}
		assert.NotEqual(t, session.LogOutNobody, c.Name, "the route's own guard would answer")
	}
}

// Given up anywhere, what was seen so far stays.
func TestGivenUpAnywhere(t *testing.T) {
	d, x := drill(t, "")
	for stop := range 14 {
		f, sent := play.Run(Script(d, d.Targets[0], x), stop, newIssuer().answer)
		m := f.Data
		if stop == 0 {
			assert.Nil(t, m, "it had not begun")
			continue
		}
		assert.Len(t, m.(*Measured).Steps, len(f.Reports))
		assert.InDelta(t, len(sent), len(f.Reports), 1, "only the last call was not reported")
	}
}

// What a token says of its own end comes before what its issuer says; an opaque one says
// nothing, and the issuer is asked (RFC 7662 section 2.2).
func TestWhoSaysTheEnd(t *testing.T) {
	d, x := drill(t, "")
	for opaque, want := range map[bool]time.Duration{false: 10 * time.Minute, true: 30 * time.Minute} {
		s := newIssuer()
		s.opaque = opaque
		f, _ := play.Run(Script(d, d.Targets[0], x), -1, s.answer)
		assert.Equal(t, want, f.Data.(*Measured).Of(f.Began).Life)
	}
}
