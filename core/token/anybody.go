package token

import (
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"

	"github.com/go-jose/go-jose/v4"
)

// anybodys recognises signatures that anybody can make, whatever Break makes of that kind: with an
// empty secret, with a public key as secret, with a key that the token brings along. why says
// which key; the outcome is empty for any other signature.
func (t *Token) anybodys(k Keys) (v Verified, why string) {
	a := algorithms[t.Algorithm()]
	if a.kind == 'H' {
		if a.mac(nil, t.covered(), t.Signature) {
			return SignedByEmpty, ""
		}
		for _, key := range k.Set {
			for _, s := range secretsOf(key) {
				if a.mac(s.text, t.covered(), t.Signature) {
					return SignedByPublic, s.form
				}
			}
		}
		return "", ""
	}
	if own := t.carried(); a.fits(own) {
		if _, err := (Keys{Set: []jose.JSONWebKey{{Key: own}}}).Verify(t); err == nil {
			return SignedByItself, ""
		}
	}
	return "", ""
}

// carried is the key that a token brings along in jwk or x5c (RFC 7515 sections 4.1.3 and 4.1.6);
// nil without.
func (t *Token) carried() any {
	if m := t.Header.Get("jwk"); m != nil {
		var own jose.JSONWebKey
		if json.Unmarshal(m.Raw, &own) == nil {
			return own.Key
		}
	}
	if chain := t.Header.Get("x5c").Strings(false); len(chain) > 0 {
		der, err := base64.StdEncoding.DecodeString(chain[0])
		if err != nil {
			return nil
		}
		if c, err := x509.ParseCertificate(der); err == nil {
			return c.PublicKey
		}
	}
	return nil
}

// secret is a public key in a form that somebody may have taken for a secret.
type secret struct {
	form string
	text []byte
}

// secretsOf are the forms in which a public key is published, and read in one piece.
func secretsOf(key jose.JSONWebKey) (out []secret) {
	add := func(form string, text []byte) { out = append(out, secret{form, text}) }
	inPEM := func(form, kind string, der []byte) {
		text := pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
		add(form+" in PEM", text)
		add(form+" in PEM, without the last line end", text[:len(text)-1])
		add(form+" in DER", der)
	}
	if der, err := x509.MarshalPKIXPublicKey(key.Key); err == nil {
		inPEM("the public key", "PUBLIC KEY", der)
	}
	if pub, ok := key.Key.(*rsa.PublicKey); ok {
		inPEM("the public key (PKCS #1)", "RSA PUBLIC KEY", x509.MarshalPKCS1PublicKey(pub))
		add("the modulus", pub.N.Bytes())
	}
	for _, c := range key.Certificates {
		inPEM("the certificate", "CERTIFICATE", c.Raw)
	}
	if b, err := key.MarshalJSON(); err == nil {
		add("the JWK", b)
		if set, err := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{key}}); err == nil {
			add("the JWK set", set)
		}
	}
	return out
}
