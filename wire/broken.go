package wire

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/core/token"
)

// ErrWay says that a credential cannot be broken in a way here, and why.
var ErrWay = errors.New("not tried")

// Throttled is the error of a request that goes before another one and was answered
// 429: both are sent again, with a fresh signature.
type Throttled struct {
	Exchange check.Exchange
	raw      raw
}

func (t *Throttled) Error() string {
	return "the request that was to be repeated was answered 429"
}

// Breaking makes broken credentials out of sound ones.
type Breaking struct {
	keys *Keyring
	mu   sync.Mutex
	made map[string]*token.Breaker // by scheme
	sign map[signsWith]*token.SigningKey
}

// NewBreaking makes one for a sweep. public gives the public keys of a scheme.
func NewBreaking(k *Keyring) *Breaking {
	return &Breaking{keys: k, made: map[string]*token.Breaker{}, sign: map[signsWith]*token.SigningKey{}}
}

// broken makes a variant; the keys that it needs are made once for a scheme.
func (b *Breaking) broken(s *declaration.Scheme, t *token.Token, way string, public func() token.Keys,
	role string) (string, error) {
	set := public().Set
	b.mu.Lock()
	defer b.mu.Unlock()
	x := b.made[s.Name]
	if x == nil {
		x = &token.Breaker{Rand: rand.Reader, Public: set, Claim: string(s.Claims["roles"]),
			Nowhere: "http://127.0.0.1:9/keys.json"}
		b.made[s.Name] = x
	}
	x.Role = role
	value, err := x.Break(t, token.Variant(way))
	if err != nil {
		return "", fmt.Errorf("%w: %v", ErrWay, err)
	}
	return value, nil
}

func (b *Breaking) signer(s *declaration.Scheme, secret declaration.Value) (*token.SigningKey, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	at := signsWith{s.Name, secret}
	if k := b.sign[at]; k != nil {
		return k, nil
	}
	v, err := b.keys.secret(secret)
	if err != nil {
		return nil, fmt.Errorf("%w: the signing key: %v", ErrWay, err)
	}
	k, err := token.ReadSigningKey([]byte(v), s.Algorithms)
	if err != nil {
		return nil, fmt.Errorf("%w: the signing key: %v", ErrWay, err)
	}
	b.sign[at] = k
	return k, nil
}

// signsWith is a secret of a scheme, whose algorithms say what it is.
type signsWith struct {
	scheme string
	secret declaration.Value
}

// Broken says what is presented in place of a sound credential.
type Broken struct {
	Scheme               *declaration.Scheme
	Donor, Way           string
	Beside, BesideScheme string            // whose sound credential stands beside it
	Public               func() token.Keys // of the scheme
	Role                 string            // that a payload is raised to
	Off                  time.Duration     // as in check.Present
}

// Present adds a credential that is broken in a way, made out of the donor's
// sound one. The request must be complete: a signature covers it.
func (b *Breaking) Present(ctx context.Context, o *Outgoing, x Broken) error {
	k, s := b.keys, x.Scheme
	add := func(value string) error {
		if value != "" {
			k.client.mask.Learn(mask.Token, value)
		}
		attach(o, s, value)
		return nil
	}
	switch x.Way {
	case check.NoToken:
		if s.Kind == declaration.Link {
			return add(url.QueryEscape(s.Field) + "=not-a-signature")
		}
		return add("not-a-token")
	case check.Empty:
		if s.Kind == declaration.Bearer || s.Kind == declaration.Basic {
			o.Headers = append(o.Headers, [2]string{"Authorization", map[bool]string{true: "Bearer ",
				false: "Basic "}[s.Kind == declaration.Bearer]})
			return nil
		}
		return add("")
	case check.OtherScheme:
		return b.other(ctx, x, add)
	case check.OtherKind, check.Ended:
		return b.session(ctx, s, x.Donor, x.Way, add)
	case check.BesideFirst, check.BesideLast, check.BesideOther:
		return b.beside(ctx, o, x)
	case check.OtherBroken:
		if _, err := k.Present(ctx, o, x.Donor, s.Name); err != nil {
			return err
		}
		return k.PresentBroken(ctx, o, x.BesideScheme)
	case check.CrossSite:
		if _, err := k.Present(ctx, o, x.Donor, s.Name); err != nil {
			return err
		}
		o.Headers = append(o.Headers, [2]string{"Origin", "https://elsewhere.invalid"},
			[2]string{"Sec-Fetch-Site", "cross-site"})
		return nil
	}
	switch s.Kind {
	case declaration.APIKey:
		return b.key(o, s, x.Donor, x.Way, add)
	case declaration.Signature:
		return b.signature(ctx, o, x)
	case declaration.Link:
		return b.link(ctx, o, x)
	default:
	}
	tok, _, err := k.Token(ctx, x.Donor, s.Name)
	if err != nil {
		return err
	}
	t := token.Decode(tok)
	switch x.Way {
	case check.InQuery:
		addQuery(o, "access_token="+url.QueryEscape(tok))
		return nil
	case check.SchemeCase:
		o.Headers = append(o.Headers, [2]string{"Authorization", "bEARER " + tok})
		return nil
	case check.Expired, check.NotYet, check.OtherAud, check.OtherIss, check.OtherTyp, check.LacksClaim, check.TestsOnly:
		value, err := b.resigned(s, t, x)
		if err != nil {
			return err
		}
		return add(value)
	}
	value, err := b.broken(s, t, x.Way, x.Public, x.Role)
	if err != nil {
		return err
	}
	return add(value)
}

// beside presents a sound credential that may not enter beside a broken one of
// somebody who may.
func (b *Breaking) beside(ctx context.Context, o *Outgoing, x Broken) error {
	var sound, broken Outgoing
	if _, err := b.keys.Present(ctx, &sound, x.Beside, x.BesideScheme); err != nil {
		return err
	}
	if err := b.keys.PresentBroken(ctx, &broken, x.Scheme.Name); err != nil {
		return err
	}
	if x.Way == check.BesideLast {
		sound, broken = broken, sound
	}
	for _, c := range []Outgoing{sound, broken} {
		o.Headers = append(o.Headers, c.Headers...)
		addQuery(o, c.Query)
	}
	return nil
}

// signature breaks a request signature.
func (b *Breaking) signature(ctx context.Context, o *Outgoing, x Broken) error {
	fill, err := b.keys.fill(x.Donor, x.Scheme.Name)
	if err != nil {
		return err
	}
	secret, signing := fill["secret"], x.Scheme.Signing
	switch x.Way {
	case string(token.SignatureRemoved):
		if signing.Timestamp != "" {
			o.Headers = append(o.Headers, [2]string{signing.Timestamp, strconv.FormatInt(b.keys.now().Unix(), 10)})
		}
		return nil
	case check.OtherBody:
		if !strings.Contains(signing.Covers, "{body}") {
			return fmt.Errorf("%w: the signature does not cover the body", ErrWay)
		}
		other := *o
		other.Headers, other.Body = nil, append(slices.Clone(o.Body), ' ')
		if err := b.keys.sign(&other, x.Scheme, secret, time.Time{}); err != nil {
			return err
		}
		o.Headers = append(o.Headers, other.Headers...)
		return nil
	case check.OldTime:
		return b.keys.sign(o, x.Scheme, secret, b.keys.now().Add(-signing.Tolerance-2*time.Minute))
	case check.Repeated:
		if err := b.keys.sign(o, x.Scheme, secret, time.Time{}); err != nil {
			return err
		}
		return b.twice(ctx, *o)
	}
	return fmt.Errorf("%w: a signature cannot be broken so", ErrWay)
}

// link breaks a signed link.
func (b *Breaking) link(ctx context.Context, o *Outgoing, x Broken) error {
	k, s := b.keys, x.Scheme
	if x.Way == check.Expired {
		text := s.ExpiredLink.Literal
		var err error
		if s.ExpiredLink.Secret() {
			text, err = k.look(s.ExpiredLink) // only its signature is masked
		}
		if err != nil {
			return fmt.Errorf("%w: the expired link: %v", ErrWay, err)
		}
		a, err := k.address(s, text, "")
		if err != nil {
			return fmt.Errorf("%w: the expired link: %v", ErrWay, err)
		}
		if a.Elsewhere != "" {
			return fmt.Errorf("%w: the expired link: %v", ErrWay, a.outside())
		}
		o.Host, o.Path, o.Query = a.Host, a.Path, a.Query
		return nil
	}
	fill, err := k.fill(x.Donor, s.Name)
	if err != nil {
		return err
	}
	a, err := k.link(ctx, s, x.Donor, fill, o.Params)
	if err != nil {
		return err
	}
	switch x.Way {
	case string(token.SignatureRemoved):
		if k.sealedSegment(s, a) >= 0 {
			return fmt.Errorf("%w: the link's path cannot be without its %s", ErrWay, s.Field)
		}
		return k.follow(o, s, k.sealed(s, a, ""))
	case check.ChangedEnd:
		return k.follow(o, s, a.with(func(q url.Values) { q.Set(s.Expires, later(q.Get(s.Expires))) }))
	case check.Repeated:
		if err := k.follow(o, s, a); err != nil {
			return err
		}
		return b.twice(ctx, *o)
	}
	return k.follow(o, s, a)
}

// twice sends a request whose second time is what is looked at.
func (b *Breaking) twice(ctx context.Context, first Outgoing) error {
	first.Headers, first.Before = slices.Clone(first.Headers), nil
	r, err := b.keys.client.send(ctx, first)
	switch {
	case err != nil:
		return err
	case r.Status == 429:
		return &Throttled{b.keys.client.masked(r), r}
	case r.Status == 0 || r.Status >= 300:
		return fmt.Errorf("%w: the request that was to be repeated was answered %d", ErrWay, r.Status)
	}
	return nil
}

// later is a day behind the end that a link says, in the same writing.
func later(end string) string {
	if n, err := strconv.ParseInt(end, 10, 64); err == nil {
		return strconv.FormatInt(n+86400, 10)
	}
	if t, err := time.Parse(time.RFC3339, end); err == nil {
		return t.Add(24 * time.Hour).Format(time.RFC3339)
	}
	return end + "0"
}

// resigned is the token with one claim wrong and a sound signature. A second
// one with nothing wrong would be admitted: the key is the issuer's.
func (b *Breaking) resigned(s *declaration.Scheme, t *token.Token, x Broken) (string, error) {
	secret, id := s.SigningKey, ""
	if x.Way == check.TestsOnly {
		id = s.TestsOnly.KeyID
		if s.TestsOnly.SigningKey != (declaration.Value{}) {
			secret = s.TestsOnly.SigningKey
		}
	}
	key, err := b.signer(s, secret)
	if err != nil {
		return "", err
	}
	if id != "" {
		key = key.Named(id)
	}
	now, off := b.keys.now(), cmp.Or(x.Off, time.Hour)
	typ, set := "", map[string]any{}
	switch x.Way {
	case check.Expired:
		set["iat"], set["nbf"], set["exp"] = now.Add(-off-time.Hour).Unix(), now.Add(-off-time.Hour).Unix(),
			now.Add(-off).Unix()
	case check.NotYet:
		set["nbf"], set["exp"] = now.Add(off).Unix(), now.Add(off+time.Hour).Unix()
	case check.TestsOnly:
		if s.TestsOnly.Issuer != "" {
			set["iss"] = s.TestsOnly.Issuer
		}
	case check.OtherAud:
		set["aud"] = "another-service"
	case check.OtherIss:
		set["iss"] = "https://issuer.invalid"
	case check.OtherTyp:
		typ = "logout+jwt"
	case check.LacksClaim:
		i := slices.IndexFunc(s.Requires, func(n string) bool { return t.Claims.Get(n) != nil })
		if i < 0 {
			return "", fmt.Errorf("%w: the token has none of the claims that are required", ErrWay)
		}
		set[s.Requires[i]] = nil
	}
	value, err := key.Again(rand.Reader, t, typ, set)
	if err != nil {
		return "", fmt.Errorf("%w: %v", ErrWay, err)
	}
	return value, nil
}

// session opens one for this probe alone: its refresh token, or its access
// token after it was logged out.
func (b *Breaking) session(ctx context.Context, s *declaration.Scheme, donor, way string,
	add func(string) error) error {
	k := b.keys
	fill, err := k.fill(donor, s.Name)
	if err != nil {
		return err
	}
	g, err := k.obtain(ctx, s, s.Login, fill)
	if err != nil {
		return err
	}
	if way == check.OtherKind {
		if g.refresh == "" {
			return fmt.Errorf("%w: the login gave no refresh token", ErrWay)
		}
		return add(g.refresh)
	}
	r, err := k.client.send(ctx, k.logout(s, fill, g))
	switch {
	case err != nil:
		return err
	case r.Status == 0 || r.Status >= 300 && s.Kind != declaration.Cookie || r.Status >= 400:
		return fmt.Errorf("%w: the logout was answered %d, so nothing is known about ended credentials", ErrWay,
			r.Status)
	}
	if d := k.doc.LifetimeNamed(s.Lifetime["access"].Name); d != nil && d.EndedWithin > 0 {
		if d.EndedWithin > time.Minute {
			return fmt.Errorf("%w: an ended token may work on for %s, which a sweep does not wait", ErrWay,
				token.Say(d.EndedWithin))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(d.EndedWithin):
		}
	}
	return add(g.access)
}

// logout is the request that ends a session; it bears the access credential
// where its body does not name the session, or its route asks for one.
func (k *Keyring) logout(s *declaration.Scheme, fill map[string]string, g granted) Outgoing {
	values := k.values(fill)
	values["access"], values["refresh"] = g.access, g.refresh
	o := FillRequest(s.Logout, values)
	if !slices.Contains(s.Logout.Placeholders(), "refresh") || access.Guarded(k.doc, s.Logout) {
		attach(&o, s, g.access)
	}
	return o
}

// other presents the value of another scheme's credential.
func (b *Breaking) other(ctx context.Context, x Broken, add func(string) error) error {
	id := b.keys.doc.IdentityNamed(x.Donor)
	if id == nil {
		return fmt.Errorf("%w: there is no identity %q", ErrCredential, x.Donor)
	}
	for _, c := range id.Credentials {
		o := b.keys.doc.SchemeNamed(c.Scheme.Name)
		if o == nil || o.SameLock(x.Scheme) || !check.HasValue(o) {
			continue
		}
		value, _, err := b.keys.value(ctx, x.Donor, o)
		if err != nil {
			return err
		}
		return add(value)
	}
	return fmt.Errorf("%w: %s has no credential of another scheme", ErrWay, x.Donor)
}

// key breaks an API key.
func (b *Breaking) key(o *Outgoing, s *declaration.Scheme, donor, way string, add func(string) error) error {
	fill, err := b.keys.fill(donor, s.Name)
	if err != nil {
		return err
	}
	v := fill["key"]
	switch way {
	case check.KeyCase:
		if c := swapped(v); c != v {
			return add(c)
		}
		return fmt.Errorf("%w: the key has no letters", ErrWay)
	case check.KeyPlace:
		b.keys.client.mask.Learn(mask.Token, v)
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
