// Package personal knows by its form what a text is that is somebody's, or a secret, wherever it stands: in the claims
// of a token, in a request that was recorded. What the name of a member says beside that is for whoever knows what
// it is a member of.
package personal

import (
	"regexp"
	"strings"
	"unicode"
)

var (
	mailForm   = regexp.MustCompile(`^[^\s@/:]+@[^\s@/:]+\.[A-Za-z]{2,}$`)
	phoneForm  = regexp.MustCompile(`^\+[1-9](?:[ ().-]?[0-9]){7,14}$`) // ITU-T E.164
	connection = regexp.MustCompile(`^[a-z][a-z0-9+.-]*://[^\s/:@]*:[^\s/@]+@[^\s/]+`)
	settings   = regexp.MustCompile(`(?i)(?:^|;)\s*(?:password|pwd)\s*=\s*[^;\s]+`)
	// Prefixes that issuers of keys give them, so that they are known where they turn up.
	keyForm = regexp.MustCompile(`^(?:(?:sk|rk)_(?:live|test)_|gh[opsur]_|github_pat_|glpat-|xox[abprs]-|AKIA|ASIA|AIza)` +
		`[A-Za-z0-9_-]{10,}$`)
)

// Secret is what a secret is, by its form.
type Secret uint8

// The forms of secrets.
const (
	NoSecret   Secret = iota
	PrivateKey        // in PEM (RFC 7468)
	Token             // a JWS or JWE in compact form (RFC 7515, RFC 7516)
	Connection        // an address or settings with a password
	Key               // with the prefix of an issuer
)

// SecretIn says which secret a text is.
func SecretIn(s string) Secret {
	switch {
	case strings.Contains(s, "-----BEGIN ") && strings.Contains(s, "PRIVATE KEY-----"):
		return PrivateKey
	case strings.HasPrefix(s, "eyJ") && strings.Count(s, ".") >= 2:
		return Token
	case strings.Contains(s, "://") && connection.MatchString(s),
		strings.IndexByte(s, '=') >= 0 && settings.MatchString(s):
		return Connection
	case len(s) >= 14 && keyForm.MatchString(s):
		return Key
	}
	return NoSecret
}

// Mail says whether a text is an e-mail address.
func Mail(s string) bool { return strings.IndexByte(s, '@') > 0 && mailForm.MatchString(s) }

// Phone says whether a text is a telephone number in international form (ITU-T E.164).
func Phone(s string) bool { return len(s) > 0 && s[0] == '+' && phoneForm.MatchString(s) }

// Card says whether a text is a card number (ISO/IEC 7812-1): a known beginning and length, and the
// check digit.
func Card(s string) bool {
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

// Words are those of a name in snake_case, kebab-case or camelCase, in small letters.
func Words(name string) []string {
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
