package pages

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

func declarationOf(t *testing.T, version, access string, more ...string) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("t.gate.yaml", []byte("millgate: "+version+"\nroutes: [GET /a, POST /a, DELETE /a]\n"+
		"access: ["+access+"]\n"+strings.Join(more, "")), nil)
	require.False(t, declaration.Failed(msgs), "%v", msgs)
	return d
}

func TestCompare(t *testing.T) {
	t.Parallel()
	read := func(origins string) *declaration.Document {
		return declarationOf(t, "1", "{ at: /**, who: anyone }", origins)
	}
	allow := func(s string) string { return "origins: [{ at: /**, allow: " + s + " }]\n" }
	x, y := "https://x.example", "https://y.example"
	for name, c := range map[string]struct {
		old, now string
		changes  []Turned
	}{
		"nothing changes": {allow(`{ "` + x + `": {} }`), allow(`{ "` + x + `": {} }`), nil},
		"the first page is let in": {"", allow(`{ "` + x + `": {} }`),
			[]Turned{{"GET /a", x, "send", "read"}}},
		"a page is let in no longer": {allow(`{ "` + x + `": { methods: DELETE } }`), "",
			[]Turned{{"DELETE /a", x, "read", "nothing"}}},
		"another page": {allow(`{ "` + x + `": {} }`), allow(`{ "` + y + `": {} }`),
			[]Turned{{"GET /a", x, "read", "send"}, {"GET /a", y, "send", "read"}}},
		"any page was, and one is": {allow("any"), allow(`{ "` + x + `": {} }`),
			[]Turned{{"GET /a", "unrelated", "read", "send"}, {"GET /a", "null", "read", "send"}}},
		"the user's cookies go with it": {allow(`{ "` + x + `": {} }`), allow(`{ "` + x + `": { credentials: true } }`),
			[]Turned{{"GET /a", x, "read", "read-as-user"}}},
	} {
		list, turned := Compare(read(c.old), read(c.now))
		var got []Turned
		for _, k := range turned {
			// Names that look like a declared one are as unrelated as others.
			if k.Was != k.Becomes && (k.Page == x || k.Page == y || k.Page == "unrelated" || k.Page == "null") {
				got = append(got, k)
			}
		}
		assert.ElementsMatch(t, c.changes, got, name)
		for _, p := range list {
			n := 0
			for _, k := range p.Now {
				n += k
			}
			assert.Equal(t, 3, n, "%s: %s", name, p.ID)
		}
	}
	open := declarationOf(t, "1.1", "{ at: /**, who: undecided }")
	_, turned := Compare(open, declarationOf(t, "1.1", "{ at: /**, who: anyone }"))
	assert.NotEmpty(t, turned, "they are seen on the board")
	assert.Zero(t, Changes(turned), "that somebody decides who may call lets no page do more")
	more, msgs := declaration.Parse("t.gate.yaml", []byte("millgate: 1\nroutes: [GET /a, GET /new]\n"+
		"access: [{ at: /**, who: anyone }]\n"), nil)
	require.False(t, declaration.Failed(msgs), "%v", msgs)
	_, turned = Compare(read(""), more)
	assert.Zero(t, Changes(turned), "a route of one alone is no change of what pages may do")
}
