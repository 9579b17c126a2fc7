package answers

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// unchallenged is how a 401 of a route departs from what is declared of its challenges: it must bear at least one of a
// scheme that the route accepts, where these say theirs (RFC 9110, section 11.6.1).
func unchallenged(a check.Answer, d *declaration.Document, i int) (s Slip, ok bool) {
	if a.Status != 401 || access.Decide(d, i, access.Nobody(d, i)).Subject != "credential" {
		return s, false // it asks for none
	}
	has := func(list []string, name string) bool {
		return slices.ContainsFunc(list, func(x string) bool { return strings.EqualFold(x, name) })
	}
	var want []string
	got := challenges(a)
	for _, scheme := range d.Accepted(d.Entry(i)) {
		switch name := scheme.Challenge; {
		case name == "" || has(want, name):
		case has(got, name):
			return s, false
		default:
			want = append(want, name)
		}
	}
	if len(want) == 0 {
		return s, false
	}
	one := strings.Join(want, " or ")
	why := "it bears none"
	if len(got) > 0 {
		why = "it bears " + strings.Join(got, ", ")
	}
	return Slip{finding.WrongRefusal, "challenge " + one, fmt.Sprintf("a 401 must bear a challenge of %s "+
		"(WWW-Authenticate), %s", one, why)}, true
}

// challenges are the schemes of an answer's challenges, as they are written there (RFC 9110, section 11.6.1). Where a
// field cannot be read to its end, they are those before that.
func challenges(a check.Answer) (out []string) {
	for _, value := range a.Headers.All("WWW-Authenticate") {
		for _, item := range listed(value) {
			name, rest, more := strings.Cut(item, " ")
			switch rest = strings.TrimLeft(rest, " \t"); {
			case !declaration.IsToken(name): // a parameter without a space, as a=b
			case more && strings.HasPrefix(rest, "="): // or with one
			default:
				out = append(out, name)
			}
		}
	}
	return out
}

// listed are the members of a list, split at commas that are not quoted (RFC 9110, section 5.6.1).
func listed(text string) (out []string) {
	quoted, escaped, from := false, false, 0
	put := func(to int) {
		if item := strings.Trim(text[from:to], " \t"); item != "" {
			out = append(out, strings.ReplaceAll(item, "\t", " "))
		}
	}
	for i := range len(text) {
		switch c := text[i]; {
		case escaped:
			escaped = false
		case quoted && c == '\\':
			escaped = true
		case c == '"':
			quoted = !quoted
		case c == ',' && !quoted:
			put(i)
			from = i + 1
		}
	}
	if !quoted {
		put(len(text))
	}
	return out
}
