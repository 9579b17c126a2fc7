package declaration

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"
)

// reader turns syntax nodes into values and collects what is wrong.
type reader struct {
	file    string
	version Version // of that file
	msgs    []Message
	anchors map[string]ast.Node
	depth   int
	files   Files

	routes   map[string]*Route // by method and template, over all files
	included map[string]bool
}

type pair struct {
	key  string
	kn   ast.Node
	val  ast.Node
	kpos Place
}

func (r *reader) at(n ast.Node) (Place, int) {
	p := Place{File: r.file, Line: 1, Column: 1}
	end := 2
	if n == nil {
		return p, end
	}
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 && !m.IsFlowStyle {
		n = m.Values[0].Key
	} else if m, ok := n.(*ast.MappingValueNode); ok {
		n = m.Key
	}
	if t := n.GetToken(); t != nil && t.Position != nil {
		p.Line, p.Column = t.Position.Line, t.Position.Column
		w := len([]rune(strings.TrimSpace(strings.SplitN(strings.TrimSpace(t.Origin), "\n", 2)[0])))
		end = p.Column + max(1, w)
	}
	return p, end
}

func (r *reader) place(n ast.Node) Place { p, _ := r.at(n); return p }

func (r *reader) say(n ast.Node, level Level, code, text, hint string) {
	p, end := r.at(n)
	r.msgs = append(r.msgs, Message{Place: p, EndColumn: end, Level: level, Code: code, Text: text, Hint: hint})
}

func (r *reader) fail(n ast.Node, code, text, hint string) { r.say(n, Error, code, text, hint) }

// sayAt reports about something that was read earlier.
func (r *reader) sayAt(p Place, width int, level Level, code, text, hint string) {
	r.msgs = append(r.msgs, Message{Place: p, EndColumn: p.Column + max(1, width), Level: level, Code: code, Text: text,
		Hint: hint})
}

// plain looks through tags, anchors and aliases.
func (r *reader) plain(n ast.Node) ast.Node {
	for range 50 {
		switch x := n.(type) {
		case *ast.TagNode:
			n = x.Value
		case *ast.AnchorNode:
			if r.anchors == nil {
				r.anchors = map[string]ast.Node{}
			}
			r.anchors[x.Name.GetToken().Value] = x.Value
			n = x.Value
		case *ast.AliasNode:
			name := x.Value.GetToken().Value
			t, ok := r.anchors[name]
			if !ok {
				r.fail(x, "reference", fmt.Sprintf("the anchor %q is not defined above", name),
					"define it with &"+name+" first")
				return nil
			}
			n = t
		default:
			return n
		}
	}
	return nil
}

func isNull(n ast.Node) bool {
	if n == nil {
		return true
	}
	_, ok := n.(*ast.NullNode)
	return ok
}

// entries reads a mapping. Unknown keys are reported when known is not nil.
func (r *reader) entries(n ast.Node, what string, known []string) []pair {
	n = r.plain(n)
	if isNull(n) {
		return nil
	}
	if r.depth++; r.depth > 200 {
		r.fail(n, "type", what+" is nested too deeply", "write it flatter")
		r.depth--
		return nil
	}
	defer func() { r.depth-- }()
	var vals []*ast.MappingValueNode
	switch x := n.(type) {
	case *ast.MappingNode:
		vals = x.Values
	case *ast.MappingValueNode:
		vals = []*ast.MappingValueNode{x}
	default:
		r.fail(n, "type", fmt.Sprintf("%s must be a mapping of names to values", what), "write  name: value")
		return nil
	}
	var out []pair
	seen := map[string]int{}
	for _, v := range vals {
		key := v.Key.GetToken().Value
		if _, merge := v.Key.(*ast.MergeKeyNode); merge {
			r.fail(v.Key, "type", "merge keys (<<) are not part of the language", "write the values out")
			continue
		}
		if line, dup := seen[key]; dup {
			r.fail(v.Key, "duplicate", fmt.Sprintf("%q is said twice in %s, first in line %d", key, what, line),
				"remove one of them")
			continue
		}
		seen[key] = v.Key.GetToken().Position.Line
		r.looksOdd(v.Key, key)
		if known != nil && !slices.Contains(known, key) {
			r.unknown(v.Key, key, what, known)
			continue
		}
		out = append(out, pair{key: key, kn: v.Key, val: v.Value, kpos: r.place(v.Key)})
	}
	return out
}

func (r *reader) unknown(n ast.Node, word, what string, known []string) {
	hint := "known are " + strings.Join(known, ", ")
	if near := Nearest(word, known); near != "" {
		hint = fmt.Sprintf("did you mean %q? %s", near, hint)
	}
	r.fail(n, "unknown-word", fmt.Sprintf("%q is not known in %s", word, what), hint)
	r.msgs[len(r.msgs)-1].Suggest = Nearest(word, known)
}

// list reads a sequence; a single value is a list of one.
func (r *reader) list(n ast.Node) []ast.Node {
	n = r.plain(n)
	if isNull(n) {
		return nil
	}
	if s, ok := n.(*ast.SequenceNode); ok {
		return s.Values
	}
	return []ast.Node{n}
}

func (r *reader) str(n ast.Node, what string) (string, bool) {
	n = r.plain(n)
	switch x := n.(type) {
	case *ast.StringNode:
		r.looksOdd(n, x.Value)
		return x.Value, true
	case *ast.LiteralNode:
		r.looksOdd(n, x.Value.Value)
		return x.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return x.GetToken().Value, true
	}
	if s, ok := r.joined(n); ok {
		return s, true
	}
	r.fail(n, "type", what+" must be text", "write one word or a quoted text")
	return "", false
}

// joined puts together what the YAML library takes apart: in a list inside
// braces it reads identity:ann as a mapping, where YAML 1.2 section 7.3.3 has
// one plain scalar, since no space follows the colon.
func (r *reader) joined(n ast.Node) (string, bool) {
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) == 1 {
		n = m.Values[0]
	}
	v, ok := n.(*ast.MappingValueNode)
	if !ok || v.Value == nil {
		return "", false
	}
	k, x := v.Key.GetToken(), v.Value.GetToken()
	if x == nil || k.Position.Line != x.Position.Line || x.Position.Column != k.Position.Column+len([]rune(k.Value))+1 {
		return "", false
	}
	rest, ok := r.str(v.Value, "text")
	return k.Value + ":" + rest, ok
}

func (r *reader) refs(n ast.Node, what string) []Ref {
	var out []Ref
	for _, x := range r.list(n) {
		if s, ok := r.str(x, what); ok {
			out = append(out, Ref{Name: s, Place: r.place(x)})
		}
	}
	return out
}

func (r *reader) strings(n ast.Node, what string) []string {
	var out []string
	for _, x := range r.refs(n, what) {
		out = append(out, x.Name)
	}
	return out
}

func (r *reader) word(n ast.Node, what string, known ...string) string {
	s, ok := r.str(n, what)
	if ok && !slices.Contains(known, s) {
		r.unknown(n, s, what, known)
		return ""
	}
	return s
}

func (r *reader) bool(n ast.Node, what string) bool {
	if b, ok := r.plain(n).(*ast.BoolNode); ok {
		return b.Value
	}
	r.fail(n, "type", what+" must be true or false", "")
	return false
}

func (r *reader) stringMap(n ast.Node, what string) map[string]string {
	out := map[string]string{}
	for _, p := range r.entries(n, what, nil) {
		if s, ok := r.str(p.val, what+" "+p.key); ok {
			out[p.key] = s
		}
	}
	return out
}

func (r *reader) pairs(n ast.Node, what string) [][2]string {
	var out [][2]string
	for _, p := range r.entries(n, what, nil) {
		if s, ok := r.str(p.val, what+" "+p.key); ok {
			out = append(out, [2]string{p.key, s})
		}
	}
	return out
}

// scalar reads an attribute's value: string, bool, int64 or float64.
func (r *reader) scalar(n ast.Node, what string) any {
	switch x := r.plain(n).(type) {
	case *ast.BoolNode:
		return x.Value
	case *ast.IntegerNode:
		switch v := x.Value.(type) {
		case int64:
			return v
		case uint64:
			if v <= math.MaxInt64 {
				return int64(v)
			}
		}
		r.fail(n, "type", what+" is too large a number", "")
		return nil
	case *ast.FloatNode:
		return x.Value
	}
	s, _ := r.str(n, what)
	return s
}

var numberText = regexp.MustCompile(`^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$`)

// jsonLimit bounds a value in the text, in bytes: aliases can stand for more
// than anybody would write.
const jsonLimit = 1 << 20

// json writes a node as JSON, keeping the order of its members.
func (r *reader) json(n ast.Node) json.RawMessage {
	var b bytes.Buffer
	r.writeJSON(&b, n, 0)
	if b.Len() > jsonLimit {
		return nil
	}
	return b.Bytes()
}

func (r *reader) writeJSON(b *bytes.Buffer, n ast.Node, depth int) {
	n = r.plain(n)
	if b.Len() > jsonLimit {
		if b.Len() < 2*jsonLimit { // said once
			r.fail(n, "type", "the value is too large", "keep samples under a megabyte")
			b.Write(make([]byte, 2*jsonLimit))
		}
		return
	}
	if depth > 100 {
		r.fail(n, "type", "the value is nested too deeply", "")
		b.WriteString("null")
		return
	}
	switch x := n.(type) {
	case nil, *ast.NullNode:
		b.WriteString("null")
	case *ast.SequenceNode:
		b.WriteByte('[')
		for i, v := range x.Values {
			if i > 0 {
				b.WriteByte(',')
			}
			r.writeJSON(b, v, depth+1)
		}
		b.WriteByte(']')
	case *ast.MappingNode, *ast.MappingValueNode:
		b.WriteByte('{')
		for i, p := range r.entries(n, "the value", nil) {
			if i > 0 {
				b.WriteByte(',')
			}
			b.Write(Quote(p.key))
			b.WriteByte(':')
			r.writeJSON(b, p.val, depth+1)
		}
		b.WriteByte('}')
	case *ast.BoolNode:
		b.WriteString(strconv.FormatBool(x.Value))
	case *ast.IntegerNode, *ast.FloatNode:
		if t := x.GetToken().Value; numberText.MatchString(t) {
			b.WriteString(t)
			return
		}
		v, err := json.Marshal(r.scalar(n, "the number"))
		if err != nil {
			r.fail(n, "type", "JSON has no such number", "quote it")
			v = []byte("null")
		}
		b.Write(v)
	default:
		s, _ := r.str(n, "the value")
		b.Write(Quote(s))
	}
}

// plainWords say what the YAML library finds in words that tell what to do.
var plainWords = []struct{ has, text, hint string }{
	{"non-map value", "a line without a colon among words with values",
		"write word: value, or indent it below the word that it belongs to"},
	{"map value", "nothing stands after the colon", "write a value, and close every { with a }"},
	{"flow map", "a { has no } of its own", "close it on this line or below; a comma stands between two words"},
	{"'}' must be", "a comma or a } is missing", "a comma stands between two words, a } at the end"},
	{"']' must be", "a comma or a ] is missing", "a comma stands between two values, a ] at the end"},
	{"']' not found", "a [ has no ] of its own", "close it on this line or below"},
	{"corresponding to", "a bracket is closed that was not opened", "remove it, or open it before"},
	{"value for mapping key", "nothing stands after the colon", "write a value"},
	{"key-value delimiter", "a colon is missing", "a word, a colon and a space, then its value"},
	{"in this context", "this cannot stand here", "check the indentation of this line and of the one above"},
	{"implicit line break", "a word runs over two lines", "quote it, or end it with a colon"},
	{"unexpected map key", "this word cannot stand here", "check the indentation of this line and of the one above"},
	{"unexpected scalar", "this cannot stand here",
		"check the line above: a comma, a quote or a bracket may be missing"},
	{"-quoted text", "a quote is not closed", "end it with the quote that it began with"},
	{"tab character", "a tab indents this line", "indent with spaces"},
	{"found character '\t'", "a tab indents this line", "indent with spaces"},
	{"unexpected key name", "a line without a colon among words with values", "write word: value"},
	{"reserved character", "a value cannot begin with @ or `", "put it in quotes"},
	{"directive", "a value cannot begin with %", "put it in quotes"},
	{"alias name", "an alias has no anchor", "put &name where the value is written first"},
}

func syntaxMessage(file string, tk *token.Token, text string) Message {
	m := Message{Place: Place{File: file, Line: 1, Column: 1}, EndColumn: 2, Level: Error, Code: "syntax", Text: text,
		Hint: "the text must be YAML 1.2; check indentation, quotes and brackets here"}
	for _, w := range plainWords {
		if strings.Contains(text, w.has) {
			m.Text, m.Hint = w.text, w.hint
			break
		}
	}
	if tk != nil && tk.Position != nil {
		m.Line, m.Column = max(1, tk.Position.Line), max(1, tk.Position.Column)
		m.EndColumn = m.Column + max(1, len([]rune(strings.TrimSpace(tk.Value))))
	}
	return m
}
