package declaration

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layouts writes the same three targets in ways that people do.
func layouts(r *rand.Rand) string {
	var b strings.Builder
	indent := strings.Repeat(" ", 2+r.IntN(3))
	maybe := func(s string) {
		if r.IntN(2) == 0 {
			b.WriteString(s)
		}
	}
	b.WriteString("# head\nmillgate: 1 # one\n")
	maybe("\n")
	b.WriteString("targets:")
	maybe(" # all of them")
	b.WriteString("\n")
	for i := range 3 {
		maybe(indent + fmt.Sprintf("# about t%d\n", i))
		if r.IntN(3) == 0 {
			fmt.Fprintf(&b, "%st%d: { base: \"http://h%d\", pace: 5 per 1s }", indent, i, i)
			maybe(" # in one line")
			b.WriteString("\n")
		} else {
			fmt.Fprintf(&b, "%st%d:", indent, i)
			maybe(" # several lines")
			fmt.Fprintf(&b, "\n%s%sbase: http://h%d\n", indent, indent, i)
			maybe(indent + indent + "# inside\n")
			maybe(indent + indent + "pace: 7 per 1s\n")
		}
		maybe("\n")
	}
	maybe("# roles come next\n")
	b.WriteString("roles:\n  a: # first\n  b: { includes: a }\n")
	maybe("\nroutes:\n  - GET /a # the one\n")
	return b.String()
}

// Whatever the layout, an edit changes the lines of its target and no other:
// every other line is there afterwards, in the same order.
func TestEditsLeaveOtherLinesAlone(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for range 800 {
		text := layouts(r)
		before, msgs := parse(t, text)
		require.False(t, Failed(msgs), "%s\n%v", text, msgs)
		name := fmt.Sprintf("t%d", r.IntN(5)) // t3 and t4 are new
		base := fmt.Sprintf("http://new%d", r.IntN(100))
		out, err := PutTarget(text, Target{Name: name, Base: base, Pace: Pace{9, time.Second}, Unsafe: UnsafeMade})
		require.NoError(t, err, text)
		after, msgs := parse(t, out)
		require.False(t, Failed(msgs), "%s\n%v", out, msgs)
		require.Equal(t, base, after.TargetNamed(name).Base)
		require.Equal(t, UnsafeMade, after.TargetNamed(name).Unsafe)
		for _, o := range before.Targets {
			if o.Name != name {
				n := after.TargetNamed(o.Name)
				require.NotNil(t, n, out)
				require.Equal(t, o.Base, n.Base)
				require.Equal(t, o.Pace, n.Pace)
			}
		}
		// The lines outside the target are a subsequence of the new text.
		old := map[string]bool{}
		if b := before.TargetNamed(name); b != nil {
			next := len(strings.Split(strings.TrimRight(text, "\n"), "\n"))
			for _, o := range before.Targets {
				if o.Line > b.Line && o.Line <= next {
					next = o.Line - 1
				}
			}
			for i, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
				if i+1 >= b.Line && i < next {
					old[fmt.Sprint(i)] = true
					_ = l
				}
			}
		}
		lines := strings.Split(strings.TrimRight(out, "\n"), "\n")
		at := 0
		for i, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
			if old[fmt.Sprint(i)] {
				continue
			}
			found := false
			for at < len(lines) && !found {
				found = lines[at] == l
				at++
			}
			require.True(t, found, "line %d %q is lost:\n%s\nbecame\n%s", i+1, l, text, out)
		}
	}
}

func TestAddedRoutesAreTheLastOnes(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	for range 500 {
		text := layouts(r)
		before, _ := parse(t, text)
		out, err := AddRoutes(text, []string{"GET /new", "{ at: POST /new, effect: command }"})
		require.NoError(t, err)
		after, msgs := parse(t, out)
		require.False(t, Failed(msgs), "%s\n%v", out, msgs)
		require.Len(t, after.Routes, len(before.Routes)+2)
		assert.Equal(t, "POST /new", after.Routes[len(after.Routes)-1].Key())
		assert.Equal(t, Command, after.Routes[len(after.Routes)-1].Effect)
	}
}
