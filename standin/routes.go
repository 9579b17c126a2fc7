package standin

import (
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

func access(who func(*caller) bool) guard   { return guard{scheme: "access", who: who} }
func owner(who func(*caller) bool) guard    { return guard{scheme: "access", who: who, owner: true} }
func verified(who func(*caller) bool) guard { return guard{scheme: "access", who: who, verify: true} }

func nobody(*caller) bool { return false }
func anyIn(*caller) bool  { return true }

// routes are those of the service itself, and of its issuer.
func (s *Service) routes() {
	api := func(key string, g guard, h func(*call)) { s.add(&s.api, key, g, h) }
	s.science(api)
	s.house(api)
	s.partners(api)
	s.issuer(func(key string, g guard, h func(*call)) { s.add(&s.iss, key, g, h) })
}

// adder adds a route.
type adder = func(key string, g guard, h func(*call))

// science is what observers come for.
func (s *Service) science(api adder) {
	open := guard{}
	api("GET /healthz", open, func(c *call) { c.json(200, map[string]any{"status": "ok"}) })
	api("GET /v1/sky/calendar", open, func(c *call) {
		c.json(200, map[string]any{"nights": []any{map[string]any{"date": "2026-12-01", "moon": 0.42,
			"closed": false}}})
	})
	api("GET /v1/sky/objects", open, func(c *call) { c.json(200, map[string]any{"objects": []any{"m31", "ngc-7331"}}) })
	api("GET /v1/sky/objects/{object_id}", open, s.object)

	api("GET /v1/proposals", access(oneOf("observer", "auditor")),
		s.listProposals)
	api("POST /v1/proposals", verified(oneOf("observer")), s.create("p", []string{"title"},
		map[string]any{"state": "draft", "hours": 1, "abstract": ""}))
	api("GET /v1/proposals/{proposal_id}", guard{scheme: "access", who: anyIn, opens: s.published}, s.readProposal)
	api("PATCH /v1/proposals/{proposal_id}", owner(nobody), s.change("p"))
	api("DELETE /v1/proposals/{proposal_id}", owner(nobody), s.remove("p"))
	api("POST /v1/proposals/{proposal_id}/submit", owner(nobody), s.setState("submitted"))
	api("POST /v1/proposals/{proposal_id}/approve", access(oneOf("director")), s.setState("approved"))

	api("GET /v1/observations", access(oneOf("observer", "auditor")),
		func(c *call) { c.json(200, s.list("o", s.ofTeam(c))) })
	api("POST /v1/observations", access(oneOf("observer")), s.create("o", []string{"object", "minutes"},
		map[string]any{"start": "2026-12-05T22:00:00Z", "note": ""}))
	api("GET /v1/observations/{observation_id}", owner(oneOf("operator", "auditor")), s.read("o"))
	api("PATCH /v1/observations/{observation_id}", owner(oneOf("operator")), s.change("o"))
	api("DELETE /v1/observations/{observation_id}", owner(oneOf("operator")), s.remove("o"))

	team := guard{scheme: "access", who: oneOf("observer", "auditor"), team: true}
	api("GET /v1/teams/{team_id}/notes", team, func(c *call) {
		c.json(200, s.list("n", func(t *thing) bool { return t.Team == c.param }))
	})
	api("GET /v1/teams/{team_id}/notes/{note_id}", team, s.readNote)

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
}

// house is the dome, the instruments and the people.
func (s *Service) house(api adder) {
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
	api("POST /v1/people", guard{}, s.signUp)
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
}

// partners are other observatories, alerts, and the console.
func (s *Service) partners(api adder) {
	open, key := guard{}, guard{scheme: "key"}
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
}

// issuer is what gives out tokens.
func (s *Service) issuer(iss adder) {
	open := guard{}
	iss("POST /v1/session", open, s.login)
	iss("POST /v1/session/refresh", open, func(c *call) { s.renew(c, text(c.body["refresh_token"])) })
	iss("POST /v1/session/end", open, func(c *call) {
		if x := s.refresh[text(c.body["refresh_token"])]; x != nil {
			if !s.flaws[DeafEnd] {
				s.ended[x.family] = s.now()
			}
			if s.flaws[LogoutEndsAll] {
				for _, o := range s.refresh {
					if o.person == x.person && s.ended[o.family].IsZero() {
						s.ended[o.family] = s.now()
					}
				}
			}
			c.w.WriteHeader(204)
			return
		}
		c.problem(400, "there is no such session")
	})
	iss("POST /v1/session/email", access(oneOf("observer", "auditor")), func(c *call) {
		if p := s.people[c.caller.id]; p != nil {
			s.sendLink(p)
		}
		c.json(202, map[string]any{"state": "sent"})
	})
	iss("GET "+confirmPath, guard{scheme: "mailed"}, s.confirm)
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
				s.ended[x.family] = s.now()
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
