package app

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"time"
)

// signed is the village with tokens that are signed (RFC 7519), and a key beside them.
const signed = `millgate: 1.1
targets: { t: { base: "%s", pace: 5000 per 1s, unsafe: allowed } }
routes: [GET /a, GET /b, "GET /t/{id}", "PATCH /t/{id}", { at: GET /feed, sensitivity: high }]
roles: { r: , boss: { includes: r } }
lifetimes: { short: { max: 15m } }
schemes:
  access: { kind: bearer, token: jwt, issuer: "https://id.village.example", audience: village, algorithms: [HS256],
    keys: { secret: the-secret-of-the-village-0123456789 }, claims: { roles: /roles }, lifetime: { access: short },
    login: { send: POST /login, json: { n: "{n}", p: "{password}" }, take: { access: /t } } }
  key: { kind: api-key, in: header, name: X-Key }
identities:
  ann: { roles: r, credentials: { access: { n: ann, password: right-ann } } }
  bob: { roles: r, credentials: { access: { n: bob, password: right-bob } } }
  meg: { roles: boss, credentials: { access: { n: meg, password: right-meg } } }
  shop: { credentials: { key: { key: key-of-the-shop } } }
records:
  thing: { fills: "/t/{id}", owned_by: { ann: [t-ann], bob: [t-bob] } }
access:
  - { at: GET /a, who: r }
  - { at: GET /b, who: boss }
  - { at: "/t/{id}", who: owner }
  - { at: GET /feed, who: identity:shop, by: key }
`

// issuing is the service of it. check says whose a token is, and with which roles: nobody's
// without.
type issuing struct {
	check func(header, claims map[string]any, signedRight bool) bool // the sound one without
	twist func(v *issuing, w http.ResponseWriter, r *http.Request) bool
	claim func(claims map[string]any) // of what is issued
	keyed func(r *http.Request) bool
}

const villageSecret = "the-secret-of-the-village-0123456789"

func mac(text string) string {
	h := hmac.New(sha256.New, []byte(villageSecret))
	h.Write([]byte(text))
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil))
}

func (v *issuing) issue(who string) string {
	now := time.Now().Unix()
	roles := []string{"r"}
	if who == "meg" {
		roles = []string{"boss"}
	}
	claims := map[string]any{"iss": "https://id.village.example", "aud": "village", "sub": who, "iat": now,
		"exp": now + 900, "jti": "j", "roles": roles}
	if v.claim != nil {
		v.claim(claims)
	}
	b, _ := json.Marshal(claims)
	text := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"HS256","typ":"JWT"}`)) + "." +
		base64.RawURLEncoding.EncodeToString(b)
	return text + "." + mac(text)
}

func soundToken(header, claims map[string]any, right bool) bool {
	exp, _ := claims["exp"].(float64)
	nbf, _ := claims["nbf"].(float64)
	return right && header["alg"] == "HS256" && claims["iss"] == "https://id.village.example" &&
		claims["aud"] == "village" && float64(time.Now().Unix()) < exp && float64(time.Now().Unix()) >= nbf
}

// who is whose the token of a request is, and whether it is the boss's.
func (v *issuing) who(r *http.Request) (name string, boss bool) {
	list := r.Header.Values("Authorization")
	if len(list) != 1 {
		return "", false
	}
	scheme, tok, _ := strings.Cut(list[0], " ")
	p := strings.Split(tok, ".")
	if !strings.EqualFold(scheme, "bearer") || len(p) != 3 {
		return "", false
	}
	var header, claims map[string]any
	for i, into := range []*map[string]any{&header, &claims} {
		b, err := base64.RawURLEncoding.DecodeString(p[i])
		if err != nil || json.Unmarshal(b, into) != nil {
			return "", false
		}
	}
	check := v.check
	if check == nil {
		check = soundToken
	}
	if !check(header, claims, hmac.Equal([]byte(p[2]), []byte(mac(p[0]+"."+p[1])))) {
		return "", false
	}
	name, _ = claims["sub"].(string)
	roles, _ := claims["roles"].([]any)
	return name, slices.Contains(roles, any("boss"))
}

func (v *issuing) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if v.twist == nil || !v.twist(v, w, r) {
		v.serve(w, r)
	}
}

func (v *issuing) serve(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	a := httptest.NewRecorder()
	who, boss := v.who(r)
	thing, isThing := strings.CutPrefix(r.URL.Path, "/t/")
	switch {
	case r.URL.Path == "/login" && r.Method == "POST":
		var in struct{ N, P string }
		if _ = json.NewDecoder(r.Body).Decode(&in); in.P != "right-"+in.N {
			says(a, 401, "{}")
			break
		}
		says(a, 200, `{"t":"`+v.issue(in.N)+`"}`)
	case !slices.Contains([]string{"/a", "/b", "/feed"}, r.URL.Path) && (!isThing || strings.Contains(thing, "/")):
		says(a, 404, "{}")
	case r.Method != "GET" && r.Method != "HEAD" && (r.Method != "PATCH" || r.URL.Path[:2] != "/t"):
		says(a, 405, "{}")
	case r.URL.Path == "/feed":
		if keys := r.Header.Values("X-Key"); len(keys) != 1 || keys[0] != "key-of-the-shop" {
			if v.keyed == nil || !v.keyed(r) {
				says(a, 401, "{}")
				break
			}
		}
		says(a, 200, `{"path":"/feed","of":"the shop"}`)
	case who == "":
		says(a, 401, "{}")
	case isThing && thing != "t-ann" && thing != "t-bob":
		says(a, 404, "{}")
	case r.URL.Path == "/b" && !boss, isThing && thing != "t-"+who:
		says(a, 403, "{}")
	default:
		says(a, 200, `{"path":"`+r.URL.Path+`","of":"`+who+`","size":"`+who+` sees 12 of these"}`)
	}
	w.WriteHeader(a.Code)
	_, _ = w.Write(a.Body.Bytes())
}

// withBasic is signed, where ann has a name and a password for another door.
var withBasic = strings.NewReplacer("  key: { kind", "  door: { kind: basic }\n  key: { kind",
	"password: right-ann } } }", "password: right-ann }, door: { username: ann, password: door-of-ann } } }",
	"{ at: GET /a, who: r }", "{ at: GET /a, who: r, by: access }",
	"{ at: GET /feed, who: identity:shop, by: key }", "{ at: GET /feed, who: identity:shop, by: key }\n"+
		"  - { at: GET /door, who: identity:ann, by: door }", "routes: [GET /a, GET /b,",
	"routes: [GET /a, GET /b, GET /door,").Replace(signed)

// typed is signed, where the kind of the token and two claims of it are declared.
var typed = strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "keys: {", "typ: JWT, requires: [roles, jti],\n"+
	"    signing_key: the-secret-of-the-village-0123456789, keys: {").Replace(signed)

// asTyped is a sound token of it.
func asTyped(h, c map[string]any, right bool) bool {
	return soundToken(h, c, right) && h["typ"] == "JWT" && c["roles"] != nil && c["jti"] != nil
}

// opensTo lets ann's other door open some paths.
func opensTo(paths ...string) func(v *issuing, w http.ResponseWriter, r *http.Request) bool {
	return func(_ *issuing, w http.ResponseWriter, r *http.Request) bool {
		n, p, ok := r.BasicAuth()
		mine := ok && n == "ann" && p == "door-of-ann" && len(r.Header.Values("Authorization")) == 1
		switch {
		case r.URL.Path == "/door" && r.Method != "GET" && r.Method != "HEAD":
			w.WriteHeader(405)
		case mine && slices.Contains(paths, r.URL.Path):
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write([]byte(`{"path":"` + r.URL.Path + `","of":"ann","size":"ann sees 12 of these"}`))
		case r.URL.Path == "/door":
			w.WriteHeader(401)
		default:
			return false
		}
		return true
	}
}

// withTokens are services whose tokens are signed.
var withTokens = []liar{
	{name: "sound, with signed tokens", text: signed, serves: &issuing{}, kinds: []string{}},
	{name: "no signature is looked at", text: signed, serves: &issuing{check: func(_, c map[string]any, _ bool) bool {
		return soundToken(map[string]any{"alg": "HS256"}, c, true)
	}}, kinds: []string{"U everything behind access"}, says: []string{"Open to a broken credential"}, code: 1},
	{name: "unsigned tokens pass", text: signed, serves: &issuing{check: func(h, c map[string]any, right bool) bool {
		none, _ := h["alg"].(string)
		return soundToken(map[string]any{"alg": "HS256"}, c, right || strings.EqualFold(none, "none"))
	}}, kinds: []string{"U everything behind access"}, says: []string{"An unsigned token is accepted"}, code: 1},
	{name: "roles are read before the signature", text: signed, serves: &issuing{check: func(h, c map[string]any,
		right bool) bool {
		return soundToken(h, c, right) || c["sub"] == "meg" && h["alg"] == "HS256"
	}}, code: 1, never: []string{"GET /feed"}},
	{name: "tokens live for a day and say nothing of their beginning", text: signed, serves: &issuing{
		claim: func(c map[string]any) { delete(c, "iat"); c["exp"] = time.Now().Unix() + 86400 }},
		kinds: []string{"S everything behind access"},
		says:  []string{"it lives 24 h; declared are at most 15 min"}, code: 0},
	{name: "tokens say that they begin when they end", text: signed, serves: &issuing{claim: func(c map[string]any) {
		c["iat"], c["exp"] = time.Now().Unix()+86000, time.Now().Unix()+86400
	}}, says: []string{"it lives 24 h"}, code: 0},
	{name: "the kind of a token and its claims are looked at", text: typed, serves: &issuing{check: asTyped},
		kinds: []string{}, never: []string{"wrong typ", "lacks a claim"}},
	{name: "a token of another kind passes", text: typed, serves: &issuing{check: func(h, c map[string]any,
		right bool) bool {
		return asTyped(map[string]any{"alg": h["alg"], "typ": "JWT"}, c, right)
	}}, kinds: []string{"U everything behind access"}, says: []string{"A token of another kind is accepted"}, code: 1},
	{name: "a token without its roles passes as anybody's", text: typed, serves: &issuing{check: func(h,
		c map[string]any,
		right bool) bool {
		if c["roles"] == nil {
			c["roles"] = []any{"r"}
		}
		return asTyped(h, c, right)
	}}, kinds: []string{"U everything behind access"}, says: []string{"A token without a required claim is accepted"},
		code: 1},
	{name: "another door, sound", text: withBasic, serves: &issuing{twist: opensTo("/door")}, kinds: []string{}},
	{name: "another door opens a route that names its schemes", text: withBasic,
		serves: &issuing{twist: opensTo("/door", "/a")}, kinds: []string{"P GET /a"},
		says: []string{"ann got in with its sound door"}, code: 0},
	{name: "the key of the shop opens everything", text: signed, serves: &issuing{twist: func(_ *issuing,
		_ http.ResponseWriter, r *http.Request) bool {
		if r.Header.Get("X-Key") == "key-of-the-shop" && r.Header.Get("Authorization") == "" && r.URL.Path != "/feed" {
			r.Header.Set("Authorization", "Bearer "+(&issuing{}).issue("meg"))
		}
		return false
	}}, says: []string{"With another scheme"}, code: 1, never: []string{"U "}},
}
