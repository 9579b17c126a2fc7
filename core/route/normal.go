package route

import "strings"

const hexUpper = "0123456789ABCDEF"

func unreserved(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte("-._~", c) >= 0
}

func unhex(c byte) (byte, bool) {
	switch {
	case '0' <= c && c <= '9':
		return c - '0', true
	case 'a' <= c && c <= 'f':
		return c - 'a' + 10, true
	case 'A' <= c && c <= 'F':
		return c - 'A' + 10, true
	}
	return 0, false
}

// NormaliseSegment applies RFC 3986 sections 6.2.2.1 and 6.2.2.2 to one
// segment: percent-encodings in upper case, unreserved characters decoded.
// A broken percent-encoding is left as it stands.
func NormaliseSegment(s string) string {
	if !strings.Contains(s, "%") {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '%' && i+2 < len(s) {
			hi, ok1 := unhex(s[i+1])
			lo, ok2 := unhex(s[i+2])
			if ok1 && ok2 {
				if c := hi<<4 | lo; unreserved(c) {
					b.WriteByte(c)
				} else {
					b.Write([]byte{'%', hexUpper[hi], hexUpper[lo]})
				}
				i += 2
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// Normalise applies RFC 3986 section 6.2.2 to a path: every segment as in
// NormaliseSegment, then dot segments removed (section 5.2.4). Doubled slashes
// are kept: they are another path.
func Normalise(path string) string {
	segs := Split(path)
	out := segs[:0:0]
	for i, g := range segs {
		g = NormaliseSegment(g)
		last := i == len(segs)-1
		switch g {
		case ".":
			if last {
				out = append(out, "")
			}
		case "..":
			if len(out) > 0 {
				out = out[:len(out)-1]
			}
			if last {
				out = append(out, "")
			}
		default:
			out = append(out, g)
		}
	}
	return "/" + strings.Join(out, "/")
}

// Split cuts a path into its segments; "/" is one empty segment.
func Split(path string) []string { return strings.Split(strings.TrimPrefix(path, "/"), "/") }

// EscapeSegment percent-encodes all that RFC 3986 section 3.3 does not allow
// in a path segment as it stands.
func EscapeSegment(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if c := s[i]; unreserved(c) || strings.IndexByte("!$&'()*+,;=:@", c) >= 0 {
			b.WriteByte(c)
		} else {
			b.Write([]byte{'%', hexUpper[c>>4], hexUpper[c&15]})
		}
	}
	return b.String()
}
