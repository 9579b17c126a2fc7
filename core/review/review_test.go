package review

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/finding"
	"millgate/testkit/written"
)

// sound gives no message.
const sound = `millgate: 1
title: Things
targets:
  local: { base: "http://127.0.0.1:1", hosts: { id: "http://127.0.0.1:2" } }
routes:
  - { at: GET /v1/things, summary: All things }
  - { at: POST /v1/things, summary: A new thing }
  - { at: "GET /v1/things/{id}", summary: One thing }
  - { at: "PATCH /v1/things/{id}", summary: Another thing }
  - { at: GET /v1/sky, summary: The sky }
  - { at: POST /v1/park, effect: command, summary: Park it }
  - { at: GET /v1/log, sensitivity: high, summary: What happened }
  - { at: POST id:/session, effect: command, summary: Log in }
  - { at: POST id:/session/refresh, effect: command, summary: Renew }
  - { at: POST id:/session/end, effect: command, summary: Log out }
roles:
  reader:
  writer: { includes: reader }
  keeper:
schemes:
  access:
    kind: bearer
    token: jwt
    lifetime: { access: short, refresh: long }
    login: { send: POST id:/session, json: { user: "{user}", password: "{password}" }, take: { access: /token, refresh: /refresh } }
    refresh: { send: POST id:/session/refresh, json: { r: "{refresh}" }, take: { access: /token } }
    logout: { send: POST id:/session/end, json: { r: "{refresh}" } }
  key: { kind: api-key, in: header, name: X-Key }
lifetimes:
  short: { max: 15m, ended_within: 0s }
  long: { max: 30d, idle: 12h, rotates: true }
identities:
  ann: { roles: reader, credentials: { access: { user: ann, password: env:ANN } } }
  bob: { roles: writer, credentials: { access: { user: bob, password: env:BOB } } }
  cat: { roles: keeper, credentials: { access: { user: cat, password: env:CAT } } }
  bot: { scopes: [feed], credentials: { key: { key: env:BOT } } }
records:
  thing: { fills: id, owned_by: { ann: [t-1], bob: [t-2] } }
access:
  - { at: GET /v1/things, who: [reader, keeper] }
  - { at: POST /v1/things, who: signed-in, by: key }
  - { at: "GET /v1/things/{id}", who: [owner, keeper] }
  - { at: "PATCH /v1/things/{id}", who: owner }
  - { at: GET /v1/sky, who: anyone }
  - { at: POST /v1/park, who: writer }
  - { at: GET /v1/log, who: keeper }
  - { at: POST id:/session, who: anyone }
  - { at: POST id:/session/refresh, who: anyone }
  - { at: POST id:/session/end, who: anyone }
origins:
  - at: GET /v1/**
    allow:
      https://app.example: { methods: [GET], credentials: true }
quotas:
  login: { at: "POST id:/session", allow: [8 per 5m, 100 per 1d], counted_by: address }
  rest: { at: "POST id:/session/*", allow: 20 per 1m, counted_by: address }
  general: { at: /v1/**, allow: [60 per 1m, 2000 per 1h], counted_by: identity or address }
`

var today = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func reviewed(t testing.TB, text string) []Message {
	t.Helper()
	d, msgs := declaration.Parse("x.gate.yaml", []byte(text), nil)
	return Review(d, msgs, today)
}

// change replaces each odd text by the one behind it; "" + text appends.
func change(t testing.TB, text string, pairs ...string) string {
	t.Helper()
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i] == "" {
			text += pairs[i+1]
			continue
		}
		require.Contains(t, text, pairs[i])
		text = strings.Replace(text, pairs[i], pairs[i+1], 1)
	}
	return text
}

// cases: for each check a declaration that must trigger it, and a near miss
// that must not.
var cases = []struct {
	check, says     string
	triggers, nears []string
}{
	{"no-entry", "GET /v1/log has no access entry", []string{"  - { at: GET /v1/log, who: keeper }\n", ""},
		[]string{"at: GET /v1/log, who: keeper", "at: GET /v1/log, who: nobody", "keeper:\n", "keeper:\n",
			`who: [owner, keeper]`, `who: [owner, keeper]`}},
	{"nobody-decided", "of 1 of 10 routes nobody has decided", []string{"millgate: 1\n", "millgate: 1.1\n",
		"at: GET /v1/log, who: keeper", "at: GET /v1/log, who: undecided"},
		[]string{"at: GET /v1/log, who: keeper", "at: GET /v1/log, who: nobody"}},
	{"entry-idle", "/v1/sky/** never decides", []string{"  - { at: GET /v1/sky, who: anyone }\n",
		"  - { at: GET /v1/sky, who: anyone }\n  - { at: /v1/sky/**, who: writer }\n"},
		[]string{"  - { at: GET /v1/log, who: keeper }\n", "  - { at: /v1/lo*/**, who: keeper }\n", "/v1/lo*/**",
			"/v1/log/**"}},
	{"entry-needless", "the entry at GET /v1/log says what GET /v1/*",
		[]string{"  - { at: GET /v1/log, who: keeper }\n", "  - { at: GET /v1/log, who: keeper }\n  - { at: GET " +
			"/v1/*, who: keeper }\n", "  - { at: GET /v1/sky, who: anyone }\n", ""},
		[]string{"  - { at: GET /v1/log, who: keeper }\n", "  - { at: GET /v1/log, who: writer }\n  - { at: GET " +
			"/v1/*, who: keeper }\n", "  - { at: GET /v1/sky, who: anyone }\n", ""}},
	{"open-write", "POST /v1/park, which is a command, is open to anyone",
		[]string{"at: POST /v1/park, who: writer", "at: POST /v1/park, who: anyone"},
		[]string{"at: GET /v1/log, who: keeper", "at: GET /v1/log, who: anyone", "  general:", "  general:"}},
	{"signed-in-write", "POST /v1/park, which is a command, is open to every caller who is signed in",
		[]string{"at: POST /v1/park, who: writer", "at: POST /v1/park, who: signed-in, by: [access, key]"},
		[]string{"at: POST /v1/park, who: writer",
			"at: POST /v1/park, who: signed-in, scope: feed, by: [access, key]"}},
	{"read-by-id", "GET /v1/things/{id} shows every thing to every caller who owns one (ann, bob)",
		[]string{"who: [owner, keeper]", "who: [reader, keeper]"}, []string{"who: [owner, keeper]", "who: keeper",
			"who: owner }", "who: keeper }"}},
	{"role-idle", `the role "guest" opens no route`, []string{"  keeper:\n", "  keeper:\n  guest:\n"},
		[]string{"  keeper:\n", "  keeper:\n  guest:\n", "who: [reader, keeper]", "who: [reader, keeper, guest]"}},
	{"role-all", `the role "keeper" opens every guarded route`, []string{"who: signed-in, by: key",
		"who: [keeper, writer]", "who: owner }", "who: keeper }", "POST /v1/park, who: writer",
		"POST /v1/park, who: [writer, keeper]"}, []string{"who: owner }", "who: keeper }"}},
	{"role-twins", `"keeper" and "guard" open the same routes`, []string{"  keeper:\n",
		"  keeper:\n  guard: { includes: keeper }\n"}, []string{"  keeper:\n",
		"  keeper:\n  guard: { includes: keeper }\n", "POST /v1/park, who: writer",
		"POST /v1/park, who: [writer, guard]"}},
	{"identity-twins", "2 identities cannot be told apart: cat, dan", []string{"  bot: {",
		"  dan: { roles: keeper, credentials: { access: { user: dan, password: env:DAN } } }\n  bot: {"},
		[]string{"  bot: {", "  dan: { roles: keeper, attributes: { team: a }, credentials: { access: { user: dan, " +
			"password: env:DAN } } }\n  bot: {"}},
	{"identity-nowhere", "no route admits dan", []string{"  bot: {", "  dan: { credentials: { access: { user: dan, " +
		"password: env:DAN } } }\n  bot: {"}, []string{"  bot: {", "  dan: { roles: reader, credentials: { access: { " +
		"user: dan, password: env:DAN } } }\n  bot: {"}},
	{"neighbour-open", "GET /v1/things is open to anyone while POST /v1/things is guarded",
		[]string{"at: GET /v1/things, who: [reader, keeper]", "at: GET /v1/things, who: anyone",
			"POST /v1/park, who: writer", "POST /v1/park, who: [reader]"},
		[]string{"at: GET /v1/things, who: [reader, keeper]", "at: GET /v1/things, who: signed-in, by: [access, key]"}},
	{"method-uneven", "PATCH /v1/things/{id} admits cat, whom GET /v1/things/{id} turns away",
		[]string{"who: [owner, keeper]", "who: owner", "who: owner }\n  - { at: GET /v1/sky",
			"who: keeper }\n  - { at: GET /v1/sky"}, []string{"who: owner }\n  - { at: GET /v1/sky",
			"who: [owner, keeper] }\n  - { at: GET /v1/sky"}},
	{"route-duplicate", "POST /v1/park/ differs from POST /v1/park", []string{"  - { at: GET /v1/log,",
		"  - { at: POST /v1/park/, effect: command, summary: Again }\n  - { at: GET /v1/log,", "at: POST /v1/park, who",
		"at: [POST /v1/park, POST /v1/park/], who"}, []string{"  - { at: GET /v1/log,",
		"  - { at: POST /v1/parks, effect: command, summary: Again }\n  - { at: GET /v1/log,", "at: POST /v1/park, who",
		"at: [POST /v1/park, POST /v1/parks], who"}},
	{"route-overlap", "GET /v1/things/mine and GET /v1/things/{id} overlap",
		[]string{"  - { at: GET /v1/log,", "  - { at: GET /v1/things/mine, summary: Mine }\n  - { at: GET /v1/log,",
			"at: GET /v1/things, who", "at: [GET /v1/things, GET /v1/things/mine], who"},
		[]string{"  - { at: GET /v1/log,", "  - { at: GET /v1/things/mine/all, summary: Mine }\n  - { at: GET /v1/log,",
			"at: GET /v1/things, who", "at: [GET /v1/things, GET /v1/things/mine/all], who"}},
	{"route-versions", "GET /v1/log is declared as v2 too", []string{"  - { at: POST id:/session, eff",
		"  - { at: GET /v2/log, summary: What happened }\n  - { at: POST id:/session, eff", "at: GET /v1/log, who",
		"at: [GET /v1/log, GET /v2/log], who"}, []string{"  - { at: POST id:/session, eff",
		"  - { at: GET /v2/logs, summary: What happened }\n  - { at: POST id:/session, eff", "at: GET /v1/log, who",
		"at: [GET /v1/log, GET /v2/logs], who"}},
	{"route-undescribed", "nobody has described GET /v1/sky", []string{", summary: The sky", ""},
		[]string{"summary: The sky", "summary: Sky"}},
	{"origin-any-credentials", "pages of any origin may call with credentials",
		[]string{"https://app.example: { methods", "any: { methods"}, []string{"https://app.example: { methods: " +
			"[GET], credentials: true }", "any: { methods: [GET] }"}},
	{"origin-null", "the origin null is permitted", []string{"https://app.example:", `"null":`},
		[]string{"https://app.example:", "https://null.example:"}},
	{"origin-plain-http", "http://app.example is permitted over plain http",
		[]string{"https://app.example", "http://app.example"}, []string{"https://app.example",
			"http://localhost:3000"}},
	{"origin-wide", "https://app.example may use POST", []string{"methods: [GET]", "methods: [GET, POST]"},
		[]string{"at: GET /v1/**", "at: /v1/**", "methods: [GET]", "methods: [GET, POST]"}},
	{"origin-wide", "with credentials, and every route here is open", []string{"at: GET /v1/**", "at: GET /v1/sky"},
		[]string{"at: GET /v1/**", "at: GET /v1/log"}},
	{"token-too-long", "credentials of access live 60 min, longer than GET /v1/log bears (high sensitivity: 15 min)",
		[]string{"max: 15m", "max: 60m"}, []string{"max: 15m", "max: 60m", "sensitivity: high, ", ""}},
	{"lifetime-missing", "nothing says how long credentials of access may live", []string{"access: short, ", ""},
		[]string{"max: 15m", "max: 14m"}},
	{"refresh-loose", "refresh tokens of access do not rotate and have no idle limit",
		[]string{", idle: 12h, rotates: true", ""}, []string{"idle: 12h", "idle: 30d"}},
	{"refresh-loose", "have no declared lifetime, rotation or idle limit", []string{", refresh: long", ""},
		[]string{"max: 30d", "max: 60d"}},
	{"ended-outlives", "nothing ends them", []string{"    logout: { send: POST id:/session/end, json: { r: " +
		"\"{refresh}\" } }\n", "", "  - { at: POST id:/session/end, who: anyone }\n",
		"  - { at: POST id:/session/end, who: signed-in, by: access, scope: feed }\n"},
		[]string{", ended_within: 0s", ""}},
	{"login-no-quota", "POST id:/session tries credentials, and has no quota",
		[]string{"  login: { at: \"POST id:/session\"", "  login: { at: \"POST id:/session/end\""},
		[]string{"  login: { at: \"POST id:/session\", allow: [8 per 5m, 100 per 1d]",
			"  login: { at: \"POST id:/session\", allow: 100 per 1d"}},
	{"login-no-quota", "POST id:/password/reset sends something", []string{"roles:\n  reader:",
		"  - { at: POST id:/password/reset, summary: Forgotten }\nroles:\n  reader:",
		"at: POST id:/session/end, who: anyone", "at: POST id:/session/end, who: anyone }\n  - { at: POST " +
			"id:/password/reset, who: signed-in, by: key"}, []string{"roles:\n  reader:",
		"  - { at: GET id:/password/rules, summary: Rules }\nroles:\n  reader:",
		"at: POST id:/session/end, who: anyone", "at: POST id:/session/end, who: anyone }\n  - { at: GET " +
			"id:/password/rules, who: signed-in, by: key"}},
	{"password-guessable", "at 8 per 5m, a password among 100000 is guessed in 43 days",
		[]string{"[8 per 5m, 100 per 1d]", "8 per 5m", "", "review: { guessed_in: 60d }\n"},
		[]string{"[8 per 5m, 100 per 1d]", "8 per 5m"}},
	{"no-quota", "POST /v1/park is a command, and has no quota", []string{"general: { at: /v1/**",
		"general: { at: GET /v1/**"}, []string{"general: { at: /v1/**", "general: { at: [GET /v1/**, POST /v1/park]"}},
	{"quota-never-binds", "2000 per 1h can never bind", []string{"60 per 1m, 2000", "30 per 1m, 2000"},
		[]string{"60 per 1m, 2000", "34 per 1m, 2000"}},
	{"quota-never-binds", `the quota "late" can never bind`, []string{"  general:",
		"  late: { at: POST /v1/park, allow: 120 per 1m, counted_by: identity or address }\n  general:"},
		[]string{"  general:", "  late: { at: POST /v1/park, allow: 100 per 1m, counted_by: everyone }\n  general:"}},
	{"quota-by-header", "counts by the header X-Client, which the caller writes",
		[]string{"counted_by: identity or address", "counted_by: header:X-Client"},
		[]string{"counted_by: identity or address", "counted_by: key or address"}},
	{"scheme-unused", `nobody uses the scheme "door"`, []string{"lifetimes:\n",
		"  door: { kind: basic }\nlifetimes:\n"}, []string{"lifetimes:\n",
		"  door: { kind: api-key, in: query, name: k }\nlifetimes:\n", "by: key }", "by: [key, door] }"}},
	{"secret-in-clear", "password stands here in clear", []string{"password: env:ANN", "password: hunter22"},
		[]string{"password: env:ANN", "password: kept:ANN"}},
	{"selects-nothing", "GET /v1/lag selects no route", []string{"at: GET /v1/log, who", "at: GET /v1/lag, who"},
		[]string{"GET /v1/sky, who", "/v1/sky, who"}},
	{"waiver-expired", "the waiver of open-write ended on 2026-11-24",
		[]string{"at: POST /v1/park, who: writer", "at: POST /v1/park, who: anyone", "",
			"waivers:\n  - { check: open-write, at: POST /v1/park, reason: so, until: 2026-11-24 }\n"},
		[]string{"at: POST /v1/park, who: writer", "at: POST /v1/park, who: anyone", "",
			"waivers:\n  - { check: open-write, at: POST /v1/park, reason: so, until: 2026-11-25 }\n"}},
	{"waiver-idle", "the waiver of open-write has nothing to accept", []string{"",
		"waivers:\n  - { check: open-write, at: POST /v1/park, reason: so, until: 2027-01-01 }\n"},
		[]string{"at: POST /v1/park, who: writer", "at: POST /v1/park, who: anyone", "",
			"waivers:\n  - { check: open-write, at: /v1/**, reason: so, until: 2027-01-01 }\n"}},
	{"waiver-unknown", `there is no check "open-wright"`, []string{"",
		"waivers:\n  - { check: open-wright, at: POST /v1/park, reason: so, until: 2027-01-01 }\n"},
		[]string{"at: POST /v1/park, who: writer", "at: POST /v1/park, who: anyone", "",
			"waivers:\n  - { check: open-write, of: POST /v1/park, reason: so, until: 2027-01-01 }\n"}},
}

func TestSoundGivesNoMessage(t *testing.T) {
	for _, m := range reviewed(t, sound) {
		t.Error(m)
	}
}

func TestEachCheckTriggersAndNearMissesDoNot(t *testing.T) {
	covered := map[string]bool{}
	for _, c := range cases {
		t.Run(c.check+" "+c.says, func(t *testing.T) {
			covered[c.check] = true
			var hits []Message
			text := change(t, sound, c.triggers...)
			for _, m := range reviewed(t, text) {
				require.NotEqual(t, declaration.Error, m.Level, m)
				if m.Code == c.check && m.Waived == nil {
					hits = append(hits, m)
				}
			}
			require.NotEmpty(t, hits, "%v", reviewed(t, text))
			at := slices.IndexFunc(hits, func(m Message) bool { return strings.Contains(m.Text, c.says) })
			require.GreaterOrEqual(t, at, 0, "%v", hits)
			m := hits[at]
			assert.Positive(t, m.Line)
			assert.NotEmpty(t, m.Hint)
			assert.NotEmpty(t, m.OWASP)
			assert.NotZero(t, m.CWE)
			for _, m := range reviewed(t, change(t, sound, c.nears...)) {
				require.NotEqual(t, declaration.Error, m.Level, "the near miss: %s", m)
				if m.Code == c.check && m.Waived == nil && (c.says == "" || strings.HasPrefix(m.Text, c.says[:4])) {
					t.Errorf("the near miss: %s", m)
				}
			}
		})
	}
	for _, c := range Checks {
		assert.True(t, covered[c.ID], "the check %s has no case", c.ID)
	}
}

// A fix mends its message and brings no error.
func TestFixesMend(t *testing.T) {
	tried := 0
	for _, c := range cases {
		text := change(t, sound, c.triggers...)
		for _, m := range reviewed(t, text) {
			if m.Code != c.check || m.Fix == nil {
				continue
			}
			tried++
			out, err := m.Fix.Apply(text)
			require.NoError(t, err, m)
			for _, after := range reviewed(t, out) {
				assert.NotEqual(t, declaration.Error, after.Level, "%s: %s", m.Fix.Title, after)
				assert.NotEqual(t, m.Key(), after.Key(), "%s mends nothing", m.Fix.Title)
			}
		}
	}
	assert.Greater(t, tried, 25)
}

func TestWaiversAccept(t *testing.T) {
	text := change(t, sound, "at: POST /v1/park, who: writer", "at: POST /v1/park, who: anyone", "keeper:\n",
		"keeper:\n  guest:\n")
	for n := range 10 {
		list := Open(reviewed(t, text))
		if len(list) == 0 {
			break
		}
		require.Less(t, n, 9)
		out, err := layout.Apply(text, WaiverFor(list[0], "it is: meant", "me", today.AddDate(1, 0, 0)))
		require.NoError(t, err)
		text = out
	}
	all := reviewed(t, text)
	assert.GreaterOrEqual(t, len(all), 2)
	for _, m := range all {
		assert.Equal(t, "it is: meant", m.Waived.Reason)
		assert.Equal(t, "me", m.Waived.By)
	}
}

func TestSuggestionsAreFixes(t *testing.T) {
	for _, c := range [][]string{{"title: Things", "tilte: Things"}, {"roles:\n  reader", "rols:\n  reader"},
		{"who: [reader, keeper]", `who: ["raeder", keeper]`}, {"roles: writer", "roles: wirter"},
		{"at: POST /v1/park, who: writer", "at: POST /v1/park, who: bob"}} {
		text := change(t, sound, c...)
		var mended string
		for _, m := range reviewed(t, text) {
			if m.Level == declaration.Error && m.Fix != nil {
				out, err := m.Fix.Apply(text)
				require.NoError(t, err)
				mended = out
			}
		}
		require.NotEmpty(t, mended, c)
		for _, m := range reviewed(t, mended) {
			assert.NotEqual(t, declaration.Error, m.Level, "%s", m)
		}
	}
}

func TestTimeFor(t *testing.T) {
	for _, c := range []struct {
		m     declaration.Model
		a     string
		burst int
		n     int
		want  time.Duration
	}{
		{declaration.FixedWindow, "8 per 5m", 0, 8, 0},
		{declaration.FixedWindow, "8 per 5m", 0, 9, time.Microsecond}, // at the edge of two windows
		{declaration.FixedWindow, "8 per 5m", 0, 16, 5*time.Minute + 0},
		{declaration.SlidingWindow, "8 per 5m", 0, 100000, 12499 * 5 * time.Minute},
		{declaration.TokenBucket, "10 per 10s", 20, 20, 0},
		{declaration.TokenBucket, "10 per 10s", 20, 120, 100 * time.Second},
		{declaration.LeakyBucket, "10 per 10s", 0, 11, time.Second},
	} {
		a, err := declaration.ParseAmount(c.a)
		require.NoError(t, err)
		got, ok := TimeFor(&declaration.Quota{Model: c.m, Burst: c.burst}, a, c.n)
		assert.True(t, ok)
		assert.Equal(t, c.want, got, "%v", c)
	}
	_, ok := TimeFor(&declaration.Quota{Model: declaration.Concurrency}, declaration.Amount{Count: 1}, 5)
	assert.False(t, ok)
	far, _ := TimeFor(&declaration.Quota{Model: declaration.FixedWindow},
		declaration.Amount{Count: 1, Per: 24 * time.Hour}, 1<<40)
	assert.Positive(t, far, "it does not wrap around")
}

// docs/review.md lists the checks as they are.
func TestChecksAreDocumented(t *testing.T) {
	const file = "../../docs/review.md"
	var b strings.Builder
	b.WriteString(intro)
	for _, c := range Checks {
		fmt.Fprintf(&b, "| `%s` | %s. %s | %s | %s, CWE-%d |\n", c.ID, c.Title, c.Why, c.Severity,
			strings.Fields(c.OWASP)[0], c.CWE)
	}
	written.File(t, file, b.String())
}

const intro = `# The review

` + "`millgate review FILE`" + ` and the interface say what a declaration itself lets happen,
before any request is sent. ` + "`--fail-on SEVERITY`" + ` makes the command exit with 1;
` + "`--format json`" + ` writes all of it for machines. Each message has a place, a reason
and, where one can be given, a fix that can be applied.

A message can be accepted in the file, with a reason and a last day. Afterwards it
comes back, and the waiver itself is reported.

` + "```yaml" + `
waivers:
  - { check: open-write, at: POST /v1/people, reason: Sign-up is for everybody, by: odell, until: 2030-01-31 }
  - { check: role-all, of: director, reason: There are two of them, until: 2027-06-30 }

review:                       # what the review takes for granted; these are the defaults
  guesses: 100000             # that the weakest password which is allowed takes
  guessed_in: 30d             # the shortest time in which it may be guessed
  bearer: { low: 24h, medium: 1h, high: 15m }   # the longest life of a credential, by sensitivity
` + "```" + `

| check | what it finds, and why it matters | severity | class |
| --- | --- | --- | --- |
`

func large(routes, identities, entries int) string {
	var b strings.Builder
	b.WriteString("millgate: 1\ntargets: { t: { base: \"http://127.0.0.1:1\" } }\nroutes:\n")
	per := routes / entries
	for i := range routes {
		m := []string{"GET", "POST", "PUT", "DELETE"}[i%4]
		fmt.Fprintf(&b, "  - { at: \"%s /v1/p%d/r%d/{id}\", summary: A route }\n", m, i/per, i/4)
	}
	b.WriteString("roles:\n")
	for i := range 20 {
		fmt.Fprintf(&b, "  r%d:\n", i)
	}
	b.WriteString("schemes: { key: { kind: api-key, in: header, name: K } }\nidentities:\n")
	for i := range identities {
		fmt.Fprintf(&b, "  u%d: { roles: r%d, attributes: { n: %d }, credentials: { key: { key: env:K } } }\n", i, i%20,
			i)
	}
	b.WriteString("records: { thing: { fills: id, owned_by: { u1: [a], u2: [b] } } }\naccess:\n")
	for i := range entries {
		fmt.Fprintf(&b, "  - { at: /v1/p%d/**, who: [owner, r%d, r%d] }\n", i, i%20, (i+3)%20)
	}
	b.WriteString("quotas: { all: { at: /v1/**, allow: [60 per 1m, 2000 per 1h], counted_by: identity } }\n")
	return b.String()
}

// The goal is a review of 5,000 routes by 200 identities by 300 entries within
// a second, parsing included.
func BenchmarkReview(b *testing.B) {
	text := []byte(large(5000, 200, 300))
	b.ReportAllocs()
	for b.Loop() {
		d, msgs := declaration.Parse("x", text, nil)
		if declaration.Failed(msgs) {
			b.Fatal(msgs[0])
		}
		Review(d, msgs, today)
	}
}

// Where it is known what was found, a waiver of findings that accepts none is reported.
func TestIdleWaiversOfFindings(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
routes: [GET /a]
waivers:
  - { finding: mg-0123456789, reason: so, until: 2027-01-01 }
  - { kind: U, at: GET /a, reason: so, until: 2027-01-01 }
  - { kind: P, at: GET /a, callers: nobody, reason: so, until: 2027-01-01 }
`), nil)
	require.Empty(t, msgs)
	idle := func(found []finding.Finding) (lines []int) {
		for _, m := range Beside(d, msgs, today, found) {
			if m.Code == "waiver-idle" {
				lines = append(lines, m.Line)
			}
		}
		return lines
	}
	assert.Empty(t, idle(nil), "nothing is known")
	assert.Equal(t, []int{4, 5, 6}, idle([]finding.Finding{}))
	assert.Equal(t, []int{5}, idle([]finding.Finding{{ID: "mg-0123456789", Kind: finding.Leaking, Route: "GET /a"},
		{ID: "mg-1", Kind: finding.OverPermissive, Route: "GET /a", Callers: []string{"nobody", "ann"}}}),
		"one that grew is what it is about")
}
