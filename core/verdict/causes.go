package verdict

import (
	"slices"

	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/finding"
	"millgate/core/session"
	"millgate/core/token"
)

// Causes are all causes of findings of sweeps, family by family; docs/findings.md is
// made from them.
var Causes = finding.NewCatalogue(append(ofFamilies(), []finding.Family{
	finding.Family{Name: "detour", Title: "Ways around a guard",
		Shown: "Nobody, without a credential, was answered 2xx at an address that leads to the same route in " +
			"another way. It is proven where the answer has the type of the control's.",
		Refuted: "A redirect; an answer of another type than the control's; for OPTIONS one that shows nothing of " +
			"the control's answer.",
		Rows: detourCauses},
	finding.Family{Name: "credential", Title: "Broken credentials",
		Shown: "A credential that is broken in one way, sent with the very request of the control, was admitted. " +
			"Where two are sent, the caller of the sound one is turned away alone. A way that gets in is then tried " +
			"on the other routes of the guard.",
		Refuted: "The sound one is not admitted either; the route is open to whoever asks.",
		Rows:    credentialCauses},
	finding.Family{Name: "issued", Title: "What logins give out",
		Shown: "The token, cookie or link that a login of a declared identity gave was read and held against the " +
			"declaration and the standards; its signature was verified with the keys of its scheme.",
		Refuted: "The issuer's own answer about it (introspection), keys that verify it, the declared clock skew.",
		Rows:    issuedCauses},
	finding.Family{Name: "quota", Title: "Quotas",
		Shown: "More calls were admitted than any limiter of the declared kind lets through in the time that they " +
			"took. What runs at the same time is never more than likely: when it began is not seen from outside.",
		Refuted: "Failures and answers that never came are not counted as admitted; a drill that stood still, or " +
			"that found its quota full, says so and is unproven.",
		Rows: quotaCauses},
	finding.Family{Name: "undeclared", Title: "What the inventory does not have",
		Shown:   "An address, a method or a made-up path that no route has was answered 2xx without a credential.",
		Refuted: "A service that answers any made-up path there says nothing by answering this one.",
		Rows:    undeclaredCauses},
	finding.Family{Name: "answer", Title: "What answers show",
		Shown: "It stands in an answer that is kept, with secrets masked, beside the rule that forbids or asks for " +
			"it.",
		Refuted: "The answer to HEAD has no body, so nothing is said of it.",
		Rows:    answerCauses},
}...)...)

func ofFamilies() (out []finding.Family) {
	for _, f := range families.All {
		out = append(out, f.Causes())
	}
	return out
}

// issuedCauses are those of tokens, cookies and links that logins give out.
var issuedCauses = slices.Concat(token.Causes(), session.IssuedCauses)

// undeclaredCauses are those of addresses that the inventory does not have.
var undeclaredCauses = []*finding.Row{
	{Cause: "served", Kind: finding.Undeclared, Title: "Served, not in the inventory",
		Means:  "The service answers where nobody said that it does, so nobody said who may ask.",
		Advice: "Take it off the service, or add it to the inventory and say who may call it.", OWASP: finding.API9,
		CWE: 1059},
	check.RefusalRow("stray "+string(check.ToLogin), "Sent to a login page, where nothing is served",
		"What does not exist is answered as if it did, to people and not to programs."),
	check.RefusalRow("stray "+string(check.Failed), "The service fails, where nothing is served",
		"What does not exist must be answered 404 or 405."),
}

// answerCauses are those of what any answer must and must not show.
var answerCauses = []*finding.Row{
	check.RefusalRow("answer", "A refusal in another shape than declared", "Its type, a header field or a member "+
		"of its body is missing."),
	leak("field ", "A member stands in an answer that must never be shown.", finding.API3, 200),
	leak("schema ", "A member stands in an answer that the response schema does not list.", finding.API3, 200),
	leak("text ", "A text stands in an answer that must never be shown.", finding.API8, 209),
}

func leak(cause, means string, owasp finding.OWASP, cwe int) *finding.Row {
	return &finding.Row{Cause: cause, Kind: finding.Leaking, Title: "Shows {what}", Means: means,
		Advice: "Leave it out of the answer; list the members an answer may have instead of passing the stored " +
			"record on.",
		OWASP: owasp, CWE: cwe}
}
