package token

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRights(t *testing.T) {
	for _, x := range []struct {
		name, claims string
		want         []Right
	}{
		{"roles and scopes", `{"roles":["keeper","owner"],"scope":"read write"}`,
			[]Right{{"/roles", "roles", []string{"keeper", "owner"}}, {"/scope", "scopes", []string{"read", "write"}}}},
		{"one deeper comes behind", `{"realm":{"roles":["a"]},"scp":["b"]}`,
			[]Right{{"/scp", "scopes", []string{"b"}}, {"/realm/roles", "roles", []string{"a"}}}},
		{"a name that is a host", `{"https://a.example/roles":["a"]}`, nil},
		{"no list of names", `{"roles":[{"id":3}],"groups":7,"scope":"","permissions":[1,2],"role":null}`, nil},
		{"a person is no role", `{"role":"ann@example.org","groups":["a b"]}`, nil},
		{"too deep", `{"a":{"b":{"c":{"d":{"roles":["x"]}}}}}`, nil},
	} {
		t.Run(x.name, func(t *testing.T) {
			tok := Decode(encode([]byte(`{"alg":"RS256"}`)) + "." + encode([]byte(x.claims)) + ".AA")
			assert.Equal(t, x.want, tok.Rights())
			assert.Equal(t, x.want, Look(tok, Context{}).Token().Rights(), "what is kept says the same")
		})
	}
}
