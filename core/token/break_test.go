package token

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every variant differs from the token, keeps its form, and does not verify.
func TestVariantsAreBroken(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	for _, key := range []any{ec, rsaKey, ed} {
		k := signer(t, key, "k1")
		s, err := k.Mint(rand.Reader, "at+jwt", claims())
		require.NoError(t, err)
		b := &Breaker{Rand: rand.Reader, Public: k.Public().Set, Role: "operator", Claim: "/roles",
			Nowhere: "http://127.0.0.1:1/keys"}
		seen := map[string]Variant{s: "sound"}
		for _, v := range Variants {
			out, err := b.Break(Decode(s), v)
			require.NoError(t, err, v)
			require.Empty(t, seen[out], v)
			seen[out] = v
			x := context(t)
			x.Keys = k.Public()
			x.Keys.Secret = []byte("another secret that is long enough")
			tok := Decode(out)
			require.Equal(t, Signed, tok.Kind)
			require.True(t, tok.Header.OK && tok.Claims.OK, v)
			assert.False(t, Sound(Judge(tok, x)), v)
			if v == Raised {
				assert.Equal(t, []string{"operator"}, tok.Claims.Get("roles").Strings(false))
			} else {
				assert.Equal(t, Decode(s).Claims.Text, tok.Claims.Text, v)
			}
		}
		again, err := k.Again(rand.Reader, Decode(s), "", map[string]any{"exp": now.Unix() - 3600, "jti": nil})
		require.NoError(t, err)
		x := context(t)
		x.Keys = k.Public()
		assert.Contains(t, ids(Judge(Decode(again), x)), "expired")
		assert.NotContains(t, ids(Judge(Decode(again), x)), "signature-wrong")
	}
	_, err = (&Breaker{Rand: rand.Reader}).Break(Decode("opaque"), Unsigned)
	assert.ErrorIs(t, err, ErrVariant)
	k := signer(t, ec, "")
	s, err := k.Mint(rand.Reader, "JWT", claims())
	require.NoError(t, err)
	for _, v := range []Variant{PublicAsSecret, Raised, KeyAddress} {
		_, err = (&Breaker{Rand: rand.Reader}).Break(Decode(s), v)
		assert.ErrorIs(t, err, ErrVariant, v)
	}
}
