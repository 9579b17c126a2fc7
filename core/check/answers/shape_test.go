package answers

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

func TestCheckAnswer(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1
answers:
  401: { type: application/problem+json, headers: [WWW-Authenticate], has: [/detail] }
  errors: { type: application/problem+json }
  never: { fields: [password], text: ["goroutine "] }
  schema: exact
`), nil)
	require.Empty(t, msgs)
	problem := [2]string{"Content-Type", "Application/Problem+JSON; charset=utf-8"}
	shape := map[int]*declaration.Shape{200: {Fields: map[string]*declaration.Shape{"id": {},
		"tags": {Items: &declaration.Shape{Fields: map[string]*declaration.Shape{"n": {}}}}}}}
	for _, c := range []struct {
		name string
		a    check.Answer
		want string
	}{
		{"a sound refusal", check.Answer{Status: 401, Headers: [][2]string{problem, {"www-authenticate", "Bearer"}},
			Body: []byte(`{"detail":"x"}`)}, ""},
		{"all that can be missing", check.Answer{Status: 401, Headers: [][2]string{{"Content-Type", "text/html"}}},
			"W type, W header www-authenticate, W has /detail"},
		{"a type with a parameter twice", check.Answer{Status: 404, Headers: [][2]string{{"Content-Type",
			"application/problem+json; charset=utf-8; charset=latin1"}}}, ""},
		{"every other error", check.Answer{Status: 404}, "W type"},
		{"not an error", check.Answer{Status: 200}, ""},
		{"a field, deep", check.Answer{Status: 200, Body: []byte(`{"id":1,"tags":[{"n":1,"Password":"x"}]}`)},
			"L field Password"},
		{"a field that is null", check.Answer{Status: 200, Body: []byte(`{"id":1,"password":null}`)}, ""},
		{"a text", check.Answer{Status: 500, Headers: [][2]string{problem}, Body: []byte("goroutine 7 [running]")},
			"L text goroutine "},
		{"beyond the schema", check.Answer{Status: 200, Body: []byte(`{"id":1,"salary":2,"tags":[{"n":1,"m":2}]}`)},
			"L schema /salary,/tags/m"},
		{"no answer", check.Answer{}, ""},
	} {
		var got []string
		for _, s := range CheckAnswer(c.a, d.Answers, shape) {
			got = append(got, string(s.Kind)+" "+s.Cause)
			assert.NotEmpty(t, s.Reason)
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), c.name)
	}
}

// What a text must be, and what every answer must have beside what its status asks for.
func TestEqualsAndAll(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
answers:
  429: { has: [/detail], equals: { /support: call the night desk, /left: 0, /again: true } }
  errors: { type: application/problem+json }
  all: { headers: [Cache-Control], type: application/problem+json }
`), nil)
	require.Empty(t, msgs)
	as := func(status int, body string, more ...[2]string) check.Answer {
		return check.Answer{Status: status, Body: []byte(body),
			Headers: append([][2]string{{"Content-Type", "application/problem+json"}}, more...)}
	}
	stored := [2]string{"Cache-Control", "no-store"}
	head := as(429, "", stored)
	head.NoBody = true
	for _, c := range []struct {
		name string
		a    check.Answer
		want string
	}{
		{"as declared", as(429, `{"detail":"x","support":"call the night desk","left":0,"again":true}`, stored), ""},
		{"other texts", as(429, `{"detail":"x","support":"call us","left":1,"again":"yes"}`, stored),
			"W equals /support, W equals /left, W equals /again"},
		{"a list in place of a text", as(429, `{"detail":"x","support":[],"left":0,"again":true}`, stored),
			"W equals /support"},
		{"not there", as(429, `{"detail":"x"}`, stored), "W has /support, W has /left, W has /again"},
		{"no body to look at", head, ""},
		{"every answer", as(200, "{}"), "W header cache-control"},
		{"said once of a type", check.Answer{Status: 500, Headers: [][2]string{stored}}, "W type"},
	} {
		var got []string
		for _, s := range CheckAnswer(c.a, d.Answers, nil) {
			got = append(got, string(s.Kind)+" "+s.Cause)
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), c.name)
	}
	assert.Equal(t, "answered with an error in which /support is another text",
		Slip{Cause: "equals /support"}.Shared(429))
}

func FuzzCheckAnswer(f *testing.F) {
	f.Add(200, "application/json", `{"a":[{"password":1}]}`)
	d, _ := declaration.Parse("x", []byte("millgate: 1\nanswers: { never: { fields: [password] }, schema: exact, "+
		"errors: { type: a/b, has: [/a/0/b] } }\n"), nil)
	f.Fuzz(func(t *testing.T, status int, ct, body string) {
		a := check.Answer{Status: status, Headers: [][2]string{{"Content-Type", ct}, {"Location", body}},
			Body: []byte(body)}
		check.Classify(a, d.Answers)
		for _, s := range CheckAnswer(a, d.Answers,
			map[int]*declaration.Shape{0: {Fields: map[string]*declaration.Shape{"a": {}}}}) {
			if s.Reason == "" || s.Cause == "" {
				t.Fatal("a slip without words")
			}
		}
	})
}

// A slip is a gap of the row that says what it is; of a shape that is wrong there is one.
func TestWatch(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1\nroutes: [GET /a]\nanswers: { never: { fields: [pin], text: "+
		"[trace] }, errors: { type: a/b, has: [/code] } }\n"), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	watch := func(x check.Exchange) (causes []string, unsure string) {
		r := check.Report{Fate: check.Answered, Exchange: x}
		gaps, unsure := Family{}.Watch(&check.Context{Doc: d}, "GET /a", r)
		for _, g := range gaps {
			assert.Equal(t, finding.Proven, g.Proof.Confidence())
			assert.NotEmpty(t, g.Says)
			causes = append(causes, string(g.Cause.Kind)+" "+g.Cause.Cause+g.What)
		}
		return causes, unsure
	}
	causes, unsure := watch(check.Exchange{Status: 200, Content: `{"pin":1,"s":"a trace"}`})
	assert.Equal(t, []string{"L text trace", "L field pin"}, causes)
	assert.Empty(t, unsure)
	causes, _ = watch(check.Exchange{Status: 403, Content: "{}"})
	assert.Equal(t, []string{"W answer", "W answer"}, causes, "type and member")
	causes, unsure = watch(check.Exchange{Status: 200, Content: "a part", Truncated: true})
	assert.Empty(t, causes)
	assert.Contains(t, unsure, "was not checked beyond the first part")
	causes, _ = watch(check.Exchange{})
	assert.Empty(t, causes, "what was never answered shows nothing")
}

// Slips of one cause are one finding wherever they are, by what is said of them.
func TestWhatSlipsShare(t *testing.T) {
	for cause, want := range map[string]string{"header retry-after": "an error without retry-after",
		"has /detail": "an error without /detail", "equals /support": "an error in which /support is another text",
		"challenge Bearer": "an error without a challenge of Bearer", "type": "an error of another type"} {
		assert.Equal(t, "answered with "+want, Slip{Cause: cause}.Shared(429), cause)
	}
	assert.Equal(t, "answered with 200 of another type", Slip{Cause: "type"}.Shared(200))
}
