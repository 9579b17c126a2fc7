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
	// Outcome is what a service that checks everything does because of it. It refuses what breaks a
	// MUST of the standard, or parts from what is declared; what is merely unwise it takes.
	Outcome  Outcome
	Text     string // with %v for what differs
	Why      string // what follows; where nobody can tell, what would settle it
	Standard string
}

// Checks are all judgements, in the order of the documentation.
var Checks = []Check{
	{"form-prefix", finding.Low, Takes, "%v stood before the token and was taken away",
		"What is copied with a token is not part of it.", "RFC 6750, section 2.1"},
	{"form-quotes", finding.Low, Takes, "quotes stood around the token and were taken away",
		"What is copied with a token is not part of it.", "RFC 6750, section 2.1"},
	{"form-wrapped", finding.Low, Takes, "spaces or line ends stood in the token and were taken away",
		"A token has no white space; a service that takes one with it reads leniently.", "RFC 7515, section 3.1"},
	{"form-escaped", finding.Low, Takes, "the token was percent-encoded",
		"It was copied from an address, where it should not have stood.", "RFC 6750, section 2.3"},
	{"form-serialisation", finding.Low, Refuses, "it is a JWS in JSON, not in compact form",
		"Access tokens are compact; a reader of one form may check another.", "RFC 7515, section 7.2"},
	{"form-size", finding.Low, CannotTell, "not read, %v KiB",
		"Give it whole; servers refuse headers of that size.", "RFC 9110, section 5.4"},
	{"form-large", finding.Low, Takes, "it has %v bytes; many servers refuse headers above 8 KiB",
		"It goes along with every request.", "RFC 9110, section 5.4"},
	{"form-alphabet", finding.Low, Refuses, "the plain base64 alphabet is used in place of base64url",
		"Some readers refuse it, some take it; two spellings of one token pass a list of ended ones.",
		"RFC 7515, section 2"},
	{"form-padding", finding.Low, Refuses, "base64 padding (=) is left on",
		"Two spellings of one token pass a list of ended ones.", "RFC 7515, section 2"},
	{"form-bits", finding.Low, Takes, "the last character has bits that mean nothing",
		"Several spellings decode to one token, so a list of ended tokens by text can be passed.",
		"RFC 4648, section 3.5"},
	{"form-base64", finding.Medium, Refuses, "it cannot be decoded from byte %v on",
		"A part of it was lost or changed on the way.", "RFC 7515, section 5.2"},
	{"form-parts", finding.Medium, Refuses, "%v in place of three parts",
		"A compact JWS has header, claims and signature.", "RFC 7515, section 7.1"},
	{"form-json", finding.Medium, Refuses, "the part is not JSON as it must be: %v",
		"Readers differ in what they make of it.", "RFC 7519, section 7.2"},
	{"form-duplicate", finding.Medium, Refuses, "%q stands twice",
		"One reader takes the first, another the last: the guard and the service may read different tokens.",
		"RFC 7515, section 4"},
	{"form-encrypted", finding.Low, CannotTell, "it is encrypted: nothing in it can be judged without its key",
		"Decrypt it where its key is, and bring what was in it.", "RFC 7516, section 3"},
	{"form-opaque", finding.Low, CannotTell, "it is opaque: what it means only the service knows",
		"Ask its issuer about it (RFC 7662), where the scheme declares introspect.", "RFC 6749, section 1.4"},
	{"introspect-inactive", finding.Medium, Refuses, "its issuer says that it is not active",
		"It ended or was ended, or the issuer never gave it out.", "RFC 7662, section 2.2"},
	{"form-empty", finding.Low, Refuses, "there is no token", "", "RFC 6750, section 2.1"},
	{"form-opaque-wanted", finding.Medium, Takes, "it can be read by anybody, and the declaration says opaque",
		"What it tells is meant for the service alone.", "RFC 9068, section 6"},
	{"form-jwt-wanted", finding.Medium, Refuses, "it is no JWT, and the declaration says that %v are",
		"Nothing of it can be checked.", "RFC 7519, section 3"},

	{"alg-none", finding.Critical, Refuses, "it is unsigned (alg %q)", "Whoever can write can make one.",
		"RFC 8725, section 3.2"},
	{"alg-missing", finding.High, Refuses, "the header has no alg", "A verifier that guesses can be led.",
		"RFC 7515, section 4.1.1"},
	{"alg-unknown", finding.Medium, Refuses, "the algorithm %q is not a registered one for signatures",
		"It cannot be verified here.", "RFC 7518, section 3.1"},
	{"alg-undeclared", finding.High, Refuses, "it is signed with %v; declared is %v",
		"A verifier that takes the token's word for the algorithm can be made to use a public key as a secret.",
		"RFC 8725, section 3.1"},
	{"alg-unchecked", finding.Low, CannotTell, "%v is registered, and not verified here",
		"Verify it with a library that knows the algorithm.", "RFC 8812, section 3"},
	{"header-type", finding.High, Refuses, "%v is %v; it must be %v", "Readers differ in what they make of it.",
		"RFC 7515, section 4.1"},
	{"typ-missing", finding.Low, Takes, "the header has no typ",
		"Tokens of another kind cannot be told from access tokens.", "RFC 8725, section 3.11"},
	{"typ-other", finding.Medium, Refuses, "its typ is %q, not that of an access token",
		"A token of another kind may pass as an access token.", "RFC 9068, section 4"},
	{"typ-undeclared", finding.Medium, Refuses, "its typ is %v; declared is %v",
		"A token of another kind passes where nobody compares it.", "RFC 8725, section 3.11"},
	{"crit-unknown", finding.High, Refuses, "crit names %v, which nobody here understands",
		"It must be refused by whoever does not understand it.", "RFC 7515, section 4.1.11"},
	{"crit-form", finding.High, Refuses, "crit %v",
		"Readers that keep to the standard refuse it, others read past it.", "RFC 7515, section 4.1.11"},
	{"b64-form", finding.High, Refuses, "the header has b64 %v",
		"Readers differ in what the signature covers; a JWT is always encoded.", "RFC 7797, sections 6 and 7"},
	{"key-in-header", finding.High, Takes, "the header carries a key (%v)",
		"A verifier that uses it trusts whoever made the token.", "RFC 8725, section 3.10"},
	{"key-address", finding.High, Takes, "the header says where its key is (%v: %v)",
		"A verifier that fetches it trusts whoever made the token, and can be sent anywhere.",
		"RFC 8725, section 3.10"},
	{"key-id-path", finding.High, Takes, "the key id %q looks like a path or a query",
		"A verifier that looks it up in files or a database can be led elsewhere.", "RFC 8725, section 3.10"},
	{"key-id-missing", finding.Low, Takes, "the header has no kid, and the set has %v keys",
		"Each key has to be tried; rotation is fragile.", "RFC 7515, section 4.1.4"},

	{"signature-missing", finding.Critical, Refuses, "there is no signature", "Whoever can write can make one.",
		"RFC 8725, section 3.2"},
	{"signature-wrong", finding.Critical, Refuses, "the signature does not verify",
		"It was changed after it was signed, or another key signed it.", "RFC 7515, section 5.2"},
	{"key-unknown", finding.High, CannotTell, "no key of the set has the id %q",
		"It was taken out of use or is not published yet, or the key is a foreign one: read the set again, " +
			"or bring the key.", "RFC 7517, section 4.5"},
	{"key-twice", finding.Medium, Takes, "the set has the key id %q twice",
		"Which of them verifies depends on the reader.", "RFC 7517, section 4.5"},
	{"key-unfit", finding.High, Refuses, "no key of the set fits %v", "The key's kind and the algorithm must fit.",
		"RFC 8725, section 3.1"},
	{"key-short", finding.High, Refuses, "the key has %v bits; %v need at least %v", "It can be computed.",
		"RFC 7518, section 3"},
	{"key-tiny", finding.Critical, Refuses, "the key that fits has less than %v bits: it was not even tried",
		"It is computed in days.", "RFC 7518, section 3.3"},
	{"key-own", finding.Critical, Refuses, "it is signed by the key that its own header carries",
		"Whoever makes a key makes any token.", "RFC 8725, section 3.10"},
	{"secret-public", finding.Critical, Refuses, "its HMAC secret is public: %v",
		"Everybody has that key, and makes any token with it.", "RFC 8725, section 2.1"},
	{"secret-empty", finding.Critical, Refuses, "its HMAC secret is empty", "Everybody makes any token with it.",
		"RFC 7518, section 3.2"},
	{"secret-guessed", finding.Critical, Refuses, "its HMAC secret can be guessed: %q",
		"Whoever guesses it makes any token.", "RFC 8725, section 3.5"},
	{"not-verified", finding.Low, CannotTell, "its signature was not verified: %v",
		"Say keys for the scheme, or mend why they could not be read.", "RFC 7515, section 5.2"},

	{"claim-type", finding.Medium, Refuses, "%v is %v; it must be %v", "Readers differ in what they make of it.",
		"RFC 7519, section 4.1"},
	{"claim-required", finding.Medium, Refuses, "there is no %v, and the declaration requires it",
		"What goes by it is not checked, or goes wrong.", "RFC 7519, section 4"},
	{"iss-missing", finding.Medium, Refuses, "there is no iss, and one is declared",
		"A token of another issuer cannot be told.", "RFC 9068, section 2.2"},
	{"iss-none", finding.Low, Takes, "there is no iss, and none is declared",
		"A token of another issuer cannot be told.", "RFC 9068, section 2.2"},
	{"iss-other", finding.High, Refuses, "it was issued by %q; declared is %q",
		"A service that does not compare takes tokens of foreign issuers.", "RFC 8725, section 3.8"},
	{"aud-missing", finding.Medium, Refuses, "there is no aud, and one is declared",
		"It is good at every service that trusts the issuer.", "RFC 8725, section 3.9"},
	{"aud-none", finding.Low, Takes, "there is no aud, and none is declared",
		"It is good at every service that trusts the issuer.", "RFC 8725, section 3.9"},
	{"aud-other", finding.High, Refuses, "it is meant for %v; declared is %q", "It was not issued for this service.",
		"RFC 8725, section 3.9"},
	{"aud-many", finding.Low, Takes, "it is meant for %v services", "Each of them can use it at the others.",
		"RFC 9068, section 3"},
	{"sub-missing", finding.Low, Takes, "there is no sub", "Nobody can say afterwards who called.",
		"RFC 9068, section 2.2"},
	{"jti-missing", finding.Medium, Takes, "there is no jti, and the declaration says that ended tokens are refused",
		"A single token cannot be ended without a name.", "RFC 7519, section 4.1.7"},
	{"iat-missing", finding.Low, Takes, "there is no iat", "Its age cannot be told.", "RFC 9068, section 2.2"},
	{"exp-missing", finding.High, Takes, "there is no exp: it never ends", "Once lost it is good for ever.",
		"RFC 9068, section 2.2"},
	{"exp-required", finding.High, Refuses, "there is no exp, and an access token of this typ must have one",
		"A reader that does not ask for it takes the token for ever.", "RFC 9068, section 2.2"},
	{"expired", finding.Low, Refuses, "it ended %v ago", "It must be refused.", "RFC 7519, section 4.1.4"},
	{"not-yet", finding.Low, Refuses, "it is good only in %v", "It must be refused until then.",
		"RFC 7519, section 4.1.5"},
	{"iat-ahead", finding.Medium, Takes, "it was issued %v in the future",
		"The issuer's clock is wrong, or somebody made it. The declared skew and a minute more are let pass.",
		"RFC 7519, section 4.1.6"},
	{"dates-order", finding.Medium, Takes, "it ends before it begins", "It was never good.", "RFC 7519, section 4.1"},
	{"date-milliseconds", finding.High, Takes, "%v is in milliseconds",
		"Read as seconds it lies thousands of years ahead: it never ends.", "RFC 7519, section 2"},
	{"date-text", finding.Medium, Refuses, "%v is a text, not a number",
		"Readers that expect a number may take it as absent.", "RFC 7519, section 2"},
	{"date-unreadable", finding.Medium, Refuses, "%v is no date", "Readers may take it as absent.",
		"RFC 7519, section 2"},
	{"too-long", finding.Medium, Takes, "it lives %v; declared are at most %v", "A lost token is good for that long.",
		"RFC 9068, section 5"},
	{"lives-long", finding.Medium, Takes, "it lives %v, and no lifetime is declared",
		"A lost token is good for that long, and nobody notices.", "RFC 9068, section 5"},

	{"role-beyond", finding.High, Takes, "it holds the role %v, which %v is not declared to hold",
		"It opens more than was meant.", "RFC 8725, section 3.2"},
	{"role-undeclared", finding.Low, Takes, "it holds the role %v, which the declaration does not know",
		"Somebody else may give it a meaning.", "RFC 9068, section 2.2.3.1"},
	{"scope-beyond", finding.Medium, Takes, "it holds the scope %v, which %v is not declared to hold",
		"It opens more than was meant.", "RFC 9068, section 2.2.3"},
	{"attribute-differs", finding.Medium, Takes, "it says %v is %v; declared for %v is %v",
		"What is given by attributes is decided by it.", "RFC 9068, section 2.2.2"},
	{"claim-hidden", finding.Low, Takes,
		"what it says at %v was not kept when it was looked at, so that it is not checked", "Sweep again to see it.",
		"RFC 7519, section 12"},
	{"personal-data", finding.Low, Takes, "it carries %v", "It goes along with every request and stands in logs.",
		"RFC 7519, section 12"},
	{"secret-inside", finding.High, Takes, "it carries a secret (%v)", "Everybody who sees the token can read it.",
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
