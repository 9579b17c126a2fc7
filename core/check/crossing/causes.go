package crossing

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/finding"
)

// noGuard is what absent and broken credentials come from where both get in.
const noGuard = "no guard"

// asPage is what is refused as data and shown as a page.
const asPage = "as a page"

// servesNoOne is a route that fails for everybody.
const servesNoOne = "serves no one"

// ownership is the subject of rungs that ask whose a record is.
const ownership = "ownership"

var rows = slices.Concat([]*finding.Row{
	{Cause: noGuard, Kind: finding.Unprotected, Title: "No guard",
		Means: "Nobody got in, both without a credential and with a broken one, and so did everyone who was sent.",
		Advice: "Put the guard in front of {route}; check that it is registered for this method and before the " +
			"handler.",
		OWASP: finding.API2, CWE: 306, Rung: 2,
		Sums: "There is no guard: nobody got in without a credential and with a broken one, and so did everyone who " +
			"was sent"},
	{Cause: "credential absent", Kind: finding.Unprotected, Title: "Open when no credential is sent",
		Means: "The guard refuses a broken credential and lets a request without one pass.",
		Advice: "Refuse a request without a credential as you refuse one with a broken credential: the guard lets an " +
			"absent header pass.",
		OWASP: finding.API2, CWE: 306},
	{Cause: "credential broken", Kind: finding.Unprotected, Title: "Open to a broken credential",
		Means:  "A text that is no credential is taken for one.",
		Advice: "Verify the credential before the request is handled; that one is presented is not enough.",
		OWASP:  finding.API2, CWE: 287, Forges: true},
	{Cause: asPage, Kind: finding.Unprotected, Title: "Shown to nobody as a page",
		Means:  "What is refused as data is shown to whoever asks for it as a page, without a credential.",
		Advice: "Put the guard of {route} in front of every way to show it, the page as well as the data.",
		OWASP:  finding.API2, CWE: 306, Rung: 2, PartOf: []string{noGuard, "credential absent"},
		Shown: "Two values of the control's answer stand in the page, and neither in what was sent nor in the page " +
			"of an address that nobody has.",
		Refuted: "The page of an address that nobody has: what stands there stands on any page. Where it was not " +
			"seen, it is likely."},
	check.CarriedOutRows[0], check.CarriedOutRows[1],
	{Cause: ownership, Kind: finding.OverPermissive, Title: "Somebody else's record",
		Means:  "A caller reads or changes a record that belongs to another.",
		Advice: "Compare the record's owner with the caller before it is read or changed.",
		OWASP:  finding.API1, CWE: 639, Least: finding.High,
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
		OWASP:  finding.API5, CWE: 863,
		PartOf: []string{"credential absent"}}, // it is to present none of those that count
	{Cause: "admit ", Kind: finding.OverRestrictive, Title: "Turned away, must be admitted",
		Means:  "A caller whom the declaration admits cannot do its work.",
		Advice: "Let the caller in, or say in the declaration that it must be turned away.",
		OWASP:  finding.API8, CWE: 755,
		Shown: "It is proven where another caller was admitted with the same request, likely without one."},
	{Cause: servesNoOne, Kind: finding.OverRestrictive, Title: "Serves no one",
		Means:  "It fails for everybody, who must be admitted too, while the routes beside it work.",
		Advice: "Look for the failure in the service's own log; until it is mended nobody can do this.",
		OWASP:  finding.API8, CWE: 755,
		Shown: "Who must be admitted was answered with a failure twice, and a route beside it admitted its caller.",
		Refuted: "A failure that is over a moment later; routes beside it that fail as well; another caller who is " +
			"admitted by the same request."},
	{Cause: "no effect", Kind: finding.OverRestrictive, Title: "Answered as done, and not done",
		Means:  "A caller was told that its work was carried out, and what reads it back does not show it.",
		Advice: "Answer with success only when the work is done; an error would have told the caller.",
		OWASP:  finding.API8, CWE: 755,
		Refuted: "A follow-up that was not answered, or failed, says nothing about the effect."},
}, refusalCauses())

// seenAs says a class of answers as a refusal.
var seenAs = []struct {
	class check.Class
	text  string
}{
	{check.Refused, "Answered 401"}, {check.Forbidden, "Answered 403"}, {check.Hidden, "Answered 404"},
	{check.ToLogin, "Sent to a login page"},
	{check.Invalid, "Told that the request is invalid"}, {check.WrongMethod, "Answered 405"},
}

// otherwise is where another status than 401, 403 and 404 is declared.
const otherwise = "otherwise"

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
		{"hide", "404 is declared", check.Hidden}, {otherwise, "another status is declared", ""},
	} {
		for _, s := range seenAs {
			if s.class != want.right {
				out = append(out, refusalRow(want.outcome+" "+string(s.class), s.text+", "+want.text, means))
			}
		}
	}
	breaks := refusalRow("refuse "+string(check.Failed), "Fails in place of refusing", "Without a sound credential "+
		"the guard breaks: whether it would refuse is luck, and a failure may tell more than a refusal.")
	breaks.Advice = "Refuse with 401 where there is no credential, or none that can be read, before anything is made " +
		"of it."
	breaks.Shown = "It failed twice without a sound credential, and the control was admitted with the same request."
	breaks.Refuted = "A failure that is over a moment later; a control that is not admitted either."
	return append(out, breaks, refusalRow("refuse page", "Shown a page, 401 is declared", means),
		refusalRow("admit or refuse ", "Another refusal than declared", means))
}

// refusalRow is that of a refusal of a caller. Of what is done all the same it does not matter how it was
// refused.
func refusalRow(cause, title, means string) *finding.Row {
	r := check.RefusalRow(cause, title, means)
	r.Advice += " Where the service is right, declare it: turned_away of the access entry, or refuses of the scheme."
	r.PartOf = []string{check.CarriedOutRows[0].Cause}
	return r
}

// gapOf is a gap of a cause, which may end in a name.
func gapOf(kind finding.Kind, cause string) check.Gap {
	for _, r := range rows {
		if what, ok := strings.CutPrefix(cause, r.Cause); ok && r.Kind == kind &&
			(what == "" || strings.HasSuffix(r.Cause, " ")) {
			return check.Gap{Cause: r, What: what}
		}
	}
	panic(fmt.Sprintf("no row of %s %q", kind, cause))
}
