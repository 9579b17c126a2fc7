package token

import (
	"fmt"
	"strconv"
	"strings"

	"millgate/core/pointer"
)

// plainly writes an attribute's value as it stands in JSON.
func plainly(v any) string {
	switch v := v.(type) {
	case bool:
		return strconv.FormatBool(v)
	case string:
		return v
	}
	return fmt.Sprint(v)
}

// at finds what a JSON Pointer names among the claims.
func (t *Token) at(p pointer.JSON) (m *Member) {
	o := &t.Claims
	for name, rest, more := p.Cut(); more; name, rest, more = rest.Cut() {
		if m = o.Get(name); m == nil || rest == "" {
			return m
		}
		inner, why, _ := parseObject(m.Raw)
		if why != "" {
			return nil
		}
		o = &inner
	}
	return m
}

func (m *Member) plain() string {
	if s, ok := m.String(); ok {
		return s
	}
	return string(m.Raw)
}

// personal are claims that name a person (OpenID Connect Core section 5.1),
// and common ones beside.
var personal = map[string]string{
	"email": "an e-mail address", "phone_number": "a telephone number", "phone": "a telephone number",
	"mobile": "a telephone number",
	"name":   "a name", "given_name": "a name", "family_name": "a name", "birthdate": "a date of birth",
	"birthday": "a date of birth",
	"address":  "an address", "gender": "a gender", "picture": "a picture", "ssn": "a social security number",
	"national_id": "an identity number",
}

func (j *judge) contents() {
	if !j.t.Claims.OK {
		return
	}
	for i := range j.t.Claims.Members {
		m := &j.t.Claims.Members[i]
		if what, ok := personal[m.Name]; ok && string(m.Raw) != "null" && string(m.Raw) != `""` {
			j.say("personal-data", Claims, pointer.JSON("").Member(m.Name), what+" ("+m.Name+")")
			continue
		}
		what := ""
		if j.t.shown != nil {
			what = j.t.shown.Inside[m.Name]
		} else {
			what = secretIn(m)
		}
		if what != "" {
			j.say("secret-inside", Claims, pointer.JSON("").Member(m.Name), what)
		}
	}
}

func secretIn(m *Member) string {
	if len(m.Raw) < 8 || m.Raw[0] != '"' {
		return ""
	}
	n := m.Name
	if len(n) >= 4 {
		n = strings.ToLower(n)
		for _, w := range []string{"password", "passwd", "secret", "private_key", "api_key", "apikey", "refresh_token",
			"access_token"} {
			if strings.Contains(n, w) {
				return m.Name
			}
		}
	}
	s := string(m.Raw[1:])
	if strings.HasPrefix(s, "-----BEGIN ") && strings.Contains(s, "PRIVATE KEY") {
		return "a private key in " + m.Name
	}
	if strings.HasPrefix(s, "eyJ") && strings.Count(s, ".") >= 2 {
		return "another token in " + m.Name
	}
	return ""
}
