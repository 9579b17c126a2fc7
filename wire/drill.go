package wire

import (
	"context"
	"fmt"

	"millgate/core/declaration"
	"millgate/core/mask"
)

// Introspect asks the issuer of a scheme's tokens about one (RFC 7662). The
// answer is not masked.
func (k *Keyring) Introspect(ctx context.Context, s *declaration.Scheme, token string) ([]byte, error) {
	o, err := k.introspection(s, token)
	if err != nil {
		return nil, err
	}
	k.client.mask.Learn(mask.Token, token)
	r, err := k.patient(ctx, o)
	switch {
	case err != nil:
		return nil, err
	case r.Status == 0:
		return nil, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
	case r.Status != 200:
		return nil, fmt.Errorf("the issuer answered %d when it was asked about the token", r.Status)
	}
	return r.content, nil
}

// introspection is the request that asks the issuer about a token.
func (k *Keyring) introspection(s *declaration.Scheme, token string) (Outgoing, error) {
	values := k.values(map[string]string{"token": token})
	if id := k.doc.IdentityNamed(s.IntrospectAs.Name); id != nil {
		for _, c := range id.Credentials {
			fill, err := k.fill(id.Name, c.Scheme.Name)
			if err != nil {
				return Outgoing{}, err
			}
			for n, v := range fill {
				values[n] = v
			}
		}
		values["token"] = token
	}
	return FillRequest(s.Introspect, values), nil
}
