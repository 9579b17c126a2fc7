// Package pointer has JSON Pointers (RFC 6901): the way to one value of a JSON document.
//
// A pointer is "" for the whole document, or a name behind each "/": the name of a member, or
// the index of an item in decimal digits. In a name ~1 stands for / and ~0 for ~.
//
//	pointer.JSON("/items/0/id").In(body) // the id of the first item
//	pointer.JSON("").Member("a/b")       // /a~1b
package pointer

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// JSON is a JSON Pointer. The zero JSON is the whole document.
type JSON string

var (
	escaper   = strings.NewReplacer("~", "~0", "/", "~1")
	unescaper = strings.NewReplacer("~0", "~", "~1", "/")
)

// Check says what is wrong with a pointer (RFC 6901 section 3); nil when nothing is.
func (p JSON) Check() error {
	if p != "" && p[0] != '/' {
		return fmt.Errorf("%q does not begin with /", string(p))
	}
	for i := range len(p) {
		if p[i] == '~' && (i+1 == len(p) || p[i+1] != '0' && p[i+1] != '1') {
			return fmt.Errorf("in %q a ~ is neither ~0, which stands for ~, nor ~1, which stands for /", string(p))
		}
	}
	return nil
}

// Names are the names on the way, from the outside; none for the whole document.
func (p JSON) Names() []string {
	var names []string
	for name, rest, ok := p.Cut(); ok; name, rest, ok = rest.Cut() {
		names = append(names, name)
	}
	return names
}

// Cut takes the first name off; ok is false for the whole document.
func (p JSON) Cut() (name string, rest JSON, ok bool) {
	if p == "" {
		return "", "", false
	}
	s := strings.TrimPrefix(string(p), "/")
	end := strings.IndexByte(s, '/')
	if end < 0 {
		end = len(s)
	}
	name, rest = s[:end], JSON(s[end:])
	if strings.IndexByte(name, '~') >= 0 {
		name = unescaper.Replace(name)
	}
	return name, rest, true
}

// Last is the last name, "" for the whole document.
func (p JSON) Last() string {
	return unescaper.Replace(string(p[strings.LastIndexByte(string(p), '/')+1:]))
}

// Member points at a member of what p points at.
func (p JSON) Member(name string) JSON { return p + "/" + JSON(escaper.Replace(name)) }

// Item points at an item of what p points at, counted from 0.
func (p JSON) Item(i int) JSON { return p + "/" + JSON(strconv.Itoa(i)) }

// In is what p points at in a value as encoding/json reads it; ok is false where there is
// nothing. An index has no leading zeros (section 4).
func (p JSON) In(v any) (at any, ok bool) {
	for n, rest, more := p.Cut(); more; n, rest, more = rest.Cut() {
		switch x := v.(type) {
		case map[string]any:
			if v, ok = x[n]; !ok {
				return nil, false
			}
		case []any:
			i, err := strconv.Atoi(n)
			if err != nil || i < 0 || i >= len(x) || strconv.Itoa(i) != n {
				return nil, false
			}
			v = x[i]
		default:
			return nil, false
		}
	}
	return v, p != "" || v != nil
}

// Text is the string, number or boolean that p points at, as text; ok is false where there is
// none.
func (p JSON) Text(v any) (text string, ok bool) {
	v, ok = p.In(v)
	if !ok {
		return "", false
	}
	switch x := v.(type) {
	case string:
		return x, true
	case json.Number:
		return x.String(), true
	case bool:
		return strconv.FormatBool(x), true
	}
	return "", false
}

// Pattern is a set of pointers: a pointer in which a name * is any one name. Behind ** at its
// beginning it is any way to there: "**/password". The zero Pattern is the whole document.
type Pattern string

// Check says what is wrong with a pattern; nil when nothing is.
func (p Pattern) Check() error {
	rest := strings.TrimPrefix(string(p), "**")
	if rest == "" {
		return fmt.Errorf("%q names no member; write for example **/password or /items/*/password", string(p))
	}
	return JSON(rest).Check()
}

// Matches says whether a pointer is in the set.
func (p Pattern) Matches(at JSON) bool {
	rest, deep := strings.CutPrefix(string(p), "**")
	want, names := JSON(rest).Names(), at.Names()
	if len(names) < len(want) || !deep && len(names) > len(want) {
		return false
	}
	names = names[len(names)-len(want):]
	for i, n := range want {
		if n != "*" && n != names[i] {
			return false
		}
	}
	return true
}
