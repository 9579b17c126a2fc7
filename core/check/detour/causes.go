package detour

import (
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/finding"
)

// byWay says how a guard was stepped around.
var byWay = map[string]string{TrailingSlash: "by a trailing slash", DoubledSlash: "by a doubled slash",
	LetterCase: "by letter case", MethodOverride: "by a method override header",
	DotSegments: "by dot segments", PercentEncoded: "by percent-encoding",
	HeadMethod:    "by asking with HEAD",
	OptionsMethod: "by asking with OPTIONS", PastGateway: "past the gateway, at the direct address"}

// aSlash gathers a trailing and a doubled slash: one router takes both away.
const aSlash = "way a slash"

const (
	canonicalAdvice = "Let guard and router see the same path and method: normalise before the guard, or refuse what " +
		"is not canonical."
	methodAdvice = "Put the guard in front of every method that the handler serves."
)

var rows = []*finding.Row{
	detour(aSlash, "by a slash", "The router drops a trailing or a doubled slash, the guard compares the path with it.",
		canonicalAdvice, 288, ""),
	detour("way "+LetterCase, byWay[LetterCase], "The router compares paths without regard to letter "+
		"case, the guard "+
		"with it.", canonicalAdvice, 178, "RFC 3986 section 6.2.2.1"), // improper handling of case sensitivity
	detour("way "+MethodOverride, byWay[MethodOverride], "The service takes the method from a header "+
		"field, the guard "+
		"from the request.", canonicalAdvice, 288, ""),
	detour("way "+DotSegments, byWay[DotSegments], "The router removes dot segments, the guard compares "+
		"the path with "+
		"them.", canonicalAdvice, 288, "RFC 3986 section 5.2.4"),
	detour("way "+PercentEncoded, byWay[PercentEncoded], "The router decodes a letter of the path, the "+
		"guard compares "+
		"it encoded.", canonicalAdvice, 288, "RFC 3986 section 6.2.2.2"),
	detour("way "+HeadMethod, byWay[HeadMethod], "The handler serves HEAD, and the guard stands before "+
		"GET alone.",
		methodAdvice, 288, "RFC 9110 section 9.3.2"),
	detour("way "+OptionsMethod, byWay[OptionsMethod], "The handler answers OPTIONS with what GET shows, "+
		"and the guard "+
		"lets OPTIONS pass.", methodAdvice, 288, "RFC 9110 section 9.3.7"),
	detour("way "+PastGateway, byWay[PastGateway], "Only the gateway has the guard, and the service can "+
		"be reached "+
		"without it.", "Guard the service itself, or let nothing but the gateway reach it.", 288, ""),
}

func detour(cause, how, means, advice string, cwe int, standard string) *finding.Row {
	return &finding.Row{Cause: cause, Kind: finding.Unprotected, Title: "The guard is stepped around " + how,
		Means:  means,
		Advice: advice, OWASP: finding.API2, CWE: cwe, Standard: standard,
		PartOf: []string{"no guard", "credential absent"}} // there it is open anyway, whatever the way
}

// forRoles are the same faults where a caller with too small a role gets in.
var forRoles = func() (out []*finding.Row) {
	for _, r := range rows {
		x := *r
		x.Kind, x.OWASP, x.CWE = finding.OverPermissive, finding.API5, 863
		x.Title = strings.Replace(x.Title, "The guard", "The role check", 1)
		x.PartOf = append(slices.Clone(r.PartOf), "role", r.Cause) // without it, or nobody gets in so as well
		out = append(out, &x)
	}
	return out
}()

// rowOf is the cause of a probe's way, and how it stepped around the guard.
func rowOf(p *check.Probe) (*finding.Row, string) {
	cause := "way " + p.Of
	if p.Of == TrailingSlash || p.Of == DoubledSlash {
		cause = aSlash
	}
	list := rows
	if p.Caller.Identity != "" {
		list = forRoles
	}
	return finding.RowOf(list, cause), byWay[p.Of]
}
