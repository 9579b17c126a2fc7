package credential

import (
	"slices"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/session"
	"millgate/core/token"
)

const (
	verifyAdvice = "Verify signature, algorithm, issuer, audience and dates before anything of the token is used; " +
		"take the algorithm and the key from your own configuration, never from the token (RFC 8725)."
	signAddress = "Sign the whole address: the path and every parameter, the end among them."
	oneAdvice   = "Read one credential and decide by it; refuse a request that brings two."
	timeAdvice  = "Refuse timestamps outside the tolerance, and remember the signatures that were seen for as long."
	keyAdvice   = "Compare the key as it was given out, byte by byte, and read it where it is declared to stand."
	placeAdvice = "Take only what was issued as this credential, for this scheme."
)

// repeatedLink is the way of a link that is used twice.
const repeatedLink = check.Repeated + " link"

// rows are those of credentials that are broken in one way.
var rows = []*finding.Row{
	broken("unsigned", "An unsigned token is accepted", "Whoever can write can make a token.", verifyAdvice,
		finding.API2, 347,
		"RFC 8725 section 2.1"),
	unsignedOther(declaration.Signature, "An unsigned event is accepted",
		"Whoever knows the address can send events, or whatever else must be signed there.",
		"Verify the signature before the request is used, and refuse a request without one.", ""),
	unsignedOther(declaration.Link, "A link without its signature is accepted",
		"Whoever can write an address can make a link.", signAddress, ""),
	broken(string(token.Altered), "A token with an altered signature is accepted", "The signature is not looked at.",
		verifyAdvice,
		finding.API2, 347, "RFC 7515 section 5.2"),
	broken(string(token.Raised), "A token with a raised role is accepted",
		"Claims can be changed: the signature is not looked at, or "+
			"not over them.", verifyAdvice, finding.API2, 347, "RFC 7515 section 5.2"),
	broken(string(token.ForeignKey), "A token signed by a foreign key is accepted",
		"Whoever has any key can make a token.", verifyAdvice,
		finding.API2, 347, "RFC 7515 section 5.2"),
	broken(string(token.PublicAsSecret), "A token signed with the public key as a secret is accepted",
		"The verifier takes the "+
			"algorithm from the token: everybody has the public key and can sign with it.", verifyAdvice, finding.API2,
		347,
		"RFC 8725 section 2.1"),
	broken(string(token.EmbeddedKey), "A token that brings its own key is accepted",
		"The verifier trusts the key in the header, which "+
			"whoever made the token wrote.", verifyAdvice, finding.API2, 347, "RFC 8725 section 3.10"),
	broken(string(token.KeyAddress), "A token that says where its key is is accepted",
		"The verifier fetches keys from where the token "+
			"says.", verifyAdvice, finding.API2, 347, "RFC 8725 section 3.10"),
	broken(string(token.KeyIDPath), "A token whose key id is a path is accepted",
		"The key id leads the verifier to another file, "+
			"whose content is known.", verifyAdvice, finding.API2, 347, "RFC 8725 section 3.10"),
	broken(check.Expired, "An expired credential is accepted", "A lost credential is good for ever.",
		"Compare the end with the clock after the signature was verified.", finding.API2, 613,
		"RFC 7519 section 4.1.4"),
	broken(check.NotYet, "A token is accepted before it is valid", "Its beginning is not looked at.", verifyAdvice,
		finding.API2, 347,
		"RFC 7519 section 4.1.5"),
	broken(check.OtherAud, "A token for another service is accepted", "Whoever gets a token for any service of the "+
		"issuer gets in "+
		"here.", verifyAdvice, finding.API2, 347, "RFC 8725 section 3.9"),
	broken(check.OtherIss, "A token of another issuer is accepted", "The issuer is not compared.", verifyAdvice,
		finding.API2, 347,
		"RFC 8725 section 3.8"),
	broken(check.TestsOnly, "A token of a developer's machine is accepted", "What lies on the machines of "+
		"developers opens "+
		"a service that others use: whoever has one of them can make a token of anybody.", "Configure the issuers and "+
		"keys of tests only where tests run, and compare both.", finding.API2, 798, "RFC 8725 section 3.8"),
	broken(check.OtherTyp, "A token of another kind is accepted",
		"What the issuer signs for another purpose, a message of a "+
			"logout for example, opens what access tokens open.",
		"Compare the header's typ with the one that access tokens "+
			"have.", finding.API2, 347, "RFC 8725 section 3.11"),
	broken(check.LacksClaim, "A token without a required claim is accepted",
		"What depends on the claim is decided without "+
			"it.", "Refuse tokens that lack a required claim, before anything is read of them.", finding.API2, 347,
		"RFC 7519 section 4"),
	broken(check.OtherKind, "A refresh token is accepted as an access token",
		"What lives for weeks opens what access tokens open for "+
			"minutes.", placeAdvice, finding.API2, 347, "RFC 9700 section 4.14"),
	broken(check.OtherScheme, "The credential of another scheme is accepted",
		"What was given out for one purpose opens another.",
		placeAdvice, finding.API2, 347, ""),
	{Cause: "token " + check.OtherOwn, Kind: finding.OverPermissive,
		Title:  "The sound credential of another scheme opens it",
		Means:  "What was given out for other callers opens routes that name their schemes.",
		Advice: "Accept only the schemes that the declaration names here.", OWASP: finding.API5, CWE: 863,
		PartOf: append(slices.Clone(accepted), "credential absent", "credential")},
	broken(check.NoToken, "A text that is no credential is accepted", "That one is presented is enough.", verifyAdvice,
		finding.API2, 347, ""),
	besideNothing(broken(check.Empty, "An empty credential is accepted",
		"The scheme's word, or the field's name, is enough.", verifyAdvice, finding.API2, 347, "")),
	broken(check.KeyCase, "A key in other letters is accepted", "Keys are compared without regard to letter case, so "+
		"that there are fewer "+
		"of them to guess.", keyAdvice, finding.API2, 178, ""),
	besideNothing(broken(check.KeyPlace, "A key in another place is accepted",
		"A key in the query is written into logs and histories.", keyAdvice, finding.API2, 598, "")),
	broken(check.CrossSite, "A page of another site can write", "Whoever leads a signed-in person to a page can act "+
		"as that person.",
		"Set the cookie with SameSite, and refuse writes whose Origin is not your own.", finding.API2, 352,
		"RFC 6265bis section 5.6.7"),
	broken(check.Repeated, "A signed request can be repeated", "Whoever records one request can send it again.",
		timeAdvice, finding.API2,
		294, "RFC 9421 section 7.2.2"),
	broken(repeatedLink, "A link that should work once works again", "Whoever finds it later, in a mailbox or a "+
		"log, can use it.", "Remember which links were used, and refuse them from then on.", finding.API2, 294, ""),
	broken(check.OldTime, "An old signed request is accepted", "Whoever records one request can send it much later.",
		timeAdvice,
		finding.API2, 294, "RFC 9421 section 7.2.2"),
	broken(check.OtherBody, "The signature does not hold the body", "Whoever records one request can send another "+
		"body with it.",
		"Sign a digest of the body, and compare it before the body is used.", finding.API2, 347, "RFC 9530"),
	broken(check.OtherRecord, "A link opens other records", "Whoever has one link has all of them.", signAddress,
		finding.API1, 639, ""),
	broken(check.ChangedEnd, "A link's end can be changed", "Whoever has a link keeps it for ever.", signAddress,
		finding.API2, 613, ""),
	besideNothing(broken(check.InQuery, "A token in the query is accepted",
		"There it is written into logs and histories.", "Take tokens from the Authorization field only.",
		finding.API2, 598, "RFC 6750 section 2.3")),
	broken(check.BesideFirst, besideTitle, besideMeans, oneAdvice, finding.API2, 347, ""),
	broken(check.BesideLast, besideTitle, besideMeans, oneAdvice, finding.API2, 347, ""),
	broken(check.BesideOther, "A broken credential passes beside one of another scheme", besideMeans, oneAdvice,
		finding.API2, 347, ""),
	{Cause: "scheme letters", Kind: finding.OverRestrictive, Title: "The scheme's word is read with its letter case",
		Means:  "A caller that writes it in other letters is turned away with a sound token.",
		Advice: "Compare the word before the token without regard to letter case.", OWASP: finding.API8, CWE: 755,
		Severity: finding.Low, Standard: "RFC 9110 section 11.1", PartOf: []string{"no guard"}}, // few callers come so
	{Cause: "stale beside", Kind: finding.OverRestrictive, Title: "A sound credential is turned away beside a broken " +
		"other",
		Means:  "A caller with an old cookie left over cannot use its token.",
		Advice: "Look only at the credentials that count on the route.", OWASP: finding.API8, CWE: 755,
		Severity: finding.Low, PartOf: []string{"no guard"}},
}

const (
	besideTitle = "A broken credential passes beside a sound one"
	besideMeans = "One part of the service reads the one, another part the other: whoever has any account takes the " +
		"rights of another."
)

// besideNothing is that of a way with nothing where a guard looks: where no credential is asked for, it says nothing
// more.
func besideNothing(r *finding.Row) *finding.Row {
	r.PartOf = append(slices.Clone(r.PartOf), "credential absent")
	return r
}

// forges are the ways that let whoever can write make a credential of anybody.
var forges = map[string]bool{"unsigned": true, string(token.Altered): true, string(token.Raised): true,
	string(token.ForeignKey): true, string(token.PublicAsSecret): true, string(token.EmbeddedKey): true,
	string(token.KeyAddress): true, string(token.KeyIDPath): true, check.TestsOnly: true}

// afterlife is that of a session drill, as one call shows it.
var afterlife = finding.RowOf(session.DrillCauses, session.Afterlife)

// accepted are the causes of routes at which any credential, or a text that is none, is
// accepted.
var accepted = []string{"no guard", "credential broken"}

func broken(way, title, means, advice string, owasp finding.OWASP, cwe int, standard string) *finding.Row {
	r := &finding.Row{Cause: "token " + way, Kind: finding.Unprotected, Title: title, Means: means, Advice: advice,
		OWASP: owasp, CWE: cwe, Standard: standard, PartOf: accepted, Forges: forges[way]}
	if r.Forges && way != string(token.Altered) { // where the signature is not looked at, none of them is
		r.PartOf = append(slices.Clone(accepted), "token "+string(token.Altered))
	}
	return r
}

// unsigned are the ways of one fault: the signature is not asked for.
var unsigned = map[string]bool{string(token.Unsigned): true, string(token.UnsignedCase): true,
	string(token.SignatureRemoved): true}

// unsignedOther is that of something unsigned that is no token: the same fault by another name.
func unsignedOther(kind declaration.Kind, title, means, advice, standard string) *finding.Row {
	r := broken("unsigned "+string(kind), title, means, advice, finding.API2, 347, standard)
	r.Same, r.Forges = "token unsigned", true
	return r
}

// rowOf is the cause of a way that was admitted with a scheme.
func rowOf(s *declaration.Scheme, way string) *finding.Row {
	if unsigned[way] {
		if way = "unsigned"; s != nil && s.Kind != declaration.Bearer {
			way += " " + string(s.Kind)
		}
	}
	if way == check.Repeated && s != nil && s.Kind == declaration.Link {
		way = repeatedLink
	}
	return finding.RowOf(rows, "token "+way)
}
