package token

import (
	"fmt"
	"strings"

	"millgate/core/finding"
	"millgate/core/pointer"
)

// Check is something that a judgement can say, documented in docs/tokens.md.
type Check struct {
	ID       string
	Severity finding.Severity
	Text     string // with %v for what differs
	Why      string
	Standard string
}

// Checks are all judgements, in the order of the documentation.
var Checks = []Check{
	{"form-prefix", finding.Low, "%v stood before the token and was taken away",
		"What is copied with a token is not part of it.", "RFC 6750, section 2.1"},
	{"form-quotes", finding.Low, "quotes stood around the token and were taken away",
		"What is copied with a token is not part of it.", "RFC 6750, section 2.1"},
	{"form-wrapped", finding.Low, "spaces or line ends stood in the token and were taken away",
		"A token has no white space; a service that takes one with it reads leniently.", "RFC 7515, section 3.1"},
	{"form-escaped", finding.Low, "the token was percent-encoded", "It was copied from an address, where it should " +
		"not have stood.", "RFC 6750, section 2.3"},
	{"form-serialisation", finding.Low, "it is a JWS in JSON, not in compact form",
		"Access tokens are compact; a reader of one form may check another.", "RFC 7515, section 7.2"},
	{"form-size", finding.Low, "it is longer than %v KiB; the rest is not read", "Servers refuse headers of that size.",
		"RFC 9110, section 5.4"},
	{"form-large", finding.Low, "it has %v bytes; many servers refuse headers above 8 KiB",
		"It goes along with every request.", "RFC 9110, section 5.4"},
	{"form-alphabet", finding.Low, "the plain base64 alphabet is used in place of base64url",
		"Some readers refuse it, some take it; two spellings of one token pass a list of ended ones.",
		"RFC 7515, section 2"},
	{"form-padding", finding.Low, "base64 padding (=) is left on", "Two spellings of one token pass a list of ended " +
		"ones.", "RFC 7515, section 2"},
	{"form-bits", finding.Low, "the last character has bits that mean nothing",
		"Several spellings decode to one token, so a list of ended tokens by text can be passed.",
		"RFC 4648, section 3.5"},
	{"form-base64", finding.Medium, "it cannot be decoded from byte %v on",
		"A part of it was lost or changed on the way.", "RFC 7515, section 5.2"},
	{"form-parts", finding.Medium, "%v in place of three parts", "A compact JWS has header, claims and signature.",
		"RFC 7515, section 7.1"},
	{"form-json", finding.Medium, "the part is not JSON as it must be: %v", "Readers differ in what they make of it.",
		"RFC 7519, section 7.2"},
	{"form-duplicate", finding.Medium, "%q stands twice", "One reader takes the first, another the last: the guard " +
		"and the service may read different tokens.", "RFC 7515, section 4"},
	{"form-encrypted", finding.Low, "it is encrypted: nothing in it can be judged without its key",
		"Only its header can be read.", "RFC 7516, section 3"},
	{"form-opaque", finding.Low, "it is opaque: what it means only the service knows",
		"It can be judged by introspection (RFC 7662), where that is served.", "RFC 6749, section 1.4"},
	{"introspect-inactive", finding.Medium, "its issuer says that it is not active",
		"It ended or was ended, or the issuer never gave it out.", "RFC 7662, section 2.2"},
	{"form-empty", finding.Low, "there is no token", "", "RFC 6750, section 2.1"},
	{"form-opaque-wanted", finding.Medium, "it can be read by anybody, and the declaration says opaque",
		"What it tells is meant for the service alone.", "RFC 9068, section 6"},
	{"form-jwt-wanted", finding.Medium, "it is no JWT, and the declaration says that %v are",
		"Nothing of it can be checked.", "RFC 7519, section 3"},

	{"alg-none", finding.Critical, "it is unsigned (alg %q)", "Whoever can write can make one.",
		"RFC 8725, section 3.2"},
	{"alg-missing", finding.High, "the header has no alg", "A verifier that guesses can be led.",
		"RFC 7515, section 4.1.1"},
	{"alg-unknown", finding.Medium, "the algorithm %q is not a registered one for signatures",
		"It cannot be verified here.", "RFC 7518, section 3.1"},
	{"alg-undeclared", finding.High, "it is signed with %v; declared is %v",
		"A verifier that takes the token's word for the algorithm can be made to use a public key as a secret.",
		"RFC 8725, section 3.1"},
	{"typ-missing", finding.Low, "the header has no typ", "Tokens of another kind cannot be told from access tokens.",
		"RFC 8725, section 3.11"},
	{"typ-other", finding.Medium, "its typ is %q, not that of an access token",
		"A token of another kind may pass as an access token.", "RFC 9068, section 4"},
	{"crit-unknown", finding.High, "crit names %v, which nobody here understands",
		"It must be refused by whoever does not understand it.", "RFC 7515, section 4.1.11"},
	{"key-in-header", finding.High, "the header carries a key (%v)", "A verifier that uses it trusts whoever made " +
		"the token.", "RFC 8725, section 3.10"},
	{"key-address", finding.High, "the header says where its key is (%v: %v)",
		"A verifier that fetches it trusts whoever made the token, and can be sent anywhere.",
		"RFC 8725, section 3.10"},
	{"key-id-path", finding.High, "the key id %q looks like a path or a query",
		"A verifier that looks it up in files or a database can be led elsewhere.", "RFC 8725, section 3.10"},
	{"key-id-missing", finding.Low, "the header has no kid, and the set has %v keys",
		"Each key has to be tried; rotation is fragile.", "RFC 7515, section 4.1.4"},

	{"signature-missing", finding.Critical, "there is no signature", "Whoever can write can make one.",
		"RFC 8725, section 3.2"},
	{"signature-wrong", finding.Critical, "the signature does not verify",
		"It was changed after it was signed, or another key signed it.", "RFC 7515, section 5.2"},
	{"key-unknown", finding.High, "no key of the set has the id %q", "It was signed by a key that was taken out of " +
		"use, or by a foreign one.", "RFC 7517, section 4.5"},
	{"key-twice", finding.Medium, "the set has the key id %q twice", "Which of them verifies depends on the reader.",
		"RFC 7517, section 4.5"},
	{"key-unfit", finding.High, "no key of the set fits %v", "The key's kind and the algorithm must fit.",
		"RFC 8725, section 3.1"},
	{"key-short", finding.High, "the key has %v bits; %v need at least %v", "It can be computed.",
		"RFC 7518, section 3"},
	{"secret-guessed", finding.Critical, "its HMAC secret is a common word: %q", "Whoever guesses it makes any token.",
		"RFC 8725, section 3.5"},
	{"not-verified", finding.Low, "its signature was not verified: %v", "Say keys for the scheme.",
		"RFC 7515, section 5.2"},

	{"iss-missing", finding.Medium, "there is no iss, and one is declared", "A token of another issuer cannot be told.",
		"RFC 9068, section 2.2"},
	{"iss-none", finding.Low, "there is no iss, and none is declared", "A token of another issuer cannot be told.",
		"RFC 9068, section 2.2"},
	{"iss-other", finding.High, "it was issued by %q; declared is %q",
		"A service that does not compare takes tokens of foreign issuers.", "RFC 8725, section 3.8"},
	{"aud-missing", finding.Medium, "there is no aud, and one is declared",
		"It is good at every service that trusts the issuer.", "RFC 8725, section 3.9"},
	{"aud-none", finding.Low, "there is no aud, and none is declared",
		"It is good at every service that trusts the issuer.", "RFC 8725, section 3.9"},
	{"aud-other", finding.High, "it is meant for %v; declared is %q", "It was not issued for this service.",
		"RFC 8725, section 3.9"},
	{"aud-many", finding.Low, "it is meant for %v services", "Each of them can use it at the others.",
		"RFC 9068, section 3"},
	{"sub-missing", finding.Low, "there is no sub", "Nobody can say afterwards who called.", "RFC 9068, section 2.2"},
	{"jti-missing", finding.Medium, "there is no jti, and the declaration says that ended tokens are refused",
		"A single token cannot be ended without a name.", "RFC 7519, section 4.1.7"},
	{"iat-missing", finding.Low, "there is no iat", "Its age cannot be told.", "RFC 9068, section 2.2"},
	{"exp-missing", finding.High, "there is no exp: it never ends", "Once lost it is good for ever.",
		"RFC 9068, section 2.2"},
	{"expired", finding.Low, "it ended %v ago", "It must be refused.", "RFC 7519, section 4.1.4"},
	{"not-yet", finding.Low, "it is good only in %v", "It must be refused until then.", "RFC 7519, section 4.1.5"},
	{"iat-ahead", finding.Medium, "it was issued %v in the future", "The issuer's clock is wrong, or somebody made it.",
		"RFC 7519, section 4.1.6"},
	{"dates-order", finding.Medium, "it ends before it begins", "It was never good.", "RFC 7519, section 4.1"},
	{"date-milliseconds", finding.High, "%v is in milliseconds", "Read as seconds it lies thousands of years ahead: " +
		"it never ends.", "RFC 7519, section 2"},
	{"date-text", finding.Medium, "%v is a text, not a number", "Readers that expect a number may take it as absent.",
		"RFC 7519, section 2"},
	{"date-unreadable", finding.Medium, "%v is no date", "Readers may take it as absent.", "RFC 7519, section 2"},
	{"too-long", finding.Medium, "it lives %v; declared are at most %v", "A lost token is good for that long.",
		"RFC 9068, section 5"},

	{"role-beyond", finding.High, "it holds the role %v, which %v is not declared to hold",
		"It opens more than was meant.", "RFC 8725, section 3.2"},
	{"role-undeclared", finding.Low, "it holds the role %v, which the declaration does not know",
		"Somebody else may give it a meaning.", "RFC 9068, section 2.2.3.1"},
	{"scope-beyond", finding.Medium, "it holds the scope %v, which %v is not declared to hold",
		"It opens more than was meant.", "RFC 9068, section 2.2.3"},
	{"attribute-differs", finding.Medium, "it says %v is %v; declared for %v is %v",
		"What is given by attributes is decided by it.", "RFC 9068, section 2.2.2"},
	{"claim-hidden", finding.Low, "what it says at %v was not kept when it was looked at, so that it is not checked",
		"Sweep again to see it.", "RFC 7519, section 12"},
	{"personal-data", finding.Low, "it carries %v", "It goes along with every request and stands in logs.",
		"RFC 7519, section 12"},
	{"secret-inside", finding.High, "it carries a secret (%v)", "Everybody who sees the token can read it.",
		"RFC 7519, section 11.2"},
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
	ID       string           `json:"id"`
	Severity finding.Severity `json:"severity"`
	Text     string           `json:"text"`
	Why      string           `json:"why"`
	Standard string           `json:"standard"`
	Part     Part             `json:"part"`
	Pointer  string           `json:"pointer,omitempty"` // JSON Pointer into the part (RFC 6901)
}

func judgement(id string, p Part, at pointer.JSON, args ...any) Judgement {
	c := Checks[checkAt[id]]
	text := c.Text
	if strings.Contains(text, "%") {
		text = fmt.Sprintf(text, args...)
	}
	return Judgement{ID: id, Severity: c.Severity, Text: text, Why: c.Why, Standard: c.Standard, Part: p,
		Pointer: string(at)}
}
