package pages

import (
	"millgate/core/finding"
	"millgate/core/origin"
)

// cause begins the causes of this family.
const cause = "origin "

const (
	compareAdvice = "Compare the whole origin, scheme and port with it, with a list of permitted ones; permit " +
		"nothing where it is not among them."
	moreAdvice   = "Permit what the declaration names and nothing more, or declare it."
	attachAdvice = "Attach the policy where the page calls, in front of the guard: a preflight has no credential. Or " +
		"take the permission out of the declaration."
)

// rows are those of pages of other origins: what careless comparison lets a page
// pass, or what one that is declared may do otherwise than declared.
var rows = []*finding.Row{
	passes(origin.Unrelated, "Pages of any origin are permitted", "The answer names whatever origin asks, so that "+
		"any page can read "+
		"it."),
	passes("containing", "Pages whose origin contains a declared name are permitted",
		"Anybody can own a domain that contains a name."),
	passes(origin.Beginning, "Pages whose origin begins like a declared one are permitted",
		"Anybody can own a domain that begins like "+
			"the declared one."),
	passes(origin.Ending, "Pages whose name ends like a declared one are permitted",
		"Anybody can own a domain that ends like the "+
			"declared one, where no dot is asked for before it."),
	passes(origin.Subdomain, "Pages of other names under the same domain are permitted",
		"One forgotten name under the domain is "+
			"enough to read answers."),
	passes(origin.PlainHTTP, "Pages over plain http are permitted", "Whoever can change traffic on the way can put a "+
		"script on such a "+
		"page."),
	passes(origin.OtherPort, "Pages on another port are permitted", "Another service on that host is another origin."),
	null(passes(origin.NullPage, "The origin null is permitted", "A sandboxed frame of any page has the origin null.")),
	slight(passes(origin.FinalDot, "A name with a final dot is permitted",
		"It is the same name in DNS and another origin.")),
	passes(origin.UpperCase, "A name in upper case is permitted", "No browser sends such an origin; the comparison "+
		"is loose."),
	declared(origin.JOrigin, finding.OverPermissive, "A page may do more than declared",
		"A declared page reads or writes more than "+
			"was meant.", compareAdvice),
	declared(origin.JMethod, finding.OverPermissive, "A page may use a method that is not declared for it",
		"A declared page changes "+
			"what it should only read.", moreAdvice),
	declared(origin.JCredentials, finding.OverPermissive, "A page may call with the user's cookies",
		"A declared page acts as whoever "+
			"is signed in, where it was meant to read what is public.", moreAdvice),
	slight(declared(origin.JHeaders, finding.OverPermissive, "A page may send header fields that are not declared",
		"More is permitted "+
			"than anybody uses.", moreAdvice)),
	declared(origin.JMissing, finding.OverRestrictive, "A declared page is not permitted",
		"The page cannot call the route.",
		attachAdvice),
	declared(origin.JGuarded, finding.OverRestrictive, "The preflight asks for a credential",
		"A browser sends none with a preflight, so "+
			"the page cannot call the route.", attachAdvice),
	slight(declared(origin.JExpose, finding.OverRestrictive, "A page cannot read a declared header field",
		"The field is sent, and the "+
			"browser hides it.", "Name the field in Access-Control-Expose-Headers.")),
	slight(declared(origin.JVary, finding.OverRestrictive, "Answers for one page can be cached for another",
		"A cache gives the answer "+
			"that names one page to another, which cannot read it.",
		"Send Vary: Origin on every answer of the route, also where no page is permitted.")),
	slight(declared(origin.JRefusal, finding.OverRestrictive, "A page cannot read why it was refused",
		"The page sees a network error in "+
			"place of a 401 or 403.", "Write the permission before the guard decides, so that refusals carry it too.")),
}

const fetchStandard = "Fetch standard, CORS protocol"

// passes is a row of hostile pages that one comparison lets pass.
func passes(kind, title, means string) *finding.Row {
	return &finding.Row{Cause: cause + kind, Kind: finding.OverPermissive, Title: title, Means: means,
		Advice: compareAdvice, Led: true,
		OWASP: finding.API8, CWE: 942, Standard: fetchStandard} // permissive cross-domain policy
}

func null(r *finding.Row) *finding.Row {
	r.Advice = "Never permit null: a sandboxed frame of any page has it."
	return r
}

// declared is a row of what a page may do; its cause ends with the page.
func declared(id string, k finding.Kind, title, means, advice string) *finding.Row {
	r := &finding.Row{Cause: cause + id + " ", Kind: k, Title: title, Means: means, Advice: advice,
		OWASP: finding.API8, CWE: 942, Standard: fetchStandard, Led: true}
	if k == finding.OverRestrictive {
		r.CWE = 755
	}
	return r
}

func slight(r *finding.Row) *finding.Row { r.Severity = finding.Low; return r }
