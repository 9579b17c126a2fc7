package layout

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"millgate/core/declaration"
)

// Edit is one change of the text. Whatever it does not name stays as it is,
// comments and layout included.
type Edit struct {
	Section string   `json:"section"` // a word of the top
	Item    string   `json:"item"`    // the name of the item, for sections that are mappings; the route, for routes
	Line    int      `json:"line"`    // a line of the item, for sections that are lists; 0 adds one
	After   int      `json:"after"`   // for a new item: a line of the one it is put behind; 0 is the end
	Field   []string `json:"field"`   // inside the item; none is the item itself
	Text    string   `json:"text"`    // YAML on one line, or members in lines behind a line end; "" removes
}

// orderMark is the byte order mark that some editors put in front of a text (YAML 1.2, section
// 5.2). It stands before the first line and is none of it.
const orderMark = "\ufeff"

// Apply makes edits, whose lines are those of the text that is given. What it gives says what
// the edits ask for and all else as before; where it cannot be written so, the error says what
// to do. A text that is no YAML is not edited.
func Apply(text string, edits ...Edit) (string, error) {
	if len(edits) == 0 {
		return text, nil
	}
	if rest, ok := strings.CutPrefix(text, orderMark); ok {
		out, err := Apply(rest, edits...)
		if err != nil {
			return "", err
		}
		return orderMark + out, nil
	}
	want, err := sectionsOf(text)
	if err != nil {
		return "", err
	}
	for _, e := range edits {
		if want, err = e.on(want); err != nil {
			return "", err
		}
	}
	out, err := write(text, edits)
	if err != nil {
		return "", err
	}
	if err := want.becomes(out); err != nil {
		return "", err
	}
	return out, nil
}

// write makes edits in the text.
func write(text string, edits []Edit) (string, error) {
	shifts := [][2]int{} // from which line on, by how much
	for _, e := range edits {
		for _, s := range shifts {
			if e.Line >= s[0] {
				e.Line += s[1]
			}
			if e.After >= s[0] {
				e.After += s[1]
			}
		}
		out, err := apply(text, e)
		if err != nil {
			return "", err
		}
		if d := strings.Count(out, "\n") - strings.Count(text, "\n"); d != 0 {
			was, is, n := strings.Split(text, "\n"), strings.Split(out, "\n"), 0
			for n < len(was) && n < len(is) && was[n] == is[n] {
				n++
			}
			shifts = append(shifts, [2]int{n + 1, d})
		}
		text = out
	}
	return text, nil
}

var errLayout = fmt.Errorf("it is written in a way that is not changed from here; change it in the editor")

// itemOf is the item of a section that an edit is about, and whether there is one.
func (l source) itemOf(b body, list bool, e Edit) (p part, found bool, err error) {
	switch {
	case !list:
		p, found = b.find(e.Item)
	case e.Item != "":
		if i := slices.IndexFunc(b.parts, func(q part) bool { return l.routeOf(q) == e.Item }); i >= 0 {
			p, found = b.parts[i], true
		}
	case e.Line > 0:
		if b.flow && len(b.parts) > 1 && l.lineOf(b.parts[0].start) == l.lineOf(b.parts[len(b.parts)-1].start) {
			return p, false, errLayout // which of them?
		}
		if p, found = l.at(b, e.Line); !found {
			return p, false, fmt.Errorf("there is nothing in line %d of %s", e.Line, e.Section)
		}
	}
	return p, found, nil
}

// canonical is a text of an edit as Format would write it: JSON, for one, is YAML, and stands closer.
func canonical(text string) string {
	if text == "" || strings.Contains(text, "\n") || text[0] != '{' && text[0] != '[' {
		return text
	}
	f := formatter{source{text}, nil}
	return f.flow(0) + text[f.skipFlow(0):]
}

func apply(text string, e Edit) (string, error) {
	e.Text = canonical(e.Text)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	l := source{text}
	top := l.top()
	list := listSections[e.Section]
	sec, ok := top.find(e.Section)
	if !ok {
		if e.Text == "" {
			return text, nil
		}
		return begin(text, top, e.Section, e.Section+":\n"+e.newItem(list, 2)+"\n"), nil
	}
	b, ok := l.inside(sec)
	if !ok {
		if sec.valEnd > sec.val && strings.TrimSpace(text[sec.val:sec.valEnd]) != "null" &&
			strings.TrimSpace(text[sec.val:sec.valEnd]) != "~" {
			return "", errLayout
		}
		// The section is empty.
		head := l.lineEnd(sec.start)
		line := strings.TrimRight(text[sec.start:head], "\n")
		if sec.valEnd > sec.val {
			line = text[sec.start:sec.val-1] + text[sec.valEnd:head-1]
		}
		return text[:sec.start] + line + "\n" + e.newItem(list, 2) + "\n" + text[head:], nil
	}
	if b.list != list {
		if !list || !b.flow && b.list {
			return "", errLayout
		}
	}
	p, found, err := l.itemOf(b, list, e)
	if err != nil {
		return "", err
	}
	if b.flow && (len(e.Field) == 0 || !found) {
		// Written in brackets: each item gets a line of its own first.
		out, err := l.unfolded(sec, b)
		if err != nil {
			return "", err
		}
		if e.Line > 0 {
			for k, q := range b.parts {
				if q.start == p.start {
					e.Line = l.lineOf(sec.start) + 1 + k
				}
			}
		}
		return apply(out, e)
	}
	switch {
	case !found && e.Text == "":
		return text, nil
	case !found:
		at := b.parts[len(b.parts)-1].end
		if e.After > 0 {
			if q, ok := l.at(b, e.After); ok {
				at = q.end
			}
		}
		return text[:at] + e.newItem(list, b.indent) + "\n" + text[at:], nil
	case len(e.Field) == 0 && e.Text == "":
		return text[:p.start] + text[p.end:], nil
	case len(e.Field) == 0:
		return text[:p.start] + e.newItem(list, p.indent) + l.comment(p) + "\n" + text[p.end:], nil
	}
	return l.setField(p, e.Field, e.Text)
}

// begin puts a section that is not there where the canonical layout has it: behind the last one that comes before it,
// and at the end where there is none.
func begin(text string, top body, name, section string) string {
	at := len(text)
	for k := len(top.parts) - 1; k >= 0; k-- {
		if slices.Index(declaration.Sections, top.parts[k].key) < slices.Index(declaration.Sections, name) {
			if k+1 < len(top.parts) { // comments behind the last one stay behind it
				at = top.parts[k].end
			}
			break
		}
	}
	before, after := text[:at], text[at:]
	if before != "" && !strings.HasSuffix(before, "\n\n") {
		before += "\n"
	}
	if after != "" && !strings.HasPrefix(after, "\n") {
		section += "\n"
	}
	return before + section + after
}

// listSections are the sections that are lists.
var listSections = map[string]bool{"routes": true, "access": true, "origins": true, "waivers": true}

func (e Edit) newItem(list bool, indent int) string {
	t := e.Text
	for i := len(e.Field) - 1; i >= 0; i-- {
		t = "{ " + declaration.Scalar(e.Field[i]) + ": " + t + " }"
	}
	pad := strings.Repeat(" ", indent)
	if list {
		return pad + "- " + t
	}
	if t == "null" {
		return pad + keyText(e.Item) + ":"
	}
	if strings.HasPrefix(t, "\n") {
		return pad + keyText(e.Item) + ":" + strings.ReplaceAll(t, "\n", "\n"+pad+"  ")
	}
	return pad + keyText(e.Item) + ": " + t
}

// keyText is the name of an item as it stands before its colon: a status needs no quotes there.
func keyText(name string) string {
	if len(name) == 3 && strings.Trim(name, "0123456789") == "" {
		return name
	}
	return declaration.Scalar(name)
}

// comment is what stands behind a part on its only line.
func (l source) comment(p part) string {
	if l.lineOf(p.start) != l.lineOf(p.end-1) {
		return ""
	}
	rest := strings.TrimRight(l.text[max(p.valEnd, p.val):p.end], "\n\r ")
	if strings.HasPrefix(strings.TrimSpace(rest), "#") {
		return rest
	}
	return ""
}

// unfolded writes the items of a section in brackets one to a line.
func (l source) unfolded(sec part, b body) (string, error) {
	var out strings.Builder
	head := l.text[sec.start:sec.val]
	out.WriteString(l.text[:sec.start] + strings.TrimRight(head, " ") + "\n")
	for _, p := range b.parts {
		item := l.text[p.start:p.end]
		if strings.Contains(item, "\n") {
			if strings.Contains(item, "#") {
				return "", errLayout
			}
			item = lineBreak.ReplaceAllString(item, " ")
		}
		if b.list {
			out.WriteString("  - " + item + "\n")
		} else {
			out.WriteString("  " + item + "\n")
		}
	}
	out.WriteString(strings.TrimLeft(l.text[b.end:l.lineEnd(b.end-1)], " \n"))
	if rest := l.text[l.lineEnd(b.end-1):]; rest != "" {
		out.WriteString(rest)
	}
	return out.String(), nil
}

var lineBreak = regexp.MustCompile(`\s*\n\s*`)

// setField sets or removes a member inside an item.
func (l source) setField(p part, field []string, text string) (string, error) {
	b, ok := l.inside(p)
	put := func(keys []string) string {
		t := text
		for i := len(keys) - 1; i > 0; i-- {
			t = "{ " + declaration.Scalar(keys[i]) + ": " + t + " }"
		}
		return declaration.Scalar(keys[0]) + ": " + t
	}
	if !ok {
		old := strings.TrimSpace(l.text[p.val:max(p.val, p.valEnd)])
		switch {
		case old == "" || old == "null" || old == "~":
			if text == "" {
				return l.text, nil
			}
			gap := " "
			if p.val > 0 && l.text[p.val-1] == ' ' {
				gap = ""
			}
			return l.text[:p.val] + gap + "{ " + put(field) + " }" + l.text[max(p.val, p.valEnd):], nil
		case p.key == "" && strings.IndexByte("&*!|>", old[0]) < 0:
			// A route in one word: it becomes a mapping with `at`.
			if text == "" {
				return l.text, nil
			}
			at := old
			if strings.ContainsAny(old, "{}[],") && old[0] != '"' && old[0] != '\'' {
				at = declaration.Scalar(old)
			}
			return l.text[:p.val] + "{ at: " + at + ", " + put(field) + " }" + l.text[p.valEnd:], nil
		}
		return "", errLayout
	}
	if b.list {
		return "", errLayout
	}
	m, found := b.find(field[0])
	if found && len(field) > 1 {
		return l.setField(m, field[1:], text)
	}
	switch {
	case !found && text == "":
		return l.text, nil
	case !found && b.flow:
		if len(b.parts) == 0 {
			return l.text[:b.start] + "{ " + put(field) + " }" + l.text[b.end:], nil
		}
		at := b.parts[len(b.parts)-1].end
		return l.text[:at] + ", " + put(field) + l.text[at:], nil
	case !found:
		at := b.parts[len(b.parts)-1].end
		return l.text[:at] + strings.Repeat(" ", b.indent) + put(field) + "\n" + l.text[at:], nil
	case text == "" && b.flow:
		return l.cutMember(b, m), nil
	case text == "" && len(b.parts) == 1:
		return "", errLayout
	case text == "" && l.text[m.start:m.start+m.indent] != strings.Repeat(" ", m.indent):
		// The first member stands behind the dash: the next takes its place.
		next := b.parts[1]
		return l.text[:m.start+m.indent] + l.text[next.start+next.indent:], nil
	case text == "":
		return l.text[:m.start] + l.text[m.end:], nil
	case b.flow:
		v := text
		if m.valEnd == m.val {
			v = " " + text
		}
		return l.text[:m.val] + v + l.text[m.valEnd:], nil
	}
	head := l.text[m.start:m.val]
	if !strings.HasSuffix(head, " ") {
		head += " "
	}
	return l.text[:m.start] + head + text + l.comment(m) + "\n" + l.text[m.end:], nil
}

func (l source) cutMember(b body, m part) string {
	for k, p := range b.parts {
		if p.start != m.start {
			continue
		}
		if k+1 < len(b.parts) {
			return l.text[:p.start] + l.text[b.parts[k+1].start:]
		}
		if k > 0 {
			return l.text[:b.parts[k-1].end] + l.text[p.end:]
		}
		return l.text[:b.start] + "{}" + l.text[b.end:]
	}
	return l.text
}
