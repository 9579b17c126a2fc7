package mask

import (
	"html"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// view is a text as a reader decodes it, with the place in the raw text that each of
// its bytes comes from. nil places: it is the raw text.
type view struct {
	text     string
	from, to []int32
}

// raw is where bytes a to b of the view stand in the raw text.
func (v view) raw(a, b int) (int, int) {
	if v.from == nil {
		return a, b
	}
	return int(v.from[a]), int(v.to[b-1])
}

// decoder reads one escape at the beginning of a text: what it stands for, and how many
// bytes it has; 0 where there is none.
type decoder struct {
	begins byte
	read   func(s string) (string, int)
}

var decoders = []decoder{{'%', percent}, {'\\', escape}, {'&', entity}}

// plus reads the space of a form.
var plus = decoder{'+', func(string) (string, int) { return " ", 1 }}

func hexOf(s string) (int, bool) {
	n, err := strconv.ParseUint(s, 16, 32)
	return int(n), err == nil && s[0] != '+' && s[0] != '-'
}

// percent reads %XX (RFC 3986 section 2.1).
func percent(s string) (string, int) {
	if len(s) < 3 {
		return "", 0
	}
	n, ok := hexOf(s[1:3])
	if !ok {
		return "", 0
	}
	return string([]byte{byte(n)}), 3
}

var short = map[byte]string{'"': `"`, '\\': `\`, '/': "/", 'b': "\b", 'f': "\f", 'n': "\n", 'r': "\r", 't': "\t"}

// escape reads an escape of a JSON string (RFC 8259 section 7).
func escape(s string) (string, int) {
	if len(s) < 2 {
		return "", 0
	}
	if s[1] != 'u' {
		if t, ok := short[s[1]]; ok {
			return t, 2
		}
		return "", 0
	}
	one := func(t string) (rune, bool) {
		if len(t) < 6 || t[0] != '\\' || t[1] != 'u' {
			return 0, false
		}
		n, ok := hexOf(t[2:6])
		return rune(n), ok
	}
	r, ok := one(s)
	if !ok {
		return "", 0
	}
	if utf16.IsSurrogate(r) {
		if low, ok := one(s[6:]); ok {
			if both := utf16.DecodeRune(r, low); both != utf8.RuneError {
				return string(both), 12
			}
		}
	}
	return string(r), 6
}

// entity reads a character reference of HTML, with its semicolon or without.
func entity(s string) (string, int) {
	n := 1
	for n < len(s) && n < 34 && (s[n] == '#' || '0' <= s[n] && s[n] <= '9' || 'a' <= s[n]|32 && s[n]|32 <= 'z') {
		n++
	}
	if n < len(s) && s[n] == ';' {
		n++
	}
	if n < 3 {
		return "", 0
	}
	t := html.UnescapeString(s[:n])
	if t == s[:n] {
		return "", 0
	}
	return t, n
}

// decoded is a view read by decoders; ok is false where there is nothing to read.
func (v view) decoded(ds ...decoder) (out view, ok bool) {
	var text []byte
	keep := func(t string, a, b int) {
		text = append(text, t...)
		for range len(t) {
			out.from, out.to = append(out.from, int32(a)), append(out.to, int32(b))
		}
	}
	for i := 0; i < len(v.text); {
		t, n := "", 0
		for _, d := range ds {
			if v.text[i] == d.begins {
				if t, n = d.read(v.text[i:]); n > 0 {
					break
				}
			}
		}
		if n > 0 && !ok {
			ok = true
			text, out.from, out.to = make([]byte, 0, len(v.text)), make([]int32, 0, len(v.text)),
				make([]int32, 0, len(v.text))
			for k := range i {
				a, b := v.raw(k, k+1)
				keep(v.text[k:k+1], a, b)
			}
		}
		if n == 0 {
			t, n = v.text[i:i+1], 1
		}
		if ok {
			a, b := v.raw(i, i+n)
			keep(t, a, b)
		}
		i += n
	}
	out.text = string(text)
	return out, ok
}

// views are the readings of a text: as it is, and by up to two decoders after each
// other.
func (s *Set) views(base view) []view {
	out := []view{base}
	from := 0
	for range 2 {
		end := len(out)
		for _, v := range out[from:end] {
			for _, d := range decoders {
				if strings.IndexByte(v.text, d.begins) < 0 {
					continue
				}
				if w, ok := v.decoded(d); ok {
					out = append(out, w)
				}
			}
			if s.spaces && strings.IndexByte(v.text, '+') >= 0 {
				w, _ := v.decoded(plus, decoders[0])
				out = append(out, w)
			}
		}
		from = end
	}
	return out
}
