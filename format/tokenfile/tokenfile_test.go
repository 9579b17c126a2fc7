package tokenfile

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func all(t testing.TB, text string) string {
	var out []string
	require.NoError(t, Each(strings.NewReader(text), nil, func(f Found) bool {
		out = append(out, fmt.Sprintf("%d:%s", f.Line, f.Text))
		return true
	}))
	return strings.Join(out, " ")
}

func TestEach(t *testing.T) {
	const a, b = "eyJhIjox.eyJi.c2ln", "eyJiIjox.eyJj.c2lnMg"
	long := strings.Repeat("x ", window)
	for text, want := range map[string]string{
		"":                             "",
		a + "\n\n" + b:                 "1:" + a + " 3:" + b,
		a + "\r\n5f20opaque\n# note\n": "1:" + a + " 2:5f20opaque",
		`{"t":"` + a + `","u":"` + b + "\"}\n{\"t\":\"" + b + `"}`: "1:" +
			a + " 1:" + b + " 2:" + b,
		"h - - [d] \"GET /?access_token=" + a + "&x=1 HTTP/1.1\" 200 1\nfoo bar baz\n":                        "1:" + a,
		`{"log":{"entries":[{"request":{"headers":[{"name":"Authorization","value":"Bearer ` + a + `"}]}}]}}`: "1:" + a,
		long + a + " " + b + " " + long + "\n" + b: "1:" +
			a + " 1:" + b + " 2:" + b,
		"it was " + a + "- and " + b + "_, then " + a + ".": "1:" + a + "- 1:" + b + "_ 1:" + a, // base64url has both
		"see eyJhbGci and eyJ.x":                            "",
		"zeyJhIjox.eyJi.c2ln x":                             "",
	} {
		assert.Equal(t, want, all(t, text), "%.80q", text)
	}
	// Wherever the window ends, a token is found once and whole.
	for off := window - 60; off < window+40; off++ {
		assert.Equal(t, "1:"+a, all(t, strings.Repeat(" ", off)+a+" end"), off)
	}
	n := 0
	require.NoError(t, Each(strings.NewReader(a+"\n"+b), nil, func(Found) bool { n++; return false }))
	assert.Equal(t, 1, n, "it stops when it is told to")
	broken := errors.New("gone")
	err := Each(io.MultiReader(strings.NewReader(a+"\n"), failing{broken}), nil, func(Found) bool { return true })
	assert.ErrorIs(t, err, broken)
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }
