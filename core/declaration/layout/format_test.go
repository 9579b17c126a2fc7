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
		out := Format(text)
		before, _ := parse(t, text)
		after, msgs := parse(t, out)
		require.False(t, declaration.Failed(msgs), "%s\nbecame\n%s\n%v", text, out, msgs)
		require.Equal(t, dump(before), dump(after), "%s\nbecame\n%s", text, out)
		require.Equal(t, commentsOf(text), commentsOf(out), "%s\nbecame\n%s", text, out)
		require.Equal(t, out, Format(out), "it is not its own:\n%s", text)
	}
}

func TestFormat(t *testing.T) {
	text := "# head\n\ntitle:   Things   # what\nmillgate: 1\nroles:\n      r:   \n\n      # two\n      s:  " +
		"{includes:  r,}\naccess:\n- {at: \"GET /a\",who: [ r,s ]}\n# next\n-   at: GET /b\n    # why\n    who:\n    " +
		"- r\n    given: {ok: true}\nroutes:\n  - at: POST /c\n    send: { text: |\n      }\n"
	text = strings.Replace(text, "    send: { text: |\n      }\n", "    summary: |\n      two\n       lines\n", 1)
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
`, Format(text))
	for _, odd := range []string{"", "a: [", "- x\n", "millgate: 1\nmillgate: 1\n", "unknown: 1\n"} {
		assert.Equal(t, odd, Format(odd))
	}
}

// The demo is written in the canonical layout already.
func TestExampleIsCanonical(t *testing.T) {
	b, err := os.ReadFile("../../../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	assert.Equal(t, string(b), Format(string(b)))
}
