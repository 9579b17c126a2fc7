package token

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/pointer"
	"millgate/testkit/written"
)

func ids(list []Judgement) []string {
	out := []string{}
	for _, j := range list {
		out = append(out, j.ID)
	}
	return out
}

const gate = `millgate: 1
targets: { t: { base: "http://127.0.0.1:1" } }
routes: [GET /a, POST /a, GET /open, GET /ops]
roles: { observer: , operator: { includes: observer } }
schemes:
  access:
    kind: bearer
    token: jwt
    issuer: "{issuer}"
    audience: service
    algorithms: [ES256, RS256, HS256, EdDSA]
    claims: { roles: /roles, scopes: /scope, email_verified: /email_verified }
    lifetime: { access: short }
    login: { send: POST /login, json: { username: "{username}" }, take: { access: /t } }
    logout: { send: POST /logout }
lifetimes: { short: { max: 15m, skew: 30s, ended_within: 0s } }
identities:
  imre: { roles: observer, scopes: [w], attributes: { email_verified: true }, credentials: { access: { username: imre-v } } }
access:
  - { at: GET /a, who: observer }
  - { at: POST /a, who: observer, scope: w, given: { email_verified: true } }
  - { at: GET /open, who: anyone }
  - { at: GET /ops, who: operator }
`

var (
	now    = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	ec, _  = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	values = map[string]string{"issuer": "https://id.example"}
)

func signer(t testing.TB, key any, kid string) *SigningKey {
	t.Helper()
	b, err := json.Marshal(jose.JSONWebKey{Key: key, KeyID: kid})
	require.NoError(t, err)
	k, err := ReadSigningKey(b, nil)
	require.NoError(t, err)
	return k
}

func context(t testing.TB) Context {
	d, msgs := declaration.Parse("x", []byte(gate), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return Context{Now: now, Doc: d, Scheme: d.SchemeNamed("access"), Values: values, Identity: d.IdentityNamed("imre"),
		Keys: signer(t, ec, "k1").Public()}
}

func claims() map[string]any {
	return map[string]any{"iss": "https://id.example", "aud": "service", "sub": "imre-v", "jti": "j1",
		"iat": now.Unix(), "exp": now.Add(15 * time.Minute).Unix(), "roles": []string{"observer"}, "scope": "w",
		"email_verified": true}
}

// Each way in which claims can be wrong, and the sound token that is not.
func TestJudgeClaims(t *testing.T) {
	k := signer(t, ec, "k1")
	for want, change := range map[string]func(map[string]any){
		"":             func(map[string]any) {},
		"iss-missing":  func(c map[string]any) { delete(c, "iss") },
		"iss-other":    func(c map[string]any) { c["iss"] = "https://else.example" },
		"aud-missing":  func(c map[string]any) { delete(c, "aud") },
		"aud-other":    func(c map[string]any) { c["aud"] = []string{"other"} },
		"aud-many":     func(c map[string]any) { c["aud"] = []string{"other", "service"} },
		"sub-missing":  func(c map[string]any) { delete(c, "sub") },
		"jti-missing":  func(c map[string]any) { delete(c, "jti") },
		"iat-missing":  func(c map[string]any) { delete(c, "iat") },
		"exp-required": func(c map[string]any) { delete(c, "exp") },
		"expired":      func(c map[string]any) { c["exp"], c["iat"] = now.Unix()-31, now.Unix()-500 },
		"not-yet":      func(c map[string]any) { c["nbf"] = now.Unix() + 60 },
		"iat-ahead":    func(c map[string]any) { c["iat"], c["exp"] = now.Unix()+600, now.Unix()+700 },
		"dates-order": func(c map[string]any) {
			c["nbf"], c["iat"], c["exp"] = now.Unix(), now.Unix()+20, now.Unix()+10
		},
		"date-milliseconds": func(c map[string]any) { c["iat"] = now.UnixMilli() },
		"date-text":         func(c map[string]any) { c["iat"] = fmt.Sprint(now.Unix()) },
		"date-unreadable":   func(c map[string]any) { c["nbf"] = "soon" },
		"too-long":          func(c map[string]any) { c["exp"] = now.Unix() + 15*60 + 1 },
		"role-beyond":       func(c map[string]any) { c["roles"] = []string{"operator"} },
		"role-undeclared":   func(c map[string]any) { c["roles"] = []string{"observer", "keeper"} },
		"scope-beyond":      func(c map[string]any) { c["scope"] = "w x" },
		"attribute-differs": func(c map[string]any) { c["email_verified"] = false },
		"personal-data":     func(c map[string]any) { c["email"] = "imre@example" },
		"secret-inside":     func(c map[string]any) { c["db_password"] = "hunter22" },
		"form-large":        func(c map[string]any) { c["x"] = strings.Repeat("x", 4000) },
	} {
		c := claims()
		change(c)
		s, err := k.Mint(rand.Reader, "at+jwt", c)
		require.NoError(t, err)
		got := ids(Judge(Decode(s), context(t)))
		if want == "" {
			assert.Empty(t, got)
			assert.True(t, Sound(Judge(Decode(s), context(t))))
			continue
		}
		assert.Equal(t, []string{want}, got, want)
	}
	// What says nothing of its beginning, or lies about it, counts from when it was received.
	for name, x := range map[string]struct {
		iat  any
		exp  int64
		want []string
	}{
		"no beginning, short enough": {nil, 15*60 + 80, []string{"iat-missing"}},
		"no beginning, too long":     {nil, 15*60 + 100, []string{"iat-missing", "too-long"}},
		"a beginning ahead":          {now.Unix() + 3600, 3600 + 60, []string{"iat-ahead", "too-long"}},
		"one ahead, short enough":    {now.Unix() + 300, 500, []string{"iat-ahead"}},
		"a beginning":                {now.Unix() - 60, 14 * 60, nil},
	} {
		c, ctx := claims(), context(t)
		delete(c, "iat")
		if c["exp"] = now.Unix() + x.exp; x.iat != nil {
			c["iat"] = x.iat
		}
		s, err := k.Mint(rand.Reader, "at+jwt", c)
		require.NoError(t, err)
		ctx.Received = ctx.Now
		assert.ElementsMatch(t, x.want, ids(Judge(Decode(s), ctx)), name)
	}
	// Near misses: inside the skew, a fraction, exactly the maximum.
	c := claims()
	c["exp"], c["iat"], c["nbf"] = float64(now.Unix())-29.5, now.Unix()-800, now.Unix()+29
	s, err := k.Mint(rand.Reader, "JWT", c)
	require.NoError(t, err)
	assert.Empty(t, ids(Judge(Decode(s), context(t))))
}

func TestJudgeHeadersAndKeys(t *testing.T) {
	k := signer(t, ec, "k1")
	s, err := k.Mint(rand.Reader, "at+jwt", claims())
	require.NoError(t, err)
	sound := Decode(s)
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	sign := func(head string) string {
		signed := encode([]byte(head)) + "." + encode(sound.Claims.Text)
		alg := "ES256"
		b, err := signature(rand.Reader, signed, alg, ec)
		require.NoError(t, err)
		return signed + "." + encode(b)
	}
	head := func(more string) string { return sign(`{"alg":"ES256","typ":"at+jwt","kid":"k1"` + more + `}`) }
	hmacToken, err := (&SigningKey{key: hmacKey("secret"), alg: "HS256"}).Mint(rand.Reader, "at+jwt", claims())
	require.NoError(t, err)
	for _, c := range []struct {
		want  string
		token string
		keys  *Keys
	}{
		{"typ-missing", sign(`{"alg":"ES256","kid":"k1"}`), nil},
		{"typ-other", sign(`{"alg":"ES256","typ":"logout+jwt","kid":"k1"}`), nil},
		{"crit-unknown", head(`,"crit":["exp"],"exp":1`), nil},
		{"key-in-header", head(`,"jwk":{"kty":"oct","k":"AA"}`), nil},
		{"key-address", head(`,"jku":"https://evil.example/k"`), nil},
		{"key-id-path key-unknown", sign(`{"alg":"ES256","typ":"at+jwt","kid":"../k1"}`), nil},
		{"alg-missing", sign(`{"typ":"at+jwt","kid":"k1"}`), nil},
		{"alg-unknown", sign(`{"alg":"ES2560","typ":"at+jwt","kid":"k1"}`), nil},
		{"alg-undeclared key-unfit", sign(`{"alg":"ES384","typ":"at+jwt","kid":"k1"}`), nil},
		{"signature-wrong", s[:len(s)-9] + "AAAAAAAAA"[:8] + "Q", nil},
		{"signature-missing", sound.Signed + ".", nil},
		{"signature-wrong", s, &Keys{Set: []jose.JSONWebKey{{Key: &other.PublicKey, KeyID: "k1"}}}},
		{"key-unknown", s, &Keys{Set: []jose.JSONWebKey{{Key: &ec.PublicKey, KeyID: "k2"}}}},
		{"key-unfit", s, &Keys{Set: []jose.JSONWebKey{{Key: &rsaKey.PublicKey, KeyID: "k1"}}}},
		{"key-twice", s, &Keys{Set: []jose.JSONWebKey{{Key: &other.PublicKey, KeyID: "k1"},
			{Key: &ec.PublicKey, KeyID: "k1"}}}},
		{"not-verified", s, &Keys{}},
		{"key-short", hmacToken, &Keys{Secret: []byte("secret")}},
		{"", s, &Keys{Set: []jose.JSONWebKey{{Key: &other.PublicKey, KeyID: "k0"}, {Key: &ec.PublicKey, KeyID: "k1"}}}},
		{"key-unfit", hmacToken, nil},
	} {
		x := context(t)
		if c.keys != nil {
			x.Keys = *c.keys
		}
		got := strings.Join(ids(Judge(Decode(c.token), x)), " ")
		if strings.Contains(c.want, " ") {
			assert.ElementsMatch(t, strings.Fields(c.want), strings.Fields(got))
			continue
		}
		assert.Equal(t, c.want, got)
	}
	w, ok := Guess(Decode(hmacToken), Words())
	assert.True(t, ok)
	assert.Equal(t, "secret", w)
	_, ok = Guess(sound, Words())
	assert.False(t, ok, "a public key is not guessed")
}

// docs/tokens.md lists every judgement; UPDATE_DOCS=1 writes the table.
func TestDocumentation(t *testing.T) {
	const file = "../../docs/tokens.md"
	var b strings.Builder
	for _, c := range Checks {
		text := strings.NewReplacer("%v", "…", "%q", "…").Replace(c.Text)
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s | %s |\n", c.ID, text, c.Why, c.Severity, c.Outcome,
			c.Standard)
	}
	written.Parts(t, file, map[string]string{"judgements": "| id | what is said | why it matters, or what settles " +
		"it | severity | so a service | standard |\n| --- | --- | --- | --- | --- | --- |\n" + b.String()})
}

// Claims with a name of their own space have slashes in it, which a pointer writes as ~1.
func TestClaimsOfANamespace(t *testing.T) {
	const name, at = "https://fern.example/roles", "/https:~1~1fern.example~1roles"
	x := context(t)
	scheme := *x.Scheme
	scheme.Claims = map[string]pointer.JSON{"roles": at}
	x.Scheme = &scheme
	c := claims()
	delete(c, "roles")
	c[name] = []string{"operator"}
	k := signer(t, ec, "k1")
	s, err := k.Mint(rand.Reader, "at+jwt", c)
	require.NoError(t, err)
	list := Judge(Decode(s), x)
	i := slices.IndexFunc(list, func(j Judgement) bool { return j.ID == "role-beyond" })
	require.GreaterOrEqual(t, i, 0, ids(list))
	assert.Equal(t, at, list[i].Pointer)
	out, err := (&Breaker{Rand: rand.Reader, Role: "director", Claim: at}).Break(Decode(s), Raised)
	require.NoError(t, err)
	assert.Equal(t, []string{"director"}, Decode(out).Claims.Get(name).Strings(false))
	twice := strings.Split(s, ".")
	twice[1] = base64.RawURLEncoding.EncodeToString([]byte(`{"a/b":1,"a/b":2}`))
	for _, j := range Judge(Decode(strings.Join(twice, ".")), x) {
		if j.ID == "form-duplicate" {
			assert.Equal(t, "/a~1b", j.Pointer)
		}
	}
}

func TestFillValues(t *testing.T) {
	values := map[string]string{"issuer": "http://i", "x": "{issuer}"}
	for text, want := range map[string]string{"": "", "plain": "plain", "{issuer}": "http://i",
		"{issuer}/a?b={issuer}": "http://i/a?b=http://i", "{none}/{issuer}": "{none}/http://i",
		"{{issuer}": "{http://i", "{issuer": "{issuer", "}{": "}{", "{x}": "{issuer}"} {
		assert.Equal(t, want, FillValues(text, values), text)
	}
}
