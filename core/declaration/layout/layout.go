// Package layout knows where things stand in the text of a declaration: where its members and
// items begin and end, so that one can be changed and all else left as it is, comments and
// blanks included.
//
// Apply makes edits by their place, Format writes the canonical layout, Outline lists what
// stands where. What is written with an anchor, an alias or a tag is not changed from here.
package layout

import (
	"strings"
)

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

type source struct{ text string }

// skipValue returns the end of the scalar, flow or quoted text that begins at
// i, never before it; inside says whether it stands in a flow.
func (l source) skipValue(i int, inside bool) int {
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

// SkipQuoted is the end of the quoted text that begins at i, of the text where it is not closed.
func SkipQuoted(text string, i int) int { return source{text}.skipQuoted(i) }

// SkipKey is where the colon behind the block key at i stands, or the line's end.
func SkipKey(text string, i int) int { return source{text}.skipKey(i) }

// OffsetOfLine is where line n begins, in bytes; lines count from 1.
func OffsetOfLine(text string, n int) int { return source{text}.offsetOfLine(n) }

func (l source) skipQuoted(i int) int {
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
func (l source) skipSpace(i int) int {
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

func (l source) skipFlow(i int) int { return l.readFlow(i).end }

// readFlow reads the mapping or list in brackets that begins at i.
func (l source) readFlow(i int) body {
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
			p.key = Unquoted(l.text[i:e])
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
		} else { // a name without a value
			p.key, p.val = Unquoted(l.text[i:e]), e
		}
		b.parts = append(b.parts, p)
		i = p.end
	}
}

// Unquoted is a key or a value without its quotes.
func Unquoted(s string) string {
	switch {
	case len(s) < 2 || s[len(s)-1] != s[0]:
	case s[0] == '\'':
		return strings.ReplaceAll(s[1:len(s)-1], "''", "'")
	case s[0] == '"':
		return strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(s[1 : len(s)-1])
	}
	return s
}

func (l source) lineEnd(i int) int {
	if j := strings.IndexByte(l.text[i:], '\n'); j >= 0 {
		return i + j + 1
	}
	return len(l.text)
}

// indentAt is the column of the first character of the line at i; -1 when the
// line is blank or a comment, or marks a document.
func (l source) indentAt(i int) int {
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
func (l source) readBlock(i, end int) body {
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
			p.key = Unquoted(strings.TrimSpace(l.text[at:e]))
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
			if f := l.flowOn(v); p.valEnd == v && f > 0 { // its first value goes on in the next lines
				last = l.lineEnd(f - 1)
			}
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
func (l source) flowOn(i int) int {
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
func (l source) blockAfterDash(i int) bool {
	if strings.IndexByte("{[|>&!*", l.text[i]) >= 0 {
		return false
	}
	e := l.skipKey(i)
	return e < len(l.text) && l.text[e] == ':'
}

// skipKey returns where the colon behind a block key stands, or the line's end.
func (l source) skipKey(i int) int {
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
func (l source) trimmed(start, end int) int {
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
func (l source) inside(p part) (b body, ok bool) {
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

func (l source) blockAt(p part) bool {
	return p.key == "" && p.val < p.end && p.val > p.start && l.text[p.val] != '\n' && l.text[p.val] != '#'
}

// readDashBlock reads the mapping of "- at: …" by looking at it as if the dash
// were a blank.
func (l source) readDashBlock(p part) body {
	blank := l.text[:p.start] + strings.Repeat(" ", p.val-p.start) + l.text[p.val:]
	b := source{blank}.readBlock(p.start, p.end)
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

func (l source) top() body { return l.readBlock(0, len(l.text)) }

func (l source) lineOf(i int) int { return strings.Count(l.text[:min(i, len(l.text))], "\n") + 1 }

func (l source) offsetOfLine(n int) int {
	i := 0
	for n > 1 && i < len(l.text) {
		i = l.lineEnd(i)
		n--
	}
	return i
}

// at returns the item of a list that the line belongs to.
func (l source) at(b body, line int) (part, bool) {
	off := l.offsetOfLine(line)
	for _, p := range b.parts {
		if !b.flow && p.start <= off && off < p.end || b.flow && l.lineOf(p.start) <= line && line <= l.lineOf(p.end) {
			return p, true
		}
	}
	return part{}, false
}
