package verdict

import (
	"slices"

	"millgate/core/finding"
)

// Causes are all causes of findings of sweeps, family by family.
var Causes = finding.NewCatalogue(crossingCauses, detourCauses, credentialCauses, issuedCauses(), sessionCauses, pageCauses,
	quotaCauses, undeclaredCauses, answerCauses)

var crossingCauses = slices.Concat([]*finding.Row{
	{Cause: "no guard", Kind: finding.Unprotected, Title: "No guard",
		Advice: "Put the guard in front of {route}; check that it is registered for this method and before the handler.",
		OWASP:  finding.API2, CWE: 306},
	{Cause: "credential absent", Kind: finding.Unprotected, Title: "Open when no credential is sent",
		Advice: "Refuse a request without a credential as you refuse one with a broken credential: the guard lets an absent " +
			"header pass.",
		OWASP: finding.API2, CWE: 306},
	{Cause: "credential broken", Kind: finding.Unprotected, Title: "Open to a broken credential",
		Advice: "Verify the credential before the request is handled; that one is presented is not enough.",
		OWASP:  finding.API2, CWE: 287},
	{Cause: "carried out", Kind: finding.Unprotected, Title: carriedOutTitle, Advice: carriedOutAdvice, OWASP: finding.API5,
		CWE: 696}, // incorrect behavior order
	{Cause: "carried out", Kind: finding.OverPermissive, Title: carriedOutTitle, Advice: carriedOutAdvice, OWASP: finding.API5,
		CWE: 696},
	{Cause: "ownership", Kind: finding.OverPermissive, Title: "Somebody else's record",
		Advice: "Compare the record's owner with the caller before it is read or changed.",
		OWASP:  finding.API1, CWE: 639},
	{Cause: "role", Kind: finding.OverPermissive, Title: "Without the role",
		Advice: "Check the role on {route}, or admit the caller in the declaration if it is meant to get in.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "scope", Kind: finding.OverPermissive, Title: "Without the scope",
		Advice: "Check the scope on {route} where the role is checked.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "attribute", Kind: finding.OverPermissive, Title: "Without the attribute",
		Advice: "Check the attribute on {route} where the role is checked.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "credential", Kind: finding.OverPermissive, Title: "With another scheme",
		Advice: "Accept only the schemes that the declaration names here.",
		OWASP:  finding.API5, CWE: 863},
	{Cause: "body ", Kind: finding.OverPermissive, Title: "A role raised through the body",
		Advice: "Take only the members that a caller may set, and leave roles to the route that manages them.",
		OWASP:  finding.API3, CWE: 915},
	{Cause: "admit ", Kind: finding.OverRestrictive, Title: "Turned away, must be admitted",
		Advice: "Let the caller in, or say in the declaration that it must be turned away.",
		OWASP:  finding.API8, CWE: 755},
	{Cause: "no effect", Kind: finding.OverRestrictive, Title: "Answered as done, and not done",
		Advice: "Answer with success only when the work is done; an error would have told the caller.",
		OWASP:  finding.API8, CWE: 755},
}, refusalCauses())

const (
	carriedOutTitle  = "Refused and carried out all the same"
	carriedOutAdvice = "Stop the handler after a refusal: the guard writes its answer and the work goes on."
	refusalAdvice    = "Answer with the status and the shape that the declaration asks for, so that callers can tell what to do."
)

// seenAs says a class of answers as a refusal.
var seenAs = []struct {
	class Class
	text  string
}{
	{Refused, "Answered 401"}, {Forbidden, "Answered 403"}, {Hidden, "Answered 404"}, {ToLogin, "Sent to a login page"},
	{Invalid, "Told that the request is invalid"}, {WrongMethod, "Answered 405"}, {Failed, "The service fails"},
}

// refusalCauses are the refusals in another way than declared: what is declared, and
// the class of what came.
func refusalCauses() (out []*finding.Row) {
	for _, want := range []struct{ outcome, text string }{
		{"refuse", "401 is declared"}, {"forbid", "403 is declared"}, {"hide", "404 is declared"},
	} {
		for _, s := range seenAs {
			out = append(out, &finding.Row{Cause: want.outcome + " " + string(s.class), Kind: finding.WrongRefusal,
				Title: s.text + ", " + want.text, Advice: refusalAdvice, OWASP: finding.API8, CWE: 755})
		}
	}
	return append(out, &finding.Row{Cause: "refuse page", Kind: finding.WrongRefusal, Title: "Another refusal than declared",
		Advice: refusalAdvice, OWASP: finding.API8, CWE: 755}, &finding.Row{Cause: "admit or refuse ", Kind: finding.WrongRefusal,
		Title: "Another refusal than declared", Advice: refusalAdvice, OWASP: finding.API8, CWE: 755})
}

// undeclaredCauses are those of addresses that the inventory does not have.
var undeclaredCauses = []*finding.Row{
	{Cause: "served", Kind: finding.Undeclared, Title: "Served, not in the inventory",
		Advice: "Take it off the service, or add it to the inventory and say who may call it.", OWASP: finding.API9, CWE: 1059},
	{Cause: "stray " + string(ToLogin), Kind: finding.WrongRefusal, Title: "Sent to a login page, where nothing is served",
		Advice: refusalAdvice, OWASP: finding.API8, CWE: 755},
	{Cause: "stray " + string(Failed), Kind: finding.WrongRefusal, Title: "The service fails, where nothing is served",
		Advice: refusalAdvice, OWASP: finding.API8, CWE: 755},
}

// answerCauses are those of what any answer must and must not show.
var answerCauses = []*finding.Row{
	{Cause: "answer", Kind: finding.WrongRefusal, Title: "A refusal in another shape than declared", Advice: refusalAdvice,
		OWASP: finding.API8, CWE: 755},
	{Cause: "field ", Kind: finding.Leaking, Title: "Shows {what}", Advice: leakAdvice, OWASP: finding.API3, CWE: 200},
	{Cause: "schema ", Kind: finding.Leaking, Title: "Shows {what}", Advice: leakAdvice, OWASP: finding.API3, CWE: 200},
	{Cause: "text ", Kind: finding.Leaking, Title: "Shows {what}", Advice: leakAdvice, OWASP: finding.API8, CWE: 209},
}

const leakAdvice = "Leave it out of the answer; list the members an answer may have instead of passing the stored record on."
