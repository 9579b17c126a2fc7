package tokenfile

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

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

// A token whose text was changed on its way into a file is found whole, once, and where it began.
func TestChangedTexts(t *testing.T) {
	enc := base64.RawURLEncoding.EncodeToString
	head := enc([]byte(`{"alg":"ES256","typ":"at+jwt","kid":"key-of-the-year-2026"}`))
	body := enc([]byte(`{"iss":"https://id.fern.example","sub":"imre","aud":"fern","exp":1764072000,"x":"??>>"}`))
	sig := strings.Repeat("Ab-_", 21) + "Qw"
	a := head + "." + body + "." + sig
	rsa := enc([]byte(`{"alg":"RS256"}`)) + "." + body + "." + strings.Repeat("Ab-_", 85) + "Qw"
	wrap := func(s string, at int, between string) string {
		var b strings.Builder
		for len(s) > at {
			b.WriteString(s[:at] + between)
			s = s[at:]
		}
		return b.String() + s
	}
	pct := strings.ReplaceAll(a, ".", "%2E")
	plain := strings.NewReplacer("-", "+", "_", "/").Replace(a)
	for _, c := range []struct{ name, text, want string }{
		{"percent-encoded", "GET /?t=" + pct + "&x=1", "1:" + pct},
		{"percent-encoded, small", "t=" + strings.ToLower("%2E") + strings.ReplaceAll(a, ".", "%2e"),
			"1:" + strings.ReplaceAll(a, ".", "%2e")},
		{"escaped in JSON", `{"t":"` + strings.NewReplacer(".", `\u002e`, "-", `\u002D`).Replace(a) + `"}`, "1:" + a},
		{"JSON in JSON", `{"log":"{\"t\":\"` + a + `\"}"}`, "1:" + a},
		{"behind a prefix", "session tok_" + a + ", and tok." + a, "1:" + a + " 1:" + a},
		{"behind a prefix alone", "s:" + a + "\nv1." + a, "1:" + a + " 2:" + a},
		{"wrapped at 76", "the token\n" + wrap(a, 76, "\n") + "\nand more", "2:" + a},
		{"wrapped with spaces", "Authorization: Bearer\r\n " + wrap(a, 70, "\r\n\t") + "\r\nHost: x", "2:" + a},
		{"wrapped as mail is", "the token:\n" + wrap(a, 75, "=\n") + "\n", "2:" + a},
		{"wrapped, twice", wrap(a, 64, "\n") + "\n" + wrap(rsa, 64, "\n"), fmt.Sprintf("1:%s %d:%s", a,
			(len(a)+63)/64+1, rsa)},
		{"wrapped in the signature", a[:len(a)-20] + "\n" + a[len(a)-20:] + "\n" + a, "1:" + a + " 3:" + a},
		{"one on each line", a + "\n" + rsa + "\n5f20opaque\n" + a, "1:" + a + " 2:" + rsa + " 3:5f20opaque 4:" + a},
		{"behind one that was cut", a[:len(a)-20] + "\n" + a, "1:" + a[:len(a)-20] + " 2:" + a},
		{"before a word that is not the rest of it", a[:len(a)-9] + "\nopaque-3", "1:" + a[:len(a)-9] + " 2:opaque-3"},
		{"before another word", a + "\nsignature", "1:" + a + " 2:signature"},
		{"the other alphabet", "x " + plain + " y", "1:" + plain},
		{"padded", "x " + head + "=." + body + "==." + sig + "== y", "1:" + head + "=." + body + "==." + sig + "=="},
		{"with spaces before it", "Authorization :   Bearer    " + a + "   ", "1:" + a},
		{"in an address", "https://x/" + a + "/more?y=" + a, "1:" + a + " 1:" + a},
		{"white space in its header", "x " + enc([]byte("{ \"alg\":\"none\"}")) + ".e30. y", "1:" +
			enc([]byte("{ \"alg\":\"none\"}")) + ".e30"},
		{"opaque ones", "eyJopaque-of-one-word-that-is-quite-long-0123456789\n5f20-another-opaque-one\n",
			"1:eyJopaque-of-one-word-that-is-quite-long-0123456789 2:5f20-another-opaque-one"},
		{"none", "see eyJhbGci and\nmore words\n", ""},
	} {
		assert.Equal(t, c.want, all(t, c.text), c.name)
	}
}

// What is longer than is read to is found by its size.
func TestTooLong(t *testing.T) {
	for _, n := range []int{Longest - 20, Longest + 1, 200 << 10, 300 << 10, 3 << 20} {
		fill := map[bool]string{true: "+", false: "x"}[n == 200<<10] // what may belong to it is looked through once
		text := "eyJhIjoxfQ." + strings.Repeat(fill, n-len("eyJhIjoxfQ..c2ln")) + ".c2ln"
		var got []Found
		require.NoError(t, Each(strings.NewReader("a "+text+" b\n"+text), nil, func(f Found) bool {
			got = append(got, f)
			return true
		}))
		require.Len(t, got, 2, n)
		for i, f := range got {
			assert.Equal(t, []int{i + 1, n}, []int{f.Line, f.Size}, n)
			assert.Equal(t, n <= Longest, f.Text != "", n)
		}
	}
}

func FuzzEach(f *testing.F) {
	f.Add("a eyJhIjoxfQ.eyJi.c2ln b\neyJhIjoxfQ")
	f.Add("eyJhIjoxfQ%2EeyJi%2\n\\u002e+/==")
	f.Fuzz(func(t *testing.T, text string) {
		line := 0
		require.NoError(t, Each(iotest.OneByteReader(strings.NewReader(text)), nil, func(f Found) bool {
			require.GreaterOrEqual(t, f.Line, line, "in order")
			require.LessOrEqual(t, f.Line, strings.Count(text, "\n")+1)
			require.NotZero(t, f.Size)
			require.Equal(t, f.Size, len(f.Text))
			line = f.Line
			return true
		}))
	})
}
