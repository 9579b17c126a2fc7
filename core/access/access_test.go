package access

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const text = `millgate: 1.1
routes: [GET /open, GET /list, "GET /things/{id}", "PUT /things/{id}", POST /frames, GET /shut, GET /none, GET /later,
	GET /keyed, POST /strict]
roles: { reader: , writer: { includes: reader }, boss: }
schemes:
  access: { kind: bearer, token: jwt, issuer: i, audience: a }
  service: { kind: bearer, token: jwt, issuer: i, audience: a }
  other: { kind: bearer, token: jwt, issuer: j }
  key: { kind: api-key, in: header, name: X-Key }
identities:
  ann: { roles: reader, attributes: { verified: true }, credentials: { access: { token: env:A } } }
  bob: { roles: writer, scopes: [w], attributes: { verified: false }, credentials: { access: { token: env:B } } }
  eve: { roles: reader, attributes: { verified: true }, credentials: { access: { token: env:E } } }
  bot: { scopes: [w], credentials: { service: { token: env:S } } }
  far: { roles: boss, credentials: { other: { token: env:O } } }
  par: { credentials: { key: { key: env:K } } }
records:
  thing: { fills: "/things/{id}", owned_by: { ann: [t1], eve: [t2] } }
access:
  - { at: GET /open, who: anyone, broken: refused }
  - { at: GET /list, who: reader, given: { verified: true } }
  - { at: "GET /things/{id}", who: [owner, writer], hide: true }
  - { at: "PUT /things/{id}", who: owner }
  - { at: POST /frames, who: signed-in, scope: w, by: [access, service] }
  - { at: GET /shut, who: nobody }
  - { at: GET /later, who: undecided }
  - { at: GET /keyed, who: signed-in, by: key }
  - { at: POST /strict, who: [identity:ann, reader], by: access }
`

// With what status callers are turned away: an entry says it before the schemes that it accepts.
func TestTurnedAway(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(strings.NewReplacer(
		"who: reader, given", "who: reader, turned_away: 410, given",
		"who: [owner, writer], hide: true",
		"who: [owner, writer], turned_away: { role: 404, ownership: 404, scope: 400 }",
		"scope: w, by: [access", "scope: w, turned_away: { scope: 404, credential: 401 }, by: [access",
		"issuer: i, audience: a }", "issuer: i, audience: a, refuses: 403 }").Replace(text)), nil)
	require.Empty(t, msgs)
	for _, c := range []struct {
		route, who string
		state      State
		record     Relation
		want       string
	}{
		{"GET /list", "", Absent, "", "410 refuse needs access or service, none is presented (turned_away: 410)"},
		{"GET /list", "bob", Sound, "", "410 forbid needs verified: true, bob has false (turned_away: 410)"},
		{"GET /things/{id}", "", Absent, "", "403 forbid needs access or service, none is presented (refuses: 403)"},
		{"GET /things/{id}", "ann", Broken, "", "403 forbid the credential does not verify (refuses: 403)"},
		{"GET /things/{id}", "ann", Sound, Foreign, "404 hide the record is somebody else's (turned_away: 404)"},
		{"GET /things/{id}", "ann", Sound, Own, "0 admit the owner is admitted; which record decides"},
		{"PUT /things/{id}", "ann", Sound, Foreign, "403 forbid the record is somebody else's"},
		{"POST /frames", "", Absent, "", "401 refuse needs access or service, none is presented (turned_away: 401)"},
		{"POST /frames", "ann", Broken, "", "403 forbid the credential does not verify (refuses: 403)"},
		{"POST /frames", "ann", Sound, "", "404 hide needs the scope w, ann does not hold it (turned_away: 404)"},
		{"GET /keyed", "", Absent, "", "401 refuse needs key, none is presented"},
		{"GET /shut", "ann", Sound, "", "0 turn away the declaration admits nobody here"},
	} {
		x := Evaluate(d, d.RouteNamed(c.route), Caller{Identity: d.IdentityNamed(c.who), State: c.state,
			Record: c.record})
		assert.Equal(t, c.want, fmt.Sprint(x.Status(), " ", x.Outcome, " ", x.Reason()), c.route)
	}
}

func doc(t testing.TB) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs)
	return d
}

func TestLadder(t *testing.T) {
	d := doc(t)
	for _, c := range []struct {
		route, who string
		state      State
		record     Relation
		want       Outcome
		decider    int
		subject    string
		says       string
	}{
		{"GET /open", "", Absent, "", Admit, 0, "", "anyone is admitted"},
		{"GET /open", "", Broken, "", Refuse, 3, "soundness", "broken: refused"},
		{"GET /open", "far", Sound, "", Admit, 0, "", "anyone"},
		{"GET /list", "", Absent, "", Refuse, 2, "credential", "needs access or service, none is presented"},
		{"GET /list", "", Broken, "", Refuse, 3, "soundness", "does not verify"},
		{"GET /list", "ann", Sound, "", Admit, 0, "", "reader is among reader"},
		{"GET /list", "bob", Sound, "", Forbid, 5, "attribute", "needs verified: true, bob has false"},
		{"GET /list", "bot", Sound, "", Forbid, 4, "role", "needs reader, bot has no role"}, // behind the same lock
		{"GET /list", "far", Sound, "", Refuse, 2, "credential", "far comes with other"},
		{"GET /list", "par", Sound, "", Refuse, 2, "credential", "par comes with key"},
		{"GET /things/{id}", "ann", Sound, Own, Admit, 0, "", ""},
		{"GET /things/{id}", "ann", Sound, Foreign, Hide, 6, "ownership", "does not exist"},
		{"GET /things/{id}", "bob", Sound, Foreign, Admit, 0, "", "writer is among the owner or writer"},
		{"PUT /things/{id}", "bob", Sound, Foreign, Forbid, 6, "ownership", "somebody else's"},
		{"POST /frames", "bot", Sound, "", Admit, 0, "", ""},
		{"POST /frames", "ann", Sound, "", Forbid, 5, "scope", "needs the scope w"},
		{"GET /shut", "bob", Sound, "", Closed, 4, "role", "admits nobody"},
		{"GET /later", "", Absent, "", Undecided, 4, "role", "nobody has decided yet"},
		{"GET /later", "bob", Broken, "", Undecided, 4, "role", "nobody has decided yet"},
		{"GET /none", "", Absent, "", Closed, 4, "role", "no access entry"},
		{"GET /keyed", "par", Sound, "", Admit, 0, "", ""},
		{"GET /keyed", "ann", Sound, "", Refuse, 2, "credential", "needs key"},
		{"POST /strict", "bot", Sound, "", Refuse, 2, "credential", "bot comes with service"}, // `by` is exact
	} {
		t.Run(fmt.Sprintf("%s by %s %s %s", c.route, c.who, c.state, c.record), func(t *testing.T) {
			x := Evaluate(d, d.RouteNamed(c.route), Caller{Identity: d.IdentityNamed(c.who), State: c.state,
				Record: c.record})
			assert.Equal(t, c.want, x.Outcome)
			assert.Equal(t, c.decider, x.Decider)
			assert.Equal(t, c.subject, x.Subject)
			assert.Contains(t, x.Reason(), c.says)
			require.Len(t, x.Ladder, 7)
			brief := Decide(d, d.RouteNamed(c.route), Caller{Identity: d.IdentityNamed(c.who), State: c.state,
				Record: c.record})
			assert.Equal(t, x.Reason(), brief.Reason())
			assert.Equal(t, []any{x.Outcome, x.Decider, x.Subject, x.Depends, x.Entry},
				[]any{brief.Outcome, brief.Decider, brief.Subject, brief.Depends, brief.Entry})
			for i, r := range x.Ladder {
				assert.Equal(t, i+1, r.Number)
				switch {
				case c.decider == 0 || r.Number < c.decider:
					assert.Equal(t, Passed, r.Result, r.Name)
				case r.Number == c.decider:
					assert.Equal(t, Failed, r.Result)
				default:
					assert.Equal(t, NotReached, r.Result, r.Name)
				}
			}
		})
	}
}

func TestDependsOnTheRecord(t *testing.T) {
	d := doc(t)
	x := Evaluate(d, d.RouteNamed("PUT /things/{id}"), Caller{Identity: d.IdentityNamed("ann"), State: Sound})
	assert.True(t, x.Depends)
	assert.Equal(t, Admit, x.Outcome)
	assert.Equal(t, Depends, x.Ladder[5].Result)
}

func TestTheZeroExpectationRefuses(t *testing.T) {
	assert.Equal(t, Refuse, Expectation{}.Outcome)
	assert.Equal(t, 401, Expectation{}.Status())
}

// The board answers on bit sets what Evaluate answers in words.
func TestBoardAgreesWithEvaluate(t *testing.T) {
	turning := doc(t)
	each := []declaration.TurnedAway{{}, {Credential: 403, Role: 404}, {Credential: 410, Scope: 400, Role: 410},
		{Role: 403, Scope: 404, Ownership: 401}}
	for i, e := range turning.Access {
		e.Turned = each[i%len(each)]
	}
	for i, s := range turning.Schemes {
		s.Refuses = []int{0, 403, 499}[i%3]
	}
	for name, d := range map[string]*declaration.Document{"by hand": doc(t), "large": parsed(t, 60, 40),
		"with other statuses": turning, "on some records": onSomeRecords(t)} {
		b := NewBoard(d)
		for i, r := range d.Routes {
			for c := range b.Columns {
				caller := Caller{State: Absent}
				if c > 0 {
					caller = Caller{Identity: d.Identities[c-1], State: Sound}
				}
				x := Evaluate(d, i, caller)
				require.Equal(t, x.Outcome, b.At(i, c).Outcome(), "%s: %s by column %d", name, r.Key(), c)
				require.Equal(t, x.Depends, b.At(i, c).Depends(), "%s: %s by column %d", name, r.Key(), c)
				require.Equal(t, x.Code, b.At(i, c).Status(), "%s: %s by column %d", name, r.Key(), c)
				require.Equal(t, OutcomeText(x.Outcome, x.On, x.Code), b.Text(b.At(i, c)), "%s: %s by column %d", name,
					r.Key(), c)
			}
		}
	}
}

func TestClasses(t *testing.T) {
	d := doc(t)
	var got []string
	for _, c := range Classes(d) {
		var n []string
		for _, m := range c.Members {
			n = append(n, d.Identities[m].Name)
		}
		got = append(got, strings.Join(n, "+"))
	}
	assert.Equal(t, []string{"ann", "eve", "bob", "par", "bot", "far"}, got,
		"ann is mentioned by name, so eve does not stand for her")

	same, msgs := declaration.Parse("x", []byte(strings.Replace(text, "identity:ann, ", "", 1)), nil)
	require.Empty(t, msgs)
	assert.Equal(t, []int{0, 2}, Classes(same)[0].Members, "equal in roles, scopes, attributes, schemes and ownership")
	for _, change := range []string{"eve: { roles: writer, attributes: { verified: true }",
		"eve: { roles: reader, attributes: { verified: false }", "eve: { roles: reader, scopes: [w], attributes: { " +
			"verified: true }"} {
		d, _ := declaration.Parse("x",
			[]byte(strings.Replace(strings.Replace(text, "identity:ann, ", "", 1),
				"eve: { roles: reader, attributes: { verified: true }", change, 1)), nil)
		assert.Equal(t, []int{0}, Classes(d)[0].Members, change)
	}
}

// parsed makes a declaration with many routes and identities: a few hundred
// distinct entries, fifty role sets, some owners.
func parsed(t testing.TB, routes, identities int) *declaration.Document {
	t.Helper()
	var b strings.Builder
	b.WriteString("millgate: 1\nroles:\n")
	for i := range 50 {
		fmt.Fprintf(&b, "  r%d:\n", i)
		if i > 0 && i%5 != 0 {
			fmt.Fprintf(&b, "    includes: r%d\n", i-1)
		}
	}
	b.WriteString("schemes:\n  k: { kind: api-key, in: header, name: X-Key }\nidentities:\n")
	for i := range identities {
		fmt.Fprintf(&b, "  i%d: { roles: [r%d, r%d], scopes: [s%d], attributes: { team: t%d }, credentials: { k: { "+
			"key: env:K } } }\n", i, i%50, (i*7)%50, i%4, i%6)
	}
	b.WriteString("routes:\n")
	for i := range routes {
		fmt.Fprintf(&b, "  - GET /v1/g%d/x%d/{id}\n", i%100, i)
	}
	b.WriteString("records:\n  x: { fills: id, owned_by: { i0: [a], i1: [b] } }\naccess:\n")
	for i := range routes {
		who := fmt.Sprintf("r%d", i%50)
		switch i % 7 {
		case 1:
			who = fmt.Sprintf("[owner, r%d]", i%50)
		case 2:
			who = "signed-in"
		case 3:
			who = fmt.Sprintf("r%d, scope: s%d", i%50, i%4)
		case 4:
			who = fmt.Sprintf("r%d, given: { team: t%d }", i%50, i%6)
		}
		fmt.Fprintf(&b, "  - { at: \"GET /v1/g%d/x%d/{id}\", who: %s }\n", i%100, i, who)
	}
	d, msgs := declaration.Parse("x", []byte(b.String()), nil)
	require.Empty(t, msgs)
	return d
}

// A million crossings, each with an entry of its own.
func BenchmarkBoard5000By200(b *testing.B) {
	d := parsed(b, 5000, 200)
	b.ReportAllocs()
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var board *Board
	for b.Loop() {
		board = NewBoard(d)
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	b.ReportMetric(float64(len(d.Routes)*board.Columns), "crossings")
	b.ReportMetric(float64(after.HeapAlloc)/(1<<20), "MB-held")
}
