package mask

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// Body masks a body by its media type: within the strings of JSON where it is JSON
// (RFC 8259) whatever its type says, values of a form and texts of HTML by their type,
// as text elsewhere. cut says that more followed.
func (m *Masking) Body(text, media string, cut bool) string {
	if !cut && json.Valid([]byte(text)) {
		return m.json(text)
	}
	p := parts{}
	switch {
	case strings.HasPrefix(media, "application/x-www-form-urlencoded"):
		p = ofForm
	case strings.HasPrefix(media, "text/html"):
		p = ofHTML
	}
	return m.value(view{text: text}, text, cut, p)
}

// json walks over valid JSON and rewrites its values in place.
func (m *Masking) json(text string) string {
	var b strings.Builder
	at := 0 // written so far
	put := func(from, to int, with string) {
		if text[from:to] == with {
			return
		}
		b.WriteString(text[at:from])
		b.WriteString(with)
		at = to
	}
	name, key := "", false // the last member name, and whether the next string is one
	var objects []bool     // of the containers around, which are objects
	for i := 0; i < len(text); {
		switch c := text[i]; c {
		case '{', '[':
			objects, key, name = append(objects, c == '{'), c == '{', ""
			i++
		case '}', ']':
			objects, name = objects[:len(objects)-1], ""
			i++
		case ',':
			key, name = len(objects) > 0 && objects[len(objects)-1], ""
			i++
		case ':':
			key = false
			i++
		case '"':
			end := i + 1
			for text[end] != '"' {
				if text[end] == '\\' {
					end++
				}
				end++
			}
			raw := text[i+1 : end]
			v := view{text: raw}
			if d, ok := v.decoded(decoders[1]); ok {
				v = d
			}
			if key {
				name = v.text
			} else {
				put(i+1, end, m.member(name, v, raw))
			}
			i = end + 1
		case ' ', '\t', '\n', '\r':
			i++
		default: // a number, true, false or null
			end := i
			for end < len(text) && strings.IndexByte(",]} \t\n\r", text[end]) < 0 {
				end++
			}
			word := text[i:end]
			number := c == '-' || '0' <= c && c <= '9'
			switch k, ok := m.set.words[word]; {
			case ok:
				put(i, end, `"`+m.markOf(k)+`"`)
			case number && memberName.MatchString(name):
				put(i, end, `"`+m.markFor(Named, word)+`"`)
			}
			i = end
		}
	}
	b.WriteString(text[at:])
	return b.String()
}

// member masks a string value that stands under a name. The elements of a list do not:
// under "password" it holds complaints more often than secrets, and those that are known
// are masked anyway.
//
// A value that a service redacted is no secret, and stays. Where another secret of the fact
// stands within it, its mark follows: that what was sent came back must show.
func (m *Masking) member(name string, v view, raw string) string {
	if raw == "" || !memberName.MatchString(name) || Redacted(v.text) {
		return m.value(v, raw, false, parts{})
	}
	mark := m.markFor(Named, v.text)
	var within []string
	for text := range m.numbers {
		if len(text) >= cutFrom && text != v.text && strings.Contains(v.text, text) {
			within = append(within, text)
		}
	}
	for _, x := range m.set.secrets {
		if len(x.text) >= Everywhere && x.text != v.text && strings.Contains(v.text, x.text) {
			within = append(within, x.text)
		}
	}
	slices.Sort(within)
	for _, text := range slices.Compact(within) {
		mark += m.markFor(Named, text)
	}
	return mark
}

var redacted = regexp.MustCompile(`(?i)^[\[<({]?(redacted|masked|hidden|filtered|removed|omitted)[\])>}]?$`)

// Redacted says whether a service hid a value itself: nothing but a sign over and over, or a
// word that says so.
func Redacted(text string) bool {
	if redacted.MatchString(text) {
		return true
	}
	signs := map[rune]bool{}
	for _, c := range text {
		if signs[c] = true; unicode.IsLetter(c) || unicode.IsDigit(c) || len(signs) > 2 {
			return false
		}
	}
	return len(signs) > 0
}
