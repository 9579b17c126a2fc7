package token

import (
	"encoding/json"
	"slices"

	"millgate/core/access"
	"millgate/core/declaration"
)

// SchemeOf finds the bearer scheme that a token belongs to: the one of its
// issuer and audience, of its issuer, or the only one of its form; nil when
// none fits. Where several are behind one lock, the one that the token's
// subject has a credential of comes first.
func SchemeOf(d *declaration.Document, t *Token, values map[string]string) *declaration.Scheme {
	var few [5]string
	return schemeOf(d, t, values, holder(d, subject(t, few[:0])))
}

func schemeOf(d *declaration.Document, t *Token, values map[string]string,
	id *declaration.Identity) *declaration.Scheme {
	if d == nil {
		return nil
	}
	iss, _ := t.Claims.String("iss")
	var few [2]string
	aud := t.Claims.Get("aud").strings(few[:0], false)
	var best *declaration.Scheme
	points := 0
	for _, s := range d.Schemes {
		if s.Kind != declaration.Bearer || (s.Token == "jwt") != (t.Kind == Signed) {
			continue
		}
		p := 1
		if s.Issuer != "" && FillValues(s.Issuer, values) == iss {
			p += 4
		}
		if s.Audience != "" && slices.Contains(aud, FillValues(s.Audience, values)) {
			p += 2
		}
		if id != nil && id.Credential(s.Name) != nil {
			p += 2
		}
		if p > points {
			best, points = s, p
		}
	}
	return best
}

// subject is whom a token names: the first of these claims that is a text.
func subject(t *Token, out []string) []string {
	for _, c := range []string{"sub", "username", "preferred_username", "client_id", "azp"} {
		if s, ok := t.Claims.String(c); ok {
			out = append(out, s)
		}
	}
	return out
}

// Subject is how a token names its holder, "" without.
func Subject(t *Token) string {
	var few [5]string
	return first(subject(t, few[:0]))
}

func first(list []string) string {
	if len(list) > 0 {
		return list[0]
	}
	return ""
}

// Holder is the declared identity that a token names, by the identity's name
// or by a value that is written in one of its credentials; nil without.
func Holder(d *declaration.Document, t *Token) *declaration.Identity {
	var few [5]string
	return holder(d, subject(t, few[:0]))
}

func holder(d *declaration.Document, names []string) *declaration.Identity {
	if d == nil {
		return nil
	}
	for _, n := range names {
		if id := d.IdentityNamed(n); id != nil {
			return id
		}
	}
	for _, n := range names {
		for _, id := range d.Identities {
			for _, c := range id.Credentials {
				for _, v := range c.Fill {
					if !v.Secret() && v.Literal == n && n != "" {
						return id
					}
				}
			}
		}
	}
	return nil
}

// Opens is what a token opens at one route.
type Opens struct {
	access.Reached
	Granted bool `json:"granted"` // the declaration grants it to the holder
	Public  bool `json:"public"`  // nobody needs a token there
}

// Reach says what the claims of a token open, were they believed: the routes
// that its roles, scopes and attributes admit to, beside what the declaration
// grants to its holder. Routes that it does not open are left out, unless they
// are granted.
func Reach(d *declaration.Document, s *declaration.Scheme, t *Token, holder *declaration.Identity) []Opens {
	if d == nil || s == nil {
		return nil
	}
	id := &declaration.Identity{Name: Subject(t),
		Credentials: []declaration.Credential{{Scheme: declaration.Ref{Name: s.Name}}}, Attributes: map[string]any{}}
	if holder != nil {
		id.Name = holder.Name
		for k, v := range holder.Attributes {
			id.Attributes[k] = v
		}
	}
	said := map[string]bool{}
	for what, at := range s.Claims {
		m := t.at(at)
		if m == nil {
			continue
		}
		said[what] = true
		switch what {
		case "roles":
			for _, r := range m.Strings(true) {
				if d.RoleNamed(r) != nil {
					id.Roles = append(id.Roles, declaration.Ref{Name: r})
				}
			}
		case "scopes":
			id.Scopes = m.Strings(true)
		default:
			var v any
			if json.Unmarshal(m.Raw, &v) == nil {
				id.Attributes[what] = v
			}
		}
	}
	// What the token does not say, the service looks up.
	if holder != nil && !said["roles"] {
		id.Roles = holder.Roles
	}
	if holder != nil && !said["scopes"] {
		id.Scopes = holder.Scopes
	}
	if id.Name == "" {
		id.Name = "\x00token"
	}
	with := d.With(id)
	opened, err := access.ReachOf(with, id.Name)
	if err != nil { // the identity was just added
		return nil
	}
	public := map[string]bool{}
	if nobody, err := access.ReachOf(d, ""); err == nil {
		for _, r := range nobody {
			public[r.Route] = r.Admitted
		}
	}
	granted := map[string]bool{}
	if holder != nil {
		if list, err := access.ReachOf(d, holder.Name); err == nil {
			for _, r := range list {
				granted[r.Route] = r.Admitted
			}
		}
	}
	var out []Opens
	for _, r := range opened {
		if r.Admitted || granted[r.Route] {
			out = append(out, Opens{Reached: r, Granted: granted[r.Route], Public: public[r.Route]})
		}
	}
	return out
}
