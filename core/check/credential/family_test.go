package credential

import (
	"cmp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/token"
	"millgate/testkit/play"
)

const text = `
millgate: 1
targets:
  all: { base: "http://h", unsafe: allowed }
routes:
  - GET /v2/things
  - { at: POST /v2/things, send: { json: { name: x } } }
  - GET /v2/things/{id}
  - DELETE /v2/things/{id}
  - GET /v3/keyed
  - GET /desk/board
  - { at: POST /desk/notes, send: { json: { n: 1 } } }
  - { at: "GET /files/{id}" }
  - { at: POST /hook, send: { json: { n: 1 } } }
roles: { r: , boss: { includes: r } }
schemes:
  s: { kind: bearer, token: jwt, claims: { roles: /roles }, login: { send: POST /in, json: { p: "{p}" }, take: { access: /t } } }
  k: { kind: api-key, in: header, name: X-K }
  page: { kind: cookie, name: sid, login: { send: POST /page, json: { p: "{p}" } } }
  link: { kind: link, signature: sig, expires: end, issue: { send: "POST /v2/things/{id}/link", take: { link: /u } } }
  hook: { kind: signature, algorithm: hmac-sha256, header: X-Sig, covers: "{timestamp}.{body}", timestamp: X-At, tolerance: 5m }
identities:
  ann: { roles: r, credentials: { s: { p: env:A }, page: { p: env:A }, link: {} } }
  boss: { roles: boss, credentials: { s: { p: env:B }, k: { key: env:K2 } } }
  zoe: { roles: boss, credentials: { s: { p: env:Z }, k: { key: env:K3 } } }
  kim: { credentials: { k: { key: env:K } } }
  bot: { credentials: { hook: { secret: env:H } } }
records:
  thing: { fills: id, owned_by: { ann: [t-1, t-2] } }
access:
  - { at: "/v2/**", who: r, by: s }
  - { at: GET /v3/keyed, who: signed-in, by: k }
  - { at: "/desk/**", who: signed-in, by: page }
  - { at: "GET /files/{id}", who: signed-in, by: link }
  - { at: POST /hook, who: signed-in, by: hook }
`

// params are those of a control.
type params map[string]string

func (p params) Parameters() map[string]string { return p }

// crossings have a control at each route: who the route is for.
type crossings struct {
	play.Crossings
	d *declaration.Document
}

func (x crossings) ControlAt(i int) (*check.Probe, string) {
	rt := x.d.Routes[i]
	who := check.Caller{Identity: "ann", Scheme: "s", State: access.Sound}
	switch path := rt.Path(); {
	case strings.HasPrefix(path, "/v3"):
		who.Identity, who.Scheme = "kim", "k"
	case strings.HasPrefix(path, "/desk"):
		who.Scheme = "page"
	case strings.HasPrefix(path, "/files"):
		who.Scheme = "link"
	case path == "/hook":
		who.Identity, who.Scheme = "bot", "hook"
	}
	p := &check.Probe{ID: check.ID{Family: "crossing", Route: rt.Key(), Caller: who}, Phase: check.SafeFirst,
		Detail: params{}}
	if p.Unsafe = rt.Unsafe(); p.Unsafe {
		p.Phase = check.ThenAdmitted
	}
	if rt.Effect == declaration.Delete {
		p.Phase = check.ThenDeleting
	}
	if len(rt.Parameters()) > 0 {
		p.Record = check.Record{Name: "thing", Param: "id", Owner: "ann", Value: "t-1"}
	}
	return p, who.Identity
}

func (x crossings) Classes() []access.Class { return access.Classes(x.d) }

func (crossings) At(int) []*check.Probe {
	return []*check.Probe{{ID: check.ID{Family: "alone", Caller: check.Caller{Identity: "ann", Scheme: "page"}}}}
}

func planned(t *testing.T) (*check.Context, *check.Planning) {
	t.Helper()
	return plannedOf(t, text)
}

func plannedOf(t *testing.T, text string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed("all")}, check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

// ways are those that are tried at a route.
func ways(p *check.Planning, route string) (out []string) {
	for _, x := range p.Probes {
		if x.Route == route {
			out = append(out, Of(x).Way)
		}
	}
	return out
}

func TestWhatIsTried(t *testing.T) {
	c, p := planned(t)
	at := ways(p, "GET /v2/things")
	assert.Subset(t, at, []string{"unsigned", "foreign key", check.NoToken, check.Empty, check.OtherScheme,
		check.InQuery, check.SchemeCase, check.BesideOther, check.OtherBroken})
	assert.NotContains(t, at, check.Expired, "there is no key to sign one with")
	assert.NotContains(t, at, check.OtherKind, "the login gives no refresh token")
	assert.NotContains(t, at, check.BesideFirst, "everybody with a token may enter")
	assert.Empty(t, ways(p, "GET /v2/things/{id}"), "one route stands for its guard")
	assert.ElementsMatch(t, []string{check.Empty, check.KeyCase, check.KeyPlace, check.OtherOwn, check.OtherOwn,
		check.OtherOwn}, ways(p, "GET /v3/keyed"), "a token, a cookie and a signature")
	for _, x := range p.Probes {
		if x.Route == "GET /v3/keyed" && Of(x).Way == check.OtherOwn && Of(x).Other == "s" {
			assert.Equal(t, "boss", Of(x).Donor, "the first who would be admitted with the right one")
		}
	}
	assert.Contains(t, ways(p, "POST /desk/notes"), check.CrossSite, "a page of another site must not write")
	assert.NotContains(t, ways(p, "GET /desk/board"), check.CrossSite, "reading is the browser's to refuse")
	assert.ElementsMatch(t, []string{check.NoToken, string(token.SignatureRemoved), check.ChangedEnd,
		check.OtherRecord, check.OtherOwn, check.OtherOwn, check.OtherOwn, check.OtherOwn}, ways(p, "GET /files/{id}"))
	assert.Contains(t, ways(p, "POST /hook"), check.Repeated)
	assert.Equal(t, 3*len(check.Ways(c.Doc.SchemeNamed("s"))), p.Spared)
	var left []string
	for _, o := range p.Left {
		left = append(left, o.Route+", "+o.What+": "+o.Why)
	}
	assert.Contains(t, left, "every route behind s, a credential: expired: such a token has to be signed; give the "+
		"scheme a signing_key where the target is a test environment")
	assert.Contains(t, left, "every route behind link, a credential: expired: no expired link is at hand; paste one "+
		"that was given out before as the scheme's expired_link")
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(left))), len(left), "each is told once")
}

// What only tests may issue is signed with a key of its own, or else with the scheme's.
func TestWhatOnlyTestsMayIssueIsTriedWithAKey(t *testing.T) {
	for _, c := range []struct{ only, scheme, left string }{
		{"issuer: dev", "", "there is no key to sign such a token with; give tests_only a signing_key"},
		{"issuer: dev, signing_key: env:DEV", "", ""},
		{"issuer: dev", "signing_key: env:KEY, ", ""},
	} {
		_, p := plannedOf(t, strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "unsafe: allowed }",
			"unsafe: allowed, refuses: tests }", "s: { kind: bearer, token: jwt, ", "s: { kind: bearer, token: jwt, "+
				c.scheme+"tests_only: { "+c.only+" }, ").Replace(text))
		var left []string
		for _, o := range p.Left {
			if strings.Contains(o.What, "credential: "+check.TestsOnly) {
				left = append(left, o.Why)
			}
		}
		assert.Equal(t, c.left != "", len(left) > 0, "%v %v", c, left)
		for _, why := range left {
			assert.Equal(t, c.left, why)
		}
		assert.Equal(t, c.left == "", slices.Contains(ways(p, "GET /v2/things"), check.TestsOnly), c.only)
	}
}

func probeOf(t *testing.T, p *check.Planning, route, way string) *check.Probe {
	t.Helper()
	for _, x := range p.Probes {
		if x.Route == route && Of(x).Way == way {
			return x
		}
	}
	require.Fail(t, "no probe "+route+" "+way)
	return nil
}

// The request is the control's to the byte; what is presented is broken.
func TestCalls(t *testing.T) {
	c, p := planned(t)
	call := func(route, way string) check.Call {
		_, calls := play.Run(Family{}.Script(c, probeOf(t, p, route, way)), -1,
			func(check.Call, time.Duration) check.Report { return check.Report{Fate: check.Answered} })
		require.NotEmpty(t, calls)
		return calls[0]
	}
	x := call("GET /v2/things", string(token.Raised))
	assert.Equal(t, []check.Present{{Caller: check.Caller{Identity: "ann", Scheme: "s", State: access.Broken},
		Way: string(token.Raised), Role: "boss"}}, x.As)
	assert.Equal(t, check.Safe, x.Effect)
	assert.False(t, x.Must)
	assert.True(t, call("GET /v2/things", check.SchemeCase).Must, "nothing is wrong in it")
	beside := call("GET /v2/things", check.BesideOther).As[0]
	assert.Equal(t, check.Caller{Identity: "ann", Scheme: "page", State: access.Sound}, beside.Beside)
	assert.NotEmpty(t, call("GET /v2/things", check.OtherBroken).As[0].Other)
	assert.Equal(t, "ann", call("POST /hook", check.OtherScheme).As[0].Identity, "of another scheme than the one")
	write := call("POST /desk/notes", check.CrossSite)
	assert.Equal(t, check.Unsafe, write.Effect)
	assert.NotNil(t, write.Makes)
	assert.JSONEq(t, `{"n":1}`, string(write.Request.Body))
	link := call("GET /files/{id}", check.OtherRecord).Request
	assert.Equal(t, "/files/t-1", link.Path)
	assert.Equal(t, map[string]string{"id": "t-2"}, link.Params, "the link is for another record")
	assert.Equal(t, map[string]string{"id": "t-1"}, call("GET /files/{id}", check.ChangedEnd).Request.Params)
	for way, n := range map[string]int{check.Repeated: 2, check.OldTime: 1} {
		assert.Equal(t, n, Family{}.Cost(c, probeOf(t, p, "POST /hook", way)).Requests)
	}
	assert.Equal(t, "credential|GET /v2/things|nobody|s|broken||unsigned|ann",
		probeOf(t, p, "GET /v2/things", "unsigned").Key(), "it stands in databases")
	cell, says := Family{}.Cell(probeOf(t, p, "GET /v2/things", "unsigned"))
	assert.Equal(t, check.Cell{Route: "GET /v2/things", Lens: check.Access}, cell)
	assert.Equal(t, "credential unsigned", says)
	cell, _ = Family{}.Cell(&check.Probe{Detail: Detail{Way: check.Ended}})
	assert.Equal(t, check.Tokens, cell.Lens)
}

// A way that got in is tried on the other routes of its guard, but for those that delete.
func TestMore(t *testing.T) {
	c, p := planned(t)
	first := probeOf(t, p, "GET /v2/things", "unsigned")
	more := check.NewPlanning(crossings{d: c.Doc})
	Family{}.More(c, first, nil, more)
	var routes []string
	for _, x := range more.Probes {
		routes = append(routes, x.Route)
		assert.Equal(t, "unsigned", Of(x).Way)
		assert.NotEmpty(t, x.Control)
		assert.Equal(t, x.Route == "POST /v2/things", x.Phase == check.ThenTurnedAway)
	}
	assert.Equal(t, []string{"POST /v2/things", "GET /v2/things/{id}"}, routes)
	sound := check.NewPlanning(crossings{d: c.Doc})
	Family{}.More(c, probeOf(t, p, "GET /v2/things", check.SchemeCase), nil, sound)
	assert.Equal(t, check.ThenAdmitted, sound.Probes[0].Phase, "where it must be admitted it is sent as the control is")
}

func TestJudge(t *testing.T) {
	c, p := planned(t)
	const things = "GET /v2/things"
	ok := 200
	zero := 0
	hidden := 404
	for name, x := range map[string]struct {
		route, way string
		status     int
		control    *int // its status
		alone      int  // of the caller beside it
		sameSite   string
		want       finding.Kind
		sure       finding.Confidence
		cause      string
	}{
		"unsigned gets in": {things, "unsigned", 200, &ok, 0, "", finding.Unprotected, finding.Proven,
			"token unsigned"},
		"the signature removed": {things, "signature removed", 200, &ok, 0, "", finding.Unprotected,
			finding.Proven, "token unsigned"},
		"an ended one": {things, check.Ended, 200, &ok, 0, "", finding.Lifetime, finding.Proven,
			"afterlife"},
		"refused":                {things, "unsigned", 401, &ok, 0, "", finding.Agrees, finding.Proven, ""},
		"refused in another way": {things, "unsigned", 400, &ok, 0, "", finding.Agrees, finding.Proven, ""},
		"without a control":      {things, "unsigned", 401, nil, 0, "", finding.Unproven, finding.NotSure, ""},
		"the control fails":      {things, "unsigned", 401, &hidden, 0, "", finding.Unproven, finding.NotSure, ""},
		"a failure":              {things, "unsigned", 500, &ok, 0, "", finding.Unproven, finding.NotSure, ""},
		"throttled":              {things, "unsigned", 429, &ok, 0, "", finding.Unproven, finding.NotSure, ""},
		"no answer":              {things, "unsigned", 0, &ok, 0, "", finding.Unproven, finding.NotSure, ""},
		"other letters":          {things, check.SchemeCase, 200, &ok, 0, "", finding.Agrees, finding.Proven, ""},
		"other letters refused": {things, check.SchemeCase, 401, &ok, 0, "", finding.OverRestrictive,
			finding.Proven, "scheme letters"},
		"other letters fail":      {things, check.SchemeCase, 500, &ok, 0, "", finding.Unproven, finding.NotSure, ""},
		"letters without control": {things, check.SchemeCase, 401, nil, 0, "", finding.Unproven, finding.NotSure, ""},
		"a stale cookie beside":   {things, check.OtherBroken, 200, &ok, 0, "", finding.Agrees, finding.Proven, ""},
		"a stale one turns away": {things, check.OtherBroken, 403, &ok, 0, "", finding.OverRestrictive,
			finding.Proven, "stale beside"},
		"neither would do": {things, check.BesideOther, 200, &ok, 403, "", finding.Unprotected,
			finding.Proven, "token two schemes"},
		"neither does":       {things, check.BesideOther, 403, &ok, 403, "", finding.Agrees, finding.Proven, ""},
		"the sound one does": {things, check.BesideOther, 200, &ok, 200, "", finding.Agrees, finding.Likely, ""},
		"another scheme's own opens it": {things, check.OtherOwn, 200, &ok, 0, "", finding.OverPermissive,
			finding.Proven,
			"token another scheme's own"},
		"another scheme's own is refused": {things, check.OtherOwn, 401, &ok, 0, "", finding.Agrees,
			finding.Proven, ""},
		"another site writes": {"POST /desk/notes", check.CrossSite, 201, &ok, 0, "", finding.Unprotected,
			finding.Proven, "token cross-site"},
		"no browser sends it": {"POST /desk/notes", check.CrossSite, 201, &ok, 0, "lax", finding.Agrees,
			finding.Likely, ""},
		"SameSite none is none": {"POST /desk/notes", check.CrossSite, 201, &ok, 0, "none",
			finding.Unprotected, finding.Proven, "token cross-site"},
		"another site is refused": {"POST /desk/notes", check.CrossSite, 403, &ok, 0, "", finding.Agrees,
			finding.Proven, ""},
		"repeated": {"POST /hook", check.Repeated, 202, &ok, 0, "", finding.Unprotected,
			finding.Proven, "token repeated"},
		"the pair is throttled": {"POST /hook", check.Repeated, 429, &ok, 0, "", finding.Unproven,
			finding.NotSure, ""},
		"another record": {"GET /files/{id}", check.OtherRecord, 200, &ok, 0, "", finding.Unprotected,
			finding.Proven, "token another record"},
		"after the control": {"POST /hook", check.OldTime, 409, &ok, 0, "", finding.Unproven,
			finding.NotSure, ""},
		"no control was answered": {things, "unsigned", 401, &zero, 0, "", finding.Unproven, finding.NotSure, ""},
	} {
		probe := &check.Probe{}
		if x.way == check.Ended {
			*probe = *probeOf(t, p, x.route, "unsigned")
			d := Of(probe)
			d.Way = check.Ended
			probe.Detail = d
		} else {
			probe = probeOf(t, p, x.route, x.way)
		}
		at := time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)
		fact := func(status int, after time.Duration) *check.Fact {
			return &check.Fact{Reports: []check.Report{{Name: check.TheRequest, Fate: check.Answered,
				SameSite: x.sameSite,
				Repeats:  2, Exchange: check.Exchange{Status: status, At: at.Add(after)}}}}
		}
		v := Family{}.Judge(c, probe, fact(x.status, time.Second), check.NewEvidence(func(key string) *check.Fact {
			switch {
			case strings.HasPrefix(key, "alone"):
				return fact(x.alone, 0)
			case x.control == nil:
				return nil
			}
			return fact(*x.control, 0)
		}))
		kind, sure, cause := play.Said(v)
		if len(v.Gaps) > 0 {
			assert.NotEmpty(t, v.Gaps[0].Says)
		} else {
			assert.NotEmpty(t, v.Says)
		}
		assert.Equal(t, []any{x.want, x.sure, x.cause}, []any{kind, sure, cause}, name)
		if name == "the pair is throttled" {
			assert.Contains(t, v.Says, "each of 3 times")
			assert.Empty(t, v.Answers, "it is lost")
		}
	}
	assert.Equal(t, finding.NotSure, Family{}.Judge(c, p.Probes[0], &check.Fact{}, nil).Proof.Confidence())
}

// Whatever way can be tried has a cause.
func TestCauses(t *testing.T) {
	for _, kind := range []declaration.Kind{declaration.Bearer, declaration.APIKey, declaration.Cookie,
		declaration.Basic, declaration.Signature, declaration.Link} {
		s := &declaration.Scheme{Kind: kind, Token: "jwt"}
		s.Signing.Timestamp = "T"
		for _, w := range check.Ways(s) {
			if !check.MustEnter(w) && w != check.Ended {
				assert.NotNil(t, rowOf(s, w), w)
			}
		}
	}
	removed := string(token.SignatureRemoved)
	for kind, title := range map[declaration.Kind]string{declaration.Bearer: "An unsigned token is accepted",
		declaration.Signature: "An unsigned event is accepted",
		declaration.Link:      "A link without its signature is accepted"} {
		row := rowOf(&declaration.Scheme{Kind: kind}, removed)
		assert.Equal(t, title, row.Title)
		assert.Equal(t, "token unsigned", cmp.Or(row.Same, row.Cause), "findings keep their id")
	}
}
