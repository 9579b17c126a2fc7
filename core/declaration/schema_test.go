package declaration

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// whole uses every word of the language.
const whole = `{
"millgate": 1.1, "title": "Things", "include": [],
"targets": {"local": {"base": "http://127.0.0.1:1", "hosts": {"id": "http://127.0.0.1:2/a"}, "values": {"issuer": "http://x"}, "direct": "https://h", "pace": "5 per 1s", "unsafe": "allowed", "ask_for": ["/x", "/y/z"], "drill": {"for": "2s", "quotas": {"fixed": "5 per 2s", "bucket": {"allow": ["3 per 1s"], "burst": 4}}, "lifetimes": {"short": {"idle": "2s", "max": "5s"}}}, "pass": {"header": "X-Pass", "value": "env:PASS"}, "ca": "ca.pem", "client": {"cert": "c.pem", "key": "file:/run/key"}, "headers": {"X-Site": "north", "X-Key": "env:K"}, "mark": "X-Mark", "refuses": "tests", "describes": ["signed-in"]}},
"routes": ["GET /a", {"from": "b.yaml", "host": "id", "owner": "o"}, {"at": "POST id:/b/{id}", "effect": "command", "sensitivity": "high", "changes": {"a": true, "b": 1}, "group": "g", "owner": "o", "summary": "s",
  "send": {"as": "ann", "path": {"id": "1"}, "query": {"q": 1}, "headers": {"X-A": "b"}, "json": {"a": [1, null, true]}, "form": {"a": "b"}, "multipart": {"a": "b", "f": {"name": "f.txt", "type": "text/plain", "text": "t"}}, "text": "t", "type": "text/plain"},
  "then": [{"send": "GET /a", "as": "ann", "with": {"id": "/id"}, "headers": {"A": "b"}, "json": 1, "form": {"a": "b"}, "take": {"x": "/x"}, "shows": {"status": 200, "has": ["/a"], "lacks": "/b"}}, "GET /a"]}],
"roles": {"reader": null, "writer": {"includes": ["reader"]}},
"schemes": {
  "jwt": {"kind": "bearer", "token": "jwt", "issuer": "i", "audience": "a", "algorithms": ["ES256"], "typ": "at+jwt", "requires": ["sub"], "keys": {"jwks": "id:/jwks"}, "tests_only": {"issuer": "i", "kid": "k", "signing_key": "env:T"}, "claims": {"roles": "/roles"}, "lifetime": {"access": "short", "refresh": "long"},
    "login": {"send": "POST id:/login", "json": {"u": "{user}"}, "form": {}, "headers": {}, "take": {"access": "/a"}},
    "account": {"send": "POST /people", "json": {"n": "{fresh}", "p": "{fresh:password}"}, "form": {}, "headers": {}, "take": {"user": "/id"}, "id": "/id", "password": {"least": 10, "refuses": ["name", "common"]}, "remove": {"send": "DELETE /people/{id}", "as": "ann"}}, "refresh": {"send": "POST id:/r", "take": {"access": "/a"}}, "logout": {"send": "POST id:/out", "ends": "all"}, "introspect": {"send": "POST id:/i", "form": {"token": "{token}"}, "as": "ann"}},
  "mac": {"kind": "bearer", "keys": {"secret": "env:S"}}, "pem": {"kind": "bearer", "keys": {"file": "k.pem"}},
  "key": {"kind": "api-key", "in": "query", "name": "k"},
  "cookie": {"kind": "cookie", "name": "c", "path": "/", "http_only": true, "secure": false, "same_site": "strict", "lifetime": {"access": "short"}, "login": {"send": "POST /login"}, "logout": "POST /out"},
  "basic": {"kind": "basic", "challenge": "Basic"},
  "hook": {"kind": "signature", "algorithm": "hmac-sha512", "header": "X-S", "encoding": "base64", "prefix": "v1=", "timestamp": "X-T", "covers": "{body}", "tolerance": "5m"},
  "link": {"kind": "link", "expires": "e", "signature": "s", "lifetime": {"access": "short"}, "issue": {"send": "POST /l", "take": {"link": "/url"}}, "expired_link": "env:OLD"},
  "mailed": {"kind": "link", "expires": "e", "signature": "s", "once": true, "refuses": 403, "issue": {"send": "POST /m", "arrives": {"read": "GET id:/messages", "query": {"to": "{caller.email}"}, "find": "/0/text", "within": "5s"}}}},
"lifetimes": {"short": {"max": "15m", "skew": "30s", "ended_within": "0s"}, "long": {"max": "30d", "idle": "1h30m", "rotates": true, "reuse": "refused"}},
"identities": {"ann": {"roles": "reader", "scopes": ["s"], "attributes": {"a": true, "b": 1.5, "c": "x"}, "in": {"team": ["spectra", 7], "site": "north"}, "credentials": {"jwt": {"user": "ann", "password": "kept:A"}}}, "bob": null},
"records": {"thing": {"fills": ["id", "GET,PUT /b/{id}", "/c/*"], "owned_by": {"ann": ["1", 2]}, "in": {"team": {"spectra": ["1"]}}, "groups": {"published": [2]}, "listed": [{"at": "GET /c", "each": "/items", "id": "/id", "pages": {"query": "page", "from": 0}}, {"at": "GET /a", "each": "", "pages": {"next": "/links/next"}}], "make": {"send": "POST /b", "json": {}, "id": "/id"}, "remove": {"send": "DELETE /b/{id}", "as": "ann"}}},
"access": [{"at": "GET /a", "who": "anyone", "broken": "ignored"}, {"at": ["/b/**"], "who": ["owner", "identity:ann", {"who": "reader", "on": "team"}], "turned_away": {"credential": 403, "soundness": 403, "role": 404, "scope": 410, "ownership": 404}, "given": {"a": true}, "scope": ["s"], "by": ["jwt"], "owner_of": "thing"}, {"at": "GET /c", "who": "signed-in", "hide": true}],
"origins": [{"at": "/**", "allow": "none"}, {"at": "/a", "allow": {"https://x.example:8443": {"methods": ["GET"], "headers": ["a"], "expose": ["b"], "credentials": true, "max_age": "10m"}, "null": {}, "any": null}}],
"quotas": {"fixed": {"at": "/a", "allow": ["8 per 5m", "40 per 1d"], "counted_by": "identity or address", "model": "fixed-window", "starts": "clock", "queue": 0, "counts": "admitted", "refuse_with": 503, "count_per": "route", "for": {"writer": "9 per 1m"}, "exempt": ["target:local", "reader", "identity:ann", "10.0.0.0/8", "::1"]},
  "guess": {"at": "POST /login", "allow": "5 per 15m", "counted_by": "account", "locks": {"for": "15m", "tried_on": "ann"}},
  "bucket": {"at": "/a", "allow": "1 per 1s", "counted_by": "header:X-Client", "model": "token-bucket", "burst": 8}, "slide": {"at": "/a", "allow": "1 per 1s", "counted_by": "key", "model": "sliding-window"},
  "one": {"at": ["/a"], "allow": 1, "counted_by": "everyone", "model": "concurrency", "queue": 2, "queue_for": "5s", "for": {"writer": 2}}},
"answers": {"401": {"type": "a/b", "headers": ["X"], "has": ["/a"], "equals": {"/b": "c", "/d/0": 1}}, "errors": {"type": "a/b"}, "all": {"headers": ["X"]}, "protects": ["frames", "sniffing", "caching", "referrer", "transport", "resources"], "never": {"fields": ["p"], "text": ["t"], "members": [{"at": "**/p", "type": "string", "status": "2xx"}, {"at": "/a/*", "status": 404}]}, "schema": "exact", "login_page": {"location": "/login"}, "refused_when": [{"status": 200, "has": "/error"}, {"at": ["POST /b"], "status": 200, "has": "/error", "equals": {"/error/code": "NO"}, "is": "forbidden"}]},
"review": {"guesses": 1000, "guessed_in": "1d", "bearer": {"low": "1d", "medium": "1h", "high": "5m"}},
"waivers": [{"check": "open-write", "at": "POST /b", "of": ["reader"], "reason": "because", "by": "me", "until": "2027-03-31"}, {"finding": "mg-0123456789", "at": "/a", "callers": ["ann", "nobody"], "reason": "because", "until": "2027-03-31"}, {"kind": "unprotected", "at": ["/a"], "reason": "because", "until": "2027-03-31"}]
}`

// form are the errors that the reader finds before names are looked up.
func form(text []byte) []Message {
	r := &reader{file: "x", routes: map[string]*Route{}, included: map[string]bool{}, files: Files{
		Routes: func(string) ([]Imported, []error) { return nil, nil },
		Text:   func(string) ([]byte, error) { return []byte("millgate: 1\n"), nil },
	}}
	r.text(&Document{Assume: DefaultAssumptions()}, text)
	return slices.DeleteFunc(r.msgs, func(m Message) bool {
		return m.Level != Error || m.Code == "duplicate" || m.Code == "reference" || m.Code == "include"
	})
}

func compiled(t testing.TB) *jsonschema.Schema {
	raw, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(t, c.AddResource("declaration", raw))
	s, err := c.Compile("declaration")
	require.NoError(t, err)
	return s
}

func TestSchemaIsPublished(t *testing.T) {
	b, err := os.ReadFile("../../docs/declaration.schema.json")
	require.NoError(t, err)
	require.Equal(t, string(Schema), string(b), "copy core/declaration/declaration.schema.json to docs/")
}

// The schema and the parser agree: what one accepts the other does. Every word
// is dropped, misspelt, and given values of every other kind.
func TestSchemaAgreesWithParser(t *testing.T) {
	schema := compiled(t)
	var doc any
	require.NoError(t, json.Unmarshal([]byte(whole), &doc))
	require.Empty(t, form([]byte(whole)))
	require.NoError(t, schema.Validate(doc))
	pool := []any{nil, true, 7, 0, "", "word", "nobody", []any{}, []any{"a", "b"}, []any{nil}, map[string]any{},
		map[string]any{"a": "b"}, "5 per 1s", "5 per 0s", "0s", "3m", "GET /a", "/a", "/a/**", "POST /a/../b",
		"FETCH /a",
		"http://x", "ftp://x", "any", "null", "200", 99, "2027-13-01", "2027-02-30", "env:", "env:X", "header:X",
		"header:", "address or", "anyone", "id:/x", "{body}", "bearer", "token-bucket", "concurrency",
		"https://a.example", "file:", "file:/x", "a\nb", "**/a", "/a~2", "**", "2xx"}
	keys := []string{"at", "who", "kind", "from", "a", "send", "access", "nobody", "a b", "401", "999", "HTTPS://X",
		"https://x.example:443", "https://x.example", "take", "burst", "starts", "model", "X-A",
		"Cookie", "cert"}
	r := rand.New(rand.NewPCG(5, 6))
	rounds := 2000
	if testing.Short() {
		rounds = 400
	}
	agreed := [2]int{}
	for n := range rounds {
		var m any
		require.NoError(t, json.Unmarshal([]byte(whole), &m))
		for range 1 + n%2 {
			mutate(r, m, pool, keys)
		}
		text, err := json.Marshal(m)
		require.NoError(t, err)
		bySchema := schema.Validate(m)
		byParser := form(text)
		if (bySchema == nil) != (len(byParser) == 0) {
			t.Fatalf("they disagree on\n%s\nthe parser: %v\nthe schema: %v", text, byParser, bySchema)
		}
		agreed[map[bool]int{true: 1}[bySchema == nil]]++
	}
	require.Greater(t, agreed[0], rounds/5)
	require.Greater(t, agreed[1], rounds/10)
}

// What came with a version is said so by the schema, and the reader asks for that version:
// a file of the first one that uses all words is told of exactly these.
func TestWordsOfLaterVersions(t *testing.T) {
	var root map[string]any
	require.NoError(t, json.Unmarshal(Schema, &root))
	var later []string
	var walk func(key string, v any)
	walk = func(key string, v any) {
		if m, ok := v.(map[string]any); ok {
			if m["since"] == string(V11) {
				later = append(later, key)
			}
			for k, x := range m {
				walk(k, x)
			}
		}
		if list, ok := v.([]any); ok {
			for _, x := range list {
				walk("", x)
			}
		}
	}
	walk("", root)
	sort.Strings(later)
	require.NotEmpty(t, later)
	msgs := form([]byte(strings.Replace(whole, `"millgate": 1.1`, `"millgate": 1`, 1)))
	var told []string
	for _, m := range msgs {
		if strings.HasSuffix(strings.SplitN(m.Text, " came", 2)[0], "of counted_by") ||
			strings.HasPrefix(m.Text, "a list as") {
			continue // a word of a pattern, a form
		}
		require.Equal(t, "version", m.Code, m)
		require.Equal(t, "begin x with  millgate: 1.1", m.Hint)
		word, _, _ := strings.Cut(strings.TrimPrefix(m.Text, "`"), "`")
		told = append(told, word)
	}
	sort.Strings(told)
	require.Equal(t, later, told)
}

// mutate changes one thing somewhere in a value.
func mutate(r *rand.Rand, v any, pool []any, keys []string) {
	fresh := func() any {
		b, _ := json.Marshal(pool[r.IntN(len(pool))])
		var out any
		_ = json.Unmarshal(b, &out)
		return out
	}
	type spot struct {
		in  any
		key string
		i   int
	}
	var spots []spot
	var walk func(any)
	walk = func(v any) {
		switch x := v.(type) {
		case map[string]any:
			names := make([]string, 0, len(x))
			for k := range x {
				names = append(names, k)
			}
			sort.Strings(names)
			for _, k := range names {
				spots = append(spots, spot{x, k, 0})
				walk(x[k])
			}
		case []any:
			for i := range x {
				spots = append(spots, spot{x, "", i})
				walk(x[i])
			}
		}
	}
	walk(v)
	s := spots[r.IntN(len(spots))]
	switch x := s.in.(type) {
	case map[string]any:
		switch r.IntN(4) {
		case 0:
			delete(x, s.key)
		case 1:
			old := x[s.key]
			delete(x, s.key)
			x[keys[r.IntN(len(keys))]] = old
		case 2:
			x[keys[r.IntN(len(keys))]] = fresh()
		default:
			x[s.key] = fresh()
		}
	case []any:
		x[s.i] = fresh()
	default:
		panic(fmt.Sprint(s))
	}
}
