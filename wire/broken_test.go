package wire

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/token"
)

// Every way of a scheme gives a credential that differs from the sound one and
// that a reader finds unsound.
func TestEveryWayIsBroken(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	jwk, err := json.Marshal(jose.JSONWebKey{Key: key, KeyID: "k", Algorithm: "ES256"})
	require.NoError(t, err)
	signer, err := token.ReadSigningKey(jwk, []string{"ES256"})
	require.NoError(t, err)
	logins, ended := 0, ""
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/logout" {
			b, _ := io.ReadAll(r.Body)
			ended = string(b)
			w.WriteHeader(204)
			return
		}
		logins++
		c := token.StandardClaims("iss", "ann", "aud", fmt.Sprint(logins), time.Now(), time.Hour)
		c["roles"] = []string{"reader"}
		tok, err := signer.Mint(rand.Reader, "at+jwt", c)
		if err != nil {
			w.WriteHeader(500)
			return
		}
		_, _ = fmt.Fprintf(w, `{"t":%q,"r":"refresh-%d"}`, tok, logins)
	})
	d, msgs := declaration.Parse("x", fmt.Appendf(nil, `millgate: 1
targets: { t: { base: %q } }
routes: [GET /a]
roles: { reader: , boss: }
schemes:
  access:
    kind: bearer
    token: jwt
    issuer: iss
    audience: aud
    algorithms: [ES256]
    keys: { jwks: /keys }
    signing_key: kept:SIGN
    claims: { roles: /roles }
    login: { send: POST /login, json: { u: "{u}" }, take: { access: /t, refresh: /r } }
    logout: { send: POST /logout, json: { r: "{refresh}" } }
  key: { kind: api-key, in: header, name: X-K }
identities:
  ann: { roles: reader, credentials: { access: { u: ann } } }
  kim: { credentials: { key: { key: kept:KIM } } }
`, s.URL), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	look := func(v declaration.Value) (string, error) {
		return map[string]string{"SIGN": string(jwk), "KIM": "Kim-Key-9"}[v.Kept], nil
	}
	tg := d.TargetNamed("t")
	tg.Pace = declaration.Pace{Count: 10000, Per: time.Second}
	k := NewKeyring(d, tg, client(t, tg), look)
	b := NewBreaking(k)
	ctx := context.Background()
	sound, _, err := k.Token(ctx, "ann", "access")
	require.NoError(t, err)
	public := func() token.Keys { return signer.Public() }
	seen := map[string]string{sound: "sound"}
	sc := d.SchemeNamed("access")
	for _, way := range check.Ways(sc) {
		if way == check.OtherOwn {
			continue // it is sound, and presented as any
		}
		donor := "ann"
		if way == check.OtherScheme {
			donor = "kim"
		}
		var o Outgoing
		x := Broken{Scheme: sc, Donor: donor, Way: way, Public: public, Role: "boss", Beside: "kim",
			BesideScheme: "key"}
		require.NoError(t, b.Present(ctx, &o, x), way)
		switch way {
		case check.BesideFirst, check.BesideLast, check.BesideOther:
			require.Len(t, o.Headers, 2, way)
			key := slices.IndexFunc(o.Headers, func(h [2]string) bool { return h[0] == "X-K" })
			require.Equal(t, "Kim-Key-9", o.Headers[key][1])
			assert.Equal(t, way == check.BesideLast, key == 1, way)
			o.Headers = [][2]string{o.Headers[1-key]}
			assert.False(t, token.Sound(token.Judge(token.Decode(strings.TrimPrefix(o.Headers[0][1], "Bearer ")),
				token.Context{Now: time.Now(), Doc: d, Scheme: sc, Keys: signer.Public()})))
			continue
		case check.InQuery:
			assert.Empty(t, o.Headers)
			assert.Equal(t, "access_token="+sound, o.Query)
			continue
		case check.OtherBroken:
			require.Len(t, o.Headers, 2)
			assert.Equal(t, "Bearer "+sound, o.Headers[0][1])
			assert.NotEqual(t, "Kim-Key-9", o.Headers[1][1])
			continue
		case check.SchemeCase:
			assert.Equal(t, "bEARER "+sound, o.Headers[0][1])
			continue
		}
		require.Len(t, o.Headers, 1, way)
		value := strings.TrimPrefix(o.Headers[0][1], "Bearer ")
		require.Empty(t, seen[value], "%s is like %s", way, seen[value])
		seen[value] = way
		list := token.Judge(token.Decode(value), token.Context{Now: time.Now(), Doc: d, Scheme: sc,
			Keys: signer.Public()})
		if way == check.Ended {
			assert.Equal(t, fmt.Sprintf(`{"r":"refresh-%d"}`, logins), ended,
				"the session of this very token was ended")
			assert.True(t, token.Sound(list))
			continue
		}
		assert.False(t, token.Decode(value).Kind == token.Signed && token.Sound(list), way)
	}
	var o Outgoing
	require.NoError(t, b.Present(ctx, &o, Broken{Scheme: d.SchemeNamed("key"), Donor: "kim", Way: check.KeyCase}))
	assert.Equal(t, field.List{{"X-K", "kIM-kEY-9"}}, o.Headers)
	o = Outgoing{Query: "a=b"}
	require.NoError(t, b.Present(ctx, &o, Broken{Scheme: d.SchemeNamed("key"), Donor: "kim", Way: check.KeyPlace}))
	assert.Equal(t, "a=b&X-K=Kim-Key-9", o.Query)
	assert.Empty(t, o.Headers)
	require.ErrorIs(t, b.Present(ctx, &o, Broken{Scheme: sc, Donor: "ann", Way: string(token.Raised), Public: public}),
		ErrWay)
}

func TestFetchStaysAtTheTarget(t *testing.T) {
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/base/keys" {
			w.WriteHeader(404)
			return
		}
		_, _ = io.WriteString(w, `{"keys":[]}`)
	})
	c := client(t, target(s.URL+"/base"))
	b, err := c.Fetch(context.Background(), "", "/keys")
	require.NoError(t, err)
	assert.JSONEq(t, `{"keys":[]}`, string(b))
	_, err = c.Fetch(context.Background(), "", "/nothing")
	require.ErrorContains(t, err, "answered 404")
	host, path, ok := c.HostOf(s.URL + "/base/keys?x=1")
	assert.True(t, ok)
	assert.Equal(t, " /keys?x=1", host+" "+path)
	_, _, ok = c.HostOf("http://elsewhere.example/base/keys")
	assert.False(t, ok)
}
