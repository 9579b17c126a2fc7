package layout

// Rule: What is written differs in what was to be changed, and in nothing else.

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/declaration"
)

// meaning is what a text says, without its layout. The zero meaning is nothing.
type meaning struct {
	kind  kind
	text  string // of a scalar
	mark  string // an anchor or a tag in front of it
	keys  []string
	items []meaning
	line  int // where it begins, from 1; 0 of what an edit puts there
}

type kind byte

const (
	nothing kind = iota
	text
	word // a number, true or false
	alias
	mapping
	list
)

// sectionsOf reads a text as one mapping.
func sectionsOf(from string) (meaning, error) {
	f, err := read(from)
	if err != nil {
		return meaning{}, err
	}
	var docs []ast.Node
	for _, d := range f.Docs {
		if d.Body != nil {
			docs = append(docs, d.Body)
		}
	}
	if len(docs) == 0 {
		return meaning{kind: mapping}, nil
	}
	m := meant(docs[0])
	if len(docs) > 1 || m.kind != mapping || m.mark != "" {
		return m, fmt.Errorf("%w: it is not one mapping of sections", errLayout)
	}
	return m, nil
}

// read reads a text as the language does. The error says where it goes wrong.
func read(from string) (*ast.File, error) {
	f, m := declaration.Syntax("", []byte(from), 0)
	if m != nil {
		return nil, fmt.Errorf("line %d: %s; %s", m.Line, m.Text, m.Hint)
	}
	return f, nil
}

// meant is what a node means. The recursion ends: Syntax refuses what nests too deeply.
func meant(n ast.Node) (m meaning) {
	if n == nil {
		return m
	}
	if t := n.GetToken(); t != nil && t.Position != nil {
		m.line = t.Position.Line
	}
	switch x := n.(type) {
	case *ast.NullNode:
	case *ast.AnchorNode:
		m = meant(x.Value)
		m.mark = "&" + x.Name.String() + " " + m.mark
	case *ast.TagNode:
		m = meant(x.Value)
		m.mark = x.Start.Value + " " + m.mark
	case *ast.AliasNode:
		m.kind, m.text = alias, x.Value.String()
	case *ast.MappingNode:
		m.kind = mapping
		for i, v := range x.Values {
			if m.add(v); i == 0 {
				m.line = v.Key.GetToken().Position.Line
			}
		}
		m.join(x.Values)
	case *ast.MappingValueNode:
		m.kind = mapping
		m.add(x)
		m.line = x.Key.GetToken().Position.Line
		m.join([]*ast.MappingValueNode{x})
	case *ast.SequenceNode:
		m.kind = list
		for _, v := range x.Values {
			m.items = append(m.items, meant(v))
		}
	case *ast.StringNode:
		m.kind, m.text = text, x.Value
	case *ast.LiteralNode:
		m.kind, m.text = text, x.Value.Value
	default:
		m.kind, m.text = word, n.GetToken().Value
	}
	return m
}

func (m *meaning) add(v *ast.MappingValueNode) {
	key := v.Key.GetToken().Value
	if k, ok := v.Key.(*ast.MappingKeyNode); ok { // behind a question mark
		key = k.Value.GetToken().Value
	}
	m.keys = append(m.keys, key)
	m.items = append(m.items, meant(v.Value))
}

// join puts together what the YAML library takes apart: identity:ann in brackets is one
// scalar, since no blank follows the colon (YAML 1.2 section 7.3.3).
func (m *meaning) join(list []*ast.MappingValueNode) {
	if len(list) != 1 || list[0].Value == nil {
		return
	}
	k, v := list[0].Key.GetToken(), list[0].Value.GetToken()
	end := k.Position.Column + len([]rune(k.Value))
	if v == nil || k.Position.Line != v.Position.Line || v.Position.Column != end+1 ||
		m.items[0].kind != text && m.items[0].kind != word {
		return
	}
	*m = meaning{kind: text, text: k.Value + ":" + m.items[0].text, line: m.line}
}

// equal says whether two say the same: of mappings in the same order.
func (m meaning) equal(o meaning) bool {
	return m.kind == o.kind && m.text == o.text && m.mark == o.mark && slices.Equal(m.keys, o.keys) &&
		slices.EqualFunc(m.items, o.items, meaning.equal)
}

// get is a member, nothing where there is none.
func (m meaning) get(key string) (meaning, bool) {
	if i := slices.Index(m.keys, key); i >= 0 {
		return m.items[i], true
	}
	return meaning{}, false
}

// with is a mapping with a member: in its place, or at the end. Nothing has none.
func (m meaning) with(key string, v meaning) meaning {
	m.kind, m.keys, m.items = mapping, slices.Clone(m.keys), slices.Clone(m.items)
	if i := slices.Index(m.keys, key); i >= 0 {
		m.items[i] = v
		return m
	}
	m.keys, m.items = append(m.keys, key), append(m.items, v)
	return m
}

// without is a mapping without a member.
func (m meaning) without(key string) meaning {
	if i := slices.Index(m.keys, key); i >= 0 {
		m.keys, m.items = slices.Delete(slices.Clone(m.keys), i, i+1), slices.Delete(slices.Clone(m.items), i, i+1)
	}
	return m
}

// sections are the members of a text that have something in them, in the order of their names.
func (m meaning) sections() meaning {
	out := meaning{kind: mapping}
	for _, k := range slices.Sorted(slices.Values(m.keys)) {
		if v, _ := m.get(k); v.kind != nothing && (len(v.items) > 0 || v.kind != mapping && v.kind != list) {
			out.keys, out.items = append(out.keys, k), append(out.items, v)
		}
	}
	return out
}

// same is nil where two texts say the same, whatever the order of their sections.
func same(before, after string) error {
	was, err := sectionsOf(before)
	if err != nil {
		return err
	}
	return was.becomes(after)
}

// becomes is nil where a text says the same as m.
func (m meaning) becomes(after string) error {
	is, err := sectionsOf(after)
	if err != nil {
		return fmt.Errorf("%w (what was written could not be read)", errLayout)
	}
	a, b := m.sections(), is.sections()
	for _, k := range append(slices.Clone(a.keys), b.keys...) {
		x, _ := a.get(k)
		if y, _ := b.get(k); !x.equal(y) {
			return fmt.Errorf("%w (%s would say something else)", errLayout, k)
		}
	}
	return nil
}

// on is what a text means once an edit is made.
func (e Edit) on(m meaning) (meaning, error) {
	v, err := e.value()
	if err != nil {
		return m, err
	}
	s, _ := m.get(e.Section)
	if s.kind == text || s.kind == word { // one alone stands for a list of one
		s = meaning{kind: list, items: []meaning{s}}
	}
	if !listSections[e.Section] {
		old, found := s.get(e.Item)
		switch {
		case !found && e.Text == "":
			return m, nil
		case len(e.Field) == 0 && e.Text == "":
			return m.with(e.Section, s.without(e.Item)), nil
		}
		return m.with(e.Section, s.with(e.Item, old.set(e.Field, v, e.Text == ""))), nil
	}
	at := slices.IndexFunc(s.items, func(x meaning) bool { return e.Item != "" && x.route() == e.Item })
	if e.Item == "" && e.Line > 0 {
		at = s.before(e.Line)
	}
	s.kind, s.items = list, slices.Clone(s.items)
	switch {
	case at < 0 && e.Text == "":
		return m, nil
	case at < 0:
		at = len(s.items)
		if k := s.before(e.After); e.After > 0 && k >= 0 {
			at = k + 1
		}
		s.items = slices.Insert(s.items, at, meaning{}.set(e.Field, v, false))
	case len(e.Field) == 0 && e.Text == "":
		s.items = slices.Delete(s.items, at, at+1)
	default:
		old := s.items[at]
		if len(e.Field) > 0 && (old.kind == text || old.kind == word) { // a route in one word
			old = meaning{line: old.line}.with("at", old)
		}
		s.items[at] = old.set(e.Field, v, e.Text == "")
		s.items[at].line = old.line
	}
	return m.with(e.Section, s), nil
}

// value is what the text of an edit means.
func (e Edit) value() (meaning, error) {
	t := strings.TrimLeft(e.Text, "\n")
	f, err := read("x: " + strings.ReplaceAll("\n"+t, "\n", "\n  "))
	if err != nil {
		return meaning{}, fmt.Errorf("%q cannot be read: %w", e.Text, err)
	}
	v, _ := meant(f.Docs[0].Body).get("x")
	return v.unplaced(), nil
}

// unplaced stands nowhere in a text yet.
func (m meaning) unplaced() meaning {
	m.line, m.items = 0, slices.Clone(m.items)
	for i := range m.items {
		m.items[i] = m.items[i].unplaced()
	}
	return m
}

// set puts a value at a path, or takes away what is there.
func (m meaning) set(path []string, v meaning, away bool) meaning {
	if len(path) == 0 {
		return v
	}
	old, ok := m.get(path[0])
	switch {
	case !ok && away:
		return m
	case away && len(path) == 1:
		return m.without(path[0])
	}
	return m.with(path[0], old.set(path[1:], v, away))
}

// route is the route that an item of the list names, "" when it names none.
func (m meaning) route() string {
	if m.kind == mapping {
		m, _ = m.get("at")
	}
	return m.text
}

// before is the item that begins in a line or last before it, -1 without.
func (m meaning) before(line int) int {
	best := -1
	for i, x := range m.items {
		if x.line > 0 && x.line <= line && (best < 0 || x.line >= m.items[best].line) {
			best = i
		}
	}
	return best
}
