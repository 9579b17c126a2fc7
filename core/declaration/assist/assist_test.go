package assist

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"millgate/core/declaration"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var base = func() string {
	b, err := os.ReadFile("../testdata/things.gate.yaml")
	if err != nil {
		panic(err)
	}
	return string(b)
}()

func parse(text string) (*declaration.Document, []declaration.Message) {
	return declaration.Parse("x.gate.yaml", []byte(text), nil)
}

// cursor takes the mark out of a text and says where it stood.
func cursor(t testing.TB, text string) (clean string, line, column int) {
	i := strings.Index(text, "‸")
	require.GreaterOrEqual(t, i, 0)
	clean = text[:i] + text[i+len("‸"):]
	return clean, strings.Count(text[:i], "\n") + 1, columnOf(clean, i)
}

func TestComplete(t *testing.T) {
	d, msgs := parse(base)
	require.Empty(t, msgs)
	head := "millgate: 1\nroles:\n  reader:\n"
	for _, c := range []struct {
		text string
		has  string // the labels that must be offered, the first of them first
		not  string
	}{
		{"‸", "millgate title include", "who"},
		{"millgate: 1\nti‸", "title", "who"},
		{head + "acc‸", "access", "who"},
		{head + "access:\n  - ‸", "at who", "base"},
		{head + "access:\n  - at: GET /things\n    ‸", "at who hide given", "base"},
		{head + "access:\n  - at: GET /things\n    who: ‸", "anyone signed-in nobody owner reader writer identity:ann",
			"access"},
		{head + "access:\n  - at: GET /things\n    who: wr‸", "writer", "reader"},
		{head + "access:\n  - { at: GET /things, who: [reader, ‸", "anyone reader writer", "at"},
		{head + "access:\n  - { at: GET /things, ‸ }", "who broken hide", "base"},
		{head + "access:\n  - { at: GET /things, who: reader, hide: ‸ }", "true false", "at"},
		{head + "access:\n  - { at: GET /th‸", "GET /things GET /things/{id} GET /things/mine", "who"},
		{head + "access:\n  - at: \"GET /th‸", "GET /things", "who"},
		{head + "access:\n  - { at: GET /things, who: signed-in, by: ‸ }", "access key", "reader"},
		{head + "access:\n  - {\n      at: GET /things,\n      who: ‸\n", "anyone reader", "at"},
		{head + "access:\n  - { at: GET /things, who: [{ who: ‸", "anyone signed-in owner reader", "at"},
		{head + "access:\n  - { at: GET /things, who: { who: reader, on: ‸ } }", "own", "reader thing"},
		{head + "records:\n  thing:\n    in: { ‸ }", "thing", "reader"},
		{head + "records:\n  thing:\n    ‸", "fills groups make in", "reader"},
		{head + "identities:\n  ann:\n    in:\n      ‸", "thing", "reader"},
		{head + "schemes:\n  a:\n    kind: ‸", "bearer api-key cookie", "reader"},
		{head + "schemes:\n  a:\n    kind: bearer\n    login: { ‸", "send json", "kind"},
		{head + "identities:\n  zed:\n    roles: ‸", "reader writer", "access"},
		{head + "identities:\n  zed:\n    credentials: { ‸", "access key", "reader"},
		{head + "records:\n  thing:\n    owned_by: { ‸", "ann bob bot", "reader"},
		{head + "quotas:\n  q:\n    model: ‸", "fixed-window token-bucket", "reader"},
		{head + "quotas:\n  q: { at: /a, counted_by: ‸", "address", "reader"},
		{head + "targets:\n  t:\n    unsafe: al‸", "allowed", "refused"},
		{head + "routes:\n  - GET /a # ‸", "", "at"},
		{head + "routes:\n  - { at: GET /a, effect: ‸", "read create update delete command", "at"},
		{head + "routes:\n  - at: GET /a\n    send:\n      ‸", "as path query headers json", "at"},
		{head + "targets:\n  t:\n    ‸", "base hosts pace pass ca client headers", "at"},
		{head + "answers:\n  401: { ‸", "headers type", "fields"},
		{head + "answers:\n  protects: [‸", "frames sniffing caching referrer transport resources", "type"},
		{head + "waivers:\n  - { check: open‸", "open-write", "reader"},
	} {
		text, line, col := cursor(t, c.text)
		got := Complete(text, line, col, d, map[string][]string{"check": {"open-write", "no-entry"}})
		labels := declaration.Names(got.Options, func(o Option) string { return o.Label })
		at := 0
		for _, w := range splitLabels(c.has) {
			i := slices.Index(labels, w)
			if assert.GreaterOrEqual(t, i, 0, "%s\nhas no %q but %v", c.text, w, labels) {
				assert.GreaterOrEqual(t, i, at, "%s: %v", c.text, labels)
				at = i
			}
		}
		assert.NotContains(t, labels, c.not, c.text)
		if c.has == "" {
			assert.Empty(t, labels, c.text)
		}
	}
}

// splitLabels splits at blanks but keeps "GET /path" together.
func splitLabels(s string) (out []string) {
	for _, w := range strings.Fields(s) {
		if n := len(out); n > 0 && out[n-1] == "GET" {
			out[n-1] += " " + w
			continue
		}
		out = append(out, w)
	}
	return out
}

// What is offered is known: a completed key is never an unknown word.
func TestCompletedWordsAreKnown(t *testing.T) {
	b, err := os.ReadFile("../../../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	text := string(b)
	d, _ := parse(text)
	lines := strings.Split(text, "\n")
	tried, done := 0, map[string]bool{}
	for n, l := range lines {
		trimmed := strings.TrimLeft(l, " ")
		if trimmed == "" || trimmed[0] == '#' || trimmed[0] == '-' {
			continue
		}
		col := len(l) - len(trimmed) + 1
		c := Complete(text, n+1, col, d, nil)
		if k := fmt.Sprint(declaration.Names(c.Options, func(o Option) string { return o.Label })); done[k] {
			continue
		} else {
			done[k] = true
		}
		for _, o := range c.Options {
			if o.Detail != "word" {
				continue
			}
			key := strings.TrimSuffix(strings.TrimSpace(o.Insert), ":")
			_, rest, _ := strings.Cut(trimmed, ":")
			changed := slices.Clone(lines)
			changed[n] = strings.Repeat(" ", len(l)-len(trimmed)) + key + ":" + rest
			tried++
			_, told := parse(strings.Join(changed, "\n"))
			for _, m := range told {
				if m.Code == "unknown-word" && m.Line == n+1 && m.Column == col &&
					strings.Contains(m.Text, `"`+key+`" is not known`) {
					t.Errorf("line %d: %s is offered: %s", n+1, key, m)
				}
			}
		}
	}
	assert.Greater(t, tried, 60)
}

func TestExplain(t *testing.T) {
	d, _ := parse(base)
	for _, c := range []struct {
		find, title, text string
		line              int
	}{
		{"who: [rea‸der]", "role reader", "A role that 2 identities have", 12},
		{"w‸ho: [reader]", "who", "anyone, signed-in, nobody", 0},
		{"roles: wri‸ter, cred", "role writer", "includes reader", 13},
		{"credentials: { acc‸ess: { user: ann", "scheme access", "kind bearer", 15},
		{"owned_by: { an‸n", "identity ann", "with the role reader", 21},
		{"at: GET /th‸ings/**", "", "", 0},
		{"  - GET /things/mi‸ne", "GET /things/mine", "For reader (line 27)", 27},
		{"DELETE /things/{i‸d}\", who", "", "", 0},
		{"ki‸nd: api-key", "kind", "How it is presented", 0},
		{"unsafe: allo‸wed", "allowed", "Which unsafe methods", 0},
		{"wri‸ter: { incl", "role writer", "1 identity has", 13},
	} {
		plain := strings.Replace(c.find, "‸", "", 1)
		require.Contains(t, base, plain)
		text, line, col := cursor(t, strings.Replace(base, plain, c.find, 1))
		h, ok := Explain(text, line, col, d)
		if c.title == "" {
			continue
		}
		require.True(t, ok, c.find)
		assert.Equal(t, c.title, h.Title, c.find)
		assert.Contains(t, h.Text, c.text, c.find)
		assert.Equal(t, c.line, h.Place.Line, c.find)
	}
}

func TestCompleteOn(t *testing.T) {
	const text = "millgate: 1.1\nroutes: [\"GET /a/{id}\"]\nrecords:\n" +
		"  thing: { fills: id, in: { team: { north: [t-1] } }, groups: { drafts: [t-1] } }\n"
	d, msgs := parse(text)
	require.Empty(t, msgs)
	labels := func(tail string) (out []string) {
		clean, line, column := cursor(t, text+tail+"‸")
		for _, o := range Complete(clean, line, column, d, nil).Options {
			out = append(out, o.Detail+" "+o.Label)
		}
		return out
	}
	assert.Equal(t, []string{"value own", "group drafts", "kind team"}, labels("\naccess:\n  - { who: [{ on: "))
	assert.Equal(t, []string{"team north"}, labels("\nidentities:\n  ann:\n    in:\n      team: "))
}
