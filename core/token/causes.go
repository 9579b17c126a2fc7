package token

import "millgate/core/finding"

// causes say what a judgement of an issued token is as a finding: those that are at
// least medium have one. How grave it is, why it matters and by which standard stands
// with its Check.
var causes = []struct {
	id     string
	kind   finding.Kind
	title  string
	advice string
	owasp  finding.OWASP
	cwe    int
}{
	{"form-base64", finding.WeakToken, "Issued tokens cannot be decoded",
		"Find what shortens or changes tokens between issuer and caller.", finding.API2, 20},
	{"form-parts", finding.WeakToken, "Issued tokens have another form than a JWS",
		"Issue compact JWS: header, claims and signature.", finding.API2, 347},
	{"form-json", finding.WeakToken, "Issued tokens are not well-formed JSON",
		"Write header and claims with a JSON library.", finding.API2, 20},
	{"form-duplicate", finding.WeakToken, "A member stands twice in issued tokens",
		"Write each claim once; refuse tokens in which one stands twice.", finding.API2, 436},
	{"introspect-inactive", finding.WeakToken, "The issuer calls a new token inactive",
		"Let introspection answer by the store that tokens are issued into.", finding.API2, 672},
	{"form-opaque-wanted", finding.WeakToken, "Anybody can read issued tokens",
		"Issue opaque tokens, or declare that they are JWTs and what stands in them.", finding.API2, 200},
	{"form-jwt-wanted", finding.WeakToken, "Issued tokens are no JWTs",
		"Issue JWTs, or declare that tokens are opaque and how the issuer is asked about them.", finding.API2, 347},

	{"alg-none", finding.WeakToken, "Issued tokens are unsigned",
		"Sign tokens, and refuse alg none wherever they are read.", finding.API2, 347},
	{"alg-missing", finding.WeakToken, "Issued tokens do not name their algorithm",
		"Write alg into the header; verify with the algorithm of your own configuration.", finding.API2, 757},
	{"alg-unknown", finding.WeakToken, "Issued tokens name an unregistered algorithm",
		"Sign with a registered algorithm, ES256 or EdDSA.", finding.API2, 327},
	{"alg-undeclared", finding.WeakToken, "Issued tokens are signed with another algorithm than declared",
		"Sign with a declared algorithm, or declare this one; verify with the declared ones only.", finding.API2, 757},
	{"header-type", finding.WeakToken, "A header of issued tokens has a value of the wrong kind",
		"Write the header with a library for JWS; texts stand in quotes.", finding.API2, 1287},
	{"typ-undeclared", finding.WeakToken, "Issued tokens are typed as another kind than declared",
		"Issue with the declared typ, or declare this one; compare it where tokens are read.", finding.API2, 843},
	{"typ-other", finding.WeakToken, "Issued tokens are typed as another kind",
		"Write at+jwt as the type of access tokens, and compare it where they are read.", finding.API2, 843},
	{"crit-unknown", finding.WeakToken, "Issued tokens need an extension that nobody knows",
		"Leave crit out, or name only what every reader understands.", finding.API2, 347},
	{"crit-form", finding.WeakToken, "Issued tokens say wrongly what must be understood",
		"Leave crit out, or name in it the extensions that the header has.", finding.API2, 347},
	{"b64-form", finding.WeakToken, "Issued tokens are signed over claims that are not encoded",
		"Leave b64 out: a JWT is always encoded.", finding.API2, 347},
	{"key-in-header", finding.WeakToken, "Issued tokens carry a key",
		"Leave the key out; readers take keys from their own configuration or the issuer's key set.",
		finding.API2, 347},
	{"key-address", finding.WeakToken, "Issued tokens say where their key is",
		"Leave the address out; readers know the issuer's key set.", finding.API2, 918},
	{"key-id-path", finding.WeakToken, "Key ids look like a path or a query",
		"Use random or hashed key ids, and look them up in the key set alone.", finding.API2, 22},

	{"signature-missing", finding.WeakToken, "Issued tokens have no signature",
		"Sign tokens.", finding.API2, 347},
	{"signature-wrong", finding.WeakToken, "The signature of issued tokens does not verify",
		"Find which key signs, and publish it; or find what changes tokens behind the issuer.", finding.API2, 347},
	{"key-unknown", finding.WeakToken, "Issued tokens are signed by an unpublished key",
		"Publish the key in the key set before tokens are signed with it.", finding.API2, 347},
	{"key-twice", finding.WeakToken, "The key set has one id twice",
		"Give each key an id of its own.", finding.API2, 694},
	{"key-unfit", finding.WeakToken, "No published key fits the algorithm of issued tokens",
		"Sign with the kind of key that is published, or publish the one that signs.", finding.API2, 347},
	{"key-short", finding.WeakToken, "Issued tokens are signed with too short a key",
		"Sign with a key of the length that the algorithm asks for, and take the short one out of use.",
		finding.API2, 326},
	{"key-tiny", finding.WeakToken, "Issued tokens are signed with a key that is computed in days",
		"Sign with a key of the length that the algorithm asks for, and take the short one out of use.",
		finding.API2, 326},
	{"key-own", finding.WeakToken, "Issued tokens are verified by a key of their own",
		"Sign with the published key; refuse tokens whose key stands in their header.", finding.API2, 347},
	{"secret-public", finding.WeakToken, "A public key is the secret that signs tokens",
		"Sign with the private key, and verify with the declared algorithm only.", finding.API2, 347},
	{"secret-empty", finding.WeakToken, "Tokens are signed with an empty secret",
		"Set the secret, and refuse to start without one; better sign with a key pair.", finding.API2, 1391},
	{"secret-guessed", finding.WeakToken, "The secret that signs tokens can be guessed",
		"Replace the secret now, by 32 random bytes or, better, by a key pair; every token signed with it may be forged.",
		finding.API2, 1391},

	{"claim-type", finding.WeakToken, "A claim of issued tokens has a value of the wrong kind",
		"Write iss, sub, aud and jti as texts.", finding.API2, 1287},
	{"claim-required", finding.WeakToken, "Issued tokens lack a claim that is required",
		"Write the claim, or no longer require it.", finding.API2, 345},
	{"iss-missing", finding.WeakToken, "Issued tokens do not name their issuer",
		"Write iss, and compare it where tokens are read.", finding.API2, 345},
	{"iss-other", finding.WeakToken, "Issued tokens name another issuer than declared",
		"Issue with the declared iss, or declare this one.", finding.API2, 346},
	{"aud-missing", finding.WeakToken, "Issued tokens are good at any service",
		"Write aud, and compare it where tokens are read.", finding.API2, 345},
	{"aud-other", finding.WeakToken, "Issued tokens are meant for another service",
		"Issue with the declared aud, or declare this one.", finding.API2, 346},
	{"jti-missing", finding.WeakToken, "Issued tokens have no name to end them by",
		"Write a jti into each token; the list of ended ones goes by it.", finding.API2, 613},
	{"exp-missing", finding.Lifetime, "Issued tokens never end",
		"Write exp, and refuse tokens without it.", finding.API2, 613},
	{"exp-required", finding.Lifetime, "Issued access tokens never end",
		"Write exp, and refuse tokens without it.", finding.API2, 613},
	{"iat-ahead", finding.WeakToken, "Issued tokens come from the future",
		"Set the issuer's clock.", finding.API2, 682},
	{"dates-order", finding.WeakToken, "Issued tokens end before they begin",
		"Compute exp from iat and the lifetime.", finding.API2, 682},
	{"date-milliseconds", finding.Lifetime, "Dates of issued tokens are in milliseconds",
		"Write dates in seconds (NumericDate).", finding.API2, 613},
	{"date-text", finding.WeakToken, "Dates of issued tokens are texts",
		"Write dates as numbers (NumericDate).", finding.API2, 1287},
	{"date-unreadable", finding.WeakToken, "Dates of issued tokens cannot be read",
		"Write dates as numbers of seconds (NumericDate).", finding.API2, 1287},
	{"too-long", finding.Lifetime, "Tokens live longer than declared",
		"Issue tokens that end as declared, or declare the longer life and what it costs.", finding.API2, 613},
	{"lives-long", finding.Lifetime, "Issued tokens live for months",
		"Issue tokens that end within an hour, renew them, and declare a lifetime.", finding.API2, 613},

	{"role-beyond", finding.WeakToken, "Issued tokens hold a role that their holder is not declared to have",
		"Give out only the roles of the holder, or declare that it has this one.", finding.API5, 266},
	{"scope-beyond", finding.WeakToken, "Issued tokens hold a scope that their holder is not declared to have",
		"Give out only the scopes of the holder, or declare that it has this one.", finding.API5, 266},
	{"attribute-differs", finding.WeakToken, "Issued tokens hold another attribute than declared",
		"Write attributes from the record of the holder, or declare this value.", finding.API5, 266},
	{"secret-inside", finding.WeakToken, "Issued tokens carry a secret",
		"Take it out, and replace the secret: whoever saw a token has it.", finding.API2, 312},
}

// covers are causes that show wherever another one does.
var covers = map[string][]string{
	"secret-guessed": {"token alg-undeclared", "token key-unfit", "token key-short"},
	"secret-empty":   {"token alg-undeclared", "token key-short"},
	"secret-public":  {"token alg-undeclared"},
	"key-own":        {"token key-in-header"},
	"alg-undeclared": {"token key-unfit"},
	"alg-none":       {"token alg-undeclared", "token signature-missing"},
}

// Causes are the findings that judgements of issued tokens are.
func Causes() (out []*finding.Row) {
	for _, c := range causes {
		k := Checks[checkAt[c.id]]
		out = append(out, &finding.Row{Cause: "token " + c.id, Kind: c.kind, Title: c.title, Means: k.Why,
			Advice: c.advice,
			OWASP:  c.owasp, CWE: c.cwe, Severity: k.Severity, Standard: k.Standard, Covers: covers[c.id]})
	}
	return out
}
