package accounts

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/testkit/play"
)

const text = `
millgate: 1.1
targets:
  all: { base: "http://h", unsafe: allowed, hosts: { mail: "http://m" }, values: { app: web } }
  made: { base: "http://h", unsafe: made-records-only, hosts: { mail: "http://m" } }
  none: { base: "http://h", hosts: { mail: "http://m" } }
routes:
  - GET /open
  - GET /members
  - GET /verified
  - POST /people
  - POST /mail
  - { at: GET /confirm, changes: { verified: true } }
  - { at: GET /other, changes: { paid: true } }
roles: { reader: , boss: { includes: reader } }
schemes:
  s:
    kind: bearer
    login: { send: POST /in, json: { u: "{u}", p: "{p}", app: "{app}" }, take: { access: /t } }
    account:
      send: POST /people
      json: { name: "{fresh}", email: "{fresh:email}", password: "{p}" }
      id: /id
      take: { u: /id }
      password: { least: 8, refuses: [name, common] }
      remove: { send: "DELETE /people/{id}", as: boss }
  mailed: { kind: link, signature: t, issue: { send: POST /mail, arrives: { read: GET mail:/messages,
	query: { to: "{caller.email}" }, find: /0/text, within: 2s } } }
identities:
  ann: { roles: reader, attributes: { verified: true }, credentials: { s: { u: ann, p: env:A }, mailed: {} } }
  boss: { roles: boss, credentials: { s: { u: boss, p: env:B } } }
access:
  - { at: GET /open, who: anyone }
  - { at: GET /members, who: reader }
  - { at: GET /verified, who: reader, given: { verified: true } }
  - { at: POST /people, who: anyone }
  - { at: POST /mail, who: reader }
  - { at: [GET /confirm, GET /other], who: signed-in, by: mailed }
`

type crossings struct{ play.Crossings }

func (crossings) Address(i int) check.Request {
	return check.Request{Method: "GET", Path: []string{"/open", "/members", "/verified"}[i]}
}
func (crossings) Using(string) []string { return []string{"works"} }

func planned(t *testing.T, target string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(crossings{})
	Family{}.Plan(c, p)
	return c, p
}

func named(t *testing.T, p *check.Planning, way Way) *check.Probe {
	t.Helper()
	for _, x := range p.Probes {
		if Of(x).Way == way {
			return x
		}
	}
	require.Fail(t, "no probe "+string(way))
	return nil
}

func TestWhatIsPlanned(t *testing.T) {
	_, p := planned(t, "all")
	var keys []string
	for _, x := range p.Probes {
		keys = append(keys, x.Key())
		assert.Equal(t, check.ThenRaising, x.Phase)
		assert.Equal(t, map[bool]access.Outcome{true: access.Admit, false: access.Closed}[Of(x).Good == ""],
			Family{}.Expect(nil, x).Outcome)
	}
	assert.Equal(t, []string{"account|POST /people|nobody||absent||s signs in",
		"account|POST /people|nobody||absent||s short password",
		"account|POST /people|nobody||absent||s its name as password",
		"account|POST /people|nobody||absent||s common password", "account|GET /confirm|nobody||absent||s confirmed"},
		keys, "they stand in databases")
	d := Of(named(t, p, Confirmed))
	assert.Equal(t, "mailed /verified /members", d.Link+" "+d.Asks.Path+" "+d.Open.Path)
	assert.Equal(t, keys[0], Of(named(t, p, Short)).Good)
	assert.Equal(t, []check.Omission{{Route: "GET /other", What: "what it changes",
		Why: "no safe route without parameters asks for it"}}, p.Left)

	_, p = planned(t, "made")
	assert.Len(t, p.Probes, 5, "boss removes them")
	_, p = planned(t, "none")
	assert.Empty(t, p.Probes)
	assert.True(t, p.Left[0].ByTarget)
}

// service answers the calls of a script as a sound service does, but for what a test puts in
// the place of an answer.
type service struct {
	instead map[string]check.Report
	mails   int // after so many looks a message is there; negative: never
	asked   []check.Call
	looks   int
}

func (s *service) answer(c check.Call, _ time.Duration) check.Report {
	s.asked = append(s.asked, c)
	r := check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 200, Content: "{}"}}
	switch c.Name {
	case signUp:
		r.Exchange.Status, r.Took = 201, map[string]string{"made": "p-9", taken + "u": "p-9"}
	case signIn:
		r.Took = map[string]string{"access": "(token 1)"}
	case signInAgain:
		r.Took = map[string]string{"access again": "(token 2)"}
	case before:
		r.Exchange.Status = 403
	case arrived:
		if s.looks++; s.mails >= 0 && s.looks > s.mails {
			r.Took = map[string]string{link: "/confirm?t=1"}
		}
	}
	if x, ok := s.instead[c.Name]; ok {
		x.Fate = check.Answered
		return x
	}
	return r
}

func status(code int) check.Report {
	return check.Report{Exchange: check.Exchange{Status: code}}
}

func TestVerdicts(t *testing.T) {
	c, p := planned(t, "all")
	echo := status(201)
	echo.Took, echo.Echoed = map[string]string{"made": "p-9"}, []string{"password"}
	seen := func(code int) *check.Fact {
		return &check.Fact{Reports: []check.Report{{Fate: check.Answered, Exchange: check.Exchange{Status: code}}}}
	}
	fine := map[string]*check.Fact{"works": seen(200), named(t, p, SignsIn).Key(): seen(201)}
	for _, x := range []struct {
		name    string
		way     Way
		instead map[string]check.Report
		mails   int
		known   map[string]*check.Fact
		want    finding.Kind
		sure    finding.Confidence
		says    string
	}{
		{"signs in", SignsIn, nil, 1, fine, finding.Agrees, finding.Proven, "was made and signs in"},
		{"echo", SignsIn, map[string]check.Report{signUp: echo}, 1, fine, finding.Leaking, finding.Proven,
			"The answer to sign up (201) shows the password"},
		{"cannot sign in", SignsIn, map[string]check.Report{signIn: status(401), signInAgain: status(401)}, -1, fine,
			finding.OverRestrictive, finding.Proven, "its login was answered 401 with no session"},
		{"nor can others", SignsIn, map[string]check.Report{signIn: status(401)}, -1,
			map[string]*check.Fact{"works": seen(401)}, finding.Unproven, finding.NotSure, "No login of a declared " +
				"identity"},
		{"must be confirmed first", SignsIn, map[string]check.Report{signIn: status(403)}, 0, fine, finding.Agrees,
			finding.Proven, "once its address is confirmed"},
		{"no account", SignsIn, map[string]check.Report{signUp: status(409)}, 1, fine, finding.Unproven,
			finding.NotSure,
			"the sign-up was answered 409"},
		{"the login fails", SignsIn, map[string]check.Report{signIn: status(500)}, -1, fine, finding.Unproven,
			finding.NotSure, "was not seen: 500"},

		{"short", Short, map[string]check.Report{signUp: status(422)}, 1, fine, finding.Agrees, finding.Proven,
			"a password of 7 characters, where 8 are asked for is refused (422)"},
		{"short is taken", Short, nil, 1, fine, finding.OverPermissive, finding.Proven, "It signs in with that."},
		{"taken, but not for long", Common, map[string]check.Report{signIn: status(401)}, 1, fine,
			finding.OverPermissive,
			finding.Likely, `with the common password "password"`},
		{"nothing is taken", Named, map[string]check.Report{signUp: status(422)}, 1, nil, finding.Unproven,
			finding.NotSure, "the same with a good password was not admitted either"},
		{"it fails", Named, map[string]check.Report{signUp: status(503)}, 1, fine, finding.Unproven, finding.NotSure,
			"the service answered 503"},

		{"confirmed", Confirmed, nil, 1, fine, finding.Agrees, finding.Proven,
			"answered 403 at /verified, and 200 once it was confirmed"},
		{"in vain", Confirmed, map[string]check.Report{after: status(403)}, 2, fine, finding.OverRestrictive,
			finding.Proven, "is answered 403 at /verified as before; /members"},
		{"in vain, or by its role", Confirmed, map[string]check.Report{after: status(403), openTo: status(403)}, 2,
			fine,
			finding.Unproven, finding.NotSure, "whether such an account may enter there at all was not seen"},
		{"never asked for it", Confirmed, map[string]check.Report{before: status(200)}, 1, fine, finding.Unproven,
			finding.NotSure, "before it is confirmed (200)"},
		{"no message", Confirmed, nil, -1, fine, finding.Unproven, finding.NotSure, "no link of the target came in " +
			"time"},
		{"no link is sent", Confirmed, map[string]check.Report{askFor: status(429)}, 1, fine, finding.Unproven,
			finding.NotSure, "the request for a link was answered 429"},
		{"the link fails", Confirmed, map[string]check.Report{confirm: status(410)}, 1, fine, finding.Unproven,
			finding.NotSure, "the link that was given out was answered 410"},
		{"another refusal", Confirmed, map[string]check.Report{after: status(404)}, 1, fine, finding.Unproven,
			finding.NotSure, "answered 403 before and 404 once it was confirmed"},
	} {
		s := &service{instead: x.instead, mails: x.mails}
		probe := named(t, p, x.way)
		f, _ := play.Run(Family{}.Script(c, probe), -1, s.answer)
		v := Family{}.Judge(c, probe, &f, check.NewEvidence(func(key string) *check.Fact { return x.known[key] }))
		kind, sure, _ := play.Said(v)
		says := v.Says
		if len(v.Gaps) > 0 {
			says = v.Gaps[0].Says
		}
		assert.Equal(t, []any{x.want, x.sure}, []any{kind, sure}, "%s: %s", x.name, says)
		assert.Contains(t, says, x.says, x.name)
	}
	assert.Equal(t, finding.Unproven, func() finding.Kind {
		kind, _, _ := play.Said(Family{}.Judge(c, p.Probes[0], &check.Fact{}, nil))
		return kind
	}())
}

// What is sent: the account is removed, its names and passwords are made up, its session is its own.
func TestWhatIsSent(t *testing.T) {
	c, p := planned(t, "all")
	s := &service{mails: 3}
	f, _ := play.Run(Family{}.Script(c, named(t, p, Confirmed)), -1, s.answer)
	var names []string
	for _, call := range s.asked {
		names = append(names, call.Name)
	}
	assert.Equal(t, strings.Split("sign up,sign in,before it is confirmed,another route,the message,ask for the link,"+
		"the message,the message,the message,follow the link,sign in again,once it is confirmed", ","), names)
	assert.Len(t, f.Reports, len(names)-3, "what was no message is not kept")
	up := s.asked[0]
	assert.Equal(t, check.Creates, up.Effect)
	assert.Equal(t, "account of s", up.Makes.Record)
	assert.JSONEq(t, `{"name":"{fresh}","email":"{fresh:email}","password":"{p}"}`, string(up.Request.Body))
	email := check.Fill{Made: "probe", Form: check.AsEmail}
	good := check.Fill{Made: "password", Form: check.AsPassword, Size: usual}
	assert.Equal(t, map[string]check.Fill{"fresh": {Made: "probe"}, "fresh:email": email, "p": good}, up.Request.Fill)
	assert.Equal(t, map[string]check.Fill{"u": {Slot: taken + "u"}, "p": good, "app": {Name: "app"}},
		s.asked[1].Request.Fill)
	assert.Equal(t, "to={caller.email}", s.asked[4].Request.Query)
	assert.Equal(t, map[string]check.Fill{"caller.email": email}, s.asked[4].Request.Fill)
	assert.Equal(t, link, s.asked[9].Request.Link)
	for k, slot := range map[int]string{2: "access", 3: "access", 5: "access", 11: "access again"} {
		require.Len(t, s.asked[k].As, 1)
		assert.Equal(t, fmt.Sprint(slot, "s"), fmt.Sprint(s.asked[k].As[0].Slot, s.asked[k].As[0].Scheme))
	}
	for way, want := range map[Way]check.Fill{Short: {Made: "password", Form: check.AsPassword, Size: 7},
		Named: {Made: "probe"}, Common: {Text: "password"}} {
		x := &service{}
		play.Run(Family{}.Script(c, named(t, p, way)), -1, x.answer)
		assert.Equal(t, want, x.asked[0].Request.Fill["p"], way)
		assert.Equal(t, want, x.asked[1].Request.Fill["p"], "it signs in with the same")
	}
	assert.Equal(t, check.Cost{Requests: 8, Time: 2 * time.Second}, Family{}.Cost(c, named(t, p, Confirmed)))
	_, says := Family{}.Cell(p.Probes[0])
	assert.Equal(t, "a new account: signs in", says)
	assert.Equal(t, "a new account (signs in)", Family{}.Who(p.Probes[0]))
}
