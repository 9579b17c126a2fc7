package layout

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
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
		require.False(t, declaration.Failed(msgs), "%s\n%v", text, msgs)
		name := fmt.Sprintf("t%d", r.IntN(5)) // t3 and t4 are new
		base := fmt.Sprintf("http://new%d", r.IntN(100))
		out, err := PutTarget(text, declaration.Target{Name: name, Base: base, Pace: declaration.Pace{Count: 9,
			Per: time.Second}, Unsafe: declaration.UnsafeMade})
		require.NoError(t, err, text)
		after, msgs := parse(t, out)
		require.False(t, declaration.Failed(msgs), "%s\n%v", out, msgs)
		require.Equal(t, base, after.TargetNamed(name).Base)
		require.Equal(t, declaration.UnsafeMade, after.TargetNamed(name).Unsafe)
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
		require.False(t, declaration.Failed(msgs), "%s\n%v", out, msgs)
		require.Len(t, after.Routes, len(before.Routes)+2)
		assert.Equal(t, "POST /new", after.Routes[len(after.Routes)-1].Key())
		assert.Equal(t, declaration.Command, after.Routes[len(after.Routes)-1].Effect)
	}
}

func TestPutTargetLeavesTheRestAlone(t *testing.T) {
	text := "millgate: 1 # one\n\ntargets: # where\n  a: # first\n    base: http://a.example # stays?\n    pace: 5 " +
		"per 1s\n\n  # about b\n  b:\n    base: http://b.example\n\n# roles next\nroles:\n  x:\n"
	out, err := PutTarget(text, declaration.Target{Name: "b", Base: "http://new.example",
		Pace:   declaration.Pace{Count: 9, Per: time.Second},
		Unsafe: declaration.UnsafeMade, AskFor: []string{"/x"}})
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(text, "    base: http://b.example\n",
		"    base: http://new.example\n    pace: 9 per 1s\n    unsafe: made-records-only\n    ask_for: [/x]\n", 1), out)

	out, err = PutTarget(text, declaration.Target{Name: "c", Base: "http://c.example"})
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(text, "    base: http://b.example\n",
		"    base: http://b.example\n  c:\n    base: http://c.example\n", 1), out)

	out, err = PutTarget("millgate: 1\n", declaration.Target{Name: "c", Base: "http://c.example",
		Hosts: map[string]string{"id": "http://i.example:1"}})
	require.NoError(t, err)
	d, msgs := parse(t, out)
	require.Empty(t, msgs)
	assert.Equal(t, "http://i.example:1", d.TargetNamed("c").Hosts["id"])

	out, err = PutTarget("targets: { a: { base: \"http://a.example\" } }\n",
		declaration.Target{Name: "b", Base: "http://b.example"})
	require.NoError(t, err)
	assert.Equal(t, "targets:\n  a: { base: \"http://a.example\" }\n  b:\n    base: http://b.example\n", out)
}

// What a form does not know stays, whatever word a target gets.
func TestPutTargetKeepsWhatItDoesNotWrite(t *testing.T) {
	by := map[string]string{"pass": "{ header: X-P, value: env:P }", "drill": "2s", "ca": "a.pem",
		"client": "{ cert: c.pem, key: env:K }", "headers": "{ X-Site: north }", "mark": "X-Mark",
		"refuses": "tests", "describes": "nobody"}
	for _, word := range declaration.TargetWords {
		if slices.Contains(putWords, word) {
			continue
		}
		require.Contains(t, by, word, "give it a value here, or write it in PutTarget")
		line := "    " + word + ": " + by[word] + " # by hand\n"
		text := "millgate: 1.1\ntargets:\n  a:\n    base: http://a.example\n" + line
		_, msgs := parse(t, text)
		require.False(t, declaration.Failed(msgs), "%v", msgs)
		out, err := PutTarget(text, declaration.Target{Name: "a", Base: "http://b.example"})
		require.NoError(t, err)
		assert.Equal(t, strings.Replace(text, "a.example", "b.example", 1), out)
	}
}

func TestPutSample(t *testing.T) {
	text := "millgate: 1\nroutes:\n  - POST /a # plain\n  - { at: POST /b, effect: command }  # kept\n  - { at: POST " +
		"/c, send: { json: { x: [1, \"}\"] } }, effect: command }\n  - at: POST /d\n    effect: command\n  - GET /z\n"
	body := json.RawMessage("{\n \"n\": 1, \"s\": \"a: b\" }")
	for key, want := range map[string]string{
		"POST /b": strings.Replace(text, "effect: command }  # kept",
			`effect: command, send: { json: { "n": 1, "s": "a: b" } } }  # kept`, 1),
		"POST /c": strings.Replace(text, `send: { json: { x: [1, "}"] } }`, `send: { json: { "n": 1, "s": "a: b" } }`,
			1),
		"POST /e": text + "  - { at: POST /e, send: { json: { \"n\": 1, \"s\": \"a: b\" } } }\n",
	} {
		out, err := PutSample(text, key, body)
		require.NoError(t, err, key)
		assert.Equal(t, want, out, key)
	}
	out, err := PutSample(text, "POST /a", body)
	require.NoError(t, err)
	d, msgs := parse(t, out)
	require.Empty(t, msgs)
	assert.JSONEq(t, string(body), string(d.Routes[0].Send.JSON))
	out, err = PutSample(text, "POST /d", body)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(text, "    effect: command\n", "    effect: command\n    send: { json: "+
		"{ \"n\": 1, \"s\": \"a: b\" } }\n", 1), out)
	_, err = PutSample("routes: [&x POST /a]\n", "&x POST /a", body)
	assert.ErrorIs(t, err, errLayout)
	_, err = PutSample(text, "POST /b", json.RawMessage("{"))
	assert.ErrorContains(t, err, "not JSON")
}

func TestAddRoutes(t *testing.T) {
	out, err := AddRoutes("millgate: 1\nroutes:\n# all\n- GET /a\n\nroles:\n  x:\n", []string{"GET /b", "from: f.yaml"})
	require.NoError(t, err)
	assert.Equal(t, "millgate: 1\nroutes:\n# all\n- GET /a\n- GET /b\n- from: f.yaml\n\nroles:\n  x:\n", out)
	out, err = AddRoutes("", []string{"GET /b"})
	require.NoError(t, err)
	assert.Equal(t, "routes:\n  - GET /b\n", out)
	out, err = AddRoutes("routes: [GET /a] # one\nroles: {}\n", []string{"GET /b"})
	require.NoError(t, err)
	assert.Equal(t, "routes:\n  - GET /a\n  - GET /b\n# one\nroles: {}\n", out)
}

// parse reads a text; where it names other files, there is none.
func parse(t testing.TB, text string) (*declaration.Document, []declaration.Message) {
	t.Helper()
	return declaration.Parse("x.gate.yaml", []byte(text), func(string) ([]declaration.Imported, []error) {
		return nil, []error{errors.New("there is no such file")}
	})
}

func FuzzPutTarget(f *testing.F) {
	b, err := os.ReadFile("../testdata/things.gate.yaml")
	require.NoError(f, err)
	f.Add(string(b))
	f.Fuzz(func(t *testing.T, text string) {
		_, msgs := parse(t, text)
		out, err := PutTarget(text, declaration.Target{Name: "fuzz", Base: "http://f.example"})
		if err != nil || declaration.Failed(msgs) {
			return
		}
		if d, msgs := parse(t, out); !declaration.Failed(msgs) && d.TargetNamed("fuzz") == nil {
			t.Fatalf("the target is not in\n%s", out)
		}
	})
}
