// Package token reads issued tokens, says what is wrong with them, and makes
// the broken ones that a service must refuse.
//
// # Reading
//
// [Decode] takes whatever somebody pastes: a compact JWS (RFC 7515 section
// 3.1), the same with "Bearer " before it, wrapped over lines, in quotes, with
// the wrong base64 alphabet, with parts missing or too many, a flattened JWS
// (section 7.2.2), an encrypted token (RFC 7516), an opaque one. It never
// fails: what it had to mend becomes a [Judgement], and what it cannot read is
// named. Its work is bounded by [MaxSize] and by the depth of JSON.
//
// # Verifying
//
// [Keys.Verify] answers one question, whether a key of the set made the
// signature. It says nothing about what the token claims.
//
// # Judging
//
// [Judge] compares a token with the declaration and with RFC 7519 (JWT), 8725
// (JWT best current practices), 9068 (access tokens) and 7518 (algorithms), at
// an instant that the caller gives:
//
//	t := token.Decode(pasted)
//	for _, j := range token.Judge(t, token.Context{Now: now, Doc: doc, Scheme: scheme, Keys: keys}) {
//		fmt.Println(j.Severity, j.Text, j.Standard)
//	}
//
// # Breaking
//
// [Break] makes the variants that a service must refuse: unsigned, signed by a
// foreign key, with the public key as HMAC secret, and so on.
package token

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"
	"time"
)

// Kind of a token, by its form.
type Kind string

const (
	Signed    Kind = "signed"    // a JWS, its signature may be empty
	Encrypted Kind = "encrypted" // a JWE in five parts: nothing in it can be read without its key
	Opaque    Kind = "opaque"    // no structure that says anything
	Empty     Kind = "empty"
	Unread    Kind = "unread" // longer than MaxSize
)

// Part of a token.
type Part string

const (
	Whole     Part = "text"
	Header    Part = "header"
	Claims    Part = "claims"
	Signature Part = "signature"
)

// MaxSize is how many bytes of text are read as a token, 64 KiB: no server takes a longer one.
const MaxSize = 64 << 10

// Token is a token as it was read.
type Token struct {
	Kind      Kind
	Raw       string // without what stood around it
	Header    Object
	Claims    Object
	Signature []byte // decoded
	Signed    string // what the signature covers: the first two parts as they stand (RFC 7515 section 5.1)
	bytes     []byte // of Raw, so that nothing copies it again
	alg       string // of the header
	mended    []Judgement
	size      int    // of what was looked at before, in place of Raw
	shown     *Shown // which it was made from
	// The claims of an opaque token are what its issuer said (RFC 7662).
	Introspected bool
}

// Object is a JSON object in the order of its text.
type Object struct {
	Text    []byte // decoded, as it stands
	Members []Member
	OK      bool // it is a JSON object
}

// Member of an object, with the bytes of Text that hold it.
type Member struct {
	Name       string
	Raw        json.RawMessage // its value
	Start, End int             // of the whole member in Text
	text       string          // its value, where that is a string without escapes
	isText     bool
}

// Get returns the last member with a name, as most parsers do; nil without.
func (o *Object) Get(name string) *Member {
	for i := len(o.Members) - 1; i >= 0; i-- {
		if o.Members[i].Name == name {
			return &o.Members[i]
		}
	}
	return nil
}

// Text returns a member's string; ok is false when it is none.
func (o *Object) String(name string) (string, bool) {
	m := o.Get(name)
	if m == nil {
		return "", false
	}
	return m.String()
}

// String is the member's value, when that is a JSON string.
func (m *Member) String() (string, bool) {
	if m.isText {
		return m.text, true
	}
	r := m.Raw
	if len(r) < 2 || r[0] != '"' {
		return "", false
	}
	if bytes.IndexByte(r, '\\') < 0 {
		return string(r[1 : len(r)-1]), true
	}
	var s string
	if json.Unmarshal(r, &s) != nil {
		return "", false
	}
	return s, true
}

// Strings are the value's strings: one, a list, or words separated by spaces
// where split is true (RFC 8693 section 4.2).
func (m *Member) Strings(split bool) []string { return m.strings(nil, split) }

// strings appends them to a list that the caller has room for.
func (m *Member) strings(out []string, split bool) []string {
	if m == nil {
		return out
	}
	if s, ok := m.String(); ok {
		if split {
			return append(out, strings.Fields(s)...)
		}
		return append(out, s)
	}
	for raw := range elements(m.Raw) {
		if text, ok := (&Member{Raw: raw}).String(); ok {
			out = append(out, text)
		}
	}
	return out
}

// kind is what a value is, in words.
func (m *Member) kind() string {
	switch {
	case len(m.Raw) == 0:
		return "nothing"
	case m.Raw[0] == '"':
		return "a text"
	case m.Raw[0] == '[':
		return "a list"
	case m.Raw[0] == '{':
		return "an object"
	case m.Raw[0] == 't', m.Raw[0] == 'f', m.Raw[0] == 'n':
		return string(m.Raw) // true, false, null
	}
	return "a number"
}

// texts says whether the value is a text or a list of texts alone.
func (m *Member) texts() bool {
	if _, ok := m.String(); ok {
		return true
	}
	if len(m.Raw) == 0 || m.Raw[0] != '[' {
		return false
	}
	for raw := range elements(m.Raw) {
		if raw[0] != '"' {
			return false
		}
	}
	return true
}

// date reads a NumericDate (RFC 7519 section 2), and what it is not but may be
// meant as: milliseconds, a number in quotes, a date as text.
func (m *Member) date() (at time.Time, form string) {
	r := m.Raw
	if s, ok := m.String(); ok {
		if t, err := time.Parse(time.RFC3339, s); err == nil {
			return t, "text"
		}
		if at, f := seconds(s); f != "not a date" {
			return at, "text"
		}
		return time.Time{}, "not a date"
	}
	return seconds(string(r))
}

func seconds(s string) (time.Time, string) {
	if n, err := strconv.ParseInt(s, 10, 64); err == nil {
		switch {
		case n < 0 || n > 1e14:
			return time.Time{}, "not a date"
		case n > 1e11: // the year 5138 in seconds, 1973 in milliseconds
			return time.UnixMilli(n), "milliseconds"
		}
		return time.Unix(n, 0), ""
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || !(f >= 0 && f <= 1e14) {
		return time.Time{}, "not a date"
	}
	if f > 1e11 {
		return time.UnixMilli(int64(f)), "milliseconds"
	}
	return time.UnixMilli(int64(f * 1000)), "" // a fraction is allowed
}

// Date is a claim as an instant; ok is false when it is absent or none.
func (t *Token) Date(claim string) (time.Time, bool) {
	m := t.Claims.Get(claim)
	if m == nil {
		return time.Time{}, false
	}
	at, form := m.date()
	return at, form != "not a date"
}

// Algorithm is the header's alg, "" without.
func (t *Token) Algorithm() string { return t.alg }
