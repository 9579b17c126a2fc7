package token

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"

	"millgate/core/pointer"
)

func (t *Token) mend(id string, part Part, args ...any) {
	t.mended = append(t.mended, judgement(id, part, "", args...))
}

// Decode reads whatever was pasted. It never fails and never panics.
func Decode(text string) *Token {
	t := &Token{}
	if len(text) > MaxSize {
		return TooLong(len(text))
	}
	t.Raw = t.strip(text)
	if t.Raw == "" {
		t.Kind = Empty
		return t
	}
	if t.Raw[0] == '{' && t.fromJSON() {
		if t.Kind == Empty {
			return t
		}
	}
	n := strings.Count(t.Raw, ".") + 1
	switch {
	case n == 1:
		t.Kind = Opaque
		return t
	case n == 5 && t.encrypted():
		return t
	}
	t.signed(n)
	return t
}

// TooLong is a token of which nothing but its size in bytes is known, since it is longer than MaxSize.
func TooLong(size int) *Token {
	t := &Token{Kind: Unread, size: size}
	t.mend("form-size", Whole, (size+1023)>>10)
	return t
}

// strip takes away what stands around a token when it is copied.
func (t *Token) strip(s string) string {
	if clean(s) {
		return s
	}
	s = strings.TrimSpace(strings.TrimPrefix(s, "\ufeff"))
	for _, p := range []string{"authorization:", "bearer", "dpop", "token"} {
		if len(s) > len(p) && strings.EqualFold(s[:len(p)], p) && (strings.HasSuffix(p, ":") || s[len(p)] == ' ' ||
			s[len(p)] == '\t' || s[len(p)] == ':') {
			s = strings.TrimLeft(s[len(p):], ": \t\r\n")
			t.mend("form-prefix", Whole, strings.TrimSuffix(p, ":"))
		}
	}
	if i := strings.Index(s, "access_token="); i >= 0 {
		s = s[i+len("access_token="):]
		if j := strings.IndexAny(s, "&; \n"); j >= 0 {
			s = s[:j]
		}
		t.mend("form-prefix", Whole, "access_token=")
	}
	if len(s) > 1 && strings.ContainsRune("\"'`<", rune(s[0])) {
		s = strings.Trim(s, "\"'`<>,;")
		t.mend("form-quotes", Whole)
	} else if u := strings.TrimRight(s, ",;\"'"); u != s {
		s = u
		t.mend("form-quotes", Whole)
	}
	if strings.HasPrefix(s, "{") {
		return s
	}
	if strings.ContainsAny(s, " \t\r\n") {
		s = strings.Map(func(r rune) rune {
			if strings.ContainsRune(" \t\r\n", r) {
				return -1
			}
			return r
		}, s)
		t.mend("form-wrapped", Whole)
	}
	if strings.Contains(s, "%2E") || strings.Contains(s, "%2e") || strings.Contains(s, "%3D") {
		s = unescaped.Replace(s)
		t.mend("form-escaped", Whole)
	}
	return s
}

// clean says whether a text has nothing around it that strip takes away: the
// usual case, fast.
func clean(s string) bool {
	if s == "" || !inToken(s[0]) || !inToken(s[len(s)-1]) {
		return false
	}
	for _, c := range []byte(" \t\r\n%:=") {
		if strings.IndexByte(s, c) >= 0 {
			return false
		}
	}
	return true
}

func inToken(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '.' || c == '-' || c == '_'
}

// fromJSON reads a flattened or general JWS (RFC 7515 section 7.2), or takes
// the token out of an answer of a token endpoint (RFC 6749 section 5.1).
func (t *Token) fromJSON() bool {
	var j struct {
		Payload, Protected, Signature string
		Signatures                    []struct{ Protected, Signature string }
		AccessToken                   string `json:"access_token"`
	}
	if json.Unmarshal([]byte(t.Raw), &j) != nil {
		return false
	}
	switch {
	case j.Payload != "" && j.Protected != "":
		t.Raw = j.Protected + "." + j.Payload + "." + j.Signature
	case j.Payload != "" && len(j.Signatures) > 0:
		t.Raw = j.Signatures[0].Protected + "." + j.Payload + "." + j.Signatures[0].Signature
	case j.AccessToken != "":
		t.Raw = j.AccessToken
		t.mend("form-prefix", Whole, "access_token")
		return true
	default:
		return false
	}
	t.mend("form-serialisation", Whole)
	return true
}

// encrypted recognises a JWE by its header (RFC 7516 section 9).
func (t *Token) encrypted() bool {
	first, _, _ := strings.Cut(t.Raw, ".")
	b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(first, "="))
	if err != nil {
		return false
	}
	o, why, _ := parseObject(b)
	if why != "" || o.Get("enc") == nil {
		return false
	}
	t.Kind, t.Header = Encrypted, o
	return true
}

func (t *Token) signed(n int) {
	first, rest, _ := strings.Cut(t.Raw, ".")
	second, third, _ := strings.Cut(rest, ".")
	t.Kind, t.bytes = Signed, []byte(t.Raw)
	header, claims := t.part(first, 0, Header), t.part(second, len(first)+1, Claims)
	var why, twice string
	t.Header, why, twice = parseObject(header)
	t.alg, _ = t.Header.String("alg")
	if why != "" {
		if n != 3 || !bytes.HasPrefix(bytes.TrimSpace(header), []byte("{")) {
			// Dots alone make no JWT.
			t.Kind, t.mended, t.Header, t.alg = Opaque, nil, Object{}, ""
			return
		}
		t.mend("form-json", Header, why)
	}
	if twice != "" {
		t.mended = append(t.mended, judgement("form-duplicate", Header, pointer.JSON("").Member(twice), twice))
	}
	if t.Claims, why, twice = parseObject(claims); why != "" {
		t.mend("form-json", Claims, why)
	}
	if twice != "" {
		t.mended = append(t.mended, judgement("form-duplicate", Claims, pointer.JSON("").Member(twice), twice))
	}
	behind := len(first) + len(second) + 2
	switch {
	case n == 2:
		t.mend("form-parts", Whole, "two parts, the signature is missing")
	case n > 3:
		third, _, _ = strings.Cut(third, ".")
		t.mend("form-parts", Whole, fmt.Sprintf("%d parts", n))
	}
	t.Signature = t.part(third, behind, Signature)
	t.Signed = t.Raw[:min(len(t.Raw), len(first)+1+len(second))]
}

var (
	strictURL = base64.RawURLEncoding.Strict()
	lastURL   = base64.RawURLEncoding
)

// part decodes base64url without padding (RFC 7515 section 2), and what it is
// often mistaken for. It stands at a place of Raw.
func (t *Token) part(s string, at int, p Part) []byte {
	if at+len(s) <= len(t.bytes) {
		b := make([]byte, strictURL.DecodedLen(len(s)))
		if n, err := strictURL.Decode(b, t.bytes[at:at+len(s)]); err == nil {
			return b[:n]
		}
	}
	u := s
	if v := urlSafe.Replace(u); v != u {
		u = v
		t.mend("form-alphabet", p)
	}
	if v := strings.TrimRight(u, "="); v != u {
		u = v
		t.mend("form-padding", p)
	}
	if b, err := strictURL.DecodeString(u); err == nil {
		return b
	}
	if b, err := lastURL.DecodeString(u); err == nil {
		t.mend("form-bits", p)
		return b
	}
	// As much as can be read.
	b, err := lastURL.DecodeString(u)
	if bad, ok := err.(base64.CorruptInputError); ok {
		keep := min(int(bad), len(u)) / 4 * 4
		b, _ = lastURL.DecodeString(u[:keep])
		t.mend("form-base64", p, int(bad))
	}
	return b
}

var (
	unescaped = strings.NewReplacer("%2E", ".", "%2e", ".", "%3D", "=", "%3d", "=", "%2B", "+", "%2F", "/")
	urlSafe   = strings.NewReplacer("+", "-", "/", "_") // RFC 4648 section 5
)
