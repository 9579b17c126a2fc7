package tokenfile

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"regexp"
	"slices"
	"strings"
)

// escape is the longest escape of a character, in bytes: \u002e.
const escape = 6

func inToken(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.'
}

// next is where a text begins that may be a JSON object in base64; -1 without.
func next(b []byte) int {
	for i := 0; ; {
		at := bytes.IndexByte(b[i:], 'e')
		if at < 0 {
			return -1
		}
		if i += at; begins(b[i:]) {
			return i
		}
		i++
	}
}

// begins says whether a text begins as {" does in base64, or { with white space behind it.
func begins(b []byte) bool {
	if len(b) < 3 || b[0] != 'e' {
		return false
	}
	switch string(b[1:3]) {
	case "yJ", "yA", "wo", "w0", "wk":
		return true
	}
	return false
}

// take takes what belongs to a token from the begin of a text, and says how many bytes of the text that is.
func (c *candidate) take(b []byte) (n int) {
	plain := 0 // up to where + and / are known to belong to it: a long run is looked through once
	for n < len(b) {
		from := n
		for n < len(b) && inToken(b[n]) {
			if b[n] == '.' {
				c.dots++
			}
			n++
		}
		if c.keep(b[from:n]...); n == len(b) {
			return n
		}
		switch ch := b[n]; {
		case ch == '%' && len(b) > n+2 && b[n+1] == '2' && (b[n+2] == 'E' || b[n+2] == 'e'):
			c.dots++
			c.keep(b[n : n+3]...)
			n += 3
		case ch == '%' && len(b) > n+2 && strings.EqualFold(string(b[n:n+3]), "%3d"):
			c.keep(b[n : n+3]...)
			n += 3
		case ch == '\\' && len(b) > n+5 && b[n+1] == 'u' && unescaped(b[n+2:n+6]) != 0:
			if ch = unescaped(b[n+2 : n+6]); ch == '.' {
				c.dots++
			}
			c.keep(ch)
			n += 6
		case ch == '+' || ch == '/' || ch == '\\' && len(b) > n+1 && b[n+1] == '/':
			if n >= plain {
				if plain = n + c.plain(b[n:]); plain == n {
					return n
				}
			}
			if ch == '\\' {
				n++
			}
			c.keep(b[n])
			n++
		case ch == '=' && c.pads(b[n:]):
			c.keep('=')
			n++
		default:
			return n
		}
	}
	return n
}

// keep adds to the text what it has room for.
func (c *candidate) keep(b ...byte) {
	c.Size += len(b)
	c.text = append(c.text, b[:min(len(b), Longest-len(c.text))]...)
}

// unescaped is the character of a token that four digits of a JSON escape stand for; 0 without.
func unescaped(hex []byte) byte {
	var ch rune
	for _, h := range hex {
		switch {
		case h >= '0' && h <= '9':
			ch = ch<<4 | rune(h-'0')
		case h|0x20 >= 'a' && h|0x20 <= 'f':
			ch = ch<<4 | rune(h|0x20-'a'+10)
		default:
			return 0
		}
	}
	if ch < 0x80 && inToken(byte(ch)) {
		return byte(ch)
	}
	return 0
}

// plain is how much of a text that begins with + or / belongs to the token, in the alphabet of plain base64
// (RFC 4648 section 4): where a further part follows, or the signature is not at its end.
func (c *candidate) plain(b []byte) int {
	run := 0
	for run < len(b) && (inToken(b[run]) && b[run] != '.' || b[run] == '+' || b[run] == '/' || b[run] == '\\') {
		run++
	}
	if c.dots >= 2 && c.takes(run) || c.dots == 1 && run < len(b) && (b[run] == '.' || b[run] == '=') {
		return run
	}
	return 0
}

// pads says whether a text begins with padding that ends a part, and no soft line break.
func (c *candidate) pads(b []byte) bool {
	n := 0
	for n < len(b) && b[n] == '=' {
		n++
	}
	switch {
	case n > 2:
		return false
	case n < len(b) && b[n] == '.':
		return true
	case c.dots < 2 || n < len(b) && inToken(b[n]):
		return false
	}
	return !over(b[n:]) || !c.takes(1)
}

// piece keeps what was taken of a line.
func (c *candidate) piece(line int) {
	text := c.text[c.told:]
	c.parts = append(c.parts, Found{line, string(text), len(text)})
	c.told = len(c.text)
}

// header says whether the first part is a JSON object.
func (c *candidate) header() bool { return json.Valid(c.first()) }

func (c *candidate) first() []byte {
	first, _, _ := bytes.Cut(c.text, []byte{'.'})
	if i := bytes.Index(first, []byte("%2")); i >= 0 {
		first = first[:i]
	}
	b, err := base64.RawURLEncoding.AppendDecode(nil, bytes.TrimRight(first, "="))
	if err != nil || len(b) == 0 || b[0] != '{' {
		return nil
	}
	return b
}

// lengths are those of signatures in base64url, by alg (RFC 7518 section 3.1); RSA has those of keys
// of 1024, 2048, 3072 and 4096 bits.
var lengths = map[string][]int{"HS256": {43}, "HS384": {64}, "HS512": {86}, "ES256": {86}, "ES384": {128},
	"ES512": {176}, "EdDSA": {86}, "Ed25519": {86}}

var rsaLengths = []int{171, 342, 512, 683}

// takes says whether so many characters more are still no more than a signature has.
func (c *candidate) takes(more int) bool {
	list, has := c.signature()
	return slices.ContainsFunc(list, func(n int) bool { return has < n && has+more <= n }) && !slices.Contains(list,
		has)
}

// ends says whether so many characters more make the signature whole.
func (c *candidate) ends(more int) bool {
	list, has := c.signature()
	return slices.Contains(list, has+more) && !slices.Contains(list, has)
}

// signature is how long the signature may be, by alg, and how long it is.
func (c *candidate) signature() (list []int, has int) {
	m := algorithm.FindSubmatch(c.first())
	if m == nil {
		return nil, 0
	}
	alg := string(m[1])
	list = lengths[alg]
	if list == nil && (strings.HasPrefix(alg, "RS") || strings.HasPrefix(alg, "PS")) {
		list = rsaLengths
	}
	return list, len(c.text) - 1 - bytes.LastIndexByte(c.text, '.')
}

// algorithm finds alg in a header as writers write it. What it does not find has no known length.
var algorithm = regexp.MustCompile(`"alg"\s*:\s*"([A-Za-z0-9]+)"`)

// wants says whether a candidate that reached the end of a line may go on in the next one.
func (c *candidate) wants() bool {
	return c.width >= wrapped && len(c.text) > 0 && c.Size <= Longest && (c.dots < 2 && c.first() != nil ||
		c.dots < 1 ||
		c.dots == 2 && c.takes(1))
}
