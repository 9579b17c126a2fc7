package standin

import (
	"fmt"
	"regexp"
	"sort"
	"strings"
)

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

// ofTeam are the things that a list shows a caller: those of its team, and all to directors and auditors.
func (s *Service) ofTeam(c *call) func(*thing) bool {
	team := func(id string) string {
		if p := s.people[id]; p != nil {
			return p.Team
		}
		return ""
	}
	return func(t *thing) bool {
		return c.caller.has("director") || c.caller.has("auditor") || t.Owner == c.caller.id ||
			team(t.Owner) != "" && team(t.Owner) == team(c.caller.id)
	}
}

// listProposals shows the proposals of the caller's team.
func (s *Service) listProposals(c *call) {
	show := s.ofTeam(c)
	c.json(200, s.list("p", func(t *thing) bool { return show(t) || s.flaws[ListShowsOthers] }))
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
	seen := s.published(c.param) || t != nil && (t.Owner == c.caller.id || c.caller.has("director") ||
		c.caller.has("auditor") ||
		s.flaws[StrangerReads] && c.caller.has("observer"))
	if !seen {
		c.problem(404, "there is no such thing")
		return
	}
	c.json(200, t.view())
}

// published says whether a proposal is one that anybody may read.
func (s *Service) published(id string) bool {
	t := s.things["p"][id]
	return t != nil && (t.Data["state"] == "published" || s.flaws[StateIgnored])
}

// sameTeam says whether a caller is of the team in the path. Auditors see all.
func (s *Service) sameTeam(c *call) bool {
	segs := split(c.r.URL.Path)
	p := s.people[c.caller.id]
	return c.caller.has("auditor") || p != nil && p.Team == segs[2] || s.flaws[TenantCrossed] && len(segs) == 4
}

// readNote shows a note of the team in the path.
func (s *Service) readNote(c *call) {
	t := s.find(c, "n")
	switch {
	case t == nil:
	case t.Team != split(c.r.URL.Path)[2] && !s.flaws[TenantMixed]:
		c.problem(404, "there is no such thing")
	default:
		c.json(200, t.view())
	}
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
	signingUp := c.rt.key == "POST /v1/people"
	if r, ok := c.body["roles"]; ok && (s.flaws[RoleFromBody] && !signingUp || s.flaws[RoleAtSignUp] && signingUp) {
		p.Roles = texts(r)
	}
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
	if !s.rightFor(p, text(c.body["password"])) && !(s.flaws[AnyPassword] && p != nil && p.login) {
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
	if x == nil || s.over(x.family) || s.now().Sub(x.since) > s.idle(refreshIdle) {
		c.problem(401, "there is no such session")
		return
	}
	if x.used && !s.flaws[ReuseTolerated] {
		s.ended[x.family] = s.now()
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
	if !s.rightFor(p, text(c.body["password"])) {
		c.problem(401, "name or password is wrong")
		return
	}
	v := random()
	s.console[v] = &visit{person: p.ID, began: s.now(), used: s.now()}
	attributes := "; HttpOnly; Secure; SameSite=Strict"
	if s.flaws[LooseCookie] {
		attributes = ""
	}
	c.w.Header().Set("Set-Cookie", fmt.Sprintf("fh_console=%s; Path=/; Max-Age=3600%s", v, attributes))
	c.json(200, map[string]any{"state": "signed in"})
}
