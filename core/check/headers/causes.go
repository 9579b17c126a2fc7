package headers

import "millgate/core/finding"

// cause begins the causes of this family.
const cause = "headers "

// Causes are those of what answers say to browsers and caches.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "headers", Title: "What answers protect from",
		Shown: "The control of the route was sent once more, and the fields of its answer were read as their standards " +
			"say.",
		Refuted: "An answer that does not admit; what is no page, shows nobody's data or has no credential in its address; " +
			"a field in another form that browsers heed as well.",
		Rows: rows}
}

var rows = []*finding.Row{
	led(row("frames", finding.OverPermissive, finding.Medium, "A page may be shown within any other",
		"A page of somebody else can lay itself over this one and have its buttons pressed.",
		"Send Content-Security-Policy: frame-ancestors 'none', or name the pages that may show it.", 1021,
		"CSP Level 3, section 6.4.2")),
	led(row("sniffing", finding.OverPermissive, finding.Low, "An answer may be taken for another type",
		"A browser may run as a script what was meant as data.",
		"Send X-Content-Type-Options: nosniff with every answer.",
		430, "Fetch standard, section 3.6")),
	row("caching", finding.Leaking, finding.Medium, "Somebody's data may be cached for others",
		"A cache on the way gives it to the next who asks.",
		"Send Cache-Control: no-store, or private, with what only who is "+
			"signed in may see.", 524, "RFC 9111, section 3.5"),
	row("keeping", finding.Leaking, finding.Low, "Somebody's data may be kept by the browser",
		"Whoever uses the browser next finds it there.",
		"Send Cache-Control: no-store, or private, with what only who is "+
			"signed in may see.", 525, "RFC 9111, section 5.2.2"),
	row("referrer", finding.Leaking, finding.Medium, "An address with a credential in it is handed on",
		"Whoever the page leads to can open what the credential opens.",
		"Send Referrer-Policy: no-referrer, and spend the "+
			"credential at its first use.", 598, "Referrer Policy, section 3"),
	row("unsaid referrer", finding.Leaking, finding.Low, "Nothing says that an address with a credential stays here",
		"Some browsers hand the whole address on.", "Send Referrer-Policy: no-referrer.", 598,
		"Referrer Policy, section 3"),
	row("transport", finding.OverPermissive, finding.Medium, "A browser may be brought to plain http",
		"Who sits on the network reads and changes what is sent before the first redirect.",
		"Send Strict-Transport-Security: max-age=31536000 with every answer.", 319, "RFC 6797, section 7.1"),
	led(row("resources", finding.OverPermissive, finding.Low, "Any page may load somebody's data as a resource",
		"Sizes, times and errors of what is loaded tell of it, and faults of the processor can tell all.",
		"Send Cross-Origin-Resource-Policy: same-origin with what cookies open.", 942, "Fetch standard, section 3.7")),
}

func row(id string, k finding.Kind, s finding.Severity, title, means, advice string, cwe int,
	standard string) *finding.Row {
	return &finding.Row{Cause: cause + id, Kind: k, Severity: s, Title: title, Means: means, Advice: advice,
		OWASP: finding.API8, CWE: cwe, Standard: standard}
}

// led is a row for which somebody must be led to a page first.
func led(r *finding.Row) *finding.Row { r.Led = true; return r }
