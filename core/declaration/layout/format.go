package layout

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"

	"millgate/core/declaration"
)

// Format writes a declaration in the canonical layout: sections in the order of
// the reference with a line between them, two blanks of indentation, one blank
// inside braces, no blanks at the ends of lines. Comments stay with what they
// stand above or behind, and the meaning stays the same: where it would not, or the
// text is not YAML, the error says why, and nothing is written. A byte order mark goes.
func Format(text string) (string, error) {
	text = strings.TrimPrefix(text, orderMark)
	if _, err := sectionsOf(text); err != nil {
		return "", err
	}
	out, err := format(text)
	if err != nil {
		return "", err
	}
	if err := same(text, out); err != nil {
		return "", err
	}
	if !slices.Equal(comments(text), comments(out)) {
		return "", fmt.Errorf("%w (a comment would be lost)", errLayout)
	}
	return out, nil
}

// comments are those of a text, in the order of their words.
func comments(text string) (out []string) {
	for _, t := range lexer.Tokenize(text) {
		if t.Type == token.CommentType {
			out = append(out, strings.TrimSpace(t.Value))
		}
	}
	slices.Sort(out)
	return out
}

func format(text string) (string, error) {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	l := source{text}
	top := l.top()
	if len(top.parts) == 0 {
		return text, nil
	}
	if top.indent != 0 {
		return "", fmt.Errorf("line %d is indented: sections begin in the first column", l.lineOf(top.start))
	}
	type section struct{ lead, body string }
	by := map[string]section{}
	from := 0
	for _, p := range top.parts {
		if !knownTop[p.key] {
			return "", fmt.Errorf("line %d: %q is no section; known are %s", l.lineOf(p.start), p.key,
				strings.Join(declaration.Sections, ", "))
		}
		if by[p.key].body != "" {
			return "", fmt.Errorf("line %d: %s stands here again; remove one of them", l.lineOf(p.start), p.key)
		}
		var b strings.Builder
		f := formatter{l, &b}
		f.member(p, 0)
		by[p.key] = section{f.comments(from, p.start, 0), b.String()}
		from = p.end
	}
	var out strings.Builder
	// What stands above everything stays above everything.
	first := top.parts[0].key
	if lead := by[first].lead; first != declaration.Sections[0] && lead != "" {
		out.WriteString(lead)
		by[first] = section{"", by[first].body}
	}
	last := ""
	for _, k := range declaration.Sections {
		s, ok := by[k]
		if !ok {
			continue
		}
		if last != "" && !(last == "millgate" && k == "title" && s.lead == "") {
			out.WriteByte('\n')
		}
		out.WriteString(s.lead + s.body)
		last = k
	}
	f := formatter{l, &strings.Builder{}}
	if rest := strings.TrimRight(f.comments(from, len(text), 0), "\n"); rest != "" {
		out.WriteString("\n" + rest + "\n")
	}
	return out.String(), nil
}

var knownTop = func() map[string]bool {
	m := map[string]bool{}
	for _, w := range declaration.Sections {
		m[w] = true
	}
	return m
}()

type formatter struct {
	source
	out *strings.Builder
}

// comments are the comment lines between two offsets at an indentation; an
// empty line between two groups of them stays.
func (f formatter) comments(from, to, indent int) string {
	var out strings.Builder
	gap := false
	for _, line := range strings.Split(f.text[from:max(from, to)], "\n") {
		line = strings.TrimSpace(line)
		if line == "" {
			gap = out.Len() > 0
			continue
		}
		if gap {
			out.WriteByte('\n')
			gap = false
		}
		out.WriteString(strings.Repeat(" ", indent) + line + "\n")
	}
	if gap && strings.HasSuffix(f.text[from:to], "\n\n") {
		out.WriteByte('\n')
	}
	return out.String()
}

// member writes a member of a mapping or an item of a list, from its line on.
func (f formatter) member(p part, indent int) {
	pad := strings.Repeat(" ", indent)
	head := pad + "-"
	if p.key != "" || f.text[p.start+p.indent] != '-' {
		k := f.text[p.start+p.indent:]
		head = pad + strings.TrimSpace(k[:f.skipKey(p.start+p.indent)-p.start-p.indent]) + ":"
	}
	if p.key == "" && f.blockAt(p) && f.blockAfterDash(p.val) {
		b := f.readDashBlock(p)
		inner := formatter{source{f.text[:p.start] + strings.Repeat(" ", p.val-p.start) + f.text[p.val:]}, f.out}
		var sub strings.Builder
		inner.out = &sub
		inner.block(b, indent+2)
		f.out.WriteString(head + sub.String()[indent+1:])
		return
	}
	switch {
	case p.valEnd > p.val && strings.IndexByte("|>&*!", f.text[p.val]) >= 0:
		f.raw(p, head, indent)
	case p.valEnd > p.val:
		v := f.text[p.val:p.valEnd]
		if v[0] == '{' || v[0] == '[' {
			if f.hasComment(p.val, p.valEnd) {
				f.raw(p, head, indent)
				return
			}
			v = f.flow(p.val)
		} else if strings.Contains(v, "\n") {
			f.raw(p, head, indent)
			return
		}
		eol := f.lineEnd(p.valEnd - 1)
		tail := strings.TrimSpace(f.piece(p.valEnd, min(eol, p.end)))
		f.line(head+" "+v, tail)
		if rest := f.comments(min(eol, p.end), p.end, indent); rest != "" {
			f.out.WriteString(rest)
		}
	default:
		eol := f.lineEnd(p.start)
		tail := strings.TrimSpace(f.piece(p.val, min(eol, p.end)))
		f.line(head, tail)
		if b, ok := f.inside(p); ok {
			f.out.WriteString(f.comments(eol, b.start, indent+2))
			f.block(b, indent+2)
		}
	}
}

// piece is a part of the text, "" where it ends before it begins: what cannot be read may do so.
func (f formatter) piece(from, to int) string { return f.text[min(from, to):to] }

func (f formatter) line(s, comment string) {
	if comment != "" {
		s += " " + comment
	}
	f.out.WriteString(strings.TrimRight(s, " ") + "\n")
}

func (f formatter) block(b body, indent int) {
	for k, p := range b.parts {
		if k > 0 {
			f.out.WriteString(f.between(b.parts[k-1].end, p.start, indent))
		}
		f.member(p, indent)
	}
}

// between are the comments before an item; one empty line before them stays.
func (f formatter) between(from, to, indent int) string {
	c := f.comments(from, to, indent)
	if strings.HasPrefix(strings.TrimLeft(f.text[from:max(from, to)], " "), "\n") {
		return "\n" + c
	}
	return c
}

// raw keeps the lines of a part as they are, moved as a whole.
func (f formatter) raw(p part, head string, indent int) {
	lines := strings.Split(strings.TrimRight(f.piece(p.val, p.end), "\n"), "\n")
	f.out.WriteString(head + " " + strings.TrimRight(lines[0], " ") + "\n")
	move := indent - p.indent
	for _, line := range lines[1:] {
		switch {
		case strings.TrimSpace(line) == "":
			f.out.WriteString("\n")
		case move >= 0:
			f.out.WriteString(strings.Repeat(" ", move) + line + "\n")
		default:
			cut := 0
			for cut < -move && cut < len(line) && line[cut] == ' ' {
				cut++
			}
			f.out.WriteString(line[cut:] + "\n")
		}
	}
}

func (f formatter) hasComment(from, to int) bool {
	for i := from; i < to; i++ {
		switch c := f.text[i]; {
		case c == '"' || c == '\'':
			if i == from || strings.IndexByte(" {[,:\n", f.text[i-1]) >= 0 {
				i = f.skipQuoted(i) - 1
			}
		case c == '#' && strings.IndexByte(" \n", f.text[i-1]) >= 0:
			return true
		}
	}
	return false
}

// flow writes a mapping or list in brackets on one line.
func (f formatter) flow(i int) string {
	b := f.readFlow(i)
	var parts []string
	for _, p := range b.parts {
		value := func() string {
			if p.valEnd <= p.val {
				return ""
			}
			if c := f.text[p.val]; c == '{' || c == '[' {
				return f.flow(p.val)
			}
			return lineBreak.ReplaceAllString(f.text[p.val:p.valEnd], " ")
		}
		if b.list {
			v := f.text[p.start:p.end]
			if v[0] == '{' || v[0] == '[' {
				v = f.flow(p.start)
			}
			parts = append(parts, lineBreak.ReplaceAllString(v, " "))
			continue
		}
		k := f.text[p.start:f.skipValue(p.start, true)]
		if p.key == "" {
			parts = append(parts, lineBreak.ReplaceAllString(f.text[p.start:p.end], " "))
			continue
		}
		parts = append(parts, strings.TrimRight(k+": "+value(), " "))
	}
	switch {
	case b.list:
		return "[" + strings.Join(parts, ", ") + "]"
	case len(parts) == 0:
		return "{}"
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}
