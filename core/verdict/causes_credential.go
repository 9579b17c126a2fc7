package verdict

import (
	"millgate/core/finding"
	"millgate/core/probe"
	"millgate/core/token"
)

const canonicalAdvice = "Let guard and router see the same path and method: normalise before the guard, or refuse what is not canonical."

// byWay says how a guard was stepped around.
var byWay = map[string]string{probe.TrailingSlash: "by a trailing slash", probe.DoubledSlash: "by a doubled slash",
	probe.LetterCase: "by letter case", probe.MethodOverride: "by a method override header",
	probe.DotSegments: "by dot segments", probe.PercentEncoded: "by percent-encoding", probe.HeadMethod: "by asking with HEAD",
	probe.OptionsMethod: "by asking with OPTIONS", probe.PastGateway: "past the gateway, at the direct address"}

// aSlash gathers a trailing and a doubled slash: one router takes both away.
const aSlash = "way a slash"

// detourCauses are the ways around a guard.
var detourCauses = []*finding.Row{
	detour(aSlash, "by a slash", canonicalAdvice, 288),
	detour("way "+probe.LetterCase, byWay[probe.LetterCase], canonicalAdvice, 178), // improper handling of case sensitivity
	detour("way "+probe.MethodOverride, byWay[probe.MethodOverride], canonicalAdvice, 288),
	detour("way "+probe.DotSegments, byWay[probe.DotSegments], canonicalAdvice, 288),
	detour("way "+probe.PercentEncoded, byWay[probe.PercentEncoded], canonicalAdvice, 288),
	detour("way "+probe.HeadMethod, byWay[probe.HeadMethod], methodAdvice, 288),
	detour("way "+probe.OptionsMethod, byWay[probe.OptionsMethod], methodAdvice, 288),
	detour("way "+probe.PastGateway, byWay[probe.PastGateway],
		"Guard the service itself, or let nothing but the gateway reach it.", 288),
}

const methodAdvice = "Put the guard in front of every method that the handler serves."

func detour(cause, how, advice string, cwe int) *finding.Row {
	return &finding.Row{Cause: cause, Kind: finding.Unprotected, Title: "The guard is stepped around " + how, Advice: advice,
		OWASP: finding.API2, CWE: cwe}
}

const (
	verifyAdvice = "Verify signature, algorithm, issuer, audience and dates before anything of the token is used; take the " +
		"algorithm and the key from your own configuration, never from the token (RFC 8725)."
	signAddress = "Sign the whole address: the path and every parameter, the end among them."
	oneAdvice   = "Read one credential and decide by it; refuse a request that brings two."
	timeAdvice  = "Refuse timestamps outside the tolerance, and remember the signatures that were seen for as long."
)

// credentialCauses are those of credentials that are broken in one way, and of logins
// with something wrong in them.
var credentialCauses = append([]*finding.Row{
	{Cause: "wrong secret", Kind: finding.Unprotected, Title: "Any secret logs in",
		Advice: "Compare the secret before a token is issued.", OWASP: finding.API2, CWE: 287},
	{Cause: "account", Kind: finding.Leaking, Title: "Tells who has an account",
		Advice: "Answer an unknown name exactly as a wrong secret.", OWASP: finding.API2, CWE: 204}, // observable response discrepancy
	{Cause: "token unsigned", Kind: finding.Unprotected, Title: "An unsigned token is accepted", Advice: verifyAdvice,
		OWASP: finding.API2, CWE: 347},
	broken(probe.CrossSite, "A page of another site can write",
		"Set the cookie with SameSite, and refuse writes whose Origin is not your own.", finding.API2, 352),
	broken(probe.Repeated, "A signed request can be repeated", timeAdvice, finding.API2, 294),
	broken(probe.OldTime, "An old signed request is accepted", timeAdvice, finding.API2, 294),
	broken(probe.OtherBody, "The signature does not hold the body", verifyAdvice, finding.API2, 347),
	broken(probe.OtherRecord, "A link opens other records", signAddress, finding.API1, 639),
	broken(probe.Changed, "A link's end can be changed", signAddress, finding.API2, 613),
	broken(probe.Expired, "A broken credential is accepted: expired",
		"Compare the end with the clock after the signature was verified.", finding.API2, 613),
	broken(probe.InQuery, "A token in the query is accepted", "Take tokens from the Authorization field only.", finding.API2, 598),
	broken(probe.BesideFirst, besideTitle, oneAdvice, finding.API2, 347),
	broken(probe.BesideLast, besideTitle, oneAdvice, finding.API2, 347),
	broken(probe.BesideOther, "A broken credential passes beside one of another scheme", oneAdvice, finding.API2, 347),
	{Cause: "scheme letters", Kind: finding.OverRestrictive, Title: "The scheme's word is read with its letter case",
		Advice: "Compare the word before the token without regard to letter case.", OWASP: finding.API8, CWE: 755,
		Severity: finding.Low}, // few callers come so
	{Cause: "stale beside", Kind: finding.OverRestrictive, Title: "A sound credential is turned away beside a broken other",
		Advice: "Look only at the credentials that count on the route.", OWASP: finding.API8, CWE: 755, Severity: finding.Low},
}, brokenRest()...)

const besideTitle = "A broken credential passes beside a sound one"

func broken(way, title, advice string, owasp finding.OWASP, cwe int) *finding.Row {
	return &finding.Row{Cause: "token " + way, Kind: finding.Unprotected, Title: title, Advice: advice, OWASP: owasp, CWE: cwe}
}

// brokenRest are the ways that a soundness check of tokens and keys should have met.
func brokenRest() (out []*finding.Row) {
	ways := []string{probe.NoToken, probe.Empty, probe.NotYet, probe.OtherAud, probe.OtherIss, probe.OtherKind, probe.OtherScheme,
		probe.KeyCase, probe.KeyPlace}
	for _, v := range token.Variants {
		if !unsignedWays[string(v)] {
			ways = append(ways, string(v))
		}
	}
	// Of a signature or a link, where it is another fault than an unsigned token.
	for _, w := range ways {
		out = append(out, broken(w, "A broken credential is accepted: "+w, verifyAdvice, finding.API2, 347))
	}
	return out
}

const (
	lifeAdvice   = "Issue tokens that end as declared, or declare the longer life and what it costs."
	weakAdvice   = "Change what the issuer puts into tokens and signs them with."
	cookieAdvice = "Set the cookie with the attributes that the declaration names."
)

// issuedCauses are those of what logins give out.
func issuedCauses() (out []*finding.Row) {
	for _, c := range token.Checks {
		r := &finding.Row{Cause: "token " + c.ID, Kind: finding.WeakToken, Title: "Issued tokens: " + c.ID, Advice: weakAdvice,
			OWASP: finding.API2, CWE: 326}
		if lifetimes[c.ID] {
			r.Kind, r.Advice, r.CWE = finding.Lifetime, lifeAdvice, 613
		}
		if c.ID == "too-long" {
			r.Title = "Tokens live longer than declared"
		}
		out = append(out, r)
	}
	return append(out,
		issued("cookie-script", finding.WeakToken, "Scripts can read the session cookie", cookieAdvice, finding.API8, 1004),
		issued("cookie-insecure", finding.WeakToken, "The session cookie is sent over http", cookieAdvice, finding.API8, 614),
		issued("cookie-same-site", finding.WeakToken, "Other sites' pages send the session cookie", cookieAdvice, finding.API8, 1275),
		issued("cookie-path", finding.WeakToken, "The session cookie is sent beyond its path", cookieAdvice, finding.API2, 326),
		issued("cookie-too-long", finding.Lifetime, "The session cookie lives longer than declared", lifeAdvice, finding.API2, 613),
		issued("link-too-long", finding.Lifetime, "Links live longer than declared", lifeAdvice, finding.API2, 613),
		issued("link-endless", finding.Lifetime, "Links have no end", lifeAdvice, finding.API2, 613))
}

func issued(id string, k finding.Kind, title, advice string, owasp finding.OWASP, cwe int) *finding.Row {
	return &finding.Row{Cause: "token " + id, Kind: k, Title: title, Advice: advice, OWASP: owasp, CWE: cwe}
}

const rotateAdvice = "Give out a new refresh token at each renewal, refuse the old one, and end the whole session when it comes again."

// sessionCauses are those of session drills.
var sessionCauses = []*finding.Row{
	drilled("session no-rotation", finding.Lifetime, "Refresh tokens do not rotate", rotateAdvice, finding.API2, 613),
	drilled("session reuse-works", finding.Lifetime, "A used refresh token goes on working", rotateAdvice, finding.API2, 613),
	drilled("session family-lives", finding.Lifetime, "A session survives the reuse of its refresh token", rotateAdvice, finding.API2, 613),
	drilled("session too-long", finding.Lifetime, "Tokens live longer than declared", lifeAdvice, finding.API2, 613),
	drilled("session idle-too-long", finding.Lifetime, "An unused session lives longer than declared", lifeAdvice, finding.API2, 613),
	drilled("afterlife", finding.Lifetime, "A session works on after the logout",
		"Keep a list of ended tokens until they end by themselves, or declare how long they may go on (ended_within).", finding.API2, 613),
	drilled("session logout-nobody", finding.WrongRefusal, "A logout succeeds whatever it is given",
		"Answer a logout that names no session as an invalid request.", finding.API8, 755),
	drilled("session logout-other", finding.OverPermissive, "A caller ends the session of another",
		"End only sessions of the caller who asks for it.", finding.API5, 863),
	drilled("session introspection-inactive", finding.OverRestrictive, "The issuer calls a working token inactive",
		"Let introspection and the services agree on which tokens are active.", finding.API8, 755),
}

func drilled(cause string, k finding.Kind, title, advice string, owasp finding.OWASP, cwe int) *finding.Row {
	return &finding.Row{Cause: cause, Kind: k, Title: title, Advice: advice, OWASP: owasp, CWE: cwe}
}
