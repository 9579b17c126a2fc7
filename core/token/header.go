package token

// Rule: What stands in the header of a token.

import (
	"slices"
	"strings"

	"millgate/core/pointer"
)

// accessTypes are the header's typ of an access token (RFC 9068 section 2.1),
// and the general one.
var accessTypes = []string{"at+jwt", "application/at+jwt", "jwt"}

func (j *judge) header() {
	h := &j.t.Header
	if !h.OK {
		return
	}
	j.algorithm()
	j.typ()
	for i := range h.Members {
		m := &h.Members[i]
		switch m.Name {
		case "typ", "cty", "alg", "kid", "jku", "x5u", "x5t", "x5t#S256":
			if _, ok := m.String(); !ok {
				j.say("header-type", Header, pointer.JSON("").Member(m.Name), m.Name, m.kind(), "a text")
				continue
			}
		}
		switch m.Name {
		case "crit":
			j.crit(m)
		case "b64":
			j.b64(m)
		case "jwk", "x5c":
			j.say("key-in-header", Header, pointer.JSON("").Member(m.Name), m.Name)
		case "jku", "x5u":
			s, _ := m.String()
			j.say("key-address", Header, pointer.JSON("").Member(m.Name), m.Name, s)
		case "kid":
			if s, _ := m.String(); leads(s) && !j.known(s) {
				j.say("key-id-path", Header, "/kid", s)
			}
		}
	}
}

// algorithm judges alg, where that is a text.
func (j *judge) algorithm() {
	alg := j.t.Algorithm()
	m := j.t.Header.Get("alg")
	if m != nil {
		if _, ok := m.String(); !ok {
			return
		}
	}
	switch {
	case alg == "":
		j.say("alg-missing", Header, "")
	case unsigned(alg):
		j.say("alg-none", Header, "/alg", alg)
	case !Known(alg) && !slices.Contains(unverified, alg):
		j.say("alg-unknown", Header, "/alg", alg)
	case j.c.Scheme != nil && j.c.Scheme.Algorithms != nil && !accepted(j.c.Scheme.Algorithms, alg):
		j.say("alg-undeclared", Header, "/alg", alg, orNone(j.c.Scheme.Algorithms))
	case !Known(alg):
		j.say("alg-unchecked", Header, "/alg", alg)
	}
}

// unsigned says whether an alg is none, in any spelling that a lenient reader takes for it.
func unsigned(alg string) bool { return strings.EqualFold(strings.TrimSpace(alg), "none") }

// typ judges the header's typ: against the declared one, or as that of an access token.
func (j *judge) typ() {
	m := j.t.Header.Get("typ")
	want := ""
	if j.c.Scheme != nil && !j.c.Refresh {
		want = j.c.Scheme.Typ
	}
	if m == nil {
		if want != "" {
			j.say("typ-undeclared", Header, "", "missing", want)
		} else {
			j.say("typ-missing", Header, "")
		}
		return
	}
	typ, ok := m.String()
	switch {
	case !ok || j.c.Refresh:
	case want != "" && !sameType(typ, want):
		j.say("typ-undeclared", Header, "/typ", typ, want)
	case want == "" && !isAccessType(typ):
		j.say("typ-other", Header, "/typ", typ)
	}
}

// sameType compares media types, of which "application/" may be left out (RFC 7515 section 4.1.9).
func sameType(a, b string) bool {
	const long = "application/"
	return strings.EqualFold(strings.TrimPrefix(strings.ToLower(a), long), strings.TrimPrefix(strings.ToLower(b), long))
}

// standard are header parameters that crit must not name, since everybody has to know them (RFC
// 7515 section 4.1.11).
var standard = []string{"alg", "jku", "jwk", "kid", "x5u", "x5c", "x5t", "x5t#S256", "typ", "cty", "crit"}

// crit judges which extensions must be understood. b64 is: a JWT has no other than its default.
func (j *judge) crit(m *Member) {
	names := m.Strings(false)
	switch {
	case m.kind() != "a list":
		j.say("crit-form", Header, "/crit", "is "+m.kind()+"; it must be a list")
		return
	case len(names) == 0:
		j.say("crit-form", Header, "/crit", "names nothing")
		return
	}
	var unknown []string
	for _, n := range names {
		switch {
		case slices.Contains(standard, n):
			j.say("crit-form", Header, "/crit", "names "+n+", which is no extension")
		case j.t.Header.Get(n) == nil:
			j.say("crit-form", Header, "/crit", "names "+n+", which the header does not have")
		case n != "b64":
			unknown = append(unknown, n)
		}
	}
	if len(unknown) > 0 {
		j.say("crit-unknown", Header, "/crit", strings.Join(unknown, ", "))
	}
}

func (j *judge) b64(m *Member) {
	switch {
	case string(m.Raw) == "true":
	case string(m.Raw) != "false":
		j.say("header-type", Header, "/b64", "b64", m.kind(), "true or false")
	case !slices.Contains(j.t.Header.Get("crit").Strings(false), "b64"):
		j.say("b64-form", Header, "/b64", "false without crit, so that some readers pass over it")
	default:
		j.say("b64-form", Header, "/b64", "false")
	}
}

// leads says whether a key id could lead a careless lookup elsewhere. A slash within is common: ids are
// addresses, or base64.
func leads(kid string) bool {
	return strings.ContainsAny(kid, "\\'\";|`<> \x00") || strings.Contains(kid, "..") || strings.Contains(kid, "--") ||
		strings.Contains(kid, "$(") || strings.HasPrefix(kid, "/")
}

// known says whether the set has a key id.
func (j *judge) known(kid string) bool {
	if j.t.shown != nil {
		return j.t.shown.Signature.Named
	}
	return j.c.Keys.has(kid)
}

func isAccessType(typ string) bool {
	for _, a := range accessTypes {
		if strings.EqualFold(typ, a) {
			return true
		}
	}
	return false
}
