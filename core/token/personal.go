package token

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"millgate/core/personal"
	"millgate/core/pointer"
)

// Content is something among the claims that should not stand there: personal data, or a secret.
// It does not hold the value.
type Content struct {
	Pointer string `json:"pointer"`
	Secret  bool   `json:"secret,omitempty"`
	What    string `json:"what"` // in words, with the value masked
}

// Bounds of what is looked at in the claims of one token.
const (
	mostContents = 50
	mostText     = 16 << 10 // bytes of one value
)

// personalClaims are those that name a person (OpenID Connect Core section 5.1), whole.
var personalClaims = map[string]string{
	"email": "an e-mail address", "phone_number": "a telephone number", "name": "a name",
	"given_name": "a name", "family_name": "a name", "birthdate": "a date of birth", "address": "an address",
	"gender": "a gender", "picture": "a picture", "ssn": "a social security number",
}

// personalWords are last words of names under which a person stands elsewhere.
var personalWords = map[string]string{
	"email": "an e-mail address", "mail": "an e-mail address", "phone": "a telephone number",
	"mobile": "a telephone number", "telephone": "a telephone number", "msisdn": "a telephone number",
	"surname": "a name", "firstname": "a name", "lastname": "a name", "birthday": "a date of birth",
	"birthdate": "a date of birth", "dob": "a date of birth", "passport": "a passport number",
	"iban":   "an account number",
	"street": "an address", "postcode": "an address", "ssn": "a social security number",
}

// secretWords are last words, or pairs of them, of names that a secret has.
var secretWords = []string{"password", "passwd", "pwd", "secret", "private key", "api key", "apikey", "refresh token",
	"access token", "connection string"}

// notSecret are texts that stand under such a name and only say whether there is one.
var notSecret = []string{"true", "false", "yes", "no", "set", "unset", "none", "null", "required", "changed", "expired"}

// spoken claims have a meaning of their own: a person's mark in them is what they are for, or none.
var spoken = []string{"iss", "aud", "azp", "client_id", "jti", "scope", "scp", "kid", "nonce", "at_hash", "c_hash",
	"s_hash", "sid", "cnf", "exp", "iat", "nbf", "auth_time", "acr", "amr"}

// contents goes through the claims, however deep they are nested.
func (t *Token) contents() (out []Content) {
	for i := range t.Claims.Members {
		m := &t.Claims.Members[i]
		if slices.Contains(spoken, m.Name) {
			continue
		}
		inside(m.Raw, m.Name, pointer.JSON("").Member(m.Name), true, &out)
	}
	return out
}

// inside looks at one value under a name; an element of a list has the name of the list.
func inside(raw json.RawMessage, name string, at pointer.JSON, top bool, out *[]Content) {
	if len(*out) >= mostContents || len(raw) == 0 {
		return
	}
	switch raw[0] {
	case '{':
		if what, ok := personalClaims[name]; ok && top && len(raw) > 2 {
			*out = append(*out, Content{Pointer: string(at), What: what + " (" + name + ")"})
			return
		}
		o, why, _ := parseObject(raw)
		if why != "" {
			return
		}
		for i := range o.Members {
			m := &o.Members[i]
			inside(m.Raw, m.Name, at.Member(m.Name), false, out)
		}
	case '[':
		i := 0
		for e := range elements(raw) {
			inside(e, name, at.Item(i), top, out)
			i++
		}
	case '"':
		if len(raw) > mostText {
			return
		}
		m := Member{Raw: raw}
		if s, ok := m.String(); ok && s != "" {
			if c, ok := contentOf(name, s, top); ok {
				c.Pointer = string(at)
				*out = append(*out, c)
			}
		}
	default: // a number may be a card's or a telephone's
		if s := string(raw); personal.Card(s) {
			*out = append(*out, Content{Pointer: string(at), What: "a card number (" + name + ": " + masked(s) + ")"})
		}
	}
}

// contentOf says what a text under a name is: by its form, or by the name.
func contentOf(name, s string, top bool) (Content, bool) {
	switch personal.SecretIn(s) {
	case personal.PrivateKey:
		return Content{Secret: true, What: "a private key in " + name}, true
	case personal.Token:
		return Content{Secret: true, What: "another token in " + name}, true
	case personal.Connection:
		return Content{Secret: true, What: "a connection with its password in " + name}, true
	case personal.Key:
		return Content{Secret: true, What: "a key in " + name}, true
	case personal.NoSecret:
	}
	last := personal.Words(name)
	if len(s) >= 4 && secretName(last) && !slices.Contains(notSecret, strings.ToLower(s)) {
		return Content{Secret: true, What: fmt.Sprintf("%s, %d characters", name, utf8.RuneCountInString(s))}, true
	}
	what := ""
	switch {
	case personal.Mail(s):
		what = "an e-mail address"
	case personal.Phone(s):
		what = "a telephone number"
	case personal.Card(s):
		what = "a card number"
	case top && personalClaims[name] != "":
		what = personalClaims[name]
	case len(last) > 0:
		what = personalWords[last[len(last)-1]]
	}
	if what == "" {
		return Content{}, false
	}
	return Content{What: what + " (" + name + ": " + masked(s) + ")"}, true
}

// secretName says whether a name ends in what a secret is called.
func secretName(w []string) bool {
	if len(w) == 0 {
		return false
	}
	last := w[len(w)-1]
	if slices.Contains(secretWords, last) {
		return true
	}
	return len(w) > 1 && slices.Contains(secretWords, w[len(w)-2]+" "+last)
}

// masked is a text of which no more than its ends can be read.
func masked(s string) string {
	r := []rune(s)
	if len(r) < 6 {
		return "…"
	}
	return string(r[0]) + "…" + string(r[len(r)-1])
}

// contents says what among the claims should not stand there.
func (j *judge) contents() {
	if !j.t.Claims.OK {
		return
	}
	var list []Content
	switch s := j.t.shown; {
	case s == nil:
		list = j.t.contents()
	case s.Version < 2: // which kept none
		j.say("claim-hidden", Claims, "", "names that the standard does not know")
	default:
		list = s.Contents
	}
	for _, c := range list {
		id := "personal-data"
		if c.Secret {
			id = "secret-inside"
		}
		j.say(id, Claims, pointer.JSON(c.Pointer), c.What)
	}
}
