package mask

import (
	"strings"

	"millgate/core/field"
)

// Headers masks header fields. Of a credential its scheme, a cookie's name and
// attributes stay.
func (m *Masking) Headers(fields field.List) field.List {
	out := make(field.List, len(fields))
	for i, f := range fields {
		out[i] = [2]string{f[0], m.field(strings.ToLower(f[0]), f[1])}
	}
	return out
}

func (m *Masking) field(name, value string) string {
	switch name {
	case "authorization", "proxy-authorization":
		scheme, rest, ok := strings.Cut(value, " ")
		if !ok {
			return m.credential(Token, value)
		}
		return m.Text(scheme, false) + " " + m.credential(Token, rest)
	case "cookie":
		parts := strings.Split(value, ";")
		for i, p := range parts {
			parts[i] = m.pair(p)
		}
		return strings.Join(parts, ";")
	case "set-cookie":
		pair, attributes, more := strings.Cut(value, ";")
		if pair = m.pair(pair); more {
			pair += ";" + m.Text(attributes, false)
		}
		return pair
	}
	return m.Text(value, false)
}

// pair masks the value of name=value (RFC 6265 section 4).
func (m *Masking) pair(p string) string {
	name, value, ok := strings.Cut(p, "=")
	if !ok {
		return m.Text(p, false)
	}
	return m.Text(name, false) + "=" + m.credential(Cookie, value)
}

// credential masks a value that is a secret by its place; the known ones in it keep
// their marks where they are all of it.
func (m *Masking) credential(kind Kind, value string) string {
	if value == "" {
		return ""
	}
	masked := m.Text(value, false)
	if all := marks.FindString(masked); all != "" && all == masked && !Numbered(all) {
		return masked
	}
	return m.markFor(kind, value)
}
