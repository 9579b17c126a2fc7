package declaration

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

//go:embed testdata/things.gate.yaml
var base string

func parse(t testing.TB, text string) (*Document, []Message) {
	t.Helper()
	return Parse("x.gate.yaml", []byte(text), func(ref string) ([]Imported, []error) {
		if ref != "api.yaml" {
			return nil, []error{errors.New("there is no such file")}
		}
		return []Imported{{Method: "GET", Path: "/imported", Line: 3,
				Sample: Sample{Query: map[string]string{"a": "b"}}}, {Method: "GET", Path: "/files/{name}.txt",
				Line: 9}},
			nil
	})
}

func TestBaseIsSound(t *testing.T) {
	d, msgs := parse(t, base)
	require.Empty(t, msgs)
	assert.Equal(t, "Things", d.Title)
	tg := d.TargetNamed("local")
	assert.Equal(t, Pace{50, time.Second}, tg.Pace)
	assert.Equal(t, UnsafeAllowed, tg.Unsafe)
	assert.Equal(t, map[string]bool{"reader": true, "writer": true}, d.RolesOf(d.IdentityNamed("bob")))
	assert.JSONEq(t, `{"user":"{user}","password":"{password}"}`, string(d.SchemeNamed("access").Login.JSON))
	assert.Equal(t, []string{"password", "user"}, d.SchemeNamed("access").Login.Placeholders())
	decides := func(key string) int { return d.Entry(d.RouteNamed(key)).Line }
	assert.Equal(t, 27, decides("GET /things"), "the pattern holds the whole route")
	assert.Equal(t, 27, decides("GET /things/mine"))
	assert.Equal(t, 28, decides("GET /things/{id}"), "a named template beats a pattern")
	assert.Equal(t, Delete, d.Routes[3].Effect)
	assert.Equal(t, "thing", d.Record(1).Name)
	assert.Nil(t, d.Record(0))
}

// wrong lists texts with one thing wrong: where it is said, and the words that
// must be in it. The text is base with `from` replaced by `to`.
var wrong = []struct {
	name, from, to string
	line, column   int
	level          Level
	code, text     string
	hint           string
}{
	{"a word that is near", "title: Things", "tilte: Things", 2, 1, Error, "unknown-word", `"tilte" is not known`,
		`did you mean "title"?`},
	{"a role that is near", "who: [reader]", "who: [raeder]", 27, 33, Error, "reference", `the role "raeder"`,
		`did you mean "reader"?`},
	{"an identity as a role", "who: [reader]", "who: [ann]", 27, 33, Error, "reference", `the role "ann"`,
		"write identity:ann"},
	{"an unknown identity", "who: [reader]", "who: [identity:anm]", 27, 33, Error, "reference", `the identity "anm"`,
		`did you mean "ann"?`},
	{"an unknown scheme", "{ access: { user: bob", "{ acces: { user: bob", 22, 40, Error, "reference",
		`the scheme "acces"`, `did you mean "access"?`},
	{"an unknown owner", "owned_by: { ann", "owned_by: { any", 25, 47, Error, "reference", `the identity "any"`,
		`did you mean "ann"?`},
	{"an unknown host", "POST id:/session\nroles", "POST ix:/session\nroles", 10, 5, Error, "reference",
		`no target has a host called "ix"`, `did you mean "id"?`},
	{"a role that includes itself", "reader:\n  writer", "reader: { includes: writer }\n  writer", 13, 23, Error,
		"cycle", "includes itself: reader → writer → reader", "remove"},
	{"the version", "millgate: 1", "millgate: 2", 1, 11, Error, "version", "version 2", "1 and 1.1"},
	{"no version", "millgate: 1\n", "", 1, 1, Error, "missing", "version of the language", "millgate: 1"},
	{"an address", `base: "http://127.0.0.1:1"`, `base: "ftp://x"`, 4, 18, Error, "type", "http or https",
		"https://staging.example"},
	{"a pace", "50 per 1s", "fast", 4, 0, Error, "type", "not a pace", "5 per 1s"},
	{"unsafe", "unsafe: allowed", "unsafe: alowed", 4, 0, Error, "unknown-word", `"alowed"`, `did you mean "allowed"?`},
	{"a route twice", "  - GET /things\n", "  - GET /things\n  - GET /things\n", 7, 5, Error, "duplicate",
		"said twice, first in line 6", "remove"},
	{"a key twice", "title: Things", "title: Things\ntitle: More", 3, 1, Error, "duplicate",
		"said twice in a declaration, first in line 2", "remove"},
	{"a method", "- GET /things\n", "- FETCH /things\n", 6, 5, Error, "selector", `"FETCH" is not a method`, ""},
	{"a pattern as a route", "- GET /things\n", "- GET /things/*\n", 6, 5, Error, "selector", "not * or **", ""},
	{"an entry that splits", "at: GET /things/**", "at: GET /things/t-1", 27, 11, Error, "splits",
		"only a part of the route GET /things/{id}", "name the template"},
	{"an entry without who", ", who: anyone", "", 30, 5, Error, "missing", "needs `who`", "who: nobody"},
	{"owner without a record", "at: GET /things/**, who: [reader]", "at: GET /things, who: owner", 27, 11, Error,
		"owner", "no record fills GET /things", "declare a record"},
	{"anyone among others", "who: anyone", "who: [anyone, reader]", 30, 11, Error, "type", "stand alone", ""},
	{"an entry that selects nothing", "at: POST id:/session", "at: POST id:/sesion", 30, 11, Warning, "selects-nothing",
		"selects no route", "did you mean POST id:/session?"},
	{"which scheme", "who: [reader]", "who: signed-in", 27, 11, Error, "by", "come with access and key",
		"add  by: access"},
	{"a secret in clear", "password: env:ANN", "password: hunter22", 21, 0, Warning, "secret-in-clear",
		"stands here in clear", "env:NAME"},
	{"a placeholder without a value", "user: ann, ", "", 21, 40, Error, "missing", `does not say "user"`, "env:NAME"},
	{"a pointer", "take: { access: /token }", "take: { access: token }", 18, 0, Error, "type", "JSON Pointer",
		"/token"},
	{"a scheme without a kind", "kind: api-key, ", "", 19, 3, Error, "missing", "has no kind", "bearer"},
	{"a mapping that is a list", "roles:\n  reader:\n  writer: { includes: reader }", "roles: [reader]", 11, 8, Error,
		"type", "must be a mapping", "name: value"},
	{"an attribute nobody has", "who: [reader] }", "who: [reader], given: { verified: true } }", 27, 11, Warning,
		"reference", "no identity has the attribute", "attributes"},
	{"a file that is not there", "- GET /things\n", "- from: nowhere.yaml\n", 6, 11, Error, "import",
		"there is no such file", "mend the file"},
	{"a template that cannot be", "- GET /things\n", "- from: api.yaml\n  - GET /things\n", 6, 11, Error, "import",
		"line 9", "by hand"},
	{"syntax", "roles:\n", "roles: {{\n", 0, 0, Error, "syntax", "a { has no } of its own", "close it"},
	{"a lowered quota that is not declared", "pace: 50 per 1s", "drill: { for: 2s, quotas: { log: 5 per 2s } }", 4, 0,
		Error, "reference", `the quota "log" is not declared`, "declare it under `quotas`"},
	{"a lowered quota without an amount", "pace: 50 per 1s", "drill: { quotas: { login: { burst: 3 } } }", 4, 0, Error,
		"missing", `the lowered quota "login" has no amount`, "login: 5 per 2s"},
	{"an origin with a path", "roles:\n", origins("https://app.example/"), 14, 7, Error, "type",
		"as a browser sends it",
		"write  https://app.example  "},
	{"an origin with its default port", "roles:\n", origins("https://App.example:443"), 14, 7, Error, "type",
		"as a browser sends it", "write  https://app.example  "},
	{"an origin by number", "roles:\n", origins("http://0x7f.1:8080"), 14, 7, Error, "type", "as a browser sends it",
		"write  http://127.0.0.1:8080  "},
	{"an origin in letters of its own", "roles:\n", origins("https://ä.example"), 14, 7, Error, "type",
		"as a browser sends it", "write  https://xn--4ca.example  "},
	{"an origin for many", "roles:\n", origins("https://*.app.example"), 14, 7, Error, "type", "as a browser sends it",
		"list each"},
	{"an origin that is none", "roles:\n", origins("https://a b"), 14, 7, Error, "type", "as a browser sends it",
		"https://app.example"},
	{"an empty quota", "roles:\n", "quotas:\n  login: {}\nroles:\n", 12, 3, Error, "missing",
		"quota \"login\" needs `allow`", "8 per 5m"},
}

// origins permits a page before the roles.
func origins(o string) string {
	return "origins:\n  - at: /**\n    allow:\n      \"" + o + "\": {}\nroles:\n"
}

// What a browser sends is no error.
func TestOriginsThatAreSent(t *testing.T) {
	for _, o := range []string{"https://app.example", "http://127.0.0.1:8080", "http://[::1]",
		"https://xn--4ca.example",
		"https://app.example.", "app-shell://localhost", "any", "null"} {
		_, msgs := parse(t, strings.Replace(base, "roles:\n", origins(o), 1))
		for _, m := range msgs {
			assert.NotEqual(t, Error, m.Level, "%s: %s", o, m.Text)
		}
	}
}

func TestMessagesSayWhereAndWhat(t *testing.T) {
	for _, c := range wrong {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, base, c.from)
			_, msgs := parse(t, strings.Replace(base, c.from, c.to, 1))
			require.NotEmpty(t, msgs)
			var hit *Message
			for i, m := range msgs {
				if m.Code == c.code && strings.Contains(m.Text, c.text) {
					hit = &msgs[i]
				}
			}
			require.NotNil(t, hit, "%v", msgs)
			assert.Equal(t, c.level, hit.Level)
			if c.line > 0 {
				assert.Equal(t, c.line, hit.Line, hit)
			}
			if c.column > 0 {
				assert.Equal(t, c.column, hit.Column, hit)
			}
			assert.Contains(t, hit.Hint, c.hint)
			assert.Greater(t, hit.EndColumn, hit.Column)
		})
	}
}

func TestAllMessagesAtOnce(t *testing.T) {
	text := strings.NewReplacer("who: [reader]", "who: [raeder]", "pace: 50 per 1s", "pace: 50", "env:BOB", "env:",
		"includes: reader", "includes: redaer").Replace(base)
	_, msgs := parse(t, text)
	assert.Len(t, msgs, 4)
	for i := 1; i < len(msgs); i++ {
		assert.LessOrEqual(t, msgs[i-1].Line, msgs[i].Line, "in the order of the text")
	}
}

func TestMostSpecificDecides(t *testing.T) {
	doc := func(access string) (*Document, []Message) {
		return parse(t, strings.Replace(base, base[strings.Index(base, "access:\n  - {"):], "access:\n"+access, 1))
	}
	at := func(d *Document, key string) int { return d.Entry(d.RouteNamed(key)).Line - 26 }
	for _, c := range []struct {
		name, access string
		lines        [2]int // deciding GET /things and GET /things/{id}; 0 is closed
		err          string
	}{
		{"order does not matter", "  - { at: /things/*, who: writer }\n  - { at: /**, who: reader }\n", [2]int{2, 1},
			""},
		{"turned around", "  - { at: /**, who: reader }\n  - { at: /things/*, who: writer }\n", [2]int{1, 2}, ""},
		{"a method is more specific", "  - { at: /things/**, who: reader }\n  - { at: GET /things/**, who: writer }\n",
			[2]int{2, 2}, ""},
		{"nothing says anything", "  - { at: DELETE /**, who: reader }\n", [2]int{0, 0}, ""},
		{"neither is more specific", "  - { at: GET /**, who: reader }\n  - { at: /things/**, who: writer }\n",
			[2]int{}, "line 27 and line 28"},
		{"but a third is", "  - { at: GET /**, who: reader }\n  - { at: /things/**, who: writer }\n  - { at: GET " +
			"/things/**, who: reader }\n", [2]int{3, 3}, ""},
		{"both say the same", "  - { at: GET /**, who: [reader, writer] }\n  - { at: /things/**, who: [writer, " +
			"reader] }\n", [2]int{1, 1}, ""},
		{"the same twice, differently", "  - { at: GET /things/**, who: reader }\n  - { at: GET /things/**, who: " +
			"writer }\n", [2]int{}, "neither is more specific"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, msgs := doc(c.access)
			if c.err != "" {
				require.NotEmpty(t, msgs)
				assert.Contains(t, fmt.Sprint(msgs), c.err)
				assert.Contains(t, fmt.Sprint(msgs), "GET /things")
				return
			}
			require.False(t, Failed(msgs), msgs)
			for i, key := range []string{"GET /things", "GET /things/{id}"} {
				if c.lines[i] == 0 {
					assert.Nil(t, d.Entry(d.RouteNamed(key)), key)
				} else {
					assert.Equal(t, c.lines[i], at(d, key), key)
				}
			}
		})
	}
}

func TestImportedRoutesTakeWhatIsSaidByHand(t *testing.T) {
	d, msgs := parse(t, strings.Replace(base, "  - GET /things\n", "  - from: api.yaml\n  - { at: GET /imported, "+
		"sensitivity: high, effect: command }\n  - GET /things\n", 1))
	require.Len(t, msgs, 1, msgs) // the template that cannot be
	r := d.Routes[d.RouteNamed("GET /imported")]
	assert.Equal(t, High, r.Sensitivity)
	assert.Equal(t, Command, r.Effect)
	assert.Equal(t, "b", r.Send.Query["a"])
	assert.Equal(t, Place{"x.gate.yaml", 7, 11}, r.Place)
}

func TestOwnersOfImportedRoutes(t *testing.T) {
	owners := func(lines string) (list []string) {
		text := strings.Replace(base, "millgate: 1\n", "millgate: 1.1\n", 1)
		d, msgs := parse(t, strings.Replace(text, "  - GET /things\n", lines+"  - GET /things\n", 1))
		require.Len(t, msgs, 1, msgs) // the template that cannot be
		return []string{d.Routes[d.RouteNamed("GET /imported")].Owner, d.Routes[d.RouteNamed("GET /things")].Owner}
	}
	assert.Equal(t, []string{"storage", ""}, owners("  - { from: api.yaml, owner: storage }\n"))
	assert.Equal(t, []string{"cutter", ""}, owners("  - { from: api.yaml, owner: storage }\n"+
		"  - { at: GET /imported, owner: cutter }\n"))
	assert.Equal(t, []string{"storage", ""}, owners("  - { from: api.yaml, owner: storage }\n"+
		"  - { at: GET /imported, sensitivity: high }\n"), "a line that names nobody leaves it")
}

func TestSecretsInValues(t *testing.T) {
	d, _ := parse(t, base)
	v := d.IdentityNamed("ann").Credentials[0].Fill
	assert.True(t, v["password"].Secret())
	assert.Equal(t, "ANN", v["password"].Env)
	assert.Equal(t, "ann", v["user"].Literal)
}

func TestDurations(t *testing.T) {
	for s, want := range map[string]time.Duration{"30s": 30 * time.Second, "1h30m": 90 * time.Minute,
		"30d": 720 * time.Hour, "1.5h": 90 * time.Minute, "250ms": 250 * time.Millisecond, "0s": 0} {
		got, err := ParseDuration(s)
		require.NoError(t, err, s)
		assert.Equal(t, want, got, s)
	}
	for _, s := range []string{"", "5", "m", "5 m", "-5m", "5y"} {
		_, err := ParseDuration(s)
		assert.Error(t, err, s)
	}
	assert.Equal(t, "30d", ShortDuration(720*time.Hour))
	assert.Equal(t, "90s", ShortDuration(90*time.Second))
}

func TestNearest(t *testing.T) {
	assert.Equal(t, "includes", Nearest("inculdes", []string{"excludes", "includes"}))
	assert.Empty(t, Nearest("zebra", []string{"includes", "who"}))
}

func TestAliasBombsEnd(t *testing.T) {
	var b strings.Builder
	b.WriteString("millgate: 1\nroutes:\n  - at: POST /a\n    send:\n      json:\n        x0: &x0 [a, a, a, a, a, a, " +
		"a, a]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&b, "        x%d: &x%d [%s]\n", i, i,
			strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*x%d, ", i-1), 8), ", "))
	}
	_, msgs := parse(t, b.String())
	assert.Contains(t, fmt.Sprint(msgs), "too large")
}

func FuzzParse(f *testing.F) {
	f.Add(base)
	for _, c := range wrong {
		f.Add(strings.Replace(base, c.from, c.to, 1))
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, msgs := parse(t, text)
		lines := strings.Count(text, "\n") + strings.Count(text, "\r") + 2
		for _, m := range msgs {
			if m.Line < 1 || m.Column < 1 || m.EndColumn <= m.Column || m.Text == "" ||
				m.File == "x.gate.yaml" && m.Line > lines {
				t.Fatalf("a message without a place: %+v", m)
			}
		}
		if !Failed(msgs) && strings.TrimSpace(text) != "" {
			for i := range d.Routes {
				if e := d.Deciding[i]; e >= len(d.Access) {
					t.Fatal("a deciding entry that is not there")
				}
			}
		}
	})
}

// Large is a declaration with as many routes by hand, used by benchmarks.
func large(routes int) string {
	var b strings.Builder
	b.WriteString("millgate: 1\nroles:\n  r0:\n  r1: { includes: r0 }\nschemes:\n  k: { kind: api-key, in: header, " +
		"name: X-Key }\nidentities:\n")
	for i := range 200 {
		fmt.Fprintf(&b, "  i%d: { roles: r%d, attributes: { team: t%d }, credentials: { k: { key: env:K%d } } }\n", i,
			i%2, i%9, i)
	}
	b.WriteString("routes:\n")
	for i := range routes {
		fmt.Fprintf(&b, "  - GET /v1/g%d/things%d/{id}\n", i%100, i)
	}
	b.WriteString("access:\n  - { at: /v1/**, who: r0 }\n")
	for i := range routes / 2 {
		fmt.Fprintf(&b, "  - { at: \"GET /v1/g%d/things%d/{id}\", who: r1 }\n", i%100, i)
	}
	return b.String()
}

func BenchmarkParse5000Routes(b *testing.B) {
	text := []byte(large(5000))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, msgs := Parse("x", text, nil); len(msgs) > 0 {
			b.Fatal(msgs[0])
		}
	}
}

func TestJSONKeepsItsOrder(t *testing.T) {
	d, msgs := parse(t, "millgate: 1\nroutes:\n  - { at: POST /a, send: { json: { z: 1, a: [true, null, 1.50, \"x\"] "+
		"} } }\n")
	require.Empty(t, msgs)
	assert.Equal(t, `{"z":1,"a":[true,null,1.50,"x"]}`, string(d.Routes[0].Send.JSON))
	assert.True(t, json.Valid(d.Routes[0].Send.JSON))
}

func TestLoweredQuotas(t *testing.T) {
	text := strings.Replace(base, "pace: 50 per 1s", "drill: { for: 2s, quotas: { login: 5 per 2s, run: { allow: 3 "+
		"per 1s, burst: 4 } } }", 1) +
		"quotas:\n  login: { at: POST id:/session, allow: [8 per 5m, 100 per 1d], counted_by: address, for: { " +
		"reader: 9 per 5m } }\n" +
		"  run: { at: GET /things, allow: 10 per 10s, counted_by: identity, model: token-bucket, burst: 20 }\n  " +
		"other: { at: GET /things, allow: 10 per 10s, counted_by: identity }\n"
	d, msgs := parse(t, text)
	require.Empty(t, msgs)
	tg := d.Targets[0]
	assert.Equal(t, 2*time.Second, tg.Drill)
	q, lowered := tg.Quota(d.QuotaNamed("login"))
	assert.True(t, lowered)
	amounts, ok := q.AmountsFor(d, d.IdentityNamed("ann"))
	assert.True(t, ok)
	assert.Equal(t, []Amount{{5, 2 * time.Second}}, amounts, "for everybody alike")
	assert.Len(t, d.QuotaNamed("login").Allow, 2, "what is declared stays")
	q, _ = tg.Quota(d.QuotaNamed("run"))
	assert.Equal(t, 4, q.Burst)
	q, lowered = tg.Quota(d.QuotaNamed("other"))
	assert.False(t, lowered)
	assert.Same(t, d.QuotaNamed("other"), q)
	for from, says := range map[string]string{"5 per 2s": "does not fit the model concurrency",
		"burst: 4": "`burst` has no meaning for the model fixed-window", "allow: 3 per 1s": "one amount"} {
		to := map[string]string{"5 per 2s": "5 per 2s", "burst: 4": "burst: 4",
			"allow: 3 per 1s": "allow: [3 per 1s, 9 per 1m]"}[from]
		wrong := strings.Replace(text, from, to, 1)
		if from == "5 per 2s" {
			wrong = strings.Replace(wrong, "[8 per 5m, 100 per 1d], counted_by: address, for: { reader: 9 per 5m }",
				"2, counted_by: address, model: concurrency", 1)
		} else if from == "burst: 4" {
			wrong = strings.Replace(wrong, ", model: token-bucket, burst: 20", "", 1)
		}
		_, msgs := parse(t, wrong)
		require.Len(t, msgs, 1, wrong)
		assert.Contains(t, msgs[0].Text, says)
	}
}

// Text that only nests is told, at its place, without the memory that reading it
// would take; what is deep and legal is read.
func TestNestedTooDeeply(t *testing.T) {
	for _, c := range []struct {
		name, text string
		line       int
	}{
		{"flow", "millgate: 1\ntitle: " + strings.Repeat("[", 100_000), 2},
		{"braces", "millgate: 1\ntitle: " + strings.Repeat("{a: ", 100_000), 2},
		{"flow on many lines", "millgate: 1\ntitle:\n" + strings.Repeat("  [\n", 100_000), 101},
		{"sequences on a line", "millgate: 1\ntitle: \n" + strings.Repeat("- ", 100_000) + "a", 3},
		{"indentation", "millgate: 1\n" + func() string {
			var b strings.Builder
			for i := range 3000 {
				b.WriteString(strings.Repeat(" ", i) + "a:\n")
			}
			return b.String()
		}(), 102},
		{"brackets in text", "millgate: 1\ntitle: a " + strings.Repeat("[", 1000), 0},
		{"brackets in quotes", "millgate: 1\ntitle: \"" + strings.Repeat("[", 1000) + "\"", 0},
		{"deep and legal", "millgate: 1\ntitle: a\nroutes: [{ at: POST /a, send: { json: " +
			strings.Repeat("[", 60) + strings.Repeat("]", 60) + " } }]", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.line, nested(c.text))
			_, msgs := Parse("x.gate.yaml", []byte(c.text), nil)
			if c.line != 0 {
				require.Len(t, msgs, 1)
				assert.Equal(t, c.line, msgs[0].Line)
				assert.Contains(t, msgs[0].Text, "deep")
			}
		})
	}
}

// Each file is read by the version that it says, also beside one of the other.
func TestVersionsOfFiles(t *testing.T) {
	files := func(inner string) Files {
		return Files{Text: func(string) ([]byte, error) { return []byte(inner), nil }}
	}
	const routes = "routes: [GET /a]\naccess: [{ at: GET /a, who: anyone }]\n"
	target := func(word string) string { return "targets: { t: { base: \"http://h\", " + word + " } }\n" }
	for _, c := range []struct {
		name, outer, inner string
		says               []string
	}{
		{"both new", "millgate: 1.1\ninclude: i\n" + routes, "millgate: 1.1\n" + target("ca: x.pem"), nil},
		{"an old one in a new one", "millgate: 1.1\ninclude: i\n" + target("ca: x.pem"), "millgate: 1\n" + routes, nil},
		{"a new one in an old one", "millgate: 1\ninclude: i\n" + routes, "millgate: 1.1\n" + target("ca: x.pem"), nil},
		{"a new word in an old one", "millgate: 1.1\ninclude: i\n" + routes, "millgate: 1\n" + target("ca: x.pem"),
			[]string{"i:2:35: error: `ca` of a target came with version 1.1 of the language, and this file says 1; " +
				"begin i with  millgate: 1.1"}},
		{"after an included new one", "millgate: 1\ninclude: i\n" + routes + target("headers: { X-A: b }"),
			"millgate: 1.1\n", []string{"x:5:35: error: `headers` of a target came with version 1.1"}},
		{"as a text", "millgate: \"1.1\"\n" + routes, "", nil},
		{"one and ten", "millgate: 1.10\n" + routes + target("ca: x.pem"), "",
			[]string{"version 1.10 of the language"}},
		{"said last", routes + target("ca: x.pem") + "millgate: 1.1\n", "", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, msgs := ParseFiles("x", []byte(c.outer), files(c.inner))
			msgs = slices.DeleteFunc(msgs, func(m Message) bool { return m.Level != Error })
			require.Len(t, msgs, len(c.says), "%v", msgs)
			for i, s := range c.says {
				assert.Contains(t, msgs[i].String(), s)
			}
		})
	}
}

// A value that begins with file: was text in the first version, and stays so there.
func TestFileIsTextInTheFirstVersion(t *testing.T) {
	for _, c := range []struct{ version, literal, file string }{{"1", "file:/run/p", ""}, {"1.1", "", "/run/p"}} {
		d, msgs := Parse("x", []byte("millgate: "+c.version+"\nschemes: { b: { kind: basic } }\nidentities: "+
			"{ ann: { credentials: { b: { username: ann, password: file:/run/p } } } }\n"), nil)
		v := d.Identities[0].Credentials[0].Fill["password"]
		assert.Equal(t, c.literal, v.Literal)
		assert.Equal(t, c.file, v.File)
		told := slices.ContainsFunc(msgs, func(m Message) bool { return m.Code == "version" && m.Level == Warning })
		assert.Equal(t, c.file == "", told)
	}
}

// An empty list of algorithms says none since 1.1; before it said nothing.
func TestNoAlgorithms(t *testing.T) {
	for version, want := range map[string][]string{"1": nil, "1.1": {}} {
		d, _ := Parse("x", []byte("millgate: "+version+"\nschemes: { b: { kind: bearer, token: jwt, algorithms: [] }, "+
			"c: { kind: bearer, algorithms: } }\n"), nil)
		assert.Equal(t, want, d.Schemes[0].Algorithms)
		assert.Nil(t, d.Schemes[1].Algorithms)
	}
}

// That nobody has decided is a word of the later version; in the first a role may have that name.
func TestUndecided(t *testing.T) {
	read := func(text string) (*Document, string) {
		d, msgs := Parse("x", []byte(text), nil)
		if len(msgs) == 0 {
			return d, ""
		}
		return d, msgs[0].String()
	}
	d, says := read("millgate: 1.1\nroutes: [GET /a, GET /b]\naccess:\n  - { at: /**, who: undecided }\n  " +
		"- { at: GET /b, who: anyone }\n")
	assert.Empty(t, says)
	assert.True(t, d.Entry(0).Undecided())
	assert.False(t, d.Entry(1).Undecided(), "whatever is more specific wins over it")
	assert.Equal(t, "{ at: /**, who: undecided }", strings.ReplaceAll(d.Access[0].Text(), `"`, ""))

	d, says = read("millgate: 1\nroles: { undecided: }\nroutes: [GET /a]\naccess:\n  - { at: /**, who: undecided }\n")
	assert.Empty(t, says)
	assert.False(t, d.Entry(0).Undecided())
	_, says = read("millgate: 1\nroutes: [GET /a]\naccess:\n  - { at: /**, who: undecided }\n")
	assert.Contains(t, says, `the role "undecided" is not declared; that nobody has decided yet can be said from `+
		`version 1.1 on: begin x with  millgate: 1.1`)

	for with, want := range map[string]string{
		"access: [{ at: GET /a, who: [undecided, signed-in] }]":    "`anyone`, `nobody` and `undecided` stand alone",
		"access: [{ at: GET /a, who: undecided, scope: read }]":    "`undecided` decides nothing",
		"access: [{ at: GET /a, who: undecided, hide: true }]":     "`undecided` decides nothing",
		"roles: { undecided: }":                                    `"undecided" has a meaning of its own`,
		"targets: { t: { base: 'http://h', describes: undecided}}": "`undecided` says nothing in `describes`",
	} {
		_, says = read("millgate: 1.1\nroutes: [GET /a]\n" + with + "\n")
		assert.Contains(t, says, want, with)
	}
}
