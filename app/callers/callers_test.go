package callers

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/events"
	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/store"
)

const text = `millgate: 1.1
targets: { here: { base: "http://127.0.0.1:1" } }
routes: [GET /a, GET /b, GET /c, "GET /t/{id}", POST /login]
roles:
  reader: # who reads
  boss: { includes: reader }
schemes:
  card:
    kind: bearer
    login: { send: POST /login, json: { name: "{name}", password: "{password}" }, take: { access: /token } }
  key: { kind: api-key, in: header, name: X-Key }
identities:
  ann: { roles: reader, credentials: { card: { name: ann, password: env:ANN } } } # the first
  bob: { roles: [reader], attributes: { ok: true }, credentials: { card: { name: bob, password: env:BOB }, key: { key: env:K } } }
  meg: { roles: boss, in: { team: north }, credentials: { card: { name: meg, password: env:MEG } } }
records:
  thing: { fills: "/t/{id}", owned_by: { ann: [t-1], bob: [t-2] }, in: { team: { north: [t-1] } } }
access:
  - { at: GET /a, who: reader, by: card }
  - { at: GET /b, who: boss }
  - { at: GET /c, who: [boss, "identity:bob"], by: [card, key] }
  - { at: "GET /t/{id}", who: owner }
  - { at: POST /login, who: anyone }
waivers:
  - { finding: mg-0123456789, callers: [bob], reason: known, by: ann, until: 2030-01-01 }
`

func opened(t *testing.T, data, text string) *Callers {
	t.Helper()
	st, err := store.Open(data)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	ws := workspace.New(st, events.NewHub(), file)
	require.NoError(t, ws.Read(t.Context(), file))
	return New(st, ws)
}

func TestWhoCalls(t *testing.T) {
	o := opened(t, "", text).Look("here", "")
	require.Len(t, o.Roles, 2)
	assert.Equal(t, Role{Name: "boss", Includes: []string{"reader"}, Holders: []string{"meg"}, Opens: 4, More: 2,
		Line: 6},
		o.Roles[1])
	bob := o.Identities[1]
	assert.Equal(t, 4, bob.Opens, "a, c, a record of its own, and the login")
	assert.Equal(t, map[string][]string{"thing": {"t-2"}}, bob.Owns)
	assert.Equal(t, []Member{{"name", "bob", false}, {"password", "env:BOB", true}}, bob.Credentials[0].Fill)
	assert.Equal(t, map[string][]string{"team": {"north"}}, o.Identities[2].In)
	assert.Equal(t, []string{"team"}, o.Kinds)
	assert.Equal(t, Never, bob.Credentials[0].State)
	assert.Equal(t, Scheme{Name: "card", Kind: "bearer", Login: "POST /login", Needs: []string{"name", "password"},
		Secret: []string{"password"},
		Routes: 4,
		Users:  []string{"ann", "bob", "meg"}, Line: 8}, o.Schemes[0])
}

// What is edited is written where it belongs, and nothing else changes.
func TestCallersAreEdited(t *testing.T) {
	c := opened(t, t.TempDir(), text)
	for _, x := range []struct {
		name   string
		change Change
		new    []string // lines that come
		gone   []string
		err    string
	}{
		{"a new one, with a secret that is kept", Change{Do: "put", Kind: IdentityKind, Name: "eve",
			Roles:      []string{"reader"},
			Attributes: map[string]string{"ok": "true", "team": "sky"}, Credentials: []Given{{Scheme: "card",
				Members: map[string]string{"name": "eve"}, Secrets: map[string]string{"password": "very secret"}}}},
			[]string{`  eve: { roles: reader, attributes: { ok: true, team: sky }, credentials: { card: { name: eve, password: kept:eve-password } } }`},
			nil, ""},
		{"a new one with a role that is new", Change{Do: "put", Kind: IdentityKind, Name: "eve",
			Roles: []string{"guest"}},
			[]string{"  guest: {}", "  eve: { roles: guest }"}, nil, ""},
		{"one that lacks a member", Change{Do: "put", Kind: IdentityKind, Name: "eve",
			Credentials: []Given{{Scheme: "card"}}},
			nil, nil, "the credential for card needs name"},
		{"another role for one that is there", Change{Do: "put", Kind: IdentityKind, Name: "ann",
			Roles: []string{"reader", "boss"}},
			[]string{`  ann: { roles: [reader, boss], credentials: { card: { name: ann, password: env:ANN } } } # the first`},
			[]string{`  ann: { roles: reader, credentials: { card: { name: ann, password: env:ANN } } } # the first`},
			""},
		{"where one stands", Change{Do: "put", Kind: IdentityKind, Name: "meg", Roles: []string{"boss"},
			In: map[string][]string{"team": {"north", "south"}}},
			[]string{`  meg: { roles: boss, in: { team: [north, south] }, credentials: { card: { name: meg, password: env:MEG } } }`},
			[]string{`  meg: { roles: boss, in: { team: north }, credentials: { card: { name: meg, password: env:MEG } } }`}, ""},
		{"that one stands nowhere", Change{Do: "put", Kind: IdentityKind, Name: "meg", Roles: []string{"boss"},
			In: map[string][]string{}},
			[]string{`  meg: { roles: boss, credentials: { card: { name: meg, password: env:MEG } } }`},
			[]string{`  meg: { roles: boss, in: { team: north }, credentials: { card: { name: meg, password: env:MEG } } }`}, ""},
		{"a kind without a record", Change{Do: "put", Kind: IdentityKind, Name: "meg",
			In: map[string][]string{"team": {}}}, nil, nil, "needs a kind and a record of it"},
		{"a role", Change{Do: "put", Kind: RoleKind, Name: "chief", Includes: []string{"boss"}},
			[]string{"  chief: { includes: boss }"}, nil, ""},
		{"a scheme", Change{Do: "put", Kind: SchemeKind, Name: "desk", Text: "{ kind: cookie, name: desk }"},
			[]string{"  desk: { kind: cookie, name: desk }"}, nil, ""},
		{"what its login gives", Change{Do: "take", Kind: SchemeKind, Name: "card", To: "refresh", Text: "/renew"},
			[]string{
				`    login: { send: POST /login, json: { name: "{name}", password: "{password}" }, take: { access: /token, refresh: /renew } }`},
			[]string{`    login: { send: POST /login, json: { name: "{name}", password: "{password}" }, take: { access: /token } }`}, ""},
		{"how long it lives", Change{Do: "set", Kind: SchemeKind, Name: "card", To: "life", Text: "900"},
			[]string{`  card: { max: 15m }`, `    lifetime: { access: card }`}, nil, ""},
		{"what is no life", Change{Do: "set", Kind: SchemeKind, Name: "card", To: "life", Text: "NaN"}, nil, nil,
			"a number of seconds"},
		{"where its roles stand", Change{Do: "set", Kind: SchemeKind, Name: "card", To: "claims/roles", Text: "/roles"},
			[]string{`    claims: { roles: /roles }`}, nil, ""},
		{"roles that its token claims", Change{Do: "set", Kind: IdentityKind, Name: "ann", To: "roles",
			Roles: []string{"reader", "poet"}}, []string{"  poet: {}",
			`  ann: { roles: [reader, poet], credentials: { card: { name: ann, password: env:ANN } } } # the first`},
			[]string{`  ann: { roles: reader, credentials: { card: { name: ann, password: env:ANN } } } # the first`},
			""},
		{"what cannot be set so", Change{Do: "set", Kind: SchemeKind, Name: "card", To: "login", Text: "{}"}, nil, nil,
			"cannot be set so"},
		{"a copy", Change{Do: "copy", Kind: IdentityKind, Name: "bob", To: "bea"}, []string{
			`  bea: { roles: [reader], attributes: { ok: true }, credentials: { card: { name: bob, password: env:BOB }, key: { key: env:K } } }`},
			nil, ""},
		{"a copy over several lines", Change{Do: "copy", Kind: SchemeKind, Name: "card", To: "pass"},
			[]string{"  pass:", "    kind: bearer",
				`    login: { send: POST /login, json: { name: "{name}", password: "{password}" }, take: { access: /token } }`}, nil, ""},
		{"another name, everywhere", Change{Do: "rename", Kind: IdentityKind, Name: "bob", To: "rob"}, []string{
			`  rob: { roles: [reader], attributes: { ok: true }, credentials: { card: { name: bob, password: env:BOB }, key: { key: env:K } } }`,
			`  thing: { fills: "/t/{id}", owned_by: { ann: [t-1], rob: [t-2] }, in: { team: { north: [t-1] } } }`,
			`  - { at: GET /c, who: [boss, "identity:rob"], by: [card, key] }`,
			`  - { finding: mg-0123456789, callers: rob, reason: known, by: ann, until: 2030-01-01 }`}, []string{
			`  bob: { roles: [reader], attributes: { ok: true }, credentials: { card: { name: bob, password: env:BOB }, key: { key: env:K } } }`,
			`  thing: { fills: "/t/{id}", owned_by: { ann: [t-1], bob: [t-2] }, in: { team: { north: [t-1] } } }`,
			`  - { at: GET /c, who: [boss, "identity:bob"], by: [card, key] }`,
			`  - { finding: mg-0123456789, callers: [bob], reason: known, by: ann, until: 2030-01-01 }`}, ""},
		{"a role's", Change{Do: "rename", Kind: RoleKind, Name: "boss", To: "chief"},
			[]string{"  chief: { includes: reader }",
				`  meg: { roles: chief, in: { team: north }, credentials: { card: { name: meg, password: env:MEG } } }`,
				`  - { at: GET /b, who: chief }`, `  - { at: GET /c, who: [chief, "identity:bob"], by: [card, key] }`},
			[]string{"  boss: { includes: reader }",
				`  meg: { roles: boss, in: { team: north }, credentials: { card: { name: meg, password: env:MEG } } }`,
				`  - { at: GET /b, who: boss }`, `  - { at: GET /c, who: [boss, "identity:bob"], by: [card, key] }`},
			""},
		{"a name that is taken", Change{Do: "rename", Kind: IdentityKind, Name: "bob", To: "ann"}, nil, nil,
			`there is a identity "ann" already`},
		{"what is no name", Change{Do: "rename", Kind: IdentityKind, Name: "bob", To: "b o b"}, nil, nil, "is no name"},
		{"one goes, with its records", Change{Do: "remove", Kind: IdentityKind, Name: "ann"},
			[]string{`  thing: { fills: "/t/{id}", owned_by: { bob: [t-2] }, in: { team: { north: [t-1] } } }`},
			[]string{`  ann: { roles: reader, credentials: { card: { name: ann, password: env:ANN } } } # the first`,
				`  thing: { fills: "/t/{id}", owned_by: { ann: [t-1], bob: [t-2] }, in: { team: { north: [t-1] } } }`}, ""},
		{"who is named elsewhere stays", Change{Do: "remove", Kind: IdentityKind, Name: "bob"}, nil, nil,
			"bob is named in line 21; take it out there first"},
		{"nobody", Change{Do: "remove", Kind: IdentityKind, Name: "zoe"}, nil, nil, `there is no identity "zoe"`},
	} {
		t.Run(x.name, func(t *testing.T) {
			out, title, err := c.Edit(t.Context(), text, x.change)
			if x.err != "" {
				require.ErrorContains(t, err, x.err)
				return
			}
			require.NoError(t, err)
			assert.NotEmpty(t, title)
			was, is := strings.Split(text, "\n"), strings.Split(out, "\n")
			for _, l := range x.new {
				assert.Contains(t, is, l)
			}
			for _, l := range was {
				assert.True(t, slices.Contains(is, l) || slices.Contains(x.gone, l), "%s\n%s", l, out)
			}
		})
	}
	secret, err := c.ws.Secret(t.Context(), declaration.Value{Kept: "eve-password"})
	require.NoError(t, err)
	assert.Equal(t, "very secret", secret)

	_, _, err = opened(t, "", text).Edit(t.Context(), text, Change{Do: "put", Kind: IdentityKind, Name: "eve",
		Credentials: []Given{{Scheme: "key", Secrets: map[string]string{"key": "very secret"}}}})
	require.ErrorContains(t, err, "env:NAME", "without a data directory nothing can be kept")
}

// jwt is a token that nothing has signed.
func jwt(header, claims string) string {
	b := base64.RawURLEncoding.EncodeToString
	return b([]byte(header)) + "." + b([]byte(claims)) + "." + b([]byte("signature"))
}

// A credential that is tried says how it fares, and what of the answer is what.
func TestACredentialIsTried(t *testing.T) {
	shape, says := `{"token":"%","expires_in":900,"user":{"name":"ann"}}`, ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Name, Password string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		switch {
		case r.URL.Path == "/login" && in.Password == "right-for-"+in.Name:
			_, _ = w.Write([]byte(strings.Replace(shape, "%", cmp.Or(says, "an-opaque-token-of-"+in.Name), 1)))
		case r.Header.Get("X-Key") == "the-key-of-bob":
			_, _ = w.Write([]byte(`[]`))
		default:
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = w.Write([]byte(`{"error":"wrong"}`))
		}
	}))
	defer s.Close()
	t.Setenv("ANN", "right-for-ann")
	t.Setenv("BOB", "wrong-for-bob")
	t.Setenv("K", "the-key-of-bob")
	c := opened(t, "", strings.Replace(text, "http://127.0.0.1:1", s.URL, 1))
	try := func(identity, scheme string) Tried {
		x, err := c.Try(t.Context(), "here", "", identity, scheme)
		require.NoError(t, err)
		return x
	}
	x := try("ann", "card")
	assert.Equal(t, Obtained, x.State, x.Why)
	assert.Equal(t, []Take{{"access", "/token", true}}, x.Takes)
	assert.InDelta(t, 900, x.Ends.Sub(x.At).Seconds(), 1)
	assert.NotContains(t, x.Exchange.Content, "an-opaque-token", "what it gave is not shown")
	assert.NotContains(t, x.Exchange.Body, "right-for-ann")
	assert.Equal(t, Obtained, c.Look("here", "").Identities[0].Credentials[0].State)

	require.NotNil(t, x.Token)
	assert.Equal(t, "opaque", x.Token.Kind)

	x = try("bob", "card")
	assert.Equal(t, Refused, x.State)
	assert.Contains(t, x.Why, "401")
	assert.Contains(t, x.Exchange.Content, "wrong")
	assert.Equal(t, Obtained, try("bob", "key").State)

	x = try("meg", "card")
	assert.Equal(t, Missing, x.State)
	assert.Contains(t, x.Why, "MEG")

	shape = `{"token":"%","expires_in":900}`
	says = jwt(`{"alg":"ES256"}`, `{"iss":"https://id.example","aud":"a","iat":1700000000,"exp":1700000600,`+
		`"realm":{"roles":["reader","poet"]},"scope":"see"}`)
	offered := []string{}
	for _, o := range try("ann", "card").Offers {
		offered = append(offered, o.Says)
		out, _, err := c.Edit(t.Context(), "", o.Change)
		require.NoError(t, err, o.Says)
		assert.NotEqual(t, c.ws.Present().Text, out)
	}
	assert.Equal(t, []string{"it is a JWT", "the issuer is https://id.example", "the audience is a",
		"it is signed with ES256", "it lives 10m", "its scopes stand at /scope", "ann has scopes see",
		"its roles stand at /realm/roles", "ann has roles poet"}, offered)

	says, shape = "", `{"jwt":"%"}`
	x = try("ann", "card")
	assert.JSONEq(t, `{"jwt":"‹22 characters›"}`, x.Exchange.Content, "what nobody has named is not shown either")
	assert.Equal(t, Refused, x.State)
	assert.Contains(t, x.Why, "nothing at /token, where access is taken")
	_, err := c.Try(t.Context(), "here", "", "meg", "key")
	require.ErrorContains(t, err, "meg has no credential")
}
