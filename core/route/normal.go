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
// A broken percent-encoding is left as it stands, and so is what would mend it: "%4%31" is
// not "%41".
func NormaliseSegment(s string) string {
	if !strings.Contains(s, "%") {
		return s
	}
	out := make([]byte, 0, len(s))
	broken := -3 // where in out the last broken one begins
	for i := 0; i < len(s); i++ {
		c, encoded := decoded(s[i:])
		switch {
		case !encoded:
			if s[i] == '%' {
				broken = len(out)
			}
			out = append(out, s[i])
			continue
		case unreserved(c) && !mends(out, broken, c):
			out = append(out, c)
		default:
			out = append(out, '%', hexUpper[c>>4], hexUpper[c&15])
		}
		i += 2
	}
	return string(out)
}

// decoded is the character whose percent-encoding stands at the beginning; ok is false where
// none does.
func decoded(s string) (c byte, ok bool) {
	if len(s) < 3 || s[0] != '%' {
		return 0, false
	}
	hi, ok1 := unhex(s[1])
	lo, ok2 := unhex(s[2])
	return hi<<4 | lo, ok1 && ok2
}

// mends says whether a character behind what is there already would be a part of the encoding
// that is broken there.
func mends(out []byte, broken int, c byte) bool {
	_, digit := unhex(c)
	switch len(out) - broken {
	case 1:
		return digit
	case 2:
		_, first := unhex(out[broken+1])
		return digit && first
	}
	return false
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
