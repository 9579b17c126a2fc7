package token

import (
	"fmt"
	"strings"

	"millgate/core/severity"
)

// Check is something that a judgement can say, documented in docs/tokens.md.
type Check struct {
	ID       string
	Severity severity.Severity
	Text     string // with %v for what differs
	Why      string
	Standard string
}

// Checks are all judgements, in the order of the documentation.
var Checks = []Check{
	{"form-prefix", severity.Low, "%v stood before the token and was taken away", "What is copied with a token is not part of it.", "RFC 6750, section 2.1"},
	{"form-quotes", severity.Low, "quotes stood around the token and were taken away", "What is copied with a token is not part of it.", "RFC 6750, section 2.1"},
	{"form-wrapped", severity.Low, "spaces or line ends stood in the token and were taken away", "A token has no white space; a service that takes one with it reads leniently.", "RFC 7515, section 3.1"},
	{"form-escaped", severity.Low, "the token was percent-encoded", "It was copied from an address, where it should not have stood.", "RFC 6750, section 2.3"},
	{"form-serialisation", severity.Low, "it is a JWS in JSON, not in compact form", "Access tokens are compact; a reader of one form may check another.", "RFC 7515, section 7.2"},
	{"form-size", severity.Low, "it is longer than %v KiB; the rest is not read", "Servers refuse headers of that size.", "RFC 9110, section 5.4"},
	{"form-large", severity.Low, "it has %v bytes; many servers refuse headers above 8 KiB", "It goes along with every request.", "RFC 9110, section 5.4"},
	{"form-alphabet", severity.Low, "the plain base64 alphabet is used in place of base64url", "Some readers refuse it, some take it; two spellings of one token pass a list of ended ones.", "RFC 7515, section 2"},
	{"form-padding", severity.Low, "base64 padding (=) is left on", "Two spellings of one token pass a list of ended ones.", "RFC 7515, section 2"},
	{"form-bits", severity.Low, "the last character has bits that mean nothing", "Several spellings decode to one token, so a list of ended tokens by text can be passed.", "RFC 4648, section 3.5"},
	{"form-base64", severity.Medium, "it cannot be decoded from byte %v on", "A part of it was lost or changed on the way.", "RFC 7515, section 5.2"},
	{"form-parts", severity.Medium, "%v in place of three parts", "A compact JWS has header, claims and signature.", "RFC 7515, section 7.1"},
	{"form-json", severity.Medium, "the part is not JSON as it must be: %v", "Readers differ in what they make of it.", "RFC 7519, section 7.2"},
	{"form-duplicate", severity.Medium, "%q stands twice", "One reader takes the first, another the last: the guard and the service may read different tokens.", "RFC 7515, section 4"},
	{"form-encrypted", severity.Low, "it is encrypted: nothing in it can be judged without its key", "Only its header can be read.", "RFC 7516, section 3"},
	{"form-opaque", severity.Low, "it is opaque: what it means only the service knows", "It can be judged by introspection (RFC 7662), where that is served.", "RFC 6749, section 1.4"},
	{"introspect-inactive", severity.Medium, "its issuer says that it is not active", "It ended or was ended, or the issuer never gave it out.", "RFC 7662, section 2.2"},
	{"form-empty", severity.Low, "there is no token", "", "RFC 6750, section 2.1"},
	{"form-opaque-wanted", severity.Medium, "it can be read by anybody, and the declaration says opaque", "What it tells is meant for the service alone.", "RFC 9068, section 6"},
	{"form-jwt-wanted", severity.Medium, "it is no JWT, and the declaration says that %v are", "Nothing of it can be checked.", "RFC 7519, section 3"},

	{"alg-none", severity.Critical, "it is unsigned (alg %q)", "Whoever can write can make one.", "RFC 8725, section 3.2"},
	{"alg-missing", severity.High, "the header has no alg", "A verifier that guesses can be led.", "RFC 7515, section 4.1.1"},
	{"alg-unknown", severity.Medium, "the algorithm %q is not a registered one for signatures", "It cannot be verified here.", "RFC 7518, section 3.1"},
	{"alg-undeclared", severity.High, "it is signed with %v; declared is %v", "A verifier that takes the token's word for the algorithm can be made to use a public key as a secret.", "RFC 8725, section 3.1"},
	{"typ-missing", severity.Low, "the header has no typ", "Tokens of another kind cannot be told from access tokens.", "RFC 8725, section 3.11"},
	{"typ-other", severity.Medium, "its typ is %q, not that of an access token", "A token of another kind may pass as an access token.", "RFC 9068, section 4"},
	{"crit-unknown", severity.High, "crit names %v, which nobody here understands", "It must be refused by whoever does not understand it.", "RFC 7515, section 4.1.11"},
	{"key-in-header", severity.High, "the header carries a key (%v)", "A verifier that uses it trusts whoever made the token.", "RFC 8725, section 3.10"},
	{"key-address", severity.High, "the header says where its key is (%v: %v)", "A verifier that fetches it trusts whoever made the token, and can be sent anywhere.", "RFC 8725, section 3.10"},
	{"key-id-path", severity.High, "the key id %q looks like a path or a query", "A verifier that looks it up in files or a database can be led elsewhere.", "RFC 8725, section 3.10"},
	{"key-id-missing", severity.Low, "the header has no kid, and the set has %v keys", "Each key has to be tried; rotation is fragile.", "RFC 7515, section 4.1.4"},

	{"signature-missing", severity.Critical, "there is no signature", "Whoever can write can make one.", "RFC 8725, section 3.2"},
	{"signature-wrong", severity.Critical, "the signature does not verify", "It was changed after it was signed, or another key signed it.", "RFC 7515, section 5.2"},
	{"key-unknown", severity.High, "no key of the set has the id %q", "It was signed by a key that was taken out of use, or by a foreign one.", "RFC 7517, section 4.5"},
	{"key-twice", severity.Medium, "the set has the key id %q twice", "Which of them verifies depends on the reader.", "RFC 7517, section 4.5"},
	{"key-unfit", severity.High, "no key of the set fits %v", "The key's kind and the algorithm must fit.", "RFC 8725, section 3.1"},
	{"key-short", severity.High, "the key has %v bits; %v need at least %v", "It can be computed.", "RFC 7518, section 3"},
	{"secret-guessed", severity.Critical, "its HMAC secret is a common word: %q", "Whoever guesses it makes any token.", "RFC 8725, section 3.5"},
	{"not-verified", severity.Low, "its signature was not verified: %v", "Say keys for the scheme.", "RFC 7515, section 5.2"},

	{"iss-missing", severity.Medium, "there is no iss", "A token of another issuer cannot be told.", "RFC 9068, section 2.2"},
	{"iss-other", severity.High, "it was issued by %q; declared is %q", "A service that does not compare takes tokens of foreign issuers.", "RFC 8725, section 3.8"},
	{"aud-missing", severity.Medium, "there is no aud", "It is good at every service that trusts the issuer.", "RFC 8725, section 3.9"},
	{"aud-other", severity.High, "it is meant for %v; declared is %q", "It was not issued for this service.", "RFC 8725, section 3.9"},
	{"aud-many", severity.Low, "it is meant for %v services", "Each of them can use it at the others.", "RFC 9068, section 3"},
	{"sub-missing", severity.Low, "there is no sub", "Nobody can say afterwards who called.", "RFC 9068, section 2.2"},
	{"jti-missing", severity.Medium, "there is no jti, and the declaration says that ended tokens are refused", "A single token cannot be ended without a name.", "RFC 7519, section 4.1.7"},
	{"iat-missing", severity.Low, "there is no iat", "Its age cannot be told.", "RFC 9068, section 2.2"},
	{"exp-missing", severity.High, "there is no exp: it never ends", "Once lost it is good for ever.", "RFC 9068, section 2.2"},
	{"expired", severity.Low, "it ended %v ago", "It must be refused.", "RFC 7519, section 4.1.4"},
	{"not-yet", severity.Low, "it is good only in %v", "It must be refused until then.", "RFC 7519, section 4.1.5"},
	{"iat-ahead", severity.Medium, "it was issued %v in the future", "The issuer's clock is wrong, or somebody made it.", "RFC 7519, section 4.1.6"},
	{"dates-order", severity.Medium, "it ends before it begins", "It was never good.", "RFC 7519, section 4.1"},
	{"date-milliseconds", severity.High, "%v is in milliseconds", "Read as seconds it lies thousands of years ahead: it never ends.", "RFC 7519, section 2"},
	{"date-text", severity.Medium, "%v is a text, not a number", "Readers that expect a number may take it as absent.", "RFC 7519, section 2"},
	{"date-unreadable", severity.Medium, "%v is no date", "Readers may take it as absent.", "RFC 7519, section 2"},
	{"too-long", severity.Medium, "it lives %v; declared are at most %v", "A lost token is good for that long.", "RFC 9068, section 5"},

	{"role-beyond", severity.High, "it holds the role %v, which %v is not declared to hold", "It opens more than was meant.", "RFC 8725, section 3.2"},
	{"role-undeclared", severity.Low, "it holds the role %v, which the declaration does not know", "Somebody else may give it a meaning.", "RFC 9068, section 2.2.3.1"},
	{"scope-beyond", severity.Medium, "it holds the scope %v, which %v is not declared to hold", "It opens more than was meant.", "RFC 9068, section 2.2.3"},
	{"attribute-differs", severity.Medium, "it says %v is %v; declared for %v is %v", "What is given by attributes is decided by it.", "RFC 9068, section 2.2.2"},
	{"personal-data", severity.Low, "it carries %v", "It goes along with every request and stands in logs.", "RFC 7519, section 12"},
	{"secret-inside", severity.High, "it carries a secret (%v)", "Everybody who sees the token can read it.", "RFC 7519, section 11.2"},
}

var checkAt = func() map[string]int {
	m := map[string]int{}
	for i, c := range Checks {
		m[c.ID] = i
	}
	return m
}()

// Judgement is one thing that is wrong with a token, or worth knowing.
type Judgement struct {
	ID       string            `json:"id"`
	Severity severity.Severity `json:"severity"`
	Text     string            `json:"text"`
	Why      string            `json:"why"`
	Standard string            `json:"standard"`
	Part     Part              `json:"part"`
	Pointer  string            `json:"pointer,omitempty"` // JSON Pointer into the part (RFC 6901)
}

func judgement(id string, p Part, pointer string, args ...any) Judgement {
	c := Checks[checkAt[id]]
	text := c.Text
	if strings.Contains(text, "%") {
		text = fmt.Sprintf(text, args...)
	}
	return Judgement{ID: id, Severity: c.Severity, Text: text, Why: c.Why, Standard: c.Standard, Part: p, Pointer: pointer}
}
