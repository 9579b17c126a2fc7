package token

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

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

// personal are claims that name a person (OpenID Connect Core section 5.1), whole.
var personal = map[string]string{
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

var (
	mailForm   = regexp.MustCompile(`^[^\s@/:]+@[^\s@/:]+\.[A-Za-z]{2,}$`)
	phoneForm  = regexp.MustCompile(`^\+[1-9](?:[ ().-]?[0-9]){7,14}$`) // ITU-T E.164
	connection = regexp.MustCompile(`^[a-z][a-z0-9+.-]*://[^\s/:@]*:[^\s/@]+@[^\s/]+`)
	settings   = regexp.MustCompile(`(?i)(?:^|;)\s*(?:password|pwd)\s*=\s*[^;\s]+`)
	// Prefixes that issuers of keys give them, so that they are known where they turn up.
	keyForm = regexp.MustCompile(`^(?:(?:sk|rk)_(?:live|test)_|gh[opsur]_|github_pat_|glpat-|xox[abprs]-|AKIA|ASIA|AIza)` +
		`[A-Za-z0-9_-]{10,}$`)
)

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
		if what, ok := personal[name]; ok && top && len(raw) > 2 {
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
		if s := string(raw); len(s) >= 13 && card(s) {
			*out = append(*out, Content{Pointer: string(at), What: "a card number (" + name + ": " + masked(s) + ")"})
		}
	}
}

// contentOf says what a text under a name is: by its form, or by the name.
func contentOf(name, s string, top bool) (Content, bool) {
	switch {
	case strings.Contains(s, "-----BEGIN ") && strings.Contains(s, "PRIVATE KEY-----"):
		return Content{Secret: true, What: "a private key in " + name}, true
	case strings.HasPrefix(s, "eyJ") && strings.Count(s, ".") >= 2:
		return Content{Secret: true, What: "another token in " + name}, true
	case strings.Contains(s, "://") && connection.MatchString(s),
		strings.IndexByte(s, '=') >= 0 && settings.MatchString(s):
		return Content{Secret: true, What: "a connection with its password in " + name}, true
	case len(s) >= 14 && keyForm.MatchString(s):
		return Content{Secret: true, What: "a key in " + name}, true
	}
	last := wordsOf(name)
	if len(s) >= 4 && secretName(last) && !slices.Contains(notSecret, strings.ToLower(s)) {
		return Content{Secret: true, What: fmt.Sprintf("%s, %d characters", name, utf8.RuneCountInString(s))}, true
	}
	what := ""
	switch {
	case strings.IndexByte(s, '@') > 0 && mailForm.MatchString(s):
		what = "an e-mail address"
	case s[0] == '+' && phoneForm.MatchString(s):
		what = "a telephone number"
	case card(s):
		what = "a card number"
	case top && personal[name] != "":
		what = personal[name]
	case len(last) > 0:
		what = personalWords[last[len(last)-1]]
	}
	if what == "" {
		return Content{}, false
	}
	return Content{What: what + " (" + name + ": " + masked(s) + ")"}, true
}

// wordsOf are the words of a name in snake_case, kebab-case or camelCase, in small letters.
func wordsOf(name string) []string {
	if !strings.ContainsFunc(name, func(r rune) bool { return r < 'a' || r > 'z' }) {
		return []string{name}
	}
	var b strings.Builder
	small := false
	for _, r := range name {
		if unicode.IsUpper(r) && small {
			b.WriteByte(' ')
		}
		small = unicode.IsLower(r) || unicode.IsDigit(r)
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			r = ' '
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return strings.Fields(b.String())
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

// card says whether a text is a card number (ISO/IEC 7812-1): a known beginning and length, and the
// check digit.
func card(s string) bool {
	if len(s) < 13 || s[0] < '2' || s[0] > '6' {
		return false
	}
	digits := strings.ReplaceAll(strings.ReplaceAll(s, " ", ""), "-", "")
	n := len(digits)
	if n < 13 || n > 19 || len(s) > 2*n {
		return false
	}
	sum := 0
	for i := range n {
		d := int(digits[n-1-i] - '0')
		if d < 0 || d > 9 {
			return false
		}
		if i%2 == 1 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
	}
	if sum%10 != 0 {
		return false
	}
	two := digits[:2]
	switch {
	case digits[0] == '4':
		return n == 13 || n == 16 || n == 19
	case two >= "51" && two <= "55", two >= "22" && two <= "27", two == "60", two == "65":
		return n == 16
	case two == "34", two == "37":
		return n == 15
	}
	return false
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
