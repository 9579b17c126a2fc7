package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// issuerKey is the issuer's key, the same in every run, so that test tokens
// can be made for it. It protects nothing but invented data.
func issuerKey() (*ecdsa.PrivateKey, error) {
	sum := sha256.Sum256([]byte("Fernhollow Observatory, the issuer's key"))
	return ecdsa.ParseRawPrivateKey(elliptic.P256(), sum[:])
}

// devKey is that of the developers' machines.
func devKey() (*ecdsa.PrivateKey, error) {
	sum := sha256.Sum256([]byte("Fernhollow Observatory, a developer's key"))
	return ecdsa.ParseRawPrivateKey(elliptic.P256(), sum[:])
}

// devIssuer is whom tokens of the developers' machines are from.
const devIssuer = "https://dev.fernhollow.example"

// SigningKey is the issuer's private key as a JWK (RFC 7517), and DevKey that of developers.
func SigningKey() string { return privateJWK("fh-1", issuerKey) }
func DevKey() string     { return privateJWK("dev-1", devKey) }

func privateJWK(id string, of func() (*ecdsa.PrivateKey, error)) string {
	k, err := of()
	if err != nil {
		return ""
	}
	b, err := json.Marshal(jose.JSONWebKey{Key: k, KeyID: id, Algorithm: "ES256"})
	if err != nil {
		return ""
	}
	return string(b)
}

// guessable is the signature of the flaw guessable-secret, made by hand: the
// library refuses a secret that is so short.
func guessable(signed string) string {
	m := hmac.New(sha256.New, []byte("supersecret"))
	m.Write([]byte(signed))
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil))
}

func (s *Service) keys() error {
	key, err := issuerKey()
	if err != nil {
		return fmt.Errorf("making the issuer's key: %w", err)
	}
	s.key = key
	if s.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256,
		Key: jose.JSONWebKey{Key: key, KeyID: "fh-1"}}, (&jose.SignerOptions{}).WithType("at+jwt")); err != nil {
		return fmt.Errorf("making the signer: %w", err)
	}
	return nil
}

type claims struct {
	jwt.Claims
	Roles    []string `json:"roles,omitempty"`
	Scope    string   `json:"scope,omitempty"`
	Verified bool     `json:"email_verified"`
	Family   string   `json:"sid,omitempty"`
}

// verified reads a token and checks its signature.
func (s *Service) verified(tok, route string) (cl claims, ok bool) {
	if s.flaws[UnsignedToken] && strings.Contains(route, "/v1/frames") {
		if t, err := jwt.ParseSigned(strings.TrimSuffix(tok, ".")+".AA",
			[]jose.SignatureAlgorithm{"none", "None", "NONE", "nOnE"}); err == nil && strings.HasSuffix(tok, ".") {
			return cl, t.UnsafeClaimsWithoutVerification(&cl) == nil
		}
	}
	if s.flaws[PublicKeyAsSecret] {
		if t, err := jwt.ParseSigned(tok, []jose.SignatureAlgorithm{jose.HS256}); err == nil {
			der, err := x509.MarshalPKIXPublicKey(&s.key.PublicKey)
			if err == nil && t.Claims(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), &cl) == nil {
				return cl, true
			}
		}
	}
	if s.flaws[GuessableSecret] {
		head, rest, _ := strings.Cut(tok, ".")
		body, sig, _ := strings.Cut(rest, ".")
		if b, err := base64.RawURLEncoding.DecodeString(body); err == nil && same(sig, guessable(head+"."+body)) {
			return cl, json.Unmarshal(b, &cl) == nil
		}
	}
	t, err := jwt.ParseSigned(tok, []jose.SignatureAlgorithm{jose.ES256})
	if err == nil && s.flaws[DeveloperToken] {
		if k, err := devKey(); err == nil && t.Claims(&k.PublicKey, &cl) == nil {
			return cl, true
		}
	}
	return cl, err == nil && t.Claims(&s.key.PublicKey, &cl) == nil
}

func (s *Service) bearer(header, route string) (*caller, string) {
	scheme, tok, ok := strings.Cut(header, " ")
	if !ok || !strings.EqualFold(scheme, "Bearer") {
		return nil, "a bearer token is needed"
	}
	if x := s.refresh[tok]; x != nil && s.flaws[RefreshAsAccess] && !s.over(x.family) {
		p := s.people[x.person]
		return &caller{id: p.ID, roles: p.Roles, scopes: p.Scopes, verified: p.Verified}, ""
	}
	cl, ok := s.verified(tok, route)
	if !ok {
		return nil, "the token does not verify"
	}
	want := jwt.Expected{Issuer: s.opt.Issuer, AnyAudience: jwt.Audience{"fernhollow"}, Time: s.now()}
	if s.flaws[AnyIssuer] || s.flaws[DeveloperToken] && cl.Issuer == devIssuer {
		want.Issuer = ""
	}
	if s.flaws[AnyAudience] {
		want.AnyAudience = nil
	}
	if s.flaws[ExpiryIgnored] && cl.Expiry != nil && cl.Expiry.Time().Before(s.now()) {
		want.Time = cl.Expiry.Time()
	}
	leeway := 30 * time.Second
	if s.flaws[SkewFiveMinutes] {
		leeway = 5 * time.Minute
	}
	if cl.ValidateWithLeeway(want, leeway) != nil {
		return nil, "the token is not for here, or not for now"
	}
	if (s.over(cl.ID) || s.over(cl.Family)) && !s.flaws[LingeringAccess] {
		return nil, "the session was ended"
	}
	return &caller{id: cl.Subject, roles: cl.Roles, scopes: strings.Fields(cl.Scope), verified: cl.Verified}, ""
}

func random() string {
	b := make([]byte, 18)
	_, _ = rand.Read(b) // crypto/rand never fails
	return hex.EncodeToString(b)
}

// life of an access token.
func (s *Service) life() time.Duration {
	if s.flaws[LongLife] {
		return 24 * time.Hour
	}
	return 15 * time.Minute
}

func (s *Service) token(sub string, roles, scopes []string, verified bool, family string) (string, error) {
	now := s.now()
	cl := claims{
		Claims: jwt.Claims{Issuer: s.opt.Issuer, Subject: sub, Audience: jwt.Audience{"fernhollow"},
			IssuedAt: jwt.NewNumericDate(now), NotBefore: jwt.NewNumericDate(now),
			Expiry: jwt.NewNumericDate(now.Add(s.life())), ID: random()},
		Roles: roles, Scope: strings.Join(scopes, " "), Verified: verified, Family: family,
	}
	if s.flaws[GuessableSecret] {
		b, err := json.Marshal(cl)
		signed := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"HS256","typ":"at+jwt"}`)) + "." +
			base64.RawURLEncoding.EncodeToString(b)
		return signed + "." + guessable(signed), err
	}
	return jwt.Signed(s.signer).Claims(cl).Serialize()
}
