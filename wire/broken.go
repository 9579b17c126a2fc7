package wire

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/token"
)

// ErrWay says that a credential cannot be broken in a way here, and why.
var ErrWay = errors.New("not tried")

// Breaking makes broken credentials out of sound ones.
type Breaking struct {
	keys *Keyring
	mu   sync.Mutex
	made map[string]*token.Breaker // by scheme
	sign map[string]*token.SigningKey
}

// NewBreaking makes one for a sweep. public gives the public keys of a scheme.
func NewBreaking(k *Keyring) *Breaking {
	return &Breaking{keys: k, made: map[string]*token.Breaker{}, sign: map[string]*token.SigningKey{}}
}

// broken makes a variant; the keys that it needs are made once for a scheme.
func (b *Breaking) broken(s *declaration.Scheme, t *token.Token, way string, public func() token.Keys, role string) (string, error) {
	set := public().Set
	b.mu.Lock()
	defer b.mu.Unlock()
	x := b.made[s.Name]
	if x == nil {
		x = &token.Breaker{Rand: rand.Reader, Public: set, Claim: s.Claims["roles"], Nowhere: "http://127.0.0.1:9/keys.json"}
		b.made[s.Name] = x
	}
	x.Role = role
	value, err := x.Break(t, token.Variant(way))
	if err != nil {
		return "", fmt.Errorf("%w: %v", ErrWay, err)
	}
	return value, nil
}

func (b *Breaking) signer(s *declaration.Scheme) (*token.SigningKey, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if k := b.sign[s.Name]; k != nil {
		return k, nil
	}
	v, err := b.keys.secret(s.SigningKey)
	if err != nil {
		return nil, fmt.Errorf("%w: the signing key: %v", ErrWay, err)
	}
	k, err := token.ReadSigningKey([]byte(v), s.Algorithms)
	if err != nil {
		return nil, fmt.Errorf("%w: the signing key: %v", ErrWay, err)
	}
	b.sign[s.Name] = k
	return k, nil
}

// Present adds a credential of a scheme that is broken in a way, made out of
// the donor's sound one.
func (b *Breaking) Present(ctx context.Context, o *Outgoing, s *declaration.Scheme, donor, way string, public func() token.Keys, role string) error {
	k := b.keys
	add := func(value string) error {
		if value != "" {
			k.client.mask.Learn(value)
		}
		attach(o, s, value)
		return nil
	}
	switch way {
	case probe.NoToken:
		return add("not-a-token")
	case probe.Empty:
		if s.Kind == declaration.Bearer {
			o.Headers = append(o.Headers, [2]string{"Authorization", "Bearer "})
			return nil
		}
		return add("")
	case probe.OtherScheme:
		return b.other(ctx, s, donor, add)
	case probe.OtherKind, probe.Ended:
		return b.session(ctx, s, donor, way, add)
	}
	if s.Kind == declaration.APIKey {
		return b.key(o, s, donor, way, add)
	}
	tok, _, err := k.Token(ctx, donor, s.Name)
	if err != nil {
		return err
	}
	t := token.Decode(tok)
	switch way {
	case probe.Expired, probe.NotYet, probe.OtherAud, probe.OtherIss:
		value, err := b.resigned(s, t, way)
		if err != nil {
			return err
		}
		return add(value)
	}
	value, err := b.broken(s, t, way, public, role)
	if err != nil {
		return err
	}
	return add(value)
}

// resigned is the token with one claim wrong and a sound signature. A second
// one with nothing wrong would be admitted: the key is the issuer's.
func (b *Breaking) resigned(s *declaration.Scheme, t *token.Token, way string) (string, error) {
	key, err := b.signer(s)
	if err != nil {
		return "", err
	}
	now := b.keys.now()
	set := map[string]any{}
	switch way {
	case probe.Expired:
		set["iat"], set["nbf"], set["exp"] = now.Add(-2*time.Hour).Unix(), now.Add(-2*time.Hour).Unix(), now.Add(-time.Hour).Unix()
	case probe.NotYet:
		set["nbf"], set["exp"] = now.Add(time.Hour).Unix(), now.Add(2*time.Hour).Unix()
	case probe.OtherAud:
		set["aud"] = "another-service"
	case probe.OtherIss:
		set["iss"] = "https://issuer.invalid"
	}
	value, err := key.Again(rand.Reader, t, set)
	if err != nil {
		return "", fmt.Errorf("%w: %v", ErrWay, err)
	}
	return value, nil
}

// session opens one for this probe alone: its refresh token, or its access
// token after it was logged out.
func (b *Breaking) session(ctx context.Context, s *declaration.Scheme, donor, way string, add func(string) error) error {
	k := b.keys
	fill, err := k.fill(donor, s.Name)
	if err != nil {
		return err
	}
	access, refresh, _, err := k.obtain(ctx, s.Login, fill)
	if err != nil {
		return err
	}
	if way == probe.OtherKind {
		if refresh == "" {
			return fmt.Errorf("%w: the login gave no refresh token", ErrWay)
		}
		return add(refresh)
	}
	fill["access"], fill["refresh"] = access, refresh
	o := FillRequest(s.Logout, k.values(fill))
	if !strings.Contains(strings.Join(s.Logout.Placeholders(), " "), "refresh") {
		attach(&o, s, access)
	}
	r, err := k.client.send(ctx, o)
	switch {
	case err != nil:
		return err
	case r.Status == 0 || r.Status >= 300:
		return fmt.Errorf("%w: the logout was answered %d, so nothing is known about ended tokens", ErrWay, r.Status)
	}
	if d := k.doc.LifetimeNamed(s.Lifetime["access"].Name); d != nil && d.EndedWithin > 0 {
		if d.EndedWithin > time.Minute {
			return fmt.Errorf("%w: an ended token may work on for %s, which a sweep does not wait", ErrWay, token.Say(d.EndedWithin))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(d.EndedWithin):
		}
	}
	return add(access)
}

// other presents the value of another scheme's credential.
func (b *Breaking) other(ctx context.Context, s *declaration.Scheme, donor string, add func(string) error) error {
	id := b.keys.doc.IdentityNamed(donor)
	if id == nil {
		return fmt.Errorf("%w: there is no identity %q", ErrCredential, donor)
	}
	for _, c := range id.Credentials {
		o := b.keys.doc.SchemeNamed(c.Scheme.Name)
		if o == nil || !o.Probed() || o.SameLock(s) {
			continue
		}
		if o.Kind == declaration.APIKey {
			fill, err := b.keys.fill(donor, o.Name)
			if err != nil {
				return err
			}
			return add(fill["key"])
		}
		tok, _, err := b.keys.Token(ctx, donor, o.Name)
		if err != nil {
			return err
		}
		return add(tok)
	}
	return fmt.Errorf("%w: %s has no credential of another scheme", ErrWay, donor)
}

// key breaks an API key.
func (b *Breaking) key(o *Outgoing, s *declaration.Scheme, donor, way string, add func(string) error) error {
	fill, err := b.keys.fill(donor, s.Name)
	if err != nil {
		return err
	}
	v := fill["key"]
	switch way {
	case probe.KeyCase:
		if c := swapped(v); c != v {
			return add(c)
		}
		return fmt.Errorf("%w: the key has no letters", ErrWay)
	case probe.KeyPlace:
		b.keys.client.mask.Learn(v)
		if s.In == "query" {
			o.Headers = append(o.Headers, [2]string{s.Field, v})
			return nil
		}
		q := url.QueryEscape(s.Field) + "=" + url.QueryEscape(v)
		o.Query = strings.Join(slices.DeleteFunc([]string{o.Query, q}, func(x string) bool { return x == "" }), "&")
		return nil
	}
	return fmt.Errorf("%w: a key cannot be broken so", ErrWay)
}

func swapped(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 32
		case r >= 'A' && r <= 'Z':
			return r + 32
		}
		return r
	}, s)
}
