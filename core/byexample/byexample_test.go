package byexample_test

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/byexample"
	"millgate/core/declaration"
	"millgate/format/pasted"
)

func jwt(claims string) string {
	b := base64.RawURLEncoding.EncodeToString
	return b([]byte(`{"alg":"RS256"}`)) + "." + b([]byte(claims)) + "." + b([]byte("signature"))
}

// example reads pasted requests, each as "whose: text", beside a declaration, "" is an empty one.
func example(t *testing.T, text string, requests ...string) byexample.Reading {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	if text != "" {
		require.False(t, declaration.Failed(msgs), "%v", msgs)
	}
	var list []*byexample.Request
	for _, r := range requests {
		whose, rest, ok := strings.Cut(r, "|")
		if !ok {
			whose, rest = "", r
		}
		got, err := pasted.Read(rest)
		require.NoError(t, err, rest)
		for _, q := range got {
			q.Whose = whose
			list = append(list, q)
		}
	}
	var target *declaration.Target
	if len(d.Targets) > 0 {
		target = d.Targets[0]
	}
	return byexample.Read(d, target, list)
}

// proposed is what is proposed, a line each.
func proposed(r byexample.Reading) (out []string) {
	for _, p := range r.Proposals {
		if p.Kind == byexample.Route {
			out = append(out, "route "+p.Name)
			continue
		}
		out = append(out, strings.TrimSpace(string(p.Kind)+" "+p.Name+" "+p.Field)+": "+p.Text)
	}
	return out
}

const loginAnswer = "\n\nHTTP/1.1 200 OK\nContent-Type: application/json\n\n"

func TestWhatIsProposed(t *testing.T) {
	const base = "target api: { base: https://api.quay.example }"
	signedIn := jwt(`{"sub":"77","preferred_username":"Ana.Lund","roles":["pilot"],"scope":"read write","exp":4102444800}`)
	for _, c := range []struct {
		name     string
		requests []string
		want     []string
		unread   []string
	}{
		{"a token", []string{"curl https://api.quay.example/v1/berths -H 'Authorization: Bearer opaque-1'"},
			[]string{base,
				"scheme token: { kind: bearer }", "route GET /v1/berths",
				"identity caller-1: { credentials: { token: { token: kept:caller-1-token } } }"}, nil},
		{"a JWT says who holds it and what it may",
			[]string{"curl https://api.quay.example/v1/berths/17 -H 'authorization: bearer " +
				signedIn + "'"}, []string{base, "scheme token: { kind: bearer, token: jwt }",
				"route GET /v1/berths/{berth_id}",
				"identity ana-lund: { roles: pilot, scopes: [read, write], credentials: { token: { token: kept:ana-lund-token } } }"}, nil},
		{"a name and a password", []string{"curl -u ana:pw https://api.quay.example/v1/berths"}, []string{base,
			"scheme basic: { kind: basic }", "route GET /v1/berths",
			"identity ana: { credentials: { basic: { username: ana, password: kept:ana-password } } }"}, nil},
		{"a key in a header",
			[]string{"bot|curl https://api.quay.example/v1/berths -H 'X-Api-Key: k-1' -H 'X-Trace: 1'"}, []string{base,
				"scheme api-key: { kind: api-key, in: header, name: X-Api-Key }", "route GET /v1/berths",
				"identity bot: { credentials: { api-key: { key: kept:bot-key } } }"}, nil},
		{"a key in the query", []string{"bot|curl 'https://api.quay.example/v1/berths?api_key=k-1&page=2'"},
			[]string{base,
				"scheme api_key: { kind: api-key, in: query, name: api_key }", "route GET /v1/berths",
				"identity bot: { credentials: { api_key: { key: kept:bot-key } } }"}, nil},
		{"a word of its own before the key",
			[]string{"bot|curl https://api.quay.example/a -H 'Authorization: Token k-1'"}, []string{base,
				"scheme authorization: { kind: api-key, in: header, name: Authorization }", "route GET /a",
				"identity bot: { credentials: { authorization: { key: kept:bot-key } } }"}, nil},
		{"a session, beside what keeps other pages out",
			[]string{"ana|curl https://api.quay.example/a -b 'theme=dark; csrf_token=c; session_id=s-1'"},
			[]string{base, "scheme session: { kind: cookie, name: session_id }", "route GET /a",
				"identity ana: { credentials: { session: { token: kept:ana-token } } }"}, nil},
		{"a page of another origin, with the user's cookies",
			[]string{"ana|GET /a HTTP/1.1\nHost: api.quay.example\nCookie: session_id=s-1\n" +
				"Origin: https://app.quay.example\nX-Trace: 1\n\nHTTP/1.1 200 OK\nAccess-Control-Allow-Origin: " +
				"https://app.quay.example\nAccess-Control-Allow-Credentials: true\n\n",
				"POST /a HTTP/1.1\nHost: api.quay.example\nOrigin: https://no.quay.example\n\nHTTP/1.1 200 OK\n\n"},
			[]string{base, "scheme session: { kind: cookie, name: session_id }", "route GET /a", "route POST /a",
				"identity ana: { credentials: { session: { token: kept:ana-token } } }",
				"pages the base: { at: \"/**\", allow: { https://app.quay.example: { methods: GET, headers: x-trace, credentials: true } } }"}, nil},
		{"a login without its answer",
			[]string{`curl https://api.quay.example/v1/login --json '{"email":"ana@quay.example","password":"pw","remember":true}'`},
			[]string{base,
				`scheme token: { kind: bearer, login: { send: POST /v1/login, json: {"email":"{email}","password":"{password}","remember":true}, take: { access: /access_token } } }`,
				"route POST /v1/login",
				`identity ana: { credentials: { token: { email: "ana@quay.example", password: kept:ana-password } } }`}, nil},
		{"a login with its answer",
			[]string{"POST /v1/session HTTP/1.1\nHost: api.quay.example\nContent-Type: application/json\n\n" +
				`{"username":"ana","password":"pw"}` + loginAnswer + `{"data":{"jwt":"opaque","refresh_token":"r"}}`},
			[]string{base,
				`scheme token: { kind: bearer, login: { send: POST /v1/session, json: {"password":"{password}","username":"{username}"}, take: { access: /data/jwt, refresh: /data/refresh_token } } }`,
				"route POST /v1/session",
				"identity ana: { credentials: { token: { username: ana, password: kept:ana-password } } }"}, nil},
		{"a login by a form that sets a cookie",
			[]string{"POST /login HTTP/1.1\nHost: api.quay.example\nContent-Type: " +
				"application/x-www-form-urlencoded\n\nuser=ana&pw_hint=&passwd=pw\n\nHTTP/1.1 302 Found\nSet-Cookie: sid=s-1; Path=/; HttpOnly\nLocation: /\n"},
			[]string{base,
				`scheme session: { kind: cookie, name: sid, login: { send: POST /login, form: { user: "{user}", pw_hint: "", passwd: "{passwd}" } } }`,
				"route POST /login",
				"identity ana: { credentials: { session: { user: ana, passwd: kept:ana-passwd } } }"}, nil},
		{"a machine that logs in",
			[]string{"curl https://api.quay.example/oauth/token -d grant_type=client_credentials -d client_id=bot -d client_secret=s"},
			[]string{base,
				`scheme token: { kind: bearer, login: { send: POST /oauth/token, form: { grant_type: client_credentials, client_id: "{client_id}", client_secret: "{client_secret}" }, take: { access: /access_token } } }`,
				"route POST /oauth/token",
				"identity bot: { credentials: { token: { client_id: bot, client_secret: kept:bot-client_secret } } }"}, nil},
		{"a login, and a request with what it gave",
			[]string{"POST /auth HTTP/1.1\nHost: api.quay.example\nContent-Type: application/json\n\n" +
				`{"login":"ana","pin":"1234"}` + loginAnswer + `{"a":{"token":"other"},"session":{"value":"opaque-1"}}`,
				"curl https://api.quay.example/v1/berths -H 'Authorization: Bearer opaque-1'"},
			[]string{base,
				`scheme token: { kind: bearer, login: { send: POST /auth, json: {"login":"{login}","pin":"{pin}"}, take: { access: /session/value } } }`,
				"route POST /auth", "route GET /v1/berths",
				"identity ana: { credentials: { token: { login: ana, pin: kept:ana-pin } } }"}, nil},
		{"what is the same for all proves nobody", []string{
			"ana|curl https://api.quay.example/a -H 'X-App-Key: app' -H 'X-User-Token: a' -H 'X-Berth: 1'",
			"bo|curl https://api.quay.example/a -H 'X-App-Key: app' -H 'X-User-Token: b' -H 'X-Berth: 2'"},
			[]string{base, "header api X-App-Key: kept:api-x-app-key",
				"scheme user-token: { kind: api-key, in: header, name: X-User-Token }", "route GET /a",
				"identity ana: { credentials: { user-token: { key: kept:ana-key } } }",
				"identity bo: { credentials: { user-token: { key: kept:bo-key } } }"},
			[]string{"the header X-Berth differs between callers, and is no credential by its name: if the service looks at it, " +
				"it is an attribute of the caller"}},
		{"a key in what is sent is no login",
			[]string{`curl https://api.quay.example/v1/orders --json '{"api_key":"k","to":"a@b.example"}'`},
			[]string{base, "route POST /v1/orders"}, nil},
		{"making an account is no login",
			[]string{`curl https://api.quay.example/v1/register --json '{"email":"a@b.example","password":"pw"}'`},
			[]string{base, "route POST /v1/register"}, nil},
		{"another token for an earlier one",
			[]string{`curl https://api.quay.example/v1/refresh --json '{"refresh_token":"r"}'`},
			[]string{base, "route POST /v1/refresh"}, nil},
		{"the login is on another host, which becomes one of the target", []string{
			"curl https://api.quay.example/a -H 'Authorization: Bearer t-1'",
			"curl https://api.quay.example/b -H 'Authorization: Bearer t-1'", "curl https://cdn.quay.example/c",
			`curl https://auth.quay.example/login --json '{"user":"ana","password":"pw"}'`},
			[]string{"target api: { base: https://api.quay.example, hosts: { auth: https://auth.quay.example } }",
				`scheme token: { kind: bearer, login: { send: POST auth:/login, json: {"password":"{password}","user":"{user}"}, ` +
					"take: { access: /access_token } } }",
				"route GET /a", "route GET /b", "route POST auth:/login",
				"identity ana: { credentials: { token: { user: ana, password: kept:ana-password } } }"},
			[]string{"what goes to https://cdn.quay.example, which is no host of the target api: say so there (hosts)",
				"how caller-1 logs in: bring that request too, or add it by hand"}},
		{"elsewhere", []string{"curl https://api.quay.example/a", "curl https://api.quay.example/b",
			"curl https://cdn.quay.example/c"},
			[]string{base, "route GET /a", "route GET /b"},
			[]string{"what goes to https://cdn.quay.example, which is no host of the target api: " +
				"say so there (hosts)"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := example(t, "", c.requests...)
			assert.Equal(t, c.want, proposed(r))
			assert.Equal(t, c.unread, r.Unread)
		})
	}
}

// What is declared already is used, and what is missing in it is added.
func TestBesideWhatIsDeclared(t *testing.T) {
	const gate = `millgate: 1.1
targets: { t: { base: "https://api.quay.example/v1", hosts: { id: "https://id.quay.example" } } }
routes: [ "GET /berths/{berth}" ]
roles: { pilot: }
schemes: { main: { kind: bearer } }
identities: { ana: { roles: pilot, credentials: { main: { token: env:A } } } }
access: [ { at: "/**", who: pilot, by: main } ]
`
	r := example(t, gate, "ana|curl https://api.quay.example/v1/berths/7 -H 'Authorization: Bearer a'",
		"bo|curl https://api.quay.example/v1/tides -H 'Authorization: Bearer b'")
	assert.Equal(t, []string{"route GET /tides", "identity bo: { credentials: { main: { token: kept:bo-token } } }"},
		proposed(r))

	r = example(t, gate, "curl https://sso.quay.example/login --json '{\"user\":\"bo\",\"password\":\"pw\"}'")
	assert.Contains(t, proposed(r), "host t sso: https://sso.quay.example")
	assert.Contains(t, proposed(r), "route POST sso:/login")

	r = example(t, gate, "curl https://id.quay.example/login --json '{\"user\":\"bo\",\"password\":\"pw\"}'")
	assert.Equal(t, []string{
		`scheme main login: { send: POST id:/login, json: {"password":"{password}","user":"{user}"}, take: { access: /access_token } }`,
		"route POST id:/login", "identity bo: { credentials: { main: { user: bo, password: kept:bo-password } } }"},
		proposed(r))
}

// How long what a login gives lives is proposed as its answer says it, or as its token does.
func TestTheLifeThatIsSeen(t *testing.T) {
	for answer, want := range map[string]string{
		`{"token":"opaque","expires_in":900}`:                                     "lifetime token: { max: 15m }",
		`{"a":{"token":"opaque","ttl":60},"expires_in":900}`:                      "lifetime token: { max: 1m }",
		`{"token":"` + jwt(`{"iat":1000,"exp":8200}`) + `","expires_in":900}`:     "lifetime token: { max: 2h }",
		`{"token":"opaque","expires_in":"soon"}`:                                  "",
		`{"token":"` + jwt(`{"exp":4102444800}`) + `","expires_at":"2030-01-01"}`: "",
	} {
		got := ""
		for _, l := range proposed(example(t, "", "POST /login HTTP/1.1\nHost: h\n\n"+
			`{"user":"ana","password":"pw"}`+"\n\nHTTP/1.1 200 OK\n\n"+answer)) {
			if strings.HasPrefix(l, "lifetime") {
				got = l
			}
		}
		assert.Equal(t, want, got, answer)
	}
}

// What somebody says goes before what a token says.
func TestTheRoleThatIsSaid(t *testing.T) {
	list, err := pasted.Read("curl https://h/a -H 'Authorization: Bearer " + jwt(`{"sub":"ann","roles":["all"]}`) + "'")
	require.NoError(t, err)
	list[0].Role = "Pilot"
	d, _ := declaration.Parse("x", nil, nil)
	assert.Contains(t, proposed(byexample.Read(d, nil, list)),
		"identity ann: { roles: pilot, credentials: { token: { token: kept:ann-token } } }")
}

// Where each caller asked for one of its own, a record says so; what both asked for, or what one was refused, is
// nobody's.
func TestOwnersAreProposed(t *testing.T) {
	ask := func(who, path, status string) string {
		return who + "|GET " + path + " HTTP/1.1\nHost: h\nAuthorization: Bearer " + who +
			"\n\nHTTP/1.1 " + status + "\n"
	}
	records := func(text string, requests ...string) (out []string) {
		for _, l := range proposed(example(t, text, requests...)) {
			if strings.HasPrefix(l, "record ") {
				out = append(out, l)
			}
		}
		return out
	}
	assert.Equal(t, []string{"record loan: { fills: loan_id, owned_by: { ida: [l-1, l-3], ole: [l-2] } }"}, records("",
		ask("ida", "/loans/l-1", "200"), ask("ole", "/loans/l-2", "200"), ask("ida", "/loans/l-3/pages", "200"),
		ask("ole", "/loans/l-1", "403"), ask("ida", "/loans", "200")))
	assert.Empty(t, records("", ask("ida", "/loans/l-1", "200"), ask("ole", "/loans/l-1", "200")))
	assert.Empty(t, records("", ask("ida", "/loans/l-1", "200"), ask("ida", "/loans/l-2", "200")))
	meg := "meg|GET /loans/l-2 HTTP/1.1\nHost: h\nAuthorization: Bearer "
	meg += jwt(`{"sub":"meg","role":"librarian"}`) + "\n"
	assert.Len(t, records("", ask("ida", "/loans/l-1", "200"), ask("ole", "/loans/l-2", "200"), meg), 1,
		"who has another role may ask for what is somebody else's")
	gate := "millgate: 1.1\ntargets: { t: { base: https://h } }\nroutes: [\"GET /loans/{id}\"]\nroles: { r: }\n" +
		"schemes: { s: { kind: bearer } }\nidentities: { ida: { roles: r, credentials: { s: { token: env:A } } } }\n" +
		"access: [ { at: /**, who: r } ]\n"
	assert.Equal(t, []string{`record loan: { fills: "/loans/{id}", owned_by: { ida: [l-1], ole: [l-2] } }`},
		records(gate,
			ask("ida", "/loans/l-1", "200"), ask("ole", "/loans/l-2", "200")))
	gate += "records: { lent: { fills: \"/loans/{id}\", owned_by: { ida: [l-9] } } }\n"
	assert.Empty(t, records(gate, ask("ida", "/loans/l-1", "200"), ask("ole", "/loans/l-2", "200")))
}

// What differs, between callers and for one of them, is said of each part.
func TestPartsAreCompared(t *testing.T) {
	r := example(t, "", "ana|curl https://h/a -H 'X-Device-Token: d1' -H 'Authorization: Bearer 1' -H 'X-App-Key: k'",
		"ana|curl https://h/a -H 'X-Device-Token: d1' -H 'Authorization: Bearer 2' -H 'X-App-Key: k'",
		"bo|curl https://h/a -H 'X-Device-Token: d2' -H 'Authorization: Bearer 3' -H 'X-App-Key: k' -H 'Accept: x'")
	var parts []string
	for _, p := range r.Parts {
		parts = append(parts, fmt.Sprint(p.In, " ", p.Name, " ", p.Varies, " ", p.Of, " ", p.Proves))
	}
	assert.Equal(t, []string{"header X-Device-Token caller 3 false", "header Authorization session 3 true",
		"header X-App-Key all 3 false"}, parts)
}

// No secret of a request is in anything that is said of it.
func TestSecretsAreNotSaid(t *testing.T) {
	secrets := []string{"hush-1", "hush-2", "hush-3", "hush-4", "hush-5"}
	r := example(t, "",
		"ana|curl https://h/login?api_key=hush-4 --json '{\"user\":\"ana\",\"password\":\"hush-1\",\"otp\":\"hush-5\"}'",
		"ana|curl https://h/a -H 'X-Api-Key: hush-2' -b 'session=hush-3' --json '{\"token\":\"hush-1\",\"name\":\"x\"}'")
	for k := range r.Proposals {
		r.Proposals[k].Secrets, r.Proposals[k].Secret = nil, ""
	}
	for _, s := range secrets {
		assert.NotContains(t, fmt.Sprintf("%+v", r), s)
	}
}
