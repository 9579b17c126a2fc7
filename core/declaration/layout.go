package declaration

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// The layout of a text that the YAML reader accepts: where its members and
// items begin and end, so that one can be changed and all else left as it is.

// part is a member of a mapping or an item of a list. Offsets are in bytes.
type part struct {
	key        string // "" for items
	start, end int    // the whole of it; in a block from its line's first byte to the end of its last line
	val        int    // where its value begins; end of the head where there is none on that line
	valEnd     int
	indent     int // column of the key or of the dash, from 0
}

// body is a mapping or a list somewhere in the text.
type body struct {
	flow       bool
	list       bool
	start, end int // of a flow: its brackets; of a block: its first and behind its last line
	indent     int // of a block's keys or dashes
	parts      []part
}

type layout struct{ text string }

// skipValue returns the end of the scalar, flow or quoted text that begins at
// i, never before it; inside says whether it stands in a flow.
func (l layout) skipValue(i int, inside bool) int {
	from := i
	if i >= len(l.text) {
		return i
	}
	switch c := l.text[i]; c {
	case '{', '[':
		return l.skipFlow(i)
	case '"', '\'':
		return l.skipQuoted(i)
	}
	for i < len(l.text) {
		c := l.text[i]
		if c == '\n' && !inside || inside && (c == ',' || c == '}' || c == ']') {
			break
		}
		if c == '#' && i > 0 && (l.text[i-1] == ' ' || l.text[i-1] == '\t' || l.text[i-1] == '\n') {
			break
		}
		if inside && c == ':' && i+1 < len(l.text) && strings.IndexByte(" \n,}]", l.text[i+1]) >= 0 {
			break
		}
		i++
	}
	for i > from && strings.IndexByte(" \t\n\r", l.text[i-1]) >= 0 {
		i--
	}
	return i
}

func (l layout) skipQuoted(i int) int {
	q := l.text[i]
	for i++; i < len(l.text); i++ {
		switch {
		case q == '"' && l.text[i] == '\\':
			i++
		case l.text[i] == q && q == '\'' && i+1 < len(l.text) && l.text[i+1] == q:
			i++
		case l.text[i] == q:
			return i + 1
		}
	}
	return len(l.text)
}

// skipSpace passes blanks, line ends and comments.
func (l layout) skipSpace(i int) int {
	for i < len(l.text) {
		switch c := l.text[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
		case c == '#' && (i == 0 || strings.IndexByte(" \t\n{[,", l.text[i-1]) >= 0):
			for i < len(l.text) && l.text[i] != '\n' {
				i++
			}
		default:
			return i
		}
	}
	return i
}

func (l layout) skipFlow(i int) int { return l.readFlow(i).end }

// readFlow reads the mapping or list in brackets that begins at i.
func (l layout) readFlow(i int) body {
	b := body{flow: true, list: l.text[i] == '[', start: i}
	for i++; ; {
		i = l.skipSpace(i)
		if i >= len(l.text) {
			b.end = len(l.text)
			return b
		}
		switch l.text[i] {
		case '}', ']':
			b.end = i + 1
			return b
		case ',':
			i++
			continue
		}
		p := part{start: i}
		e := l.skipValue(i, true)
		if e == i {
			i++ // not something that can be read; the brackets still match
			continue
		}
		p.end, p.val, p.valEnd = e, i, e
		if j := l.skipSpace(e); !b.list && j < len(l.text) && l.text[j] == ':' {
			p.key = unquoted(l.text[i:e])
			v := l.skipSpace(j + 1)
			p.val, p.valEnd = v, v
			if v < len(l.text) && strings.IndexByte(",}]", l.text[v]) < 0 {
				p.valEnd = l.skipValue(v, true)
				// A value like identity:ann or http://h goes on behind its colon.
				for p.valEnd < len(l.text) && l.text[p.valEnd] == ':' {
					p.valEnd = l.skipValue(p.valEnd+1, true)
				}
			} else {
				p.val, p.valEnd = j+1, j+1
			}
			p.end = p.valEnd
		} else if b.list {
			for p.end < len(l.text) && l.text[p.end] == ':' {
				p.end = l.skipValue(p.end+1, true)
				p.valEnd = p.end
			}
		}
		b.parts = append(b.parts, p)
		i = p.end
	}
}

func unquoted(s string) string {
	if len(s) > 1 && (s[0] == '"' || s[0] == '\'') && s[len(s)-1] == s[0] {
		return strings.ReplaceAll(s[1:len(s)-1], `\"`, `"`)
	}
	return s
}

func (l layout) lineEnd(i int) int {
	if j := strings.IndexByte(l.text[i:], '\n'); j >= 0 {
		return i + j + 1
	}
	return len(l.text)
}

// indentAt is the column of the first character of the line at i; -1 when the
// line is blank or a comment, or marks a document.
func (l layout) indentAt(i int) int {
	k := i
	for k < len(l.text) && l.text[k] == ' ' {
		k++
	}
	if k >= len(l.text) || l.text[k] == '\n' || l.text[k] == '\r' || l.text[k] == '#' ||
		strings.HasPrefix(l.text[k:], "---") || l.text[k] == '%' {
		return -1
	}
	return k - i
}

// readBlock reads the block whose first line is at or behind i, down to end.
func (l layout) readBlock(i, end int) body {
	b := body{indent: -1, start: i, end: end}
	for i < end {
		ind := l.indentAt(i)
		if ind < 0 {
			i = l.lineEnd(i)
			continue
		}
		if b.indent < 0 {
			b.indent, b.start = ind, i
			b.list = strings.HasPrefix(l.text[i+ind:], "- ") || strings.HasPrefix(l.text[i+ind:], "-\n")
		}
		if ind < b.indent {
			break
		}
		p := part{start: i, indent: ind}
		at := i + ind
		if b.list {
			at++
		} else {
			e := l.skipKey(at)
			p.key = unquoted(strings.TrimSpace(l.text[at:e]))
			at = min(e+1, end)
		}
		v := at
		for v < end && (l.text[v] == ' ' || l.text[v] == '\t') {
			v++
		}
		p.val, p.valEnd = v, v
		last := l.lineEnd(i)
		if v < end && l.text[v] != '\n' && l.text[v] != '\r' && l.text[v] != '#' {
			p.valEnd = l.skipValue(v, false)
			if b.list && l.blockAfterDash(v) {
				p.valEnd = v // a mapping that begins behind the dash
			}
			last = l.lineEnd(max(i, p.valEnd-1))
		} else {
			p.val, p.valEnd = at, at
		}
		// What is indented deeper belongs to it; a list may stand at the key's own column.
		for last < end {
			n := l.indentAt(last)
			deeper := n > ind || n == ind && !b.list && strings.HasPrefix(l.text[last+max(n, 0):], "-") &&
				p.valEnd == p.val
			if n >= 0 && !deeper {
				break
			}
			if n >= 0 {
				if f := l.flowOn(last + n); f > 0 {
					last = l.lineEnd(f - 1)
					continue
				}
			}
			last = l.lineEnd(last)
		}
		p.end = l.trimmed(i, last)
		b.parts = append(b.parts, p)
		i = last
	}
	if n := len(b.parts); n > 0 {
		b.end = b.parts[n-1].end
	}
	return b
}

// flowOn returns the end of a flow or quoted value that begins on the line of
// the key or dash at i and goes on in the next lines; 0 without.
func (l layout) flowOn(i int) int {
	eol := l.lineEnd(i)
	for k := i; k < eol; k++ {
		c := l.text[k]
		if (c == '{' || c == '[' || c == '"' || c == '\'') && (k == i || l.text[k-1] == ' ') {
			if e := l.skipValue(k, false); e > eol {
				return e
			} else if e > k {
				k = e - 1
			}
		} else if c == '#' && k > i && l.text[k-1] == ' ' {
			return 0
		}
	}
	return 0
}

// blockAfterDash says whether a mapping in block style begins at i.
func (l layout) blockAfterDash(i int) bool {
	if strings.IndexByte("{[|>&!*", l.text[i]) >= 0 {
		return false
	}
	e := l.skipKey(i)
	return e < len(l.text) && l.text[e] == ':'
}

// skipKey returns where the colon behind a block key stands, or the line's end.
func (l layout) skipKey(i int) int {
	if l.text[i] == '"' || l.text[i] == '\'' {
		i = l.skipQuoted(i)
		for i < len(l.text) && l.text[i] == ' ' {
			i++
		}
		return i
	}
	for i < len(l.text) && l.text[i] != '\n' {
		if l.text[i] == ':' && (i+1 == len(l.text) || strings.IndexByte(" \n\r", l.text[i+1]) >= 0) {
			return i
		}
		if l.text[i] == '#' && l.text[i-1] == ' ' {
			break
		}
		i++
	}
	return i
}

// trimmed moves an end up over blank lines and comments, which belong to what
// follows.
func (l layout) trimmed(start, end int) int {
	for end > start {
		from := strings.LastIndexByte(l.text[:end-1], '\n') + 1
		if from <= start || l.indentAt(from) >= 0 {
			break
		}
		end = from
	}
	return end
}

// inside reads the mapping or list that a part's value is. ok is false for a
// scalar, and for what is written with an anchor, an alias or a tag.
func (l layout) inside(p part) (b body, ok bool) {
	if p.val < len(l.text) && p.valEnd > p.val {
		if c := l.text[p.val]; c == '{' || c == '[' {
			return l.readFlow(p.val), true
		}
		return body{}, false
	}
	if l.blockAt(p) {
		// A mapping behind a dash: its first key stands on the dash's line.
		return l.readDashBlock(p), true
	}
	b = l.readBlock(l.lineEnd(p.start), p.end)
	return b, len(b.parts) > 0
}

func (l layout) blockAt(p part) bool {
	return p.key == "" && p.val < p.end && p.val > p.start && l.text[p.val] != '\n' && l.text[p.val] != '#'
}

// readDashBlock reads the mapping of "- at: …" by looking at it as if the dash
// were a blank.
func (l layout) readDashBlock(p part) body {
	blank := l.text[:p.start] + strings.Repeat(" ", p.val-p.start) + l.text[p.val:]
	b := layout{blank}.readBlock(p.start, p.end)
	return b
}

// find returns the member with a key.
func (b body) find(key string) (part, bool) {
	for _, p := range b.parts {
		if p.key == key {
			return p, true
		}
	}
	return part{}, false
}

func (l layout) top() body { return l.readBlock(0, len(l.text)) }

func (l layout) lineOf(i int) int { return strings.Count(l.text[:min(i, len(l.text))], "\n") + 1 }

func (l layout) offsetOfLine(n int) int {
	i := 0
	for n > 1 && i < len(l.text) {
		i = l.lineEnd(i)
		n--
	}
	return i
}

// at returns the item of a list that the line belongs to.
func (l layout) at(b body, line int) (part, bool) {
	off := l.offsetOfLine(line)
	for _, p := range b.parts {
		if !b.flow && p.start <= off && off < p.end || b.flow && l.lineOf(p.start) <= line && line <= l.lineOf(p.end) {
			return p, true
		}
	}
	return part{}, false
}

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

// Apply makes edits, whose lines are those of the text that is given.
func Apply(text string, edits ...Edit) (string, error) {
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
func (l layout) itemOf(b body, list bool, e Edit) (p part, found bool, err error) {
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

func apply(text string, e Edit) (string, error) {
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	l := layout{text}
	top := l.top()
	list := listSections[e.Section]
	sec, ok := top.find(e.Section)
	if !ok {
		if e.Text == "" {
			return text, nil
		}
		gap := "\n"
		if text == "" || strings.HasSuffix(text, "\n\n") {
			gap = ""
		}
		return text + gap + e.Section + ":\n" + e.newItem(list, 2) + "\n", nil
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

// listSections are the sections that are lists.
var listSections = map[string]bool{"routes": true, "access": true, "origins": true, "waivers": true}

func (e Edit) newItem(list bool, indent int) string {
	t := e.Text
	for i := len(e.Field) - 1; i >= 0; i-- {
		t = "{ " + Scalar(e.Field[i]) + ": " + t + " }"
	}
	pad := strings.Repeat(" ", indent)
	if list {
		return pad + "- " + t
	}
	if t == "null" {
		return pad + Scalar(e.Item) + ":"
	}
	if strings.HasPrefix(t, "\n") {
		return pad + Scalar(e.Item) + ":" + strings.ReplaceAll(t, "\n", "\n"+pad+"  ")
	}
	return pad + Scalar(e.Item) + ": " + t
}

// comment is what stands behind a part on its only line.
func (l layout) comment(p part) string {
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
func (l layout) unfolded(sec part, b body) (string, error) {
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
func (l layout) setField(p part, field []string, text string) (string, error) {
	b, ok := l.inside(p)
	put := func(keys []string) string {
		t := text
		for i := len(keys) - 1; i > 0; i-- {
			t = "{ " + Scalar(keys[i]) + ": " + t + " }"
		}
		return Scalar(keys[0]) + ": " + t
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
				at = Scalar(old)
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

func (l layout) cutMember(b body, m part) string {
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

// Scalar writes a text so that YAML reads the same text, also inside brackets.
func Scalar(s string) string {
	if s == "" || strings.ContainsAny(s, "{}[],#\"'&*!|>%@`\n\t\\") || strings.Contains(s, ": ") ||
		strings.HasSuffix(s, ":") || strings.TrimSpace(s) != s || strings.HasPrefix(s, "- ") ||
		strings.HasPrefix(s, "? ") || plainOther[strings.ToLower(s)] || numberText.MatchString(s) {
		return string(quote(s))
	}
	return s
}

// plainOther are words that YAML readers take for something else than text.
var plainOther = map[string]bool{"true": true, "false": true, "null": true, "~": true, "yes": true, "no": true,
	"on": true, "off": true, "-": true, "---": true}

// FlowList writes texts as a list in brackets, or one alone.
func FlowList(list []string) string {
	if len(list) == 1 {
		return Scalar(list[0])
	}
	out := make([]string, len(list))
	for i, s := range list {
		if out[i] = Scalar(s); strings.Contains(s, ":") {
			out[i] = string(quote(s)) // some readers take a:b in brackets for a mapping
		}
	}
	return "[" + strings.Join(out, ", ") + "]"
}
