package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/pointer"
)

func TestClasses(t *testing.T) {
	rules := declaration.Answers{}
	rules.RefusedWhen = []declaration.Refusal{{Status: 200, Has: "/error/code", Is: "refused"}}
	moved := func(to string) [][2]string { return [][2]string{{"location", to}} }
	for _, c := range []struct {
		status  int
		headers [][2]string
		body    string
		want    Class
	}{
		{0, nil, "", Unreachable}, {101, nil, "", Invalid}, {200, nil, "{}", Admitted}, {204, nil, "", Admitted},
		{200, nil, `{"error":{"code":1}}`, Refused}, {201, nil, `{"error":{"code":1}}`, Admitted},
		{302, moved("/home"), "", Admitted}, {302, nil, "", Admitted}, {303, moved("/sign-in?to=/a"), "", ToLogin},
		{302, moved("https://x.example/login"), "", ToLogin}, {302, moved("/catalogin"), "", Admitted},
		{399, moved("/sso"), "", ToLogin}, {401, nil, "", Refused}, {403, nil, "", Forbidden}, {404, nil, "", Hidden},
		{410, nil, "", Hidden}, {429, nil, "", Throttled}, {405, nil, "", WrongMethod}, {501, nil, "", WrongMethod},
		{400, nil, "", Invalid}, {422, nil, "", Invalid}, {499, nil, "", Invalid}, {500, nil, "", Failed},
		{503, nil, "", Failed},
	} {
		got := Classify(Answer{Status: c.status, Headers: c.headers, Body: []byte(c.body)}, rules)
		assert.Equal(t, c.want, got, "%d %v %s", c.status, c.headers, c.body)
	}
	rules.RefusedWhen = []declaration.Refusal{
		{Status: 200, Equals: []declaration.EqualMember{{At: "/error/code", Text: "NO"}}, Is: "forbidden"},
		{Status: 200, Has: "/error", Equals: []declaration.EqualMember{{At: "/kind", Text: "gone"}}, Is: "hidden"},
		{Status: 422, Has: "/error", Is: "invalid"}, {Status: 200, Has: "/error", Is: "refused"},
	}
	for body, want := range map[string]Class{
		`{"error":{"code":"NO"}}`: Forbidden, `{"error":1,"kind":"gone"}`: Hidden, `{"kind":"gone"}`: Admitted,
		`{"error":{"code":["NO"]}}`: Refused, `{"code":"NO"}`: Admitted, `{"error":`: Admitted, ``: Admitted,
	} {
		assert.Equal(t, want, Classify(Answer{Status: 200, Body: []byte(body)}, rules), body)
	}
	rules.LoginPage = "*/door*"
	assert.Equal(t, ToLogin, Classify(Answer{Status: 302, Headers: moved("/the/door?x")}, rules))
	assert.Equal(t, Admitted, Classify(Answer{Status: 302, Headers: moved("/login")}, rules), "another one is declared")
}

func TestGlob(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		want          bool
	}{
		{"/a", "/a", true}, {"/a", "/ab", false}, {"/a*", "/ab", true}, {"*a", "ba", true}, {"*a", "ab", false},
		{"a*c", "abc", true}, {"a*c", "ab", false}, {"*", "anything\nat all", true}, {"a.c", "abc", false},
		{"", "", true}, {"**/login**", "/login?next=/", true}, {"**/login**", "https://id.example/a/login", true},
		{"**/login**", "/logins", true}, {"**/login**", "/log", false}, {"/login", "/login/", false},
		{"/a*z", "/abcz", true}, {"*", "", true},
	} {
		assert.Equal(t, c.want, Glob(c.pattern, c.text), "%q %q", c.pattern, c.text)
	}
}

func TestPoints(t *testing.T) {
	for at, want := range map[pointer.JSON]string{"/n/y": "true", "/n/z": "1.50", "/a~1b": "1"} {
		got, ok := Points([]byte(`{"a/b": 1, "n": {"y": true, "z": 1.50}}`), at)
		assert.True(t, ok, at)
		assert.Equal(t, want, got, at)
	}
	_, ok := Points([]byte("no JSON"), "/a")
	assert.False(t, ok)
}

func TestFields(t *testing.T) {
	a := Answer{Headers: [][2]string{{"Vary", "Origin"}, {"vary", "Accept"}}}
	assert.Equal(t, "Origin", a.Header("VARY"), "the first, and names have no letter case")
	assert.Empty(t, a.Header("Var"))
}

func TestWithoutMembers(t *testing.T) {
	names := []string{"refresh", "access"}
	for _, c := range []struct{ body, media, want string }{
		{`{"r":"{refresh}","n":1,"x":"{other}"}`, "application/json", `{"n":1,"x":"{other}"}`},
		{`{"r":"{access} and more","e":""}`, "application/json", `{"e":"","r":"{access} and more"}`},
		{`r={refresh}&n=1&a={access}`, "application/x-www-form-urlencoded", "n=1"},
		{`no JSON {refresh}`, "application/json", `no JSON {refresh}`},
	} {
		assert.Equal(t, c.want, string(WithoutMembers([]byte(c.body), c.media, names)))
	}
}

const fills = `millgate: 1
targets: { t: { base: "http://127.0.0.1:1", values: { client: desk, name: of-the-target } } }
routes: [GET /a]
schemes: { one: { kind: basic }, two: { kind: basic } }
identities: { ann: { credentials: { one: { username: a, password: kept:P }, two: { username: b, password: kept:Q } } } }
`

func TestWhatStandsForNames(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(fills), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	every, two := FillsOf(d, d.Targets[0], "ann", ""), FillsOf(d, d.Targets[0], "ann", "two")
	for name, want := range map[string][2]Fill{
		"username": {{Identity: "ann", Scheme: "one", Name: "username"},
			{Identity: "ann", Scheme: "two", Name: "username"}},
		"client": {{Name: "client"}, {Name: "client"}},
	} {
		for i, fill := range []func(string) (Fill, bool){every, two} {
			got, ok := fill(name)
			assert.True(t, ok)
			assert.Equal(t, want[i], got)
		}
	}
	_, ok := every("nothing")
	assert.False(t, ok)
	got, ok := FillsOf(d, d.Targets[0], "nobody", "")("name")
	assert.True(t, ok)
	assert.Equal(t, Fill{Name: "name"}, got)
	assert.Equal(t, "POST id:/in", KeyOf(d, &declaration.Request{Method: "POST", Host: "id", Path: "/in"}))
	assert.Equal(t, "GET /a", KeyOf(d, &declaration.Request{Method: "GET", Path: "/a"}))
}

func TestRetryAfter(t *testing.T) {
	now := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	after := func(answer ...[2]string) time.Duration {
		return Exchange{At: now.Add(-time.Second), Took: time.Second, Answer: answer}.RetryAfter()
	}
	for v, want := range map[string]time.Duration{"7": 7 * time.Second,
		"Thu, 01 Jan 2026 00:00:30 GMT": 30 * time.Second, "Wed, 31 Dec 2025 00:00:00 GMT": 0, "soon": -1, "-3": -1,
		"99999999999": longestRetry * time.Second, "99999999999999999999999": longestRetry * time.Second,
		"Fri, 31 Dec 9999 23:59:59 GMT": longestRetry * time.Second} {
		assert.Equal(t, want, after([2]string{"retry-after", v}), v)
	}
	assert.Equal(t, time.Duration(-1), after())
	// A date is by the clock of who says it; one that is a second off is ours.
	later := [2]string{"Retry-After", "Thu, 01 Jan 2026 01:00:30 GMT"}
	assert.Equal(t, 30*time.Second, after(later, [2]string{"Date", "Thu, 01 Jan 2026 01:00:00 GMT"}))
	assert.Equal(t, time.Hour+30*time.Second, after(later, [2]string{"Date", "Thu, 01 Jan 2026 00:00:01 GMT"}))
	assert.Equal(t, time.Hour+30*time.Second, after(later, [2]string{"Date", "now"}))
}

func TestClassify(t *testing.T) {
	var r declaration.Answers
	r.RefusedWhen = []declaration.Refusal{{Status: 200, Has: "/error", Is: "refused"}}
	loc := func(l string) [][2]string { return [][2]string{{"location", l}} }
	for _, c := range []struct {
		a    Answer
		want Class
	}{
		{Answer{Status: 200}, Admitted}, {Answer{Status: 204}, Admitted},
		{Answer{Status: 200, Body: []byte(`{"error":{}}`)}, Refused},
		{Answer{Status: 201, Body: []byte(`{"error":{}}`)}, Admitted},
		{Answer{Status: 301, Headers: loc("/things/")}, Admitted},
		{Answer{Status: 302, Headers: loc("/login?next=/things")}, ToLogin},
		{Answer{Status: 302, Headers: loc("https://id.example/oauth/authorize?x=1")}, ToLogin},
		{Answer{Status: 302, Headers: loc("/blogging")}, Admitted},
		{Answer{Status: 401}, Refused}, {Answer{Status: 403}, Forbidden},
		{Answer{Status: 404}, Hidden}, {Answer{Status: 410}, Hidden},
		{Answer{Status: 429}, Throttled},
		{Answer{Status: 400}, Invalid}, {Answer{Status: 409}, Invalid},
		{Answer{Status: 422}, Invalid}, {Answer{Status: 418}, Invalid},
		{Answer{Status: 405}, WrongMethod}, {Answer{Status: 501}, WrongMethod},
		{Answer{Status: 500}, Failed}, {Answer{Status: 503}, Failed},
		{Answer{}, Unreachable},
	} {
		assert.Equal(t, c.want, Classify(c.a, r), "%d %v", c.a.Status, c.a.Headers)
	}
	r.LoginPage = "**/welcome**"
	assert.Equal(t, ToLogin, Classify(Answer{Status: 302, Headers: loc("/welcome?x")}, r))
	assert.Equal(t, Admitted, Classify(Answer{Status: 302, Headers: loc("/login")}, r),
		"the declaration's own word counts")
}
