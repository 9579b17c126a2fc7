package session

import "millgate/core/finding"

const (
	rotateAdvice = "Give out a new refresh token at each renewal, refuse the old one, and end the whole session when " +
		"it comes again."
	lifeAdvice   = "Issue tokens that end as declared, or declare the longer life and what it costs."
	cookieAdvice = "Set the cookie with the attributes that the declaration names."
	stolen       = "A stolen refresh token works beside the owner's and nobody notices."
)

// DrillCauses are what a session drill can find.
var DrillCauses = []*finding.Row{
	{Cause: "session no-rotation", Kind: finding.Lifetime, Title: "Refresh tokens do not rotate", Means: stolen,
		Advice: rotateAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.Medium, Standard: grant},
	{Cause: "session reuse-works", Kind: finding.Lifetime, Title: "A used refresh token goes on working", Means: stolen,
		Advice: rotateAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.High, Standard: grant},
	{Cause: "session family-lives", Kind: finding.Lifetime, Title: "A session survives the reuse of its refresh token",
		Means:  "Whoever stole the token first keeps the session, the owner is turned away.",
		Advice: rotateAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.Medium, Standard: grant},
	{Cause: "session too-long", Kind: finding.Lifetime, Title: "Tokens live longer than declared",
		Means:  "Whoever gets hold of one has longer to use it.",
		Advice: lifeAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.Medium, Standard: "RFC 6749 section 5.1"},
	{Cause: "session idle-too-long", Kind: finding.Lifetime, Title: "An unused session lives longer than declared",
		Means:  "A forgotten session stays open for longer.",
		Advice: lifeAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.Medium, Standard: "RFC 9700 section 4.14"},
	{Cause: "afterlife", Kind: finding.Lifetime, Title: "A session works on after the logout",
		Means: "Whoever copied its credential stays signed in, for as long as it lives.",
		Advice: "Keep a list of ended tokens until they end by themselves, or declare how long they may go on " +
			"(ended_within).",
		OWASP: finding.API2, CWE: 613, Severity: finding.High, Standard: revoke,
		PartOf: []string{"no guard", "credential broken"}}, // there any credential is accepted
	{Cause: "session renewal-afterlife", Kind: finding.Lifetime, Title: "A session is renewed after the logout",
		Means:  "Whoever copied the refresh token stays signed in, for as long as it can be renewed.",
		Advice: "End the refresh token with the session, at the issuer.",
		OWASP:  finding.API2, CWE: 613, Severity: finding.High, Standard: revoke},
	{Cause: "session logout-nobody", Kind: finding.WrongRefusal, Title: "A logout succeeds whatever it is given",
		Means:  "A caller whose logout went wrong is told that it went well.",
		Advice: "Answer a logout that names no session as an invalid request.",
		OWASP:  finding.API8, CWE: 755, Severity: finding.Low, Standard: revoke},
	{Cause: "session logout-other", Kind: finding.OverPermissive, Title: "A caller ends the session of another",
		Means:  "Anybody who has seen a refresh token can sign its owner out.",
		Advice: "End only sessions of the caller who asks for it.",
		OWASP:  finding.API5, CWE: 863, Severity: finding.Medium, Standard: revoke},
	{Cause: "session logout-all", Kind: finding.OverRestrictive, Title: "A logout ends the caller's other sessions",
		Means:   "Who signs out on one device is signed out on all of them.",
		Advice:  "End the session that asks for it alone, or say  ends: all  at the scheme's logout.",
		Refuted: "The other session did not work right before the logout either: then a login ends the ones before it.",
		OWASP:   finding.API8, CWE: 613, Severity: finding.Low, Standard: revoke},
	{Cause: "session introspection-inactive", Kind: finding.OverRestrictive,
		Title:  "The issuer calls a working token inactive",
		Means:  "Services that ask it refuse callers who must be admitted.",
		Advice: "Let introspection and the services agree on which tokens are active.",
		OWASP:  finding.API8, CWE: 755, Severity: finding.Medium, Standard: "RFC 7662 section 2.2"},
}

// IssuedCauses are what a cookie or a link that is given out can be found to be.
var IssuedCauses = []*finding.Row{
	{Cause: "token cookie-script", Kind: finding.WeakToken, Title: "Scripts can read the session cookie",
		Means:  "Any script on the page can read it, an injected one too.",
		Advice: cookieAdvice, OWASP: finding.API8, CWE: 1004, Severity: finding.High,
		Standard: "RFC 6265 section 4.1.2.6"},
	{Cause: "token cookie-insecure", Kind: finding.WeakToken, Title: "The session cookie is sent over http",
		Means:  "A request over plain http carries it for everyone on the way to read.",
		Advice: cookieAdvice, OWASP: finding.API8, CWE: 614, Severity: finding.High,
		Standard: "RFC 6265 section 4.1.2.5"},
	{Cause: "token cookie-same-site", Kind: finding.WeakToken, Title: "Other sites' pages send the session cookie",
		Means:  "Pages of other sites can make the browser send it.",
		Advice: cookieAdvice, OWASP: finding.API8, CWE: 1275, Severity: finding.High,
		Standard: "RFC 6265bis section 5.6.7"},
	{Cause: "token cookie-too-long", Kind: finding.Lifetime, Title: "The session cookie lives longer than declared",
		Means:  "A lost device stays signed in for longer.",
		Advice: lifeAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.Medium,
		Standard: "RFC 6265 section 4.1.2.2"},
	{Cause: "token link-too-long", Kind: finding.Lifetime, Title: "Links live longer than declared",
		Means:  "Whoever finds one in a history or a mail can still open it.",
		Advice: lifeAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.Medium},
	{Cause: "token link-elsewhere", Kind: finding.WeakToken, Title: "Links lead elsewhere than was asked for",
		Means:  "Who asks for a link to one record gets one to another.",
		Advice: "Make the link of the record that was asked for, and check that its caller may see that one.",
		OWASP:  finding.API1, CWE: 639, Severity: finding.Medium},
	{Cause: "token link-endless", Kind: finding.Lifetime, Title: "Links have no end",
		Means:  "Nobody can tell until when one opens.",
		Advice: lifeAdvice, OWASP: finding.API2, CWE: 613, Severity: finding.Medium, Standard: "RFC 3339 section 5.6"},
}

const (
	grant  = "RFC 9700 section 4.14.2"
	revoke = "RFC 7009 section 2.1"
)

// DrillRow is the row of what JudgeDrill says by an ID; nil where it is worth knowing and no
// gap: the declaration does not ask for it.
func DrillRow(id string) *finding.Row {
	cause := "session " + id
	if id == Afterlife {
		cause = id // the same, seen by a probe with an ended credential
	}
	return finding.RowOf(DrillCauses, cause)
}
