package token

import (
	"bytes"
	"encoding/json"
	"fmt"
	"iter"
	"unicode/utf8"
)

// maxDepth of JSON in a token. Deeper is not read.
const maxDepth = 32

// scanner checks JSON (RFC 8259) and finds the members of the outer object
// with their places. encoding/json would lose both, and duplicate members.
type scanner struct {
	b     []byte
	text  string // b as a text, so that names share its memory
	i     int
	err   string
	twice string // a name that stands twice in one object
}

func (s *scanner) fail(format string, args ...any) bool {
	if s.err == "" {
		s.err = fmt.Sprintf(format, args...) + fmt.Sprintf(" at byte %d", s.i)
	}
	return false
}

func (s *scanner) space() {
	for s.i < len(s.b) {
		switch s.b[s.i] {
		case ' ', '\t', '\r', '\n':
			s.i++
		default:
			return
		}
	}
}

// parseObject reads a whole text as one object.
func parseObject(b []byte) (o Object, why string, twice string) {
	o.Text = b
	s := &scanner{b: b, text: string(b)}
	s.space()
	if s.i >= len(b) || b[s.i] != '{' {
		if !utf8.Valid(b) {
			return o, "it is not text", ""
		}
		return o, "it is not a JSON object", ""
	}
	o.Members = make([]Member, 0, min(16, bytes.Count(b, []byte{':'})))
	if !s.object(0, &o.Members) {
		return o, s.err, s.twice
	}
	s.space()
	if s.i != len(b) {
		s.fail("there is more behind the object")
		return o, s.err, s.twice
	}
	o.OK = true
	return o, "", s.twice
}

func (s *scanner) object(depth int, members *[]Member) bool {
	if depth > maxDepth {
		return s.fail("nested deeper than %d", maxDepth)
	}
	s.i++ // {
	s.space()
	if s.i < len(s.b) && s.b[s.i] == '}' {
		s.i++
		return true
	}
	var few [8]string
	names := few[:0]
	var many map[string]bool // once there are so many that looking through them is slow
	for {
		s.space()
		start := s.i
		if s.i >= len(s.b) || s.b[s.i] != '"' {
			return s.fail("a name in double quotes is missing")
		}
		from := s.i
		if !s.str() {
			return false
		}
		name := s.name(from)
		s.space()
		if s.i >= len(s.b) || s.b[s.i] != ':' {
			return s.fail("a colon is missing")
		}
		s.i++
		s.space()
		val := s.i
		if !s.value(depth + 1) {
			return false
		}
		if many == nil && len(names) < 64 {
			for _, n := range names {
				if n == name && s.twice == "" {
					s.twice = name
				}
			}
			names = append(names, name)
		} else {
			if many == nil {
				many = make(map[string]bool, 2*len(names))
				for _, n := range names {
					many[n] = true
				}
			}
			if many[name] && s.twice == "" {
				s.twice = name
			}
			many[name] = true
		}
		if members != nil {
			m := Member{Name: name, Raw: json.RawMessage(s.b[val:s.i]), Start: start, End: s.i}
			if s.text != "" && s.b[val] == '"' && bytes.IndexByte(m.Raw, '\\') < 0 {
				m.text, m.isText = s.text[val+1:s.i-1], true
			}
			*members = append(*members, m)
		}
		s.space()
		if s.i >= len(s.b) {
			return s.fail("it ends before the object does")
		}
		switch s.b[s.i] {
		case ',':
			s.i++
		case '}':
			s.i++
			return true
		default:
			return s.fail("a comma or } is missing")
		}
	}
}

// name is the text in quotes that stands from from to where the scanner is.
func (s *scanner) name(from int) string {
	if s.text != "" && bytes.IndexByte(s.b[from:s.i], '\\') < 0 {
		return s.text[from+1 : s.i-1]
	}
	n, _ := (&Member{Raw: s.b[from:s.i]}).String()
	return n
}

func (s *scanner) array(depth int) bool {
	if depth > maxDepth {
		return s.fail("nested deeper than %d", maxDepth)
	}
	s.i++ // [
	s.space()
	if s.i < len(s.b) && s.b[s.i] == ']' {
		s.i++
		return true
	}
	for {
		s.space()
		if !s.value(depth + 1) {
			return false
		}
		s.space()
		if s.i >= len(s.b) {
			return s.fail("it ends before the list does")
		}
		switch s.b[s.i] {
		case ',':
			s.i++
		case ']':
			s.i++
			return true
		default:
			return s.fail("a comma or ] is missing")
		}
	}
}

// elements are those of a list that was scanned before; none of anything else.
func elements(raw []byte) iter.Seq[json.RawMessage] {
	return func(yield func(json.RawMessage) bool) {
		if len(raw) < 2 || raw[0] != '[' {
			return
		}
		s := scanner{b: raw, i: 1}
		for {
			s.space()
			from := s.i
			if s.i >= len(s.b) || s.b[s.i] == ']' || !s.value(1) || !yield(raw[from:s.i]) {
				return
			}
			s.space()
			if s.i >= len(s.b) || s.b[s.i] != ',' {
				return
			}
			s.i++
		}
	}
}

func (s *scanner) value(depth int) bool {
	if s.i >= len(s.b) {
		return s.fail("a value is missing")
	}
	switch c := s.b[s.i]; {
	case c == '{':
		return s.object(depth, nil)
	case c == '[':
		return s.array(depth)
	case c == '"':
		return s.str()
	case c == '-' || c >= '0' && c <= '9':
		return s.number()
	}
	for _, w := range []string{"true", "false", "null"} {
		if len(s.b)-s.i >= len(w) && string(s.b[s.i:s.i+len(w)]) == w {
			s.i += len(w)
			return true
		}
	}
	return s.fail("a value is missing")
}

func (s *scanner) number() bool {
	digits := func() bool {
		from := s.i
		for s.i < len(s.b) && s.b[s.i] >= '0' && s.b[s.i] <= '9' {
			s.i++
		}
		return s.i > from
	}
	if s.b[s.i] == '-' {
		s.i++
	}
	if s.i < len(s.b) && s.b[s.i] == '0' {
		s.i++
	} else if !digits() {
		return s.fail("a digit is missing")
	}
	if s.i < len(s.b) && s.b[s.i] == '.' {
		s.i++
		if !digits() {
			return s.fail("a digit is missing")
		}
	}
	if s.i < len(s.b) && (s.b[s.i] == 'e' || s.b[s.i] == 'E') {
		s.i++
		if s.i < len(s.b) && (s.b[s.i] == '+' || s.b[s.i] == '-') {
			s.i++
		}
		if !digits() {
			return s.fail("a digit is missing")
		}
	}
	return true
}

func (s *scanner) str() bool {
	s.i++ // "
	for s.i < len(s.b) {
		switch c := s.b[s.i]; {
		case c == '"':
			s.i++
			return true
		case c == '\\':
			if !s.escape() {
				return false
			}
		case c < 0x20:
			return s.fail("a control character stands in a text")
		case c < 0x80:
			s.i++
		default:
			r, n := utf8.DecodeRune(s.b[s.i:])
			if r == utf8.RuneError && n == 1 {
				return s.fail("a text is not UTF-8")
			}
			s.i += n
		}
	}
	return s.fail("a text is not closed")
}

func (s *scanner) escape() bool {
	s.i++
	if s.i >= len(s.b) {
		return s.fail("a text is not closed")
	}
	switch s.b[s.i] {
	case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
		s.i++
		return true
	case 'u':
		for k := 1; k <= 4; k++ {
			if s.i+k >= len(s.b) || !isHex(s.b[s.i+k]) {
				return s.fail("\\u needs four hexadecimal digits")
			}
		}
		s.i += 5
		return true
	}
	return s.fail("\\%c is no escape", s.b[s.i])
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}
