package token

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rsa"
	_ "crypto/sha256" // the hashes of RFC 7518
	_ "crypto/sha512"
	"crypto/subtle"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"math/big"
	"slices"

	"github.com/go-jose/go-jose/v4"
)

// Errors of verification.
var (
	ErrNoKeys    = errors.New("there are no keys")
	ErrKeyID     = errors.New("no key has that id")
	ErrUnfit     = errors.New("the key does not fit the algorithm")
	ErrAlgorithm = errors.New("the algorithm is not known")
	ErrShort     = errors.New("the key is too short to verify with")
	ErrSignature = errors.New("the signature does not verify")
)

// Keys are what tokens of a scheme are verified with. The zero Keys verify
// nothing.
type Keys struct {
	Set    []jose.JSONWebKey // public keys (RFC 7517)
	Secret []byte            // for HMAC algorithms
}

// ReadKeys reads a JWK set or one JWK (RFC 7517), or PEM blocks with public
// keys or certificates (RFC 7468). Private keys are read too and only their
// public half is kept. What cannot be read of a set is said and left out.
func ReadKeys(b []byte) (Keys, []string, error) {
	b = bytes.TrimSpace(b)
	if len(b) > 0 && b[0] == '{' {
		return readSet(b)
	}
	var k Keys
	rest := b
	for {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		key, err := publicOf(block)
		if err != nil {
			return Keys{}, nil, fmt.Errorf("reading a %s: %w", block.Type, err)
		}
		k.Set = append(k.Set, jose.JSONWebKey{Key: key})
	}
	if len(k.Set) == 0 {
		return k, nil, errors.New("neither a JWK set (RFC 7517) nor PEM (RFC 7468)")
	}
	return k, nil, nil
}

func readSet(b []byte) (k Keys, said []string, err error) {
	var set struct{ Keys []json.RawMessage }
	if err := json.Unmarshal(b, &set); err != nil {
		return k, nil, fmt.Errorf("the JWK set is not JSON: %w", err)
	}
	if set.Keys == nil {
		set.Keys = []json.RawMessage{b}
	}
	for i, raw := range set.Keys {
		var j jose.JSONWebKey
		if err := json.Unmarshal(raw, &j); err != nil {
			said = append(said, fmt.Sprintf("key %d of the set cannot be read: %v", i+1, err))
			continue
		}
		if !verifies(raw, j.IsPublic()) {
			j.Use = "enc" // it is there, and tokens of it do not verify
		}
		if s, ok := j.Key.([]byte); ok {
			if j.Use != "enc" {
				k.Secret = s
			}
			continue
		}
		k.Set = append(k.Set, j.Public())
	}
	if len(k.Set) == 0 && k.Secret == nil {
		return k, said, errors.New("the set has no key that can be used")
	}
	return k, said, nil
}

// verifies says whether a key's operations let it verify (RFC 7517 section 4.3): that of a private
// one may be to sign.
func verifies(raw json.RawMessage, public bool) bool {
	var k struct {
		Ops []string `json:"key_ops"`
	}
	if json.Unmarshal(raw, &k) != nil || len(k.Ops) == 0 {
		return true
	}
	return slices.Contains(k.Ops, "verify") || !public && slices.Contains(k.Ops, "sign")
}

func publicOf(b *pem.Block) (any, error) {
	switch b.Type {
	case "CERTIFICATE":
		c, err := x509.ParseCertificate(b.Bytes)
		if err != nil {
			return nil, err
		}
		return c.PublicKey, nil
	case "PUBLIC KEY":
		return x509.ParsePKIXPublicKey(b.Bytes)
	case "RSA PUBLIC KEY":
		return x509.ParsePKCS1PublicKey(b.Bytes)
	}
	key, err := privateOf(b)
	if err != nil {
		return nil, err
	}
	return key.Public(), nil
}

func privateOf(b *pem.Block) (crypto.Signer, error) {
	var key any
	var err error
	switch b.Type {
	case "PRIVATE KEY":
		key, err = x509.ParsePKCS8PrivateKey(b.Bytes)
	case "EC PRIVATE KEY":
		key, err = x509.ParseECPrivateKey(b.Bytes)
	case "RSA PRIVATE KEY":
		key, err = x509.ParsePKCS1PrivateKey(b.Bytes)
	default:
		return nil, fmt.Errorf("it is a %s, not a key", b.Type)
	}
	if err != nil {
		return nil, err
	}
	s, ok := key.(crypto.Signer)
	if !ok {
		return nil, errors.New("it is no signing key")
	}
	return s, nil
}

// Distinct leaves out keys that are there twice because two schemes have the
// same set.
func (k Keys) Distinct() Keys {
	seen := map[string]bool{}
	var out []jose.JSONWebKey
	for _, j := range k.Set {
		print, err := j.Thumbprint(crypto.SHA256)
		if err != nil { // it stays: nothing can be said about it
			out = append(out, j)
			continue
		}
		if id := j.KeyID + string(print); !seen[id] {
			seen[id] = true
			out = append(out, j)
		}
	}
	k.Set = out
	return k
}

// algorithm of RFC 7518 section 3.1 and RFC 8037.
type algorithm struct {
	kind  byte // H, R, P, E, D
	hash  crypto.Hash
	bytes int // of r and of s, for E
}

var algorithms = map[string]algorithm{
	"HS256": {'H', crypto.SHA256, 0}, "HS384": {'H', crypto.SHA384, 0}, "HS512": {'H', crypto.SHA512, 0},
	"RS256": {'R', crypto.SHA256, 0}, "RS384": {'R', crypto.SHA384, 0}, "RS512": {'R', crypto.SHA512, 0},
	"PS256": {'P', crypto.SHA256, 0}, "PS384": {'P', crypto.SHA384, 0}, "PS512": {'P', crypto.SHA512, 0},
	"ES256": {'E', crypto.SHA256, 32}, "ES384": {'E', crypto.SHA384, 48}, "ES512": {'E', crypto.SHA512, 66},
	"EdDSA": {'D', 0, 0}, "Ed25519": {'D', 0, 0}, // its newer name (RFC 9864 section 2.2)
}

// unverified are registered algorithms that are not verified here: RFC 8812, RFC 8037 and RFC 9864.
var unverified = []string{"ES256K", "Ed448"}

// accepted says whether an algorithm is among declared ones. EdDSA is also what its newer names
// say more exactly.
func accepted(declared []string, alg string) bool {
	return slices.Contains(declared, alg) ||
		(alg == "Ed25519" || alg == "Ed448") && slices.Contains(declared, "EdDSA")
}

// sameAlgorithm says whether the alg of a key is that of a token.
func sameAlgorithm(key, token string) bool {
	return key == "" || key == token || accepted([]string{key}, token) || accepted([]string{token}, key)
}

// Known says whether an algorithm is a registered one for signatures.
func Known(alg string) bool { _, ok := algorithms[alg]; return ok }

// Verify says whether a key of the set made the token's signature, and gives
// that key. It takes the algorithm from the token, as an attacker hopes for:
// whether the declaration admits it is for Judge to say. A key that says an
// algorithm or a use of its own (RFC 7517 sections 4.2 and 4.4) is held to it.
func (k Keys) Verify(t *Token) (jose.JSONWebKey, error) {
	a, ok := algorithms[t.Algorithm()]
	if !ok {
		return jose.JSONWebKey{}, ErrAlgorithm
	}
	if a.kind == 'H' {
		if k.Secret == nil {
			if len(k.Set) > 0 {
				return jose.JSONWebKey{}, ErrUnfit
			}
			return jose.JSONWebKey{}, ErrNoKeys
		}
		if !a.mac(k.Secret, t.covered(), t.Signature) {
			return jose.JSONWebKey{}, ErrSignature
		}
		return jose.JSONWebKey{Key: k.Secret}, nil
	}
	if len(k.Set) == 0 {
		return jose.JSONWebKey{}, ErrNoKeys
	}
	kid, _ := t.Header.String("kid")
	found, fit, short := false, false, false
	var sum []byte
	for _, j := range k.Set {
		if kid != "" && j.KeyID != "" && j.KeyID != kid {
			continue // a key without an id may be any
		}
		found = true
		if j.Use == "enc" || !sameAlgorithm(j.Algorithm, t.Algorithm()) || !a.fits(j.Key) {
			continue
		}
		if pub, ok := j.Key.(*rsa.PublicKey); ok && pub.N.BitLen() < leastRSA {
			short = true
			continue
		}
		fit = true
		if sum == nil && a.hash != 0 {
			h := a.hash.New()
			h.Write(t.covered())
			sum = h.Sum(nil)
		}
		if a.verify(j.Key, t.Signed, sum, t.Signature) {
			return j, nil
		}
	}
	switch {
	case !found:
		return jose.JSONWebKey{}, ErrKeyID
	case !fit && short:
		return jose.JSONWebKey{}, ErrShort
	case !fit:
		return jose.JSONWebKey{}, ErrUnfit
	}
	return jose.JSONWebKey{}, ErrSignature
}

// has says whether the set has a key with an id.
func (k Keys) has(kid string) bool {
	return slices.ContainsFunc(k.Set, func(j jose.JSONWebKey) bool { return j.KeyID == kid })
}

// fitting is how many keys could have made a signature of an algorithm.
func (k Keys) fitting(alg string) (n int) {
	a := algorithms[alg]
	for _, j := range k.Set {
		if j.Use != "enc" && sameAlgorithm(j.Algorithm, alg) && a.fits(j.Key) {
			n++
		}
	}
	return n
}

// leastRSA is the size in bits below which crypto/rsa does not verify.
const leastRSA = 1024

// covered is what the signature covers, as bytes.
func (t *Token) covered() []byte {
	if len(t.bytes) >= len(t.Signed) && len(t.Raw) == len(t.bytes) {
		return t.bytes[:len(t.Signed)]
	}
	return []byte(t.Signed) // of a token that was not decoded here
}

// empty are MACs with the empty secret, with what they begin with worked out: it is tried on every
// token. They are only ever cloned.
var empty = func() map[crypto.Hash]hash.Cloner {
	all := map[crypto.Hash]hash.Cloner{}
	for _, a := range algorithms {
		if a.kind != 'H' {
			continue
		}
		if m, ok := hmac.New(a.hash.New, nil).(hash.Cloner); ok {
			m.Reset()
			all[a.hash] = m
		}
	}
	return all
}()

// mac says whether a signature was made with a secret.
func (a algorithm) mac(secret, signed, sig []byte) bool {
	var m hash.Hash
	if e := empty[a.hash]; len(secret) == 0 && e != nil {
		m, _ = e.Clone()
	}
	if m == nil {
		m = hmac.New(a.hash.New, secret)
	}
	m.Write(signed)
	return subtle.ConstantTimeCompare(m.Sum(nil), sig) == 1
}

func (a algorithm) fits(key any) bool {
	switch key := key.(type) {
	case *rsa.PublicKey:
		return a.kind == 'R' || a.kind == 'P'
	case *ecdsa.PublicKey:
		return a.kind == 'E' && (key.Curve.Params().BitSize+7)/8 == a.bytes
	case ed25519.PublicKey:
		return a.kind == 'D'
	}
	return false
}

func (a algorithm) verify(key any, signed string, sum, sig []byte) bool {
	switch a.kind {
	case 'R':
		return rsa.VerifyPKCS1v15(key.(*rsa.PublicKey), a.hash, sum, sig) == nil
	case 'P':
		return rsa.VerifyPSS(key.(*rsa.PublicKey), a.hash, sum, sig, nil) == nil
	case 'E': // r and s side by side (RFC 7518 section 3.4)
		return len(sig) == 2*a.bytes && ecdsa.Verify(key.(*ecdsa.PublicKey), sum, new(big.Int).SetBytes(sig[:a.bytes]),
			new(big.Int).SetBytes(sig[a.bytes:]))
	}
	return ed25519.Verify(key.(ed25519.PublicKey), []byte(signed), sig)
}

// Bits of a key, and the least that its algorithm asks for (RFC 7518 sections
// 3.2 and 3.3).
func (a algorithm) bits(key any) (has, least int) {
	switch key := key.(type) {
	case *rsa.PublicKey:
		return key.N.BitLen(), 2048
	case []byte:
		return len(key) * 8, a.hash.Size() * 8
	}
	return 0, 0
}
