package verdict

import (
	"strings"

	"millgate/core/finding"
	"millgate/core/probe"
)

// Class10 is the category in the OWASP API Security Top 10 (2023) and the CWE
// number that a gap belongs to.
type Class10 struct {
	OWASP string
	CWE   int
}

// Classes of gaps, by kind and cause.
func classOf(g Gap) Class10 {
	const (
		bola   = "API1:2023 Broken Object Level Authorization"
		authn  = "API2:2023 Broken Authentication"
		bopla  = "API3:2023 Broken Object Property Level Authorization"
		bfla   = "API5:2023 Broken Function Level Authorization"
		config = "API8:2023 Security Misconfiguration"
		invent = "API9:2023 Improper Inventory Management"
	)
	switch {
	case g.Kind == finding.Unthrottled:
		return Class10{"API4:2023 Unrestricted Resource Consumption", 770} // allocation without limits or throttling
	case strings.HasPrefix(g.Cause, pageCause) && g.Kind == finding.OverPermissive:
		return Class10{config, 942} // permissive cross-domain policy
	case g.Cause == "carried out":
		return Class10{bfla, 696} // incorrect behavior order
	case g.Cause == "wrong secret":
		return Class10{authn, 287}
	case g.Cause == "way letter case":
		return Class10{authn, 178}
	case g.Kind == finding.Unprotected && len(g.Cause) > 4 && g.Cause[:4] == "way ":
		return Class10{authn, 288}
	case g.Kind == finding.Unprotected && g.Cause == "credential broken":
		return Class10{authn, 287}
	case g.Cause == "account":
		return Class10{authn, 204} // observable response discrepancy
	case g.Cause == "token "+probe.CrossSite:
		return Class10{authn, 352}
	case g.Cause == "token "+probe.Repeated || g.Cause == "token "+probe.OldTime:
		return Class10{authn, 294}
	case g.Cause == "token "+probe.Expired || g.Cause == "token "+probe.Changed:
		return Class10{authn, 613}
	case g.Cause == "token "+probe.OtherRecord:
		return Class10{bola, 639}
	case g.Cause == "token "+probe.InQuery:
		return Class10{authn, 598}
	case g.Kind == finding.WeakToken && g.Cause == "token cookie-script":
		return Class10{config, 1004}
	case g.Kind == finding.WeakToken && g.Cause == "token cookie-insecure":
		return Class10{config, 614}
	case g.Kind == finding.WeakToken && g.Cause == "token cookie-same-site":
		return Class10{config, 1275}
	case g.Kind == finding.Unprotected && g.Subject == "soundness" && strings.HasPrefix(g.Cause, "token "):
		return Class10{authn, 347} // improper verification of a signature or claim
	case g.Kind == finding.Lifetime:
		return Class10{authn, 613}
	case g.Kind == finding.WeakToken:
		return Class10{authn, 326}
	case g.Kind == finding.Unprotected:
		return Class10{authn, 306}
	case g.Kind == finding.OverPermissive && g.Subject == "ownership":
		return Class10{bola, 639}
	case g.Kind == finding.OverPermissive && g.Subject == "body":
		return Class10{bopla, 915}
	case g.Kind == finding.OverPermissive:
		return Class10{bfla, 863}
	case g.Kind == finding.Leaking && len(g.Cause) > 5 && g.Cause[:5] == "text ":
		return Class10{config, 209}
	case g.Kind == finding.Leaking:
		return Class10{bopla, 200}
	case g.Kind == finding.Undeclared:
		return Class10{invent, 1059}
	}
	return Class10{config, 755}
}

func advice(g Gap, route string) string {
	switch {
	case strings.HasPrefix(g.Cause, pageCause):
		return pageAdvice(g.Cause)
	case strings.HasPrefix(g.Cause, quotaCause):
		return quotaAdvice(g.Cause)
	case g.Cause == "carried out":
		return "Stop the handler after a refusal: the guard writes its answer and the work goes on."
	case g.Cause == "wrong secret":
		return "Compare the secret before a token is issued."
	case g.Cause == "no guard":
		return "Put the guard in front of " + route + "; check that it is registered for this method and before the handler."
	case g.Cause == "credential absent":
		return "Refuse a request without a credential as you refuse one with a broken credential: the guard lets an absent header pass."
	case g.Cause == "credential broken":
		return "Verify the credential before the request is handled; that one is presented is not enough."
	case g.Cause == "session no-rotation" || g.Cause == "session reuse-works" || g.Cause == "session family-lives":
		return "Give out a new refresh token at each renewal, refuse the old one, and end the whole session when it comes again."
	case g.Cause == "session logout-nobody":
		return "Answer a logout that names no session as an invalid request."
	case g.Cause == "session logout-other":
		return "End only sessions of the caller who asks for it."
	case g.Cause == "session introspection-inactive":
		return "Let introspection and the services agree on which tokens are active."
	case g.Cause == "afterlife":
		return "Keep a list of ended tokens until they end by themselves, or declare how long they may go on (ended_within)."
	case g.Cause == "account":
		return "Answer an unknown name exactly as a wrong secret."
	case g.Cause == "token "+probe.CrossSite:
		return "Set the cookie with SameSite, and refuse writes whose Origin is not your own."
	case g.Cause == "token "+probe.Repeated || g.Cause == "token "+probe.OldTime:
		return "Refuse timestamps outside the tolerance, and remember the signatures that were seen for as long."
	case g.Cause == "token "+probe.OtherRecord || g.Cause == "token "+probe.Changed:
		return "Sign the whole address: the path and every parameter, the end among them."
	case g.Cause == "token "+probe.Expired:
		return "Compare the end with the clock after the signature was verified."
	case g.Cause == "token "+probe.InQuery:
		return "Take tokens from the Authorization field only."
	case g.Cause == "token "+probe.BesideFirst || g.Cause == "token "+probe.BesideLast || g.Cause == "token "+probe.BesideOther:
		return "Read one credential and decide by it; refuse a request that brings two."
	case g.Cause == "stale beside":
		return "Look only at the credentials that count on the route."
	case g.Cause == "scheme letters":
		return "Compare the word before the token without regard to letter case."
	case g.Kind == finding.WeakToken && strings.HasPrefix(g.Cause, "token cookie-"):
		return "Set the cookie with the attributes that the declaration names."
	case g.Kind == finding.Unprotected && strings.HasPrefix(g.Cause, "token "):
		return "Verify signature, algorithm, issuer, audience and dates before anything of the token is used; take the algorithm and the key from your own configuration, never from the token (RFC 8725)."
	case g.Kind == finding.Lifetime:
		return "Issue tokens that end as declared, or declare the longer life and what it costs."
	case g.Kind == finding.WeakToken:
		return "Change what the issuer puts into tokens and signs them with."
	case g.Cause == "way "+probe.PastGateway:
		return "Guard the service itself, or let nothing but the gateway reach it."
	case g.Cause == "way "+probe.HeadMethod || g.Cause == "way "+probe.OptionsMethod:
		return "Put the guard in front of every method that the handler serves."
	case g.Kind == finding.Unprotected:
		return "Let guard and router see the same path and method: normalise before the guard, or refuse what is not canonical."
	case g.Subject == "ownership":
		return "Compare the record's owner with the caller before it is read or changed."
	case g.Subject == "body":
		return "Take only the members that a caller may set, and leave roles to the route that manages them."
	case g.Kind == finding.OverPermissive && g.Subject == "role":
		return "Check the role on " + route + ", or admit the caller in the declaration if it is meant to get in."
	case g.Kind == finding.OverPermissive && g.Subject == "credential":
		return "Accept only the schemes that the declaration names here."
	case g.Kind == finding.OverPermissive:
		return "Check the " + g.Subject + " on " + route + " where the role is checked."
	case g.Kind == finding.Leaking:
		return "Leave it out of the answer; list the members an answer may have instead of passing the stored record on."
	case g.Kind == finding.Undeclared:
		return "Take it off the service, or add it to the inventory and say who may call it."
	case g.Cause == "no effect":
		return "Answer with success only when the work is done; an error would have told the caller."
	case g.Kind == finding.OverRestrictive:
		return "Let the caller in, or say in the declaration that it must be turned away."
	}
	return "Answer with the status and the shape that the declaration asks for, so that callers can tell what to do."
}
