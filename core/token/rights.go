package token

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"millgate/core/pointer"
)

// Right is a claim that says what its holder may do. What a token says is for whoever decides: a service may look at
// something else.
type Right struct {
	At    pointer.JSON
	What  string // roles or scopes
	Names []string
}

// The names of claims that say it: RFC 9068 section 2.2.3 has roles, groups and entitlements, RFC 8693 section 4.2
// scope; the others are common.
var (
	roleClaims  = []string{"roles", "role", "groups", "entitlements"}
	scopeClaims = []string{"scope", "scp", "scopes", "permissions"}
)

// Rights are the claims of a token that name roles or scopes, those that stand higher first.
func (t *Token) Rights() (out []Right) {
	if !t.Claims.OK {
		return nil
	}
	level := []Member{{Raw: t.Claims.Text}}
	at := []pointer.JSON{""}
	const deepest = 4
	for range deepest {
		var next []Member
		var under []pointer.JSON
		for i := range level {
			o, why, _ := parseObject(level[i].Raw)
			if why != "" {
				continue
			}
			for _, m := range o.Members {
				here := at[i].Member(m.Name)
				if names := rightsAt(m.Raw, m.Name); names != nil {
					out = append(out, Right{At: here, What: rightOf(m.Name), Names: names})
				}
				next, under = append(next, m), append(under, here)
			}
		}
		level, at = next, under
	}
	return out
}

// rightOf says what a claim of a name is of; "" of neither.
func rightOf(name string) string {
	switch name = strings.ToLower(name); {
	case slices.Contains(roleClaims, name):
		return "roles"
	case slices.Contains(scopeClaims, name):
		return "scopes"
	}
	return ""
}

var rightName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.:/-]{0,60}$`)

// rightsAt are the roles or scopes that a claim names; nil where it names none, or something beside them.
func rightsAt(raw json.RawMessage, name string) []string {
	if rightOf(name) == "" || len(raw) == 0 || raw[0] != '"' && raw[0] != '[' {
		return nil
	}
	names := (&Member{Raw: raw}).Strings(true)
	var whole []any
	if raw[0] == '[' && (json.Unmarshal(raw, &whole) != nil || len(whole) != len(names)) {
		return nil
	}
	if len(names) == 0 || slices.ContainsFunc(names, func(n string) bool { return !rightName.MatchString(n) }) {
		return nil
	}
	return names
}
