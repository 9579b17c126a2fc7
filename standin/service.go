package standin

// Rule: What is judged shares no code with the judge.

import (
	"crypto/ecdsa"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Service is the observatory and its issuer.
type Service struct {
	opt     Options
	flaws   map[Flaw]bool
	secrets map[string]string
	key     *ecdsa.PrivateKey
	signer  jose.Signer

	quotaMu sync.Mutex
	counts  map[string]*counted // by quota, caller and node
	turn    atomic.Int64        // of the nodes
	ahead   atomic.Int64        // of the clock, in nanoseconds
	dome    chan struct{}       // held by who moves it

	mu       sync.Mutex
	people   map[string]*person
	things   map[string]map[string]*thing // kind → id
	next     map[string]int
	refresh  map[string]*session
	ended    map[string]time.Time   // jti or family
	console  map[string]*visit      // by cookie
	seen     map[string]bool        // alerts
	mails    []mail                 // the newest first
	links    map[string]*mailedLink // by what signs them
	api, iss []*rt
}

// New makes a service with its data as at the start.
func New(opt Options) (*Service, error) {
	s := &Service{opt: opt, flaws: map[Flaw]bool{}, secrets: Secrets(), refresh: map[string]*session{},
		ended:   map[string]time.Time{},
		console: map[string]*visit{}, seen: map[string]bool{}, counts: map[string]*counted{},
		links: map[string]*mailedLink{},
		dome:  make(chan struct{}, 1)}
	for _, f := range opt.Flaws {
		s.flaws[f] = true
	}
	for k, v := range opt.Secrets {
		s.secrets[k] = v
	}
	if err := s.keys(); err != nil {
		return nil, err
	}
	s.seed()
	s.routes()
	return s, nil
}

// rt is one route of the service.
type rt struct {
	method string
	segs   []string
	guard  guard
	handle func(*call)
	key    string // method and path before renaming
}

// guard says who may pass. A nil who admits every sound credential.
type guard struct {
	scheme string // "", "access", "key", "cookie", "signature", "link", "mailed"
	who    func(*caller) bool
	scope  string
	verify bool                 // the e-mail must be verified
	owner  bool                 // passes who for the owner: the handler compares
	team   bool                 // passes who is of the team in the path
	opens  func(id string) bool // records that anybody gets; nil is none
}

type caller struct {
	id       string
	roles    []string
	scopes   []string
	verified bool
}

func (c *caller) has(role string) bool {
	return c != nil && slices.Contains(expand(c.roles), role)
}

func expand(roles []string) []string {
	out := slices.Clone(roles)
	if slices.Contains(out, "director") {
		out = append(out, "operator")
	}
	if slices.Contains(out, "operator") {
		out = append(out, "observer")
	}
	return out
}

func oneOf(roles ...string) func(*caller) bool {
	return func(c *caller) bool { return slices.ContainsFunc(roles, c.has) }
}

type call struct {
	s      *Service
	w      http.ResponseWriter
	r      *http.Request
	rt     *rt
	param  string // the last parameter's value
	caller *caller
	body   map[string]any
	raw    []byte
	direct bool // it came past the gateway
}

func (c *call) json(status int, v any) {
	c.w.Header().Set("Content-Type", "application/json")
	c.w.WriteHeader(status)
	_ = json.NewEncoder(c.w).Encode(v) // a client that went away is not an error here
}

func (c *call) problem(status int, detail string) {
	if status == 401 {
		scheme := "Bearer"
		if s := c.s; s.flaws[WrongChallenge] {
			scheme = "Basic"
		}
		c.w.Header().Set("WWW-Authenticate", scheme+` realm="fernhollow"`)
	}
	c.w.Header().Set("Content-Type", "application/problem+json")
	c.w.WriteHeader(status)
	_ = json.NewEncoder(c.w).Encode(map[string]any{"title": http.StatusText(status), "status": status,
		"detail": detail})
}

// Handler is the API as the gateway serves it; DirectHandler is the same
// without the gateway; IssuerHandler is the issuer.
func (s *Service) Handler() http.Handler       { return s.serve(func() []*rt { return s.api }, false) }
func (s *Service) DirectHandler() http.Handler { return s.serve(func() []*rt { return s.api }, true) }
func (s *Service) IssuerHandler() http.Handler { return s.serve(func() []*rt { return s.iss }, false) }

func split(path string) []string { return strings.Split(strings.TrimPrefix(path, "/"), "/") }

func (r *rt) match(segs []string, fold bool) (param string, ok bool) {
	if len(segs) != len(r.segs) {
		return "", false
	}
	for i, g := range r.segs {
		switch {
		case strings.HasPrefix(g, "{"):
			if segs[i] == "" {
				return "", false
			}
			param = segs[i]
		case g != segs[i] && !(fold && strings.EqualFold(g, segs[i])):
			return "", false
		}
	}
	return param, true
}

func (s *Service) serve(table func() []*rt, direct bool) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.opt.Log != nil {
			s.opt.Log(r.Method + " " + r.URL.Path)
		}
		raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		c := &call{s: s, w: w, r: r, raw: raw, direct: direct}
		if err != nil {
			c.problem(413, "the body is too large")
			return
		}
		done, leave := s.throttled(c, table())
		defer leave()
		if done {
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.pages(c, table()) {
			return
		}
		s.dispatch(c, table())
	})
}

func (s *Service) dispatch(c *call, table []*rt) {
	path, method := c.r.URL.Path, c.r.Method
	segs := split(path)
	var other []string
	for _, t := range table {
		p, ok := t.match(segs, false)
		if !ok {
			continue
		}
		if t.method != method && !(t.method == "GET" && method == "HEAD") {
			other = append(other, t.method)
			continue
		}
		c.rt, c.param = t, p
		s.run(c, t)
		return
	}
	if s.slipped(c, table, segs) || s.describes(c, table) {
		return
	}
	if len(other) > 0 {
		slices.Sort(other)
		c.w.Header().Set("Allow", strings.Join(other, ", "))
		c.problem(405, "this method is not served here")
		return
	}
	if s.flaws[OldDoor] && method == "GET" && path == "/v0/"+s.n("proposals") {
		c.json(200, s.list("p", func(*thing) bool { return true }))
		return
	}
	if s.flaws[DebugDoor] && &table[0] == &s.api[0] && method == "GET" && path == "/debug/vars" {
		c.json(200, map[string]any{"cmdline": []string{"fernhollow"}, "memstats": map[string]any{"Alloc": 4711}})
		return
	}
	if s.flaws[HTML404] {
		c.w.Header().Set("Content-Type", "text/html; charset=utf-8")
		c.w.WriteHeader(404)
		_, _ = io.WriteString(c.w, "<!doctype html><title>Lost in the dark</title><p>No such page.")
		return
	}
	c.problem(404, "there is nothing here")
}

// slipped serves requests that reach a handler past its guard.
func (s *Service) slipped(c *call, table []*rt, segs []string) bool {
	var clean []string
	for _, g := range segs {
		if g != "" {
			clean = append(clean, g)
		}
	}
	override := ""
	for _, h := range []string{"X-HTTP-Method-Override", "X-HTTP-Method", "X-Method-Override"} {
		if v := c.r.Header.Get(h); v != "" {
			override = v
		}
	}
	for _, t := range table {
		_, exact := t.match(segs, false)
		_, slash := t.match(clean, false)
		_, fold := t.match(segs, true)
		hit := s.flaws[SlashSlips] && t.key == "GET /v1/audit" && slash && !exact && c.r.Method == t.method ||
			s.flaws[CaseSlips] && t.key == "GET /v1/people" && fold && !exact && c.r.Method == t.method ||
			s.flaws[VerbOverride] && strings.HasSuffix(t.key, "/v1/frames/{frame_id}") && exact &&
				c.r.Method == "POST" && override == t.method
		if hit {
			c.rt = t
			c.param, _ = t.match(clean, true)
			t.handle(c)
			return true
		}
	}
	return false
}

// run passes the guard and then the handler.
func (s *Service) run(c *call, t *rt) {
	unreadable := false
	if len(c.raw) > 0 && strings.Contains(c.r.Header.Get("Content-Type"), "json") {
		err := json.Unmarshal(c.raw, &c.body) // handlers say what they miss
		unreadable = err != nil
		if err != nil && s.flaws[BodyBeforeGuard] && t.guard.scheme != "signature" {
			c.problem(422, "the body is no JSON")
			return
		}
	}
	if s.fails(c, t) {
		return
	}
	open := s.flaws[ForgottenVerb] && t.key == "PATCH /v1/observations/{observation_id}" ||
		s.flaws[GuardAfterHandler] && t.key == "GET /v1/audit" ||
		s.flaws[AbsentHeaderPasses] && t.key == "GET /v1/people" && c.r.Header.Get("Authorization") == ""
	if open {
		t.handle(c)
		return
	}
	status, why := s.pass(c, t)
	if status == 0 && unreadable && s.flaws[StackOnBadBody] && t.key == "POST /v1/cutouts" {
		c.problem(400, "goroutine 77 [running]:\nmain.(*cutter).decode(0x0)\n\t/srv/fernhollow/cutter.go:31")
		return
	}
	if status == 0 {
		t.handle(c)
		return
	}
	switch {
	case s.flaws[SaysNoDoesIt] && t.key == "DELETE /v1/frames/{frame_id}":
		delete(s.things["f"], c.param)
		status = 401
	case s.flaws[MissingKey400] && t.guard.scheme == "key" && c.r.Header.Get("X-Partner-Key") == "":
		status = 400
	case s.flaws[Role401] && status == 403 && strings.HasSuffix(t.key, "/approve"):
		status = 401
	case s.flaws[LoginPage] && status == 401 && t.key == "GET /v1/observations":
		c.w.Header().Set("Location", "/login?next="+c.r.URL.Path)
		c.w.WriteHeader(302)
		return
	}
	c.problem(status, why)
}

// fails answers requests that break something before anybody is let in or turned away, and
// those that a page is shown for.
func (s *Service) fails(c *call, t *rt) bool {
	switch {
	case s.flaws[ServesNoOne] && t.key == "GET /v1/instruments",
		s.flaws[GuardBreaks] && t.key == "GET /v1/dome/status" && c.r.Header.Get("Authorization") == "":
		c.problem(500, "something went wrong")
		return true
	case s.flaws[DataAsPage] && t.key == "GET /v1/frames" && strings.Contains(c.r.Header.Get("Accept"), "text/html"):
		c.w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(c.w, "<!doctype html><title>Frames</title><table>")
		for _, id := range keys(s.things["f"]) {
			owner := s.things["f"][id].Owner
			_, _ = fmt.Fprintf(c.w, "<tr><td>%s<td>%s", html.EscapeString(id), html.EscapeString(owner))
		}
		return true
	}
	return false
}

func (s *Service) pass(c *call, t *rt) (int, string) {
	g := t.guard
	if g.scheme == "" || g.opens != nil && g.opens(c.param) {
		return 0, ""
	}
	who, why := s.authenticate(c, g.scheme)
	if c.direct && s.flaws[GatewayOnly] {
		if c.caller = who; who == nil {
			c.caller = &caller{}
		}
		return 0, ""
	}
	if who == nil {
		return 401, why
	}
	c.caller = who
	slew := s.flaws[ObserverSlews] && t.key == "POST /v1/dome/slew" && who.has("observer")
	write := s.flaws[AuditorWrites] && t.key == "PUT /v1/instruments/{instrument_id}" && who.has("auditor")
	if g.who != nil && !g.who(who) && !slew && !write && !(g.owner && s.owns(who, t, c.param)) {
		return 403, "you are not among those who may do this"
	}
	if g.team && !s.sameTeam(c) {
		return 403, "you are not of this team"
	}
	if g.scope != "" && !slices.Contains(who.scopes, g.scope) {
		return 403, "the scope " + g.scope + " is missing"
	}
	if g.verify && !who.verified && !(s.flaws[UnverifiedPasses] && strings.Contains(t.key, "/v1/frames")) {
		return 403, "verify your e-mail address first"
	}
	return 0, ""
}

func (s *Service) owns(who *caller, t *rt, id string) bool {
	if strings.Contains(t.key, "/v1/people/") {
		return who.id == id
	}
	for _, kind := range []string{"p", "o", "f"} {
		if x := s.things[kind][id]; x != nil {
			return x.Owner == who.id
		}
	}
	return false
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

func (s *Service) authenticate(c *call, scheme string) (*caller, string) {
	switch scheme {
	case "key":
		if k := c.r.Header.Get("X-Partner-Key"); k != "" && same(k, s.secrets["LANTERNFISH_KEY"]) {
			return &caller{id: s.n("lanternfish")}, ""
		} else if k != "" && same(k, s.secrets["MOTH_KEY"]) { // a second partner, whom the example does not declare
			return &caller{id: "moth"}, ""
		}
		return nil, "a partner key is needed"
	case "cookie":
		if k, err := c.r.Cookie("fh_console"); err == nil {
			if p := s.people[s.visitor(k.Value)]; p != nil {
				return &caller{id: p.ID, roles: p.Roles, verified: p.Verified}, ""
			}
		}
		return nil, "sign in at the console"
	case "signature":
		if s.flaws[AlertUnsigned] && c.r.Header.Get("X-Relay-Signature") == "" {
			return &caller{id: "relay"}, ""
		}
		at := c.r.Header.Get("X-Relay-Time")
		n, err := strconv.ParseInt(at, 10, 64)
		sig := c.r.Header.Get("X-Relay-Signature")
		if err != nil || s.now().Sub(time.Unix(n, 0)).Abs() > 5*time.Minute || s.seen[sig] && !s.flaws[AlertReplay] ||
			!same(sig, s.mac("RELAY_SECRET", at+"."+string(c.raw))) {
			return nil, "the signature does not hold"
		}
		s.seen[sig] = true
		return &caller{id: "relay"}, ""
	case "mailed":
		if who, why := s.mailed(c); who == "" {
			return nil, why
		} else {
			return &caller{id: who}, ""
		}
	case "link":
		q := c.r.URL.Query()
		n, err := strconv.ParseInt(q.Get("expires"), 10, 64)
		if err != nil || s.now().Unix() > n && !s.flaws[LinkForever] ||
			!same(q.Get("sig"), s.linkMAC(c.r.URL.Path, q.Get("expires"))) {
			return nil, "the link does not hold"
		}
		return &caller{id: "link"}, ""
	}
	return s.bearer(c.r.Header.Get("Authorization"), c.rt.key)
}

// linkMAC signs a link's path and its end.
func (s *Service) linkMAC(path, end string) string {
	if s.flaws[LinkFitsAll] {
		path = ""
	}
	return s.mac("LINK_SECRET", path+"."+end)
}

// ExpiredLink is a link to a frame that was mailed long ago.
func (s *Service) ExpiredLink() string {
	path, end := "/"+s.n("v1")+"/"+s.n("downloads")+"/"+s.id("f", 501), "1767225600" // the first of January 2026
	return path + "?expires=" + end + "&sig=" + s.linkMAC(path, end)
}

func (s *Service) mac(secret, text string) string {
	m := hmac.New(sha256.New, []byte(s.secrets[secret]))
	m.Write([]byte(text))
	return hex.EncodeToString(m.Sum(nil))
}
