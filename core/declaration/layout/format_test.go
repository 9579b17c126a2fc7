package layout

import (
	"math/rand/v2"
	"os"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

func commentsOf(text string) []string {
	var out []string
	for _, l := range strings.Split(text, "\n") {
		if i := strings.Index(l, "# "); i == 0 || i > 0 && l[i-1] == ' ' {
			out = append(out, l[i:])
		}
	}
	sort.Strings(out)
	return out
}

// Whatever the layout was, the canonical one says the same, has the same
// comments, and is its own canonical layout.
func TestFormatKeepsMeaningAndComments(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	for range 2000 {
		w := &writer{r: r}
		text := w.text()
		out, err := Format(text)
		require.NoError(t, err, text)
		before, _ := parse(t, text)
		after, msgs := parse(t, out)
		require.False(t, declaration.Failed(msgs), "%s\nbecame\n%s\n%v", text, out, msgs)
		require.Equal(t, dump(before), dump(after), "%s\nbecame\n%s", text, out)
		require.Equal(t, commentsOf(text), commentsOf(out), "%s\nbecame\n%s", text, out)
		again, err := Format(out)
		require.NoError(t, err, out)
		require.Equal(t, out, again, "it is not its own:\n%s", text)
	}
}

func TestFormat(t *testing.T) {
	text := "# head\n\ntitle:   Things   # what\nmillgate: 1\nroles:\n      r:   \n\n      # two\n      s:  " +
		"{includes:  r,}\naccess:\n- {at: \"GET /a\",who: [ r,s ]}\n# next\n-   at: GET /b\n    # why\n    who:\n    " +
		"- r\n    given: {ok: true}\nroutes:\n  - at: POST /c\n    send: { text: |\n      }\n"
	text = strings.Replace(text, "    send: { text: |\n      }\n", "    summary: |\n      two\n       lines\n", 1)
	out, err := Format(text)
	require.NoError(t, err)
	assert.Equal(t, `# head

millgate: 1
title: Things # what

routes:
  - at: POST /c
    summary: |
      two
       lines

roles:
  r:

  # two
  s: { includes: r }

access:
  - { at: "GET /a", who: [r, s] }
  # next
  - at: GET /b
    # why
    who:
      - r
    given: { ok: true }
`, out)
	for odd, says := range map[string]string{"a: [": "line 1: ", "- x\n": "not one mapping of sections",
		"unknown: 1\n": `line 1: "unknown" is no section`, "  title: x\n": "line 1 is indented",
		"roles:\n  ? reader\n  : {}\n":            "what was written could not be read",
		"roles: { a, b }\n# x\n--- \nroles: {}\n": "not one mapping"} {
		_, err := Format(odd)
		assert.ErrorContains(t, err, says, odd)
	}
	for _, text := range []string{"", "title: \"a\\tb\" #\ttab\n", "title: x # y\r\nroles: {}\r\n"} {
		out, err := Format(text)
		require.NoError(t, err, text)
		assert.Equal(t, strings.ReplaceAll(text, "\r", ""), strings.ReplaceAll(out, "\n\n", "\n"), "%q", out)
	}
}

// The demo is written in the canonical layout already.
func TestExampleIsCanonical(t *testing.T) {
	b, err := os.ReadFile("../../../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	out, err := Format(string(b))
	require.NoError(t, err)
	assert.Equal(t, string(b), out)
}

// Whatever is written in the canonical layout says what was said before, to the language
// itself; of a sound declaration it is its own canonical layout.
func FuzzFormat(f *testing.F) {
	b, err := os.ReadFile("../testdata/things.gate.yaml")
	require.NoError(f, err)
	f.Add(string(b))
	r := rand.New(rand.NewPCG(33, 34))
	for range 20 {
		w := &writer{r: r}
		f.Add(w.text())
	}
	f.Add("roles:\n  ? reader\n  : {}\n")
	f.Fuzz(func(t *testing.T, text string) {
		out, err := Format(text)
		if err != nil {
			return
		}
		before, told := parse(t, text)
		after, msgs := parse(t, out)
		require.Equal(t, declaration.Failed(told), declaration.Failed(msgs), "%q became %q", text, out)
		require.Equal(t, dump(before), dump(after), "%q became %q", text, out)
		if declaration.Failed(told) {
			return // what it should look like is not known
		}
		again, err := Format(out)
		require.NoError(t, err, out)
		require.Equal(t, out, again, "%q is not its own", text)
	})
}
