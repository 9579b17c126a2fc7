package byexample

import (
	"encoding/json"
	"regexp"
	"strings"

	"millgate/core/token"
)

var plainName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.:-]{0,40}$`)

// claimed are the roles and the scopes that a token says of its holder (RFC 9068 section 2.2.3; scope as in RFC 8693
// section 4.2). What a token says is for whoever decides: a service may look at something else.
func claimed(text string) (roles, scopes []string) {
	t := token.Decode(text)
	for _, n := range []string{"roles", "role", "groups"} {
		if roles = names(t.Claims.Get(n)); len(roles) > 0 {
			break
		}
	}
	for _, n := range []string{"scope", "scp", "scopes", "permissions"} {
		if scopes = names(t.Claims.Get(n)); len(scopes) > 0 {
			break
		}
	}
	return roles, scopes
}

// names are those of a claim: a list of texts, or one text with blanks between.
func names(m *token.Member) (out []string) {
	if m == nil {
		return nil
	}
	var list []string
	var one string
	if json.Unmarshal(m.Raw, &list) != nil {
		if json.Unmarshal(m.Raw, &one) != nil {
			return nil
		}
		list = strings.Fields(one)
	}
	for _, n := range list {
		if plainName.MatchString(n) {
			out = append(out, n)
		}
	}
	return out
}
