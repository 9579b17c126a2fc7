package declaration

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What cannot be sent, or reads otherwise than it looks, is said where it stands.
func TestWhatLooksOdd(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"a port that is none", `targets: { t: { base: "http://h:70000" } }`, "error: 70000 is no port"},
		{"port zero", `targets: { t: { base: "http://h:0" } }`, "error: 0 is no port"},
		{"a name that is no field", `routes: [{ at: GET /a, send: { headers: { "X A": b } } }]`,
			`warning: "X A" is no name of a header field`},
		{"a value of two lines", `routes: [{ at: GET /a, send: { headers: { X-A: "b\nc" } } }]`,
			"warning: the value of X-A is no line"},
		{"of a login", `schemes: { s: { kind: bearer, login: { send: POST /l, headers: { "X:": b }, take: { access: /t } } } }`,
			`warning: "X:" is no name of a header field`},
		{"one parameter twice", `routes: ["GET /a/{id}/b/{id}"]`, "{id} stands twice"},
		{"a sign that turns the direction", "title: \"Vil\u202elage\"", "warning: the text holds the sign U+202E"},
		{"in a name", "roles: { \"a\u2066b\": }", "warning: the text holds the sign U+2066"},
		{"a NUL", `title: "a\0b"`, "warning: the text holds the sign U+0000"},
		{"years", "lifetimes: { l: { max: 800d } }", "warning: max is 800d: more than a year"},
		{"centuries", "lifetimes: { l: { max: 900000d } }", "error: \"900000d\" is longer than a time can be"},
		{"a short secret", `schemes: { s: { kind: bearer } }
identities: { ann: { credentials: { s: { token: abc } } } }`, "warning: token is so short"},
	} {
		_, msgs := Parse("x", []byte("millgate: 1.1\n"+c.text+"\n"), nil)
		var all []string
		for _, m := range msgs {
			all = append(all, m.String())
		}
		assert.Contains(t, strings.Join(all, "\n"), c.want, c.name)
	}
	_, msgs := Parse("x",
		[]byte("millgate: 1.1\ntargets: { t: { base: \"http://h:65535\" } }\nlifetimes: { l: { max: 365d } }\n"),
		nil)
	assert.Empty(t, msgs)
}
