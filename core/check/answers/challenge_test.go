package answers

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
)

func TestChallengesAreRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                          "",
		"Bearer":                    "Bearer",
		`Bearer realm="a, Basic b"`: "Bearer",
		`Bearer realm="a\", Basic", scope=x, Basic realm=y`: "Bearer Basic",
		`Negotiate abc==, bearer`:                           "Negotiate bearer",
		`Digest realm = "x" , nonce ="y", Basic	realm=z`:    "Digest Basic",
		`, ,Basic,`:                        "Basic",
		`Bearer realm="never ended, Basic`: "",
		`Bearer, Basic realm="never ended`: "Bearer",
		`realm="x"`:                        "",
		`"quoted" Bearer`:                  "",
	} {
		got := challenges(check.Answer{Headers: [][2]string{{"www-authenticate", text}}})
		assert.Equal(t, want, strings.Join(got, " "), text)
	}
	assert.Equal(t, []string{"Basic", "Bearer"}, challenges(check.Answer{Headers: [][2]string{
		{"WWW-Authenticate", "Basic"}, {"x", "Digest"}, {"Www-Authenticate", "Bearer"}}}), "of several fields")
}

// A 401 bears at least one challenge of those that its route accepts; nothing is asked where none of them says its own.
func TestUnchallenged(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
routes: [GET /a, GET /b, GET /open, GET /none, GET /closed]
schemes:
  access: { kind: bearer, challenge: Bearer }
  staff: { kind: basic, challenge: Basic }
  machine: { kind: bearer, challenge: bearer }
  desk: { kind: cookie, name: desk }
access:
  - { at: GET /a, who: signed-in, by: [access, machine, desk] }
  - { at: GET /b, who: signed-in, by: [access, staff] }
  - { at: GET /open, who: anyone }
  - { at: GET /none, who: signed-in, by: desk }
  - { at: GET /closed, who: nobody }
`), nil)
	require.False(t, declaration.Failed(msgs), "%v", msgs)
	for _, c := range []struct {
		route  string
		status int
		field  string
		want   string
	}{
		{"GET /a", 401, "", "a 401 must bear a challenge of Bearer (WWW-Authenticate), it bears none"},
		{"GET /a", 401, "bearer realm=x", ""}, {"GET /a", 403, "", ""},
		{"GET /a", 401, "Basic", "a 401 must bear a challenge of Bearer (WWW-Authenticate), it bears Basic"},
		{"GET /b", 401, "Digest a=b, Basic", ""},
		{"GET /b", 401, "", "a 401 must bear a challenge of Bearer or Basic (WWW-Authenticate), it bears none"},
		{"GET /open", 401, "", ""}, {"GET /none", 401, "", ""}, {"GET /closed", 401, "", ""}, {"", 401, "", ""},
	} {
		a := check.Answer{Status: c.status}
		if c.field != "" {
			a.Headers = [][2]string{{"WWW-Authenticate", c.field}}
		}
		s, ok := Slip{}, false
		if i := d.RouteNamed(c.route); i >= 0 {
			s, ok = unchallenged(a, d, i)
		}
		assert.Equal(t, c.want != "", ok)
		assert.Equal(t, c.want, s.Reason, "%s %d %s", c.route, c.status, c.field)
	}
}
