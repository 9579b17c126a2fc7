package token

import "fmt"

// Introspect gives an opaque token what its issuer says about it (RFC 7662
// section 2.2): the members of the answer become its claims, and Judge holds
// them against the declaration. The error says why the answer cannot be read.
func (t *Token) Introspect(answer []byte) error {
	if t.Kind != Opaque {
		return fmt.Errorf("only an opaque token is judged by what its issuer says")
	}
	o, why, _ := parseObject(answer)
	if why != "" || !o.OK {
		return fmt.Errorf("the issuer's answer is no JSON object: %s", why)
	}
	if m := o.Get("active"); m == nil || string(m.Raw) != "true" && string(m.Raw) != "false" {
		return fmt.Errorf("the issuer's answer does not say whether it is active (RFC 7662 section 2.2)")
	}
	t.Claims, t.Introspected = o, true
	return nil
}

// introspected judges what the issuer says. Apart from active everything is
// optional there, so what is absent is no fault.
func (j *judge) introspected() {
	t, s := j.t, j.c.Scheme
	if string(t.Claims.Get("active").Raw) != "true" {
		j.say("introspect-inactive", Claims, "/active")
		return
	}
	if iss := t.Claims.Get("iss"); iss != nil && s != nil && s.Issuer != "" {
		if v, want := iss.plain(), FillValues(s.Issuer, j.c.Values); v != want {
			j.say("iss-other", Claims, "/iss", v, want)
		}
	}
	if aud := t.Claims.Get("aud"); aud != nil && s != nil && s.Audience != "" {
		j.audience(aud)
	}
	j.dates()
	j.rights()
}
