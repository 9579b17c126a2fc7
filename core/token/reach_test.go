package token

import (
	"crypto/rand"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReach(t *testing.T) {
	x := context(t)
	k := signer(t, ec, "k1")
	c := claims()
	c["roles"] = []string{"operator"}
	delete(c, "scope")
	s, err := k.Mint(rand.Reader, "at+jwt", c)
	require.NoError(t, err)
	tok := Decode(s)
	assert.Same(t, x.Scheme, SchemeOf(x.Doc, tok, values))
	require.NotNil(t, Holder(x.Doc, tok), "imre-v is the user name of imre")
	got := map[string]string{}
	for _, o := range Reach(x.Doc, x.Scheme, tok, x.Identity) {
		got[o.Route] = fmt.Sprint(o.Admitted, o.Granted, o.Public)
	}
	assert.Equal(t, map[string]string{"GET /a": "true true false", "POST /a": "true true false",
		"GET /open": "true true true", "GET /ops": "true false false"}, got)
	assert.Equal(t, "observer", x.Doc.IdentityNamed("imre").Roles[0].Name, "the declaration is not changed by asking")
}
