package tokens

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/token"
)

// MintQuery asks for a test token.
type MintQuery struct {
	Identity, Scheme, Target string
	Key                      string // a private JWK, PEM, or a secret for HMAC; never stored
	Life                     time.Duration
	Set                      map[string]any // claims that are set beside; nil takes one away
}

// MintToken makes a test token for an identity with the key that the user
// gives.
func (tk *Tokens) MintToken(q MintQuery) (string, error) {
	d, t, err := tk.lookAt(q.Target)
	if err != nil {
		return "", err
	}
	id := d.IdentityNamed(q.Identity)
	if id == nil {
		return "", fmt.Errorf("%w: there is no identity %q", fault.ErrNotFound, q.Identity)
	}
	s := d.SchemeNamed(q.Scheme)
	for _, c := range id.Credentials {
		if s == nil && q.Scheme == "" {
			if x := d.SchemeNamed(c.Scheme.Name); x != nil && x.Kind == declaration.Bearer && x.Token == "jwt" {
				s = x
			}
		}
	}
	if s == nil || s.Kind != declaration.Bearer || s.Token != "jwt" {
		return "", fmt.Errorf("%w: %s has no scheme with signed tokens", fault.ErrInput, q.Identity)
	}
	k, err := token.ReadSigningKey([]byte(q.Key), s.Algorithms)
	if err != nil {
		return "", fmt.Errorf("%w: %w", fault.ErrInput, err)
	}
	if q.Life == 0 {
		q.Life = 5 * time.Minute
		if l := d.LifetimeNamed(s.Lifetime["access"].Name); l != nil && l.Max > 0 {
			q.Life = l.Max
		}
	}
	var values map[string]string
	if t != nil {
		values = t.Values
	}
	sub := id.Name
	for _, c := range id.Credentials {
		for _, n := range []string{"username", "client_id"} {
			if v := c.Fill[n]; c.Scheme.Name == s.Name && v.Literal != "" {
				sub = v.Literal
			}
		}
	}
	b := make([]byte, 12)
	_, _ = rand.Read(b) // crypto/rand never fails
	claims := token.StandardClaims(token.FillValues(s.Issuer, values), sub, token.FillValues(s.Audience, values),
		"test-"+hex.EncodeToString(b), time.Now(), q.Life)
	for what, at := range s.Claims {
		name, rest, ok := at.Cut()
		if !ok || rest != "" {
			continue
		}
		switch what {
		case "roles":
			roles := []string{}
			for _, r := range id.Roles {
				roles = append(roles, r.Name)
			}
			claims[name] = roles
		case "scopes":
			if len(id.Scopes) > 0 {
				claims[name] = strings.Join(id.Scopes, " ")
			}
		default:
			if v, ok := id.Attributes[what]; ok {
				claims[name] = v
			}
		}
	}
	for n, v := range q.Set {
		if v == nil {
			delete(claims, n)
		} else {
			claims[n] = v
		}
	}
	return k.Mint(rand.Reader, "at+jwt", claims)
}
