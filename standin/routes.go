package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

func (s *Service) add(table *[]*rt, key string, g guard, h func(*call)) {
	method, path, _ := strings.Cut(key, " ")
	segs := split(path)
	for i, g := range segs {
		if !strings.HasPrefix(g, "{") {
			segs[i] = s.n(g)
		}
	}
	*table = append(*table, &rt{method: method, segs: segs, guard: g, handle: h, key: key})
}

func (s *Service) routes() {
	open := guard{}
	access := func(who func(*caller) bool) guard { return guard{scheme: "access", who: who} }
	owner := func(who func(*caller) bool) guard { return guard{scheme: "access", who: who, owner: true} }
	verified := func(who func(*caller) bool) guard { return guard{scheme: "access", who: who, verify: true} }
	nobody := func(*caller) bool { return false }
	anyIn := func(*caller) bool { return true }
	api := func(key string, g guard, h func(*call)) { s.add(&s.api, key, g, h) }

	api("GET /healthz", open, func(c *call) { c.json(200, map[string]any{"status": "ok"}) })
	api("GET /v1/sky/calendar", open, func(c *call) {
		c.json(200, map[string]any{"nights": []any{map[string]any{"date": "2026-12-01", "moon": 0.42,
			"closed": false}}})
	})
	api("GET /v1/sky/objects", open, func(c *call) { c.json(200, map[string]any{"objects": []any{"m31", "ngc-7331"}}) })
	api("GET /v1/sky/objects/{object_id}", open, s.object)

	api("GET /v1/proposals", access(oneOf("observer", "auditor")),
		func(c *call) { c.json(200, s.list("p", s.visible(c))) })
	api("POST /v1/proposals", verified(oneOf("observer")), s.create("p", []string{"title"},
		map[string]any{"state": "draft", "hours": 1, "abstract": ""}))
	api("GET /v1/proposals/{proposal_id}", access(anyIn), s.readProposal)
	api("PATCH /v1/proposals/{proposal_id}", owner(nobody), s.change("p"))
	api("DELETE /v1/proposals/{proposal_id}", owner(nobody), s.remove("p"))
	api("POST /v1/proposals/{proposal_id}/submit", owner(nobody), s.setState("submitted"))
	api("POST /v1/proposals/{proposal_id}/approve", access(oneOf("director")), s.setState("approved"))

	api("GET /v1/observations", access(oneOf("observer", "auditor")),
		func(c *call) { c.json(200, s.list("o", s.visible(c))) })
	api("POST /v1/observations", access(oneOf("observer")), s.create("o", []string{"object", "minutes"},
		map[string]any{"start": "2026-12-05T22:00:00Z", "note": ""}))
	api("GET /v1/observations/{observation_id}", owner(oneOf("operator", "auditor")), s.read("o"))
	api("PATCH /v1/observations/{observation_id}", owner(oneOf("operator")), s.change("o"))
	api("DELETE /v1/observations/{observation_id}", owner(oneOf("operator")), s.remove("o"))

	api("GET /v1/frames", verified(oneOf("observer", "auditor")),
		func(c *call) { c.json(200, s.list("f", s.visible(c))) })
	api("POST /v1/frames", guard{scheme: "access", who: anyIn, scope: "frames:write"},
		s.create("f", []string{"filter", "exposure"}, map[string]any{"observation": "", "checksum": ""}))
	api("GET /v1/frames/{frame_id}", owner(oneOf("operator", "auditor")), s.read("f"))
	api("DELETE /v1/frames/{frame_id}", owner(s.deleteFrame), s.remove("f"))
	api("POST /v1/frames/{frame_id}/link", verified(oneOf("observer")), func(c *call) {
		if s.things["f"][c.param] == nil {
			c.problem(404, "there is no such frame")
			return
		}
		path := "/" + s.n("v1") + "/" + s.n("downloads") + "/" + c.param
		exp := strconv.FormatInt(s.now().Add(10*time.Minute).Unix(), 10)
		c.json(201, map[string]any{"url": path + "?expires=" + exp + "&sig=" + s.linkMAC(path, exp)})
	})
	api("GET /v1/downloads/{frame_id}", guard{scheme: "link"}, s.read("f"))
	api("POST /v1/cutouts", access(oneOf("observer")), func(c *call) {
		if need(c, "ra", "dec", "size") {
			c.json(202, map[string]any{"job": s.number("job"), "state": "queued"})
		}
	})

	api("GET /v1/dome/status", access(oneOf("observer", "auditor")),
		func(c *call) { c.json(200, map[string]any{"azimuth": 141.5, "shutter": "open"}) })
	api("POST /v1/dome/slew", access(oneOf("operator")), func(c *call) {
		if need(c, "ra", "dec") {
			c.json(202, map[string]any{"move": "m-" + strconv.Itoa(s.number("move")), "state": "slewing"})
		}
	})
	api("POST /v1/dome/park", access(oneOf("operator")),
		func(c *call) { c.json(202, map[string]any{"state": "parking"}) })

	api("GET /v1/instruments", access(anyIn),
		func(c *call) { c.json(200, s.list("in", func(*thing) bool { return true })) })
	api("GET /v1/instruments/{instrument_id}", access(anyIn), s.read("in"))
	api("PUT /v1/instruments/{instrument_id}", access(oneOf("operator")), s.change("in"))

	api("GET /v1/people", access(oneOf("operator", "auditor")), func(c *call) {
		var out []any
		for _, id := range keys(s.people) {
			out = append(out, s.people[id].view())
		}
		c.json(200, map[string]any{"items": out})
	})
	api("POST /v1/people", open, s.signUp)
	api("GET /v1/people/{person_id}", owner(oneOf("operator", "auditor")), func(c *call) {
		if p := c.person(); p != nil {
			c.json(200, p.view())
		}
	})
	api("PATCH /v1/people/{person_id}", owner(nobody), func(c *call) {
		if p := c.person(); p != nil {
			if n, ok := c.body["name"].(string); ok {
				p.Name = n
			}
			s.takeRoles(c, p)
			c.json(200, p.view())
		}
	})
	api("DELETE /v1/people/{person_id}", access(oneOf("director")), func(c *call) {
		if p := c.person(); p != nil {
			delete(s.people, p.ID)
			c.w.WriteHeader(204)
		}
	})
	api("PUT /v1/people/{person_id}/roles", access(oneOf("director")), func(c *call) {
		if p := c.person(); p != nil && need(c, "roles") {
			p.Roles = texts(c.body["roles"])
			c.json(200, p.view())
		}
	})

	key := guard{scheme: "key"}
	api("GET /v1/partners/feed", key, func(c *call) {
		c.json(200, map[string]any{"partner": c.caller.id, "items": []any{s.id("f", 501), s.id("f", 602)}})
	})
	api("GET /v1/partners/frames/{frame_id}", key, s.read("f"))
	api("POST /v1/partners/requests", key, func(c *call) {
		if need(c, "object") {
			c.json(201, map[string]any{"id": "r-" + strconv.Itoa(s.number("req")), "object": c.body["object"]})
		}
	})
	api("POST /v1/alerts", guard{scheme: "signature"}, func(c *call) { c.json(202, map[string]any{"state": "taken"}) })
	api("GET /v1/audit", access(oneOf("auditor", "director")), func(c *call) {
		c.json(200, map[string]any{"entries": []any{map[string]any{"at": "2026-11-20T03:12:00Z", "who": s.n("sanna"),
			"did": "dome opened"}}})
	})
	api("POST /v1/console/login", open, s.consoleLogin)
	api("GET /v1/console/overview", guard{scheme: "cookie"},
		func(c *call) { c.json(200, map[string]any{"tonight": "clear", "staff": c.caller.id}) })
	api("POST /v1/console/notices", guard{scheme: "cookie"}, func(c *call) {
		if o := c.r.Header.Get("Origin"); o != "" && o != "http://"+c.r.Host && !s.flaws[LooseCookie] {
			c.problem(403, "only the console itself may write")
			return
		}
		c.json(201, map[string]any{"state": "posted"})
	})
	api("POST /v1/console/logout", guard{scheme: "cookie"}, func(c *call) {
		if k, err := c.r.Cookie("fh_console"); err == nil {
			delete(s.console, k.Value)
		}
		c.w.WriteHeader(204)
	})

	iss := func(key string, g guard, h func(*call)) { s.add(&s.iss, key, g, h) }
	iss("POST /v1/session", open, s.login)
	iss("POST /v1/session/refresh", open, func(c *call) { s.renew(c, text(c.body["refresh_token"])) })
	iss("POST /v1/session/end", open, func(c *call) {
		if x := s.refresh[text(c.body["refresh_token"])]; x != nil {
			if !s.flaws[DeafEnd] {
				s.ended[x.family] = true
			}
			c.w.WriteHeader(204)
			return
		}
		c.problem(400, "there is no such session")
	})
	iss("POST /v1/session/email", access(oneOf("observer", "auditor")),
		func(c *call) { c.json(202, map[string]any{"state": "sent"}) })
	iss("GET /v1/session/email/confirm", guard{scheme: "link"},
		func(c *call) { c.json(200, map[string]any{"state": "confirmed"}) })
	iss("GET /.well-known/jwks.json", open, func(c *call) {
		c.json(200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &s.key.PublicKey, KeyID: "fh-1",
			Algorithm: "ES256", Use: "sig"}}})
	})
	iss("GET /.well-known/openid-configuration", open, func(c *call) {
		i := s.opt.Issuer
		c.json(200, map[string]any{"issuer": i, "jwks_uri": i + "/.well-known/jwks.json",
			"token_endpoint": i + "/oauth/token", "revocation_endpoint": i + "/oauth/revoke",
			"introspection_endpoint":   i + "/oauth/introspect",
			"response_types_supported": []string{"token"}, "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"ES256"}})
	})
	iss("POST /oauth/token", open, s.oauthToken)
	iss("POST /oauth/revoke", open, func(c *call) {
		if s.client(c) {
			if x := s.refresh[c.r.PostForm.Get("token")]; x != nil {
				s.ended[x.family] = true
			}
			c.w.WriteHeader(200)
		}
	})
	iss("POST /oauth/introspect", open, func(c *call) {
		if s.client(c) {
			who, _ := s.bearer("Bearer "+c.r.PostForm.Get("token"), c.rt.key)
			out := map[string]any{"active": who != nil}
			if who != nil {
				out["sub"] = who.id
			}
			c.json(200, out)
		}
	})
}

func keys[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func text(v any) string { t, _ := v.(string); return t }

func texts(v any) []string {
	var out []string
	if l, ok := v.([]any); ok {
		for _, x := range l {
			out = append(out, text(x))
		}
	}
	return out
}

func need(c *call, members ...string) bool {
	for _, m := range members {
		if c.body[m] == nil {
			c.problem(422, "the member "+m+" is missing")
			return false
		}
	}
	return true
}

func (s *Service) number(kind string) int { s.next[kind]++; return s.next[kind] }

func (t *thing) view() map[string]any {
	out := map[string]any{"id": t.ID, "owner": t.Owner}
	for k, v := range t.Data {
		out[k] = v
	}
	return out
}

func (p *person) view() map[string]any {
	return map[string]any{"id": p.ID, "name": p.Name, "email": p.Email, "roles": append([]string{}, p.Roles...),
		"team": p.Team}
}

func (s *Service) visible(c *call) func(*thing) bool {
	return func(t *thing) bool {
		return c.caller.has("operator") || c.caller.has("auditor") || t.Owner == c.caller.id
	}
}

func (s *Service) list(kind string, show func(*thing) bool) map[string]any {
	items := []any{}
	for _, id := range keys(s.things[kind]) {
		if t := s.things[kind][id]; show(t) {
			items = append(items, t.view())
		}
	}
	return map[string]any{"items": items}
}

func (s *Service) create(kind string, needed []string, defaults map[string]any) func(*call) {
	return func(c *call) {
		if !need(c, needed...) {
			return
		}
		t := &thing{ID: s.id(kind, s.number(kind)), Owner: c.caller.id, Data: map[string]any{}}
		for k, v := range defaults {
			t.Data[k] = v
			if b, ok := c.body[k]; ok {
				t.Data[k] = b
			}
		}
		for _, k := range needed {
			t.Data[k] = c.body[k]
		}
		s.things[kind][t.ID] = t
		c.json(201, t.view())
	}
}

func (s *Service) find(c *call, kind string) *thing {
	t := s.things[kind][c.param]
	if t == nil {
		c.problem(404, "there is no such thing")
	}
	return t
}

func (s *Service) read(kind string) func(*call) {
	return func(c *call) {
		if t := s.find(c, kind); t != nil {
			c.json(200, t.view())
		}
	}
}

// readProposal hides the proposals of others: to strangers they do not exist.
func (s *Service) readProposal(c *call) {
	t := s.things["p"][c.param]
	seen := t != nil && (t.Owner == c.caller.id || c.caller.has("director") || c.caller.has("auditor") ||
		s.flaws[StrangerReads] && c.caller.has("observer"))
	if !seen {
		c.problem(404, "there is no such thing")
		return
	}
	c.json(200, t.view())
}

func (s *Service) deleteFrame(who *caller) bool {
	return s.flaws[StrangerDeletes] && who.has("observer")
}

func (s *Service) change(kind string) func(*call) {
	return func(c *call) {
		t := s.find(c, kind)
		if t == nil {
			return
		}
		if len(c.body) == 0 {
			c.problem(422, "nothing to change")
			return
		}
		for k, v := range c.body {
			if _, known := t.Data[k]; known {
				t.Data[k] = v
			}
		}
		c.json(200, t.view())
	}
}

func (s *Service) remove(kind string) func(*call) {
	return func(c *call) {
		if s.find(c, kind) != nil {
			delete(s.things[kind], c.param)
			c.w.WriteHeader(204)
		}
	}
}

func (s *Service) setState(to string) func(*call) {
	return func(c *call) {
		if t := s.find(c, "p"); t != nil {
			t.Data["state"] = to
			c.json(200, t.view())
		}
	}
}

var goodID = regexp.MustCompile(`^[a-z0-9-]+$`)

func (s *Service) object(c *call) {
	if s.flaws[StackTrace] && !goodID.MatchString(c.param) {
		c.problem(500, "goroutine 41 [running]:\nmain.(*catalogue).find(0x0)\n\t/srv/fernhollow/catalogue.go:88")
		return
	}
	if c.param != "m31" && c.param != "ngc-7331" {
		c.problem(404, "no such object")
		return
	}
	c.json(200, map[string]any{"id": c.param, "ra": 10.68, "dec": 41.27})
}

func (c *call) person() *person {
	p := c.s.people[c.param]
	if p == nil {
		c.problem(404, "there is no such person")
	}
	return p
}

func (s *Service) takeRoles(c *call, p *person) {
	if r, ok := c.body["roles"]; ok && s.flaws[RoleFromBody] {
		p.Roles = texts(r)
	}
}

func (s *Service) signUp(c *call) {
	if !need(c, "name", "email", "password") {
		return
	}
	p := &person{ID: s.id("person", s.number("person")), Name: text(c.body["name"]), Email: text(c.body["email"]),
		Roles: []string{"observer"}}
	s.takeRoles(c, p)
	s.people[p.ID] = p
	out := p.view()
	if s.flaws[SecretEcho] {
		h := sha256.Sum256([]byte(text(c.body["password"])))
		out["password_hash"] = hex.EncodeToString(h[:])
	}
	c.json(201, out)
}

func (s *Service) secretOf(name string) string {
	for orig := range map[string]bool{"imre": true, "tove": true, "sanna": true, "odell": true, "quill": true} {
		if s.n(orig) == name {
			return s.secrets[strings.ToUpper(orig)+"_PASSWORD"]
		}
	}
	return ""
}

func (s *Service) login(c *call) {
	if !need(c, "username", "password") {
		return
	}
	p := s.people[text(c.body["username"])]
	if p == nil || !p.login || !same(text(c.body["password"]), s.secretOf(p.ID)) && !s.flaws[AnyPassword] {
		c.problem(401, "name or password is wrong")
		return
	}
	s.grant(c, p, random(), "")
}

// grant opens or renews a session; old is the refresh token that was used.
func (s *Service) grant(c *call, p *person, family, old string) {
	tok, err := s.token(p.ID, p.Roles, p.Scopes, p.Verified, family)
	if err != nil {
		c.problem(500, "no token could be made")
		return
	}
	r := random()
	if old != "" && s.flaws[NoRotation] {
		r = old
	}
	s.refresh[r] = &session{person: p.ID, family: family, since: s.now()}
	c.json(200, map[string]any{"access_token": tok, "token_type": "Bearer", "expires_in": int(s.life().Seconds()),
		"refresh_token": r})
}

func (s *Service) renew(c *call, tok string) {
	x := s.refresh[tok]
	if x == nil || s.ended[x.family] || s.now().Sub(x.since) > 12*time.Hour {
		c.problem(401, "there is no such session")
		return
	}
	if x.used && !s.flaws[ReuseTolerated] {
		s.ended[x.family] = true
		c.problem(401, "this token was used before; the session is ended")
		return
	}
	p := s.people[x.person]
	if p == nil {
		c.problem(401, "there is no such person")
		return
	}
	x.used = true
	s.grant(c, p, x.family, tok)
}

func (s *Service) client(c *call) bool {
	c.r.Body = nopBody(c.raw)
	if c.r.ParseForm() != nil || c.r.PostForm.Get("client_id") != s.n("nightrun") ||
		!same(c.r.PostForm.Get("client_secret"), s.secrets["NIGHTRUN_SECRET"]) {
		c.problem(401, "the client is not known")
		return false
	}
	return true
}

func (s *Service) oauthToken(c *call) {
	if !s.client(c) {
		return
	}
	switch c.r.PostForm.Get("grant_type") {
	case "client_credentials":
		tok, err := s.token(s.n("nightrun"), nil, []string{"frames:write"}, false, "")
		if err != nil {
			c.problem(500, "no token could be made")
			return
		}
		c.json(200, map[string]any{"access_token": tok, "token_type": "Bearer", "expires_in": int(s.life().Seconds()),
			"scope": "frames:write"})
	case "refresh_token":
		s.renew(c, c.r.PostForm.Get("refresh_token"))
	default:
		c.problem(400, "this grant type is not served")
	}
}

func (s *Service) consoleLogin(c *call) {
	if !need(c, "username", "password") {
		return
	}
	p := s.people[text(c.body["username"])]
	if p == nil || !p.login || !same(text(c.body["password"]), s.secretOf(p.ID)) {
		c.problem(401, "name or password is wrong")
		return
	}
	v := random()
	s.console[v] = p.ID
	attributes := "; HttpOnly; Secure; SameSite=Strict"
	if s.flaws[LooseCookie] {
		attributes = ""
	}
	c.w.Header().Set("Set-Cookie", fmt.Sprintf("fh_console=%s; Path=/; Max-Age=3600%s", v, attributes))
	c.json(200, map[string]any{"state": "signed in"})
}
