// Package field has the fields of HTTP messages (RFC 9110 section 5): names without letter
// case, each perhaps several times, in the order in which they came.
package field

import (
	"strings"
	"time"
)

// List are the fields of a message: name and value. The zero one has none.
type List [][2]string

// Get is the value of the first field with a name, "" without one.
func (l List) Get(name string) string {
	v, _ := l.Find(name)
	return v
}

// Find is the value of the first field with a name, which may be empty; ok is false without
// one.
func (l List) Find(name string) (value string, ok bool) {
	for _, f := range l {
		if strings.EqualFold(f[0], name) {
			return f[1], true
		}
	}
	return "", false
}

// All are the values of the fields with a name, in their order. Most are one list, however they
// are split (RFC 9110 section 5.3); Set-Cookie is not.
func (l List) All(name string) (out []string) {
	for _, f := range l {
		if strings.EqualFold(f[0], name) {
			out = append(out, f[1])
		}
	}
	return out
}

// Has says whether there is a field with a name.
func (l List) Has(name string) bool {
	_, ok := l.Find(name)
	return ok
}

// dates are the forms of a date in a field: the one to write, and two that must be read
// (RFC 9110 section 5.6.7).
var dates = []string{"Mon, 02 Jan 2006 15:04:05 GMT", "Monday, 02-Jan-06 15:04:05 GMT", time.ANSIC}

// Date reads a date of a field (RFC 9110 section 5.6.7), in universal time; ok is false where
// it is none.
func Date(value string) (at time.Time, ok bool) {
	for _, form := range dates {
		if t, err := time.Parse(form, strings.TrimSpace(value)); err == nil {
			return t.UTC(), true
		}
	}
	return time.Time{}, false
}
