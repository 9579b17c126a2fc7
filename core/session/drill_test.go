package session

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const drillText = `millgate: 1
targets: { t: { base: "http://h" } }
routes: [GET /a]
schemes:
  s: { kind: bearer, token: %s, lifetime: { access: a, refresh: r }, login: { send: POST /login, json: { u: "{u}" }, take: { access: /t, refresh: /r } }, refresh: { send: POST /refresh, json: { r: "{refresh}" }, take: { access: /t, refresh: /r } }, logout: { send: POST /logout, json: { r: "{refresh}" } } }
lifetimes: { a: { max: 15m, skew: 30s, ended_within: %s }, r: { max: 30d, idle: 12h, %s } }
`

// asDeclared is a drill of a service that does what it should.
func asDeclared() Drilled {
	d := Drilled{Rotated: true, Life: 15 * time.Minute, Said: 15 * time.Minute}
	for _, s := range []struct {
		name   string
		status int
	}{{LogIn, 200}, {Use, 200}, {AskIssuer, 200}, {Refresh, 200}, {UseRenewed, 200}, {LogOutNobody, 400}, {LogOut, 204},
		{UseAfterLogout, 401}, {AskIssuerAfter, 200}, {RefreshAfterLogout, 401}, {LogOutAgain, 204},
		{LogInAgain, 200}, {RefreshAgain, 200}, {OldRefresh, 401}, {RefreshAfterReuse, 401}, {LogOutOther, 400},
		{NeighbourRefresh, 200}} {
		d.Steps = append(d.Steps, Step{Name: s.name, Status: s.status, Worked: s.status < 300 &&
			s.name != AskIssuerAfter})
	}
	return d
}

func (d *Drilled) set(name string, status int, worked bool) {
	for i := range d.Steps {
		if d.Steps[i].Name == name {
			d.Steps[i].Status, d.Steps[i].Worked = status, worked
		}
	}
}

func TestJudgeDrill(t *testing.T) {
	const strict = "rotates: true, reuse: ends-grant"
	for _, c := range []struct {
		name          string
		kind          string // of the token; jwt when empty
		ended, reuse  string // "0s" and strict when empty
		change        func(*Drilled)
		want          []string
		partsFrom     string // a step that parts from the declaration, "" for none
		partsExpected string
	}{
		{name: "as declared", change: func(*Drilled) {}},
		{name: "the same refresh token again",
			change: func(d *Drilled) {
				d.Rotated = false
				d.set(OldRefresh, 200, true)
				d.set(RefreshAfterReuse, 200,
					true)
			}, want: []string{"no-rotation"}},
		{name: "nothing said about rotation", reuse: "rotates: false",
			change: func(d *Drilled) { d.Rotated = false; d.set(OldRefresh, 200, true) }},
		{name: "a used token works", change: func(d *Drilled) {
			d.set(OldRefresh, 200, true)
			d.set(RefreshAfterReuse,
				200, true)
		}, want: []string{"reuse-works"}, partsFrom: OldRefresh, partsExpected: "refused"},
		{name: "rotation alone refuses reuse", reuse: "rotates: true",
			change: func(d *Drilled) { d.set(OldRefresh, 200, true) }, want: []string{"reuse-works"}},
		{name: "reuse allowed", reuse: "rotates: true, reuse: allowed",
			change: func(d *Drilled) { d.set(OldRefresh, 200, true); d.set(RefreshAfterReuse, 200, true) }},
		{name: "refused, and the session goes on", change: func(d *Drilled) { d.set(RefreshAfterReuse, 200, true) },
			want: []string{"family-lives"}, partsFrom: RefreshAfterReuse, partsExpected: "refused"},
		{name: "refused, and it may go on", reuse: "reuse: refused",
			change: func(d *Drilled) { d.set(RefreshAfterReuse, 200, true) }},
		{name: "a failing service says nothing about reuse",
			change: func(d *Drilled) { d.set(OldRefresh, 503, false); d.set(RefreshAfterReuse, 200, true) }},
		{name: "works on after the logout", change: func(d *Drilled) {
			d.After, d.Waited, d.Outlived = 2*time.Second, 2*time.Second, true
			d.set(UseAfterLogout, 200, true)
		}, want: []string{"afterlife"}, partsFrom: UseAfterLogout, partsExpected: "refused"},
		{name: "works on for as long as declared", ended: "5s", change: func(d *Drilled) {
			d.After,
				d.Waited = 4*time.Second, 5*time.Second
		}},
		{name: "works on longer than declared", ended: "5s", change: func(d *Drilled) {
			d.After,
				d.Waited = 9*time.Second, 9250*time.Millisecond
		}, want: []string{"afterlife"}},
		{name: "renewed after the logout", change: func(d *Drilled) { d.set(RefreshAfterLogout, 200, true) },
			want: []string{"renewal-afterlife"}},
		{name: "active after the logout", change: func(d *Drilled) { d.set(AskIssuerAfter, 200, true) },
			want: []string{"afterlife"}},
		{name: "nothing is known after a logout that failed",
			change: func(d *Drilled) { d.set(LogOut, 500, false); d.set(RefreshAfterLogout, 200, true) }},
		{name: "a logout of nobody succeeds", change: func(d *Drilled) { d.set(LogOutNobody, 200, true) },
			want: []string{"logout-nobody"}},
		{name: "a neighbour is logged out",
			change: func(d *Drilled) { d.set(LogOutOther, 204, true); d.set(NeighbourRefresh, 401, false) },
			want:   []string{"logout-other"}},
		{name: "a neighbour's logout is ignored", change: func(d *Drilled) { d.set(LogOutOther, 204, true) }},
		{name: "the issuer does not know a token that works", change: func(d *Drilled) { d.set(AskIssuer, 200, false) },
			want: []string{"introspection-inactive"}},
		{name: "an opaque token says that it lives a day", kind: "opaque",
			change: func(d *Drilled) { d.Life, d.Said = 0, 24*time.Hour }, want: []string{"too-long"}},
		{name: "what the token or its issuer says is judged where tokens are",
			change: func(d *Drilled) { d.Life, d.Said = 24*time.Hour, 24*time.Hour }},
		{name: "two ends that differ", change: func(d *Drilled) { d.Said = time.Hour },
			want: []string{"life-said-otherwise"}},
		{name: "a long idle time", change: func(d *Drilled) { d.Idle = 30 * 24 * time.Hour },
			want: []string{"idle-too-long"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.kind == "" {
				c.kind = "jwt"
			}
			if c.ended == "" {
				c.ended = "0s"
			}
			if c.reuse == "" {
				c.reuse = strict
			}
			doc, msgs := declaration.Parse("x", []byte(fmt.Sprintf(drillText, c.kind, c.ended, c.reuse)), nil)
			require.False(t, declaration.Failed(msgs), msgs)
			d := asDeclared()
			c.change(&d)
			var got []string
			for _, j := range JudgeDrill(&d, doc, doc.SchemeNamed("s")) {
				got = append(got, j.ID)
				assert.NotEmpty(t, j.Why)
				assert.NotEmpty(t, j.Standard)
			}
			assert.Equal(t, c.want, got)
			if c.partsFrom != "" {
				assert.Equal(t, c.partsExpected, d.Expect(c.partsFrom, doc, doc.SchemeNamed("s")))
			}
		})
	}
}

// Every step of a service that does what it should is as expected, and the
// other way round a step that parts is judged.
func TestExpectedSteps(t *testing.T) {
	doc, _ := declaration.Parse("x", []byte(fmt.Sprintf(drillText, "jwt", "0s", "rotates: true, reuse: ends-grant")),
		nil)
	d := asDeclared()
	for _, s := range d.Steps {
		want := d.Expect(s.Name, doc, doc.SchemeNamed("s"))
		if want != "" {
			assert.Equal(t, want == "works", s.Worked, s.Name)
		}
	}
	assert.Equal(t, "works", d.Expect(RefreshAfterReuse, mustDoc(t, "reuse: refused"),
		mustDoc(t, "reuse: refused").SchemeNamed("s")))
	assert.Empty(t, d.Expect(OldRefresh, mustDoc(t, "reuse: allowed"), mustDoc(t, "reuse: allowed").SchemeNamed("s")))
}

func mustDoc(t *testing.T, reuse string) *declaration.Document {
	t.Helper()
	doc, msgs := declaration.Parse("x", []byte(fmt.Sprintf(drillText, "jwt", "5s", reuse)), nil)
	require.False(t, declaration.Failed(msgs))
	return doc
}

func TestJudgeCookieAndLink(t *testing.T) {
	s := &declaration.Scheme{Kind: declaration.Cookie, Cookie: declaration.CookieAttributes{Path: "/desk",
		HTTPOnly: true, Secure: true, SameSite: "lax"}}
	l := &declaration.Lifetime{Max: time.Hour}
	ids := func(list []Judged) (out []string) {
		for _, j := range list {
			out = append(out, j.ID)
		}
		return out
	}
	assert.Empty(t, JudgeCookie(Cookie{Path: "/desk/x", HTTPOnly: true, Secure: true, SameSite: "strict",
		Life: time.Hour}, s, l))
	assert.Equal(t, []string{"cookie-script", "cookie-insecure", "cookie-same-site", "cookie-path", "cookie-too-long"},
		ids(JudgeCookie(Cookie{Path: "/", Life: 8 * time.Hour}, s, l)))
	assert.Equal(t, []string{"cookie-path"},
		ids(JudgeCookie(Cookie{Path: "/desks", HTTPOnly: true, Secure: true, SameSite: "lax"}, s, l)),
		"/desks is not under /desk")
	s.Cookie = declaration.CookieAttributes{SameSite: "none"}
	assert.Empty(t, JudgeCookie(Cookie{}, s, nil), "nothing more is asked for")

	now := time.Unix(1000, 0)
	assert.Empty(t, JudgeLink(now.Add(time.Hour), "4600", now, l))
	assert.Equal(t, []string{"link-too-long"}, ids(JudgeLink(now.Add(2*time.Hour), "8200", now, l)))
	assert.Equal(t, []string{"link-endless"}, ids(JudgeLink(time.Time{}, "", now, l)))
	assert.Contains(t, JudgeLink(time.Time{}, "soon", now, l)[0].Text, `"soon"`)
}

func TestCompareTimings(t *testing.T) {
	ms := func(list ...int) (out []time.Duration) {
		for _, n := range list {
			out = append(out, time.Duration(n)*time.Millisecond)
		}
		return out
	}
	slow := ms(81, 83, 80, 85, 84, 82, 86, 88, 87, 89, 90, 79)
	quick := ms(3, 4, 2, 5, 3, 4, 6, 3, 2, 4, 5, 3)
	got := Compare(slow, quick)
	assert.True(t, got.Differs)
	assert.Less(t, got.Probability, 0.001)
	assert.Equal(t, 84500*time.Microsecond, got.Known)
	assert.Equal(t, 12, got.N)
	assert.False(t, Compare(quick, ms(4, 3, 3, 2, 5, 4, 3, 6, 5, 2, 3, 4)).Differs)
	assert.InDelta(t, 1, Compare(quick, quick).Probability, 0.05)
	// By hand: U = 3 of 25 pairs, z = 1.88, two-sided.
	assert.InDelta(t, 0.06, Compare(ms(1, 2, 3, 4, 8), ms(5, 6, 7, 9, 10)).Probability, 0.003)
	near := Compare([]time.Duration{100, 101, 102, 103, 104, 105, 106, 107},
		[]time.Duration{200, 201, 202, 203, 204, 205, 206, 207})
	assert.Less(t, near.Probability, 0.01)
	assert.False(t, near.Differs, "nanoseconds tell nobody anything")
	assert.Equal(t, 1.0, Compare(nil, quick).Probability)
}
