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
var Causes = finding.NewCatalogue(append([]finding.Family{
	finding.Family{Name: "crossing", Title: "Callers at routes",
		Shown: "A caller's request was admitted where the declaration turns it away, or turned away where it must be " +
			"admitted. An admission proves itself. A refusal counts only beside an admitted control: the same " +
			"request by a caller who must get in.",
		Refuted: "A control that is not admitted either; an answer that never came, a 429 or a failure; 400, 409, " +
			"410, 412 or 422 after a control that made or used something up. Then it is unproven.",
		Rows: crossingCauses},
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
}, ofFamilies()...)...)

func ofFamilies() (out []finding.Family) {
	for _, f := range families.All {
		out = append(out, f.Causes())
	}
	return out
}

// issuedCauses are those of tokens, cookies and links that logins give out.
var issuedCauses = slices.Concat(token.Causes(), session.IssuedCauses)

var crossingCauses = slices.Concat([]*finding.Row{
	{Cause: "no guard", Kind: finding.Unprotected, Title: "No guard",
		Means: "Nobody got in, both without a credential and with a broken one, and so did everyone who was sent.",
		Advice: "Put the guard in front of {route}; check that it is registered for this method and before the " +
			"handler.",
		OWASP: finding.API2, CWE: 306},
	{Cause: "credential absent", Kind: finding.Unprotected, Title: "Open when no credential is sent",
		Means: "The guard refuses a broken credential and lets a request without one pass.",
		Advice: "Refuse a request without a credential as you refuse one with a broken credential: the guard lets an " +
			"absent header pass.",
		OWASP: finding.API2, CWE: 306},
	{Cause: "credential broken", Kind: finding.Unprotected, Title: "Open to a broken credential",
		Means:  "A text that is no credential is taken for one.",
		Advice: "Verify the credential before the request is handled; that one is presented is not enough.",
		OWASP:  finding.API2, CWE: 287},
	carriedOut(finding.Unprotected), carriedOut(finding.OverPermissive),
	{Cause: "ownership", Kind: finding.OverPermissive, Title: "Somebody else's record",
		Means:  "A caller reads or changes a record that belongs to another.",
		Advice: "Compare the record's owner with the caller before it is read or changed.",
		OWASP:  finding.API1, CWE: 639,
		Shown: "Two values of the owner's answer, which the caller's own records do not have, are in the caller's " +
			"answer, or the owner's record is changed afterwards. Otherwise it is likely."},
	{Cause: "role", Kind: finding.OverPermissive, Title: "Without the role",
		Means:  "A caller without any role that the route admits got in.",
		Advice: "Check the role on {route}, or admit the caller in the declaration if it is meant to get in.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "scope", Kind: finding.OverPermissive, Title: "Without the scope",
		Means:  "A caller whose token does not hold the scope got in.",
		Advice: "Check the scope on {route} where the role is checked.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "attribute", Kind: finding.OverPermissive, Title: "Without the attribute",
		Means:  "A caller without the attribute that the route asks for got in, on a record of its own.",
		Advice: "Check the attribute on {route} where the role is checked.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "credential", Kind: finding.OverPermissive, Title: "With another scheme",
		Means:  "A credential of a scheme that the route does not accept opened it.",
		Advice: "Accept only the schemes that the declaration names here.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "body ", Kind: finding.OverPermissive, Title: "A role raised through the body",
		Means:  "A caller gave itself a role by writing the member into a body.",
		Advice: "Take only the members that a caller may set, and leave roles to the route that manages them.",
		OWASP:  finding.API3, CWE: 915,
		Shown:   "The role was seen in the answer, or in the record read again; the old value is put back.",
		Refuted: "The same request without the claim is not admitted."},
	{Cause: "admit ", Kind: finding.OverRestrictive, Title: "Turned away, must be admitted",
		Means:  "A caller whom the declaration admits cannot do its work.",
		Advice: "Let the caller in, or say in the declaration that it must be turned away.",
		OWASP:  finding.API8, CWE: 755,
		Shown: "It is proven where another caller was admitted with the same request, likely without one."},
	{Cause: "no effect", Kind: finding.OverRestrictive, Title: "Answered as done, and not done",
		Means:  "A caller was told that its work was carried out, and what reads it back does not show it.",
		Advice: "Answer with success only when the work is done; an error would have told the caller.",
		OWASP:  finding.API8, CWE: 755,
		Refuted: "A follow-up that was not answered, or failed, says nothing about the effect."},
}, refusalCauses())

// carriedOut is the row of a refusal whose work went on; its kind is that of who was
// refused.
func carriedOut(k finding.Kind) *finding.Row {
	return &finding.Row{Cause: "carried out", Kind: k, Title: "Refused and carried out all the same",
		Means:  "The answer says no, and the record is changed or gone afterwards.",
		Advice: "Stop the handler after a refusal: the guard writes its answer and the work goes on.",
		OWASP:  finding.API5, CWE: 696, // incorrect behavior order
		Shown: "The owner read the record before and after the request that was turned away."}
}

// refusal is a row of a refusal in another way than declared.
func refusal(cause, title, means string) *finding.Row {
	return &finding.Row{Cause: cause, Kind: finding.WrongRefusal, Title: title, Means: means,
		Advice: "Answer with the status and the shape that the declaration asks for, so that callers can tell what " +
			"to do.",
		OWASP: finding.API8, CWE: 755}
}

// seenAs says a class of answers as a refusal.
var seenAs = []struct {
	class check.Class
	text  string
}{
	{check.Refused, "Answered 401"}, {check.Forbidden, "Answered 403"}, {check.Hidden, "Answered 404"},
	{check.ToLogin, "Sent to a login page"},
	{check.Invalid, "Told that the request is invalid"}, {check.WrongMethod, "Answered 405"},
}

// refusalCauses are the refusals in another way than declared: what is declared, and
// the class of what came.
func refusalCauses() (out []*finding.Row) {
	const means = "A caller cannot tell whether to sign in, to ask for a right, or that there is nothing; monitors " +
		"count it wrongly."
	for _, want := range []struct {
		outcome, text string
		right         check.Class
	}{
		{"refuse", "401 is declared", check.Refused}, {"forbid", "403 is declared", check.Forbidden},
		{"hide", "404 is declared", check.Hidden},
	} {
		for _, s := range seenAs {
			if s.class != want.right {
				out = append(out, refusal(want.outcome+" "+string(s.class), s.text+", "+want.text, means))
			}
		}
	}
	return append(out, refusal("refuse page", "Shown a page, 401 is declared", means),
		refusal("admit or refuse ", "Another refusal than declared", means))
}

// undeclaredCauses are those of addresses that the inventory does not have.
var undeclaredCauses = []*finding.Row{
	{Cause: "served", Kind: finding.Undeclared, Title: "Served, not in the inventory",
		Means:  "The service answers where nobody said that it does, so nobody said who may ask.",
		Advice: "Take it off the service, or add it to the inventory and say who may call it.", OWASP: finding.API9,
		CWE: 1059},
	refusal("stray "+string(check.ToLogin), "Sent to a login page, where nothing is served",
		"What does not exist is answered as if it did, to people and not to programs."),
	refusal("stray "+string(check.Failed), "The service fails, where nothing is served",
		"What does not exist must be answered 404 or 405."),
}

// answerCauses are those of what any answer must and must not show.
var answerCauses = []*finding.Row{
	refusal("answer", "A refusal in another shape than declared", "Its type, a header field or a member of its body "+
		"is missing."),
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
