package token

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"millgate/core/pointer"

	"github.com/go-jose/go-jose/v4"
)

// Variant is a way in which a signed token can be broken. All of them must be
// refused.
type Variant string

const (
	Unsigned         Variant = "unsigned"          // alg none, no signature (RFC 8725 section 2.1)
	UnsignedCase     Variant = "unsigned, nOnE"    // nOnE: a list that forbids "none" exactly lets it pass
	SignatureRemoved Variant = "signature removed" // the header as it was
	Altered          Variant = "altered signature"
	Raised           Variant = "raised role"          // claims changed, the old signature
	ForeignKey       Variant = "foreign key"          // signed by a key that nobody knows, same algorithm
	PublicAsSecret   Variant = "public key as secret" // HMAC with the public key (RFC 8725 section 2.1)
	EmbeddedKey      Variant = "key in the header"    // jwk of the key that signed it
	KeyAddress       Variant = "key address"          // jku that leads nowhere
	KeyIDPath        Variant = "key id as a path"     // kid that leads to a file without content
)

// Variants in the order of the documentation.
var Variants = []Variant{Unsigned, UnsignedCase, SignatureRemoved, Altered, Raised, ForeignKey, PublicAsSecret,
	EmbeddedKey, KeyAddress, KeyIDPath}

// Breaker holds what variants are made with. The same Breaker gives the same
// variants.
type Breaker struct {
	Rand   io.Reader // for the foreign key and its signatures
	Public []jose.JSONWebKey
	Role   string // for Raised: the role to claim
	Claim  string // its JSON Pointer into the claims; one level
	// Nowhere is an address that nothing answers at, for KeyAddress.
	Nowhere string
	foreign map[string]crypto.Signer
}

// ErrVariant says that a variant cannot be made of this token, and why.
var ErrVariant = errors.New("cannot be made of this token")

func lost(why string) error { return fmt.Errorf("%w: %s", ErrVariant, why) }

// Break makes a variant of a sound token.
func (b *Breaker) Break(t *Token, v Variant) (string, error) {
	if t.Kind != Signed || !t.Header.OK || !t.Claims.OK {
		return "", lost("it is no signed JWT")
	}
	parts := strings.Split(t.Signed, ".")
	if len(parts) != 2 {
		return "", lost("it is no signed JWT")
	}
	alg := t.Algorithm()
	switch v {
	case Unsigned:
		return encode(t.Header.with("alg", "none")) + "." + parts[1] + ".", nil
	case UnsignedCase:
		return encode(t.Header.with("alg", "nOnE")) + "." + parts[1] + ".", nil
	case SignatureRemoved:
		return t.Signed + ".", nil
	case Altered:
		sig := slices.Clone(t.Signature)
		if len(sig) == 0 {
			return "", lost("it has no signature")
		}
		sig[len(sig)/2] ^= 0x55
		return t.Signed + "." + encode(sig), nil
	case Raised:
		name, rest, ok := pointer.JSON(b.Claim).Cut()
		if b.Role == "" || !ok || rest != "" {
			return "", lost("the declaration does not say which claim holds roles, or no role is higher")
		}
		var val any = []string{b.Role}
		if m := t.Claims.Get(name); m != nil {
			if _, isText := m.String(); isText {
				val = b.Role
			}
		}
		raised := t.Claims.with(name, val)
		if bytes.Equal(raised, t.Claims.Text) {
			return "", lost("it holds that role already")
		}
		return parts[0] + "." + encode(raised) + "." + encode(t.Signature), nil
	case ForeignKey:
		key, err := b.key(alg)
		if err != nil {
			return "", err
		}
		return b.sign(t.Signed, alg, key)
	case PublicAsSecret:
		secret, err := b.publicPEM(t)
		if err != nil {
			return "", err
		}
		signed := encode(t.Header.with("alg", "HS256")) + "." + parts[1]
		m := hmac.New(crypto.SHA256.New, secret)
		m.Write([]byte(signed))
		return signed + "." + encode(m.Sum(nil)), nil
	case EmbeddedKey:
		key, err := b.key(alg)
		if err != nil {
			return "", err
		}
		h := t.Header.without("kid").with("jwk", jose.JSONWebKey{Key: key.Public()})
		return b.sign(encode(h)+"."+parts[1], alg, key)
	case KeyAddress:
		key, err := b.key(alg)
		if err != nil {
			return "", err
		}
		if b.Nowhere == "" {
			return "", lost("there is no address to name")
		}
		return b.sign(encode(t.Header.with("jku", b.Nowhere))+"."+parts[1], alg, key)
	case KeyIDPath:
		// An empty file as the key: a verifier that reads kid as a path takes
		// an empty HMAC secret.
		h := t.Header.with("kid", "../../../../../../dev/null")
		h = asObject(h).with("alg", "HS256")
		signed := encode(h) + "." + parts[1]
		m := hmac.New(crypto.SHA256.New, []byte{})
		m.Write([]byte(signed))
		return signed + "." + encode(m.Sum(nil)), nil
	}
	return "", lost("there is no such variant")
}

func encode(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

func asObject(b []byte) *Object {
	o, _, _ := parseObject(b)
	return &o
}

// with gives the object's text with a member set, everything else as it
// stands.
func (o *Object) with(name string, value any) []byte {
	v, err := json.Marshal(value)
	if err != nil { // a value that cannot be written changes nothing
		return o.Text
	}
	k, _ := json.Marshal(name)
	member := append(append(k, ':'), v...)
	if m := o.Get(name); m != nil {
		return slices.Concat(o.Text[:m.Start], member, o.Text[m.End:])
	}
	if len(o.Members) == 0 {
		return slices.Concat([]byte("{"), member, []byte("}"))
	}
	end := o.Members[len(o.Members)-1].End
	return slices.Concat(o.Text[:end], []byte(","), member, o.Text[end:])
}

func (o *Object) without(name string) *Object {
	kept := []byte("{")
	for _, m := range o.Members {
		if m.Name == name {
			continue
		}
		if len(kept) > 1 {
			kept = append(kept, ',')
		}
		kept = append(kept, o.Text[m.Start:m.End]...)
	}
	return asObject(append(kept, '}'))
}

// key is the foreign key for an algorithm, made once.
func (b *Breaker) key(alg string) (crypto.Signer, error) {
	a, ok := algorithms[alg]
	if !ok {
		return nil, lost("its algorithm is not known")
	}
	id := string(a.kind) + fmt.Sprint(a.bytes)
	if k := b.foreign[id]; k != nil {
		return k, nil
	}
	var k crypto.Signer
	var err error
	switch a.kind {
	case 'R', 'P':
		k, err = rsa.GenerateKey(b.Rand, 2048)
	case 'E':
		k, err = ecdsa.GenerateKey(map[int]elliptic.Curve{32: elliptic.P256(), 48: elliptic.P384(),
			66: elliptic.P521()}[a.bytes], b.Rand)
	case 'D':
		_, k, err = ed25519.GenerateKey(b.Rand)
	default:
		secret := make([]byte, 64)
		_, err = io.ReadFull(b.Rand, secret)
		k = hmacKey(secret)
	}
	if err != nil {
		return nil, fmt.Errorf("making a foreign key: %w", err)
	}
	if b.foreign == nil {
		b.foreign = map[string]crypto.Signer{}
	}
	b.foreign[id] = k
	return k, nil
}

// hmacKey stands for a secret where a signer is asked for.
type hmacKey []byte

func (hmacKey) Public() crypto.PublicKey { return nil }
func (hmacKey) Sign(io.Reader, []byte, crypto.SignerOpts) ([]byte, error) {
	return nil, errors.New("an HMAC secret signs no digest")
}

func (b *Breaker) sign(signed, alg string, key crypto.Signer) (string, error) {
	sig, err := signature(b.Rand, signed, alg, key)
	if err != nil {
		return "", err
	}
	return signed + "." + encode(sig), nil
}

// signature as RFC 7518 section 3 and RFC 8037 section 3.1 ask for.
func signature(rand io.Reader, signed, alg string, key crypto.Signer) ([]byte, error) {
	a, ok := algorithms[alg]
	if !ok {
		return nil, fmt.Errorf("%w: %s", ErrAlgorithm, alg)
	}
	if secret, ok := key.(hmacKey); ok {
		if a.kind != 'H' {
			return nil, ErrUnfit
		}
		m := hmac.New(a.hash.New, secret)
		m.Write([]byte(signed))
		return m.Sum(nil), nil
	}
	if !a.fits(key.Public()) {
		return nil, ErrUnfit
	}
	if a.kind == 'D' {
		return key.Sign(rand, []byte(signed), crypto.Hash(0))
	}
	h := a.hash.New()
	h.Write([]byte(signed))
	sum := h.Sum(nil)
	switch a.kind {
	case 'R':
		return key.Sign(rand, sum, a.hash)
	case 'P':
		return key.Sign(rand, sum, &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthEqualsHash, Hash: a.hash})
	}
	r, s, err := ecdsa.Sign(rand, key.(*ecdsa.PrivateKey), sum)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 2*a.bytes)
	r.FillBytes(out[:a.bytes])
	s.FillBytes(out[a.bytes:])
	return out, nil
}

// publicPEM is the public key as a verifier most often holds it in a file.
func (b *Breaker) publicPEM(t *Token) ([]byte, error) {
	a := algorithms[t.Algorithm()]
	if a.kind == 'H' {
		return nil, lost("it is signed with a secret; there is no public key")
	}
	kid, _ := t.Header.String("kid")
	for _, k := range b.Public {
		if a.fits(k.Key) && (kid == "" || k.KeyID == "" || k.KeyID == kid) {
			der, err := x509.MarshalPKIXPublicKey(k.Key)
			if err != nil {
				return nil, lost("its public key cannot be written")
			}
			return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), nil
		}
	}
	return nil, lost("its public key is not known; say keys for the scheme")
}

// SigningKey signs test tokens. Whoever has it can make any token that the
// service takes.
type SigningKey struct {
	key crypto.Signer
	alg string
	id  string
}

// ReadSigningKey reads a private JWK (RFC 7517 section 4, "d"), a PEM private
// key, or, when algs has an HMAC algorithm first, a secret. algs are the
// scheme's algorithms.
func ReadSigningKey(b []byte, algs []string) (*SigningKey, error) {
	k := &SigningKey{}
	text := strings.TrimSpace(string(b))
	switch {
	case strings.HasPrefix(text, "{"):
		var j jose.JSONWebKey
		if err := json.Unmarshal([]byte(text), &j); err != nil {
			return nil, fmt.Errorf("the JWK cannot be read: %w", err)
		}
		k.id, k.alg = j.KeyID, j.Algorithm
		switch key := j.Key.(type) {
		case crypto.Signer:
			k.key = key
		case []byte:
			k.key = hmacKey(key)
		default:
			return nil, errors.New("it is a public key; signing needs the private one")
		}
	case strings.HasPrefix(text, "-----BEGIN"):
		block, _ := pem.Decode([]byte(text))
		if block == nil {
			return nil, errors.New("the PEM text is not complete")
		}
		key, err := privateOf(block)
		if err != nil {
			return nil, fmt.Errorf("reading the key: %w", err)
		}
		k.key = key
	case len(algs) > 0 && strings.HasPrefix(algs[0], "HS") && text != "":
		k.key = hmacKey(b)
	default:
		return nil, errors.New("neither a JWK, nor PEM, nor a secret for an HMAC algorithm")
	}
	for _, a := range append(slices.Clone(algs), k.alg, "ES256", "RS256", "EdDSA", "HS256", "ES384", "ES512") {
		x, ok := algorithms[a]
		if !ok {
			continue
		}
		if _, secret := k.key.(hmacKey); secret && x.kind == 'H' || !secret && x.fits(k.key.Public()) {
			k.alg = a
			return k, nil
		}
	}
	return nil, fmt.Errorf("the key fits none of the declared algorithms (%s)", strings.Join(algs, ", "))
}

// Mint makes a token with these claims, in this order of names.
func (k *SigningKey) Mint(rand io.Reader, typ string, claims map[string]any) (string, error) {
	head := map[string]any{"alg": k.alg, "typ": typ}
	if k.id != "" {
		head["kid"] = k.id
	}
	h, err := json.Marshal(head)
	if err != nil {
		return "", err
	}
	c, err := json.Marshal(claims)
	if err != nil {
		return "", fmt.Errorf("the claims cannot be written: %w", err)
	}
	signed := encode(h) + "." + encode(c)
	sig, err := signature(rand, signed, k.alg, k.key)
	if err != nil {
		return "", err
	}
	return signed + "." + encode(sig), nil
}

// Again signs the claims of a token anew, with some of them set; nil takes a
// claim away. It keeps the token's header but for alg, kid, and typ where that is not "".
func (k *SigningKey) Again(rand io.Reader, t *Token, typ string, set map[string]any) (string, error) {
	if t.Kind != Signed || !t.Header.OK || !t.Claims.OK {
		return "", lost("it is no signed JWT")
	}
	h := asObject(t.Header.with("alg", k.alg))
	if k.id != "" {
		h = asObject(h.with("kid", k.id))
	}
	if typ != "" {
		h = asObject(h.with("typ", typ))
	}
	c := &t.Claims
	names := make([]string, 0, len(set))
	for n := range set {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		if set[n] == nil {
			c = c.without(n)
		} else {
			c = asObject(c.with(n, set[n]))
		}
	}
	signed := encode(h.Text) + "." + encode(c.Text)
	sig, err := signature(rand, signed, k.alg, k.key)
	if err != nil {
		return "", err
	}
	return signed + "." + encode(sig), nil
}

// Named is the key with another id.
func (k *SigningKey) Named(id string) *SigningKey {
	other := *k
	other.id = id
	return &other
}

// Public is the key's public half as a set of one, or the secret.
func (k *SigningKey) Public() Keys {
	if s, ok := k.key.(hmacKey); ok {
		return Keys{Secret: s}
	}
	return Keys{Set: []jose.JSONWebKey{{Key: k.key.Public(), KeyID: k.id}}}
}

// Claim values of the standard for a minted token.
func StandardClaims(iss, sub, aud, id string, now time.Time, life time.Duration) map[string]any {
	c := map[string]any{"sub": sub, "iat": now.Unix(), "exp": now.Add(life).Unix(), "jti": id}
	if iss != "" {
		c["iss"] = iss
	}
	if aud != "" {
		c["aud"] = aud
	}
	return c
}
