package quotas

import "millgate/core/finding"

// The causes.
const (
	over       = "quota over"
	none       = "quota none"
	way        = "quota way " // and which
	routes     = "quota routes"
	atOnce     = "quota at once"
	atOnceNone = "quota at once none"
	shared     = "quota shared"
	allRoutes  = "quota one for all routes"
	refusal    = "quota refusal"
	saysOther  = "quota says other"
	opens      = "quota lock opens"
	strangers  = "quota of strangers"
	longer     = "quota queue"
	shorter    = "quota queue shorter"
	exempt     = "quota exempt"
	overtaken  = "quota queue order"
)

const atOnceAdvice = "Let only so many calls run, across all nodes, and refuse or queue the others."

var rows = append([]*finding.Row{
	sameAs(none, limited(over, finding.Unthrottled, "More calls get through than declared",
		"The limiter lets more pass than its quota's ceiling: "+
			"nodes that count alone, or two windows at their edge.", "Count every call, in front of the work that "+
			"it asks for: let all nodes share one count, and count in a sliding window where the edge of two "+
			"fixed ones must not let twice as much through.")),
	limited(none, finding.Unthrottled, "Nothing limits the calls", "Passwords are guessed and records gone through "+
		"as fast as the "+
		"service answers.", "Count the calls, in front of the work that they ask for."),
	limited(way, finding.Unthrottled, "The count is stepped around with {what}",
		"While calls were refused, one that said to be "+
			"somebody else was admitted, and those without that before and after were refused.",
		"Count by what the caller cannot write: the "+
			"address of the connection, or of a gateway that you trust; and count a path in one form."),
	limited(routes, finding.Unthrottled, "Each route has its own count",
		"A caller gets as much again at every route.",
		"Count all routes of the quota together: with a count for each, a caller gets as much again at every one of "+
			"them."),
	sameAs(atOnceNone, limited(atOnce, finding.Unthrottled, "More calls run at the same time than declared",
		"Expensive work piles up.", atOnceAdvice)),
	limited(atOnceNone, finding.Unthrottled, "Nothing limits how many calls run at the same time",
		"One caller can take all "+
			"workers.", atOnceAdvice),
	limited(shared, finding.OverRestrictive, "Callers share one count", "One who calls much keeps the others out.",
		"Count each caller "+
			"by itself: one who calls much must not keep the others out."),
	limited(allRoutes, finding.OverRestrictive, "Routes share one count",
		"Calls to one route use up what another may take.",
		"Count each route by itself, as declared; or declare one count for all."),
	limited(refusal, finding.WrongRefusal, "Too many calls are refused in another way than declared",
		"Callers do not know that they "+
			"should come again later, or when.", "Answer with the declared status, and say with Retry-After when to "+
			"come again (RFC 6585 "+
			"section 4, RFC 9110 section 10.2.3)."),
	limited(opens, finding.Unthrottled, "A closed account opens to the right secret",
		"Guesses are refused in words alone: who hits the right secret gets in all the same.",
		"Look whether the account is closed before the secret is compared, and refuse until that is over."),
	strangersRow,
	exemptRow,
	{Cause: saysOther, Kind: finding.WrongRefusal, Title: "Answers say another limit than declared",
		Means:  "Callers pace themselves by a limit that is not the declared one.",
		Advice: "Declare the limit that is there, or set the one that is declared, and say that.",
		OWASP:  finding.API8, CWE: 755, Standard: "draft-ietf-httpapi-ratelimit-headers", PartOf: []string{over, none}},
}, queueRows...)

// sameAs: whether a limit lies further up is seen by one drill and not by another.
func sameAs(cause string, r *finding.Row) *finding.Row {
	r.Same = cause
	return r
}

func limited(cause string, k finding.Kind, title, means, advice string) *finding.Row {
	r := &finding.Row{Cause: cause, Kind: k, Title: title, Means: means, Advice: advice,
		OWASP: finding.API8, CWE: 755}
	if k == finding.Unthrottled {
		r.OWASP, r.CWE = finding.API4, 770 // allocation of resources without limits or throttling
	}
	return r
}
