package layout

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

// place is where a key stands, counted as the parser does, and what it says.
func place(line, column int, key string) string { return fmt.Sprintf("%d:%d %s", line, column, key) }

// found are the places of all keys, as they are found here.
func found(l source, b body) (out []string) {
	for _, p := range b.parts {
		at := p.start
		if !b.flow {
			at += p.indent
		}
		if p.key != "" {
			from := strings.LastIndexByte(l.text[:at], '\n') + 1
			out = append(out, place(l.lineOf(at), utf8.RuneCountInString(l.text[from:at])+1, p.key))
		}
		if in, ok := l.inside(p); ok {
			out = append(out, found(l, in)...)
		} else if b.flow && p.key == "" && p.end > p.start && strings.IndexByte("{[", l.text[p.start]) >= 0 {
			out = append(out, found(l, l.readFlow(p.start))...)
		}
	}
	return out
}

// told are the places of all keys by the parser's own tokens; plain says whether the text is written
// as it can be changed from here: without anchors, aliases, tags and keys that are no names.
func told(n ast.Node) (out []string, plain bool) {
	plain = true
	ast.Walk(visit(func(n ast.Node) {
		switch n := n.(type) {
		case *ast.MappingValueNode:
			t := n.Key.GetToken()
			if _, isName := n.Key.(ast.ScalarNode); !isName || strings.Contains(t.Value, "\n") {
				plain = false
			}
			out = append(out, place(t.Position.Line, t.Position.Column, t.Value))
		case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode, *ast.MergeKeyNode, *ast.MappingKeyNode:
			plain = false
		}
	}), n)
	return out, plain
}

type visit func(ast.Node)

func (v visit) Visit(n ast.Node) ast.Visitor {
	v(n)
	return v
}

// agree holds the places of a text to the parser's. It says whether there was something to hold.
func agree(t *testing.T, text string) bool {
	t.Helper()
	f, m := declaration.Syntax("x", []byte(text), 0)
	if m != nil || len(f.Docs) != 1 || f.Docs[0].Body == nil {
		return false
	}
	want, plain := told(f.Docs[0].Body)
	if _, isMap := f.Docs[0].Body.(*ast.MappingNode); !isMap || !plain {
		return false
	}
	l := source{text}
	got := found(l, l.top())
	slices.Sort(want)
	slices.Sort(got)
	assert.Equal(t, want, got, "%s", text)
	return true
}

// Where keys stand is found in the text itself, since edits come by the thousand and a text is read
// again for each; the parser, whose tokens have places too, says the same of whatever can be written.
func TestPlacesAgreeWithTheParser(t *testing.T) {
	for _, file := range []string{"../testdata/things.gate.yaml",
		"../../../examples/fernhollow/fernhollow.gate.yaml", "../../../examples/fernhollow/fernhollow.openapi.yaml"} {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.True(t, agree(t, string(b)), file)
	}
	r := rand.New(rand.NewPCG(35, 36))
	n := 0
	for range 2000 {
		w := &writer{r: r}
		if agree(t, w.text()) {
			n++
		}
	}
	assert.Greater(t, n, 1500)
	for _, text := range []string{
		"a: |\n  b: c\n  # no comment\nd: e\n",
		"a: >-\n\n  b: c\n\nd:\n  - >\n    e: f\n  - g: h\n    i: |+\n      j: k\n\n",
		"a: one\n  two # three\nb: 'x: y\n  z: \"'\nc: d\n",
		"a: \"b: {c: d}\\\n  e: f\"\ng: {h: \"i, j: k\", l: 'm''n: o', p: [q, {r: s}]}\n",
		"a: { b: http://x/y?z=1, c: identity:ann, d: }\ne: [f:g, {h: i}, [j, {k: l}]]\n",
		"a:\n- b: c\n- - d: e\n  - f\n-\n  g: h\ni: j\n",
		"\"a b\": c\n'd''e': f\n\"g\\\"h\": i\n",
		"a: {\n  b: c, # d: e\n  f: [g,\n    h]\n}\n",
		"# x: y\na: b #c\nd: e # f: g\nh: 'i # j'\n",
		"é: ü\nö: { ä: ß }\n",
		"a: -\nb: -c\nd: ?e\nf: :g\n",
		"a:   \n\n  b:\n    c:\n\n\n  d: ~\n",
		"a:\r\n  b: c\r\nd: e\r\n",
		"a:\n- b: \"c\n    d: {e\"\n  f: g\n- { h: i }\nj: k\n",
	} {
		if !agree(t, text) {
			t.Logf("not held: %q", text)
		}
	}
}

// forms writes a text in whatever form YAML has for it: blocks and brackets, all kinds of scalars,
// comments, blank lines and lists at their key's column.
type forms struct {
	r *rand.Rand
	b strings.Builder
}

func (w *forms) one(of ...string) string { return of[w.r.IntN(len(of))] }

func (w *forms) key() string {
	return w.one("a", "name", "GET /a", "x-y", "401", "\"q: r\"", "'s''t'", "\"u\\\"v\"", "/p/{id}", "é", "a b",
		"http://h/x")
}

// scalar is a value on its key's line, or from there on in deeper lines.
func (w *forms) scalar(pad string) string {
	deep := "\n" + pad + "    "
	return w.one("v", "2", "true", "~", "", "'x: y'", "\"z # no\"", "a:b", "identity:ann", "/**",
		"c # said: so", "-1", "d#e",
		"e"+deep+"f g"+deep+"h", "'i"+deep+"j: k'", "\"l"+deep+"m: {n\"", "|"+deep+"o: p"+deep+"# q"+deep+"  - r",
		">-"+deep+"s: t\n"+deep+"u", "|+"+deep+"v: w\n")
}

func (w *forms) flow(depth int, pad string) string {
	gap := w.one("", " ", " ", "\n"+pad+"    ", " # k: v\n"+pad+"    ")
	var parts []string
	list := w.r.IntN(2) == 0
	for range w.r.IntN(4) {
		v := w.one("v", "2", "'x, y: z'", "\"{\"", "http://h", "/x")
		if depth > 0 && w.r.IntN(3) == 0 {
			v = w.flow(depth-1, pad)
		}
		if !list {
			v = w.one("a", "b c", "\"d, e\"", "'f''g'", "401") + ":" + w.one(" ", "  ") + v
		}
		parts = append(parts, v)
	}
	in := strings.Join(parts, ","+w.one(" ", gap+" "))
	if list {
		return "[" + gap + in + w.one("", " ", ",") + "]"
	}
	return "{" + gap + in + w.one("", " ") + "}"
}

func (w *forms) mapping(depth int, pad string, first bool) {
	used := map[string]bool{}
	for range 1 + w.r.IntN(4) {
		k := w.key()
		if used[k] {
			continue
		}
		used[k] = true
		if !first {
			w.b.WriteString(w.one("", "", "", "\n", pad+"# x: y\n", "# - z\n") + pad)
		}
		first = false
		w.b.WriteString(k + ":")
		switch n := w.r.IntN(6); {
		case depth > 0 && n == 0:
			w.b.WriteString(w.one("", " # a: b") + "\n")
			w.mapping(depth-1, pad+w.one("  ", "    ", " "), false)
		case depth > 0 && n == 1:
			w.b.WriteString(w.one("", " ", " # b") + "\n")
			w.list(depth-1, pad+w.one("", "  ", "   "))
		case n == 2:
			w.b.WriteString(" " + w.flow(2, pad) + w.one("", " # c: d") + "\n")
		default:
			w.b.WriteString(strings.TrimSuffix(w.one(" ", "  ")+w.scalar(pad), "\n") + "\n")
		}
	}
}

func (w *forms) list(depth int, pad string) {
	for range 1 + w.r.IntN(3) {
		w.b.WriteString(w.one("", "", "\n", pad+"# - x: y\n") + pad + "-")
		switch n := w.r.IntN(4); {
		case depth > 0 && n == 0:
			gap := w.one(" ", "   ")
			w.b.WriteString(gap)
			w.mapping(depth-1, pad+" "+gap, true)
		case n == 1:
			w.b.WriteString(" " + w.flow(1, pad) + "\n")
		default:
			w.b.WriteString(" " + strings.TrimSuffix(w.scalar(pad), "\n") + "\n")
		}
	}
}

func FuzzPlaces(f *testing.F) {
	for seed := range uint64(500) {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, seed uint64) {
		w := &forms{r: rand.New(rand.NewPCG(seed, 39))}
		w.mapping(3, "", false)
		agree(t, w.b.String())
	})
}
