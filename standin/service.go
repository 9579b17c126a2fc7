package standin

// Rule: What is judged shares no code with the judge.

import (
	"crypto/ecdsa"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Options of a stand-in. The zero Options are the sound service.
type Options struct {
	Flaws []Flaw
	// Issuer is what tokens carry in iss; the address of the issuer's host.
	Issuer string
	// Gateway serves the API a second time, as it is behind its gateway.
	Gateway bool
	// Names replaces words of paths, identities and id prefixes.
	Names map[string]string
	// Secrets replaces the secrets of Secrets(), by the same names.
	Secrets map[string]string
	// Quotas are kept when it is set.
	Quotas bool
	// Longest is how long the window of a quota is at most, as a test environment
	// may be configured; 0 leaves them as they are.
	Longest time.Duration
	// Control opens an address for tests: restart and clock.
	Control bool
	// Nodes is how many there are behind the address; 0 is one.
	Nodes int
	// Log is called with one line for each request answered.
	Log func(string)
	// Listen opens an address, in place of net.Listen.
	Listen func(network, address string) (net.Listener, error)
}

// Secrets are the accounts' secrets, by the name of the environment variable
// under which the example declaration looks for them.
func Secrets() map[string]string {
	return map[string]string{
		"IMRE_PASSWORD": "imre-quiet-lantern-41", "TOVE_PASSWORD": "tove-cold-meridian-77",
		"SANNA_PASSWORD": "sanna-slow-azimuth-12",
		"ODELL_PASSWORD": "odell-grey-zenith-58", "QUILL_PASSWORD": "quill-dry-almanac-93",
		"NIGHTRUN_SECRET": "nightrun-9f31c0a7e2", "LANTERNFISH_KEY": "lf-5d20b7716ac4",
		"RELAY_SECRET": "relay-hush-4be1", "FERNHOLLOW_PASS": "pass-9c1e-lantern", "MOTH_KEY": "mo-77aa20cd19e3",
		"LINK_SECRET":            linkSecret,
		"FERNHOLLOW_SIGNING_KEY": SigningKey(), "FERNHOLLOW_EXPIRED_LINK": expiredLink(),
	}
}

// expiredLink is the one of the service as it ships.
func expiredLink() string {
	s := &Service{secrets: map[string]string{"LINK_SECRET": linkSecret}}
	return s.ExpiredLink()
}

const linkSecret = "link-sign-77ab"

type person struct {
	ID, Name, Email string
	Roles, Scopes   []string
	Verified        bool
	Team            string
	login           bool
}

type thing struct {
	ID, Owner string
	Data      map[string]any
}

type session struct {
	person string
	family string
	used   bool
	since  time.Time
}

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
	ended    map[string]bool   // jti or family
	console  map[string]string // cookie → person
	seen     map[string]bool   // alerts
	api, iss []*rt
}

// New makes a service with its data as at the start.
func New(opt Options) (*Service, error) {
	s := &Service{opt: opt, flaws: map[Flaw]bool{}, secrets: Secrets(), refresh: map[string]*session{},
		ended: map[string]bool{}, console: map[string]string{}, seen: map[string]bool{}, counts: map[string]*counted{},
		dome: make(chan struct{}, 1)}
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

// n renames a word.
func (s *Service) n(w string) string {
	if r, ok := s.opt.Names[w]; ok {
		return r
	}
	return w
}

func (s *Service) id(prefix string, num int) string { return s.n(prefix) + "-" + strconv.Itoa(num) }

func (s *Service) seed() {
	s.people = map[string]*person{}
	for _, p := range []person{
		{ID: "imre", Name: "Imre Vass", Roles: []string{"observer"}, Scopes: []string{"frames:write"}, Verified: true,
			Team: "spectra"},
		{ID: "tove", Name: "Tove Lindqvist", Roles: []string{"observer"}, Scopes: []string{"frames:write"},
			Team: "transients"},
		{ID: "sanna", Name: "Sanna Okoro", Roles: []string{"operator"}, Verified: true, Team: "dome"},
		{ID: "odell", Name: "Odell Brandt", Roles: []string{"director"}, Verified: true, Team: "office"},
		{ID: "quill", Name: "Quill Moreau", Roles: []string{"auditor"}, Verified: true, Team: "office"},
	} {
		p.ID = s.n(p.ID)
		p.Email, p.login = p.ID+"@fernhollow.example", true
		s.people[p.ID] = &p
	}
	v := &person{ID: s.n("vesper"), Name: "Vesper Anand", Roles: []string{"observer"},
		Email: "vesper@fernhollow.example"}
	s.people[v.ID] = v
	s.next = map[string]int{"p": 900, "o": 900, "f": 900, "person": 900, "move": 5531, "job": 40, "req": 70}
	s.things = map[string]map[string]*thing{"p": {}, "o": {}, "f": {}, "in": {}}
	put := func(kind string, num int, owner string, data map[string]any) {
		id := s.id(kind, num)
		s.things[kind][id] = &thing{ID: id, Owner: s.n(owner), Data: data}
	}
	put("p", 101, "imre", map[string]any{"title": "Iron lines in slow novae",
		"abstract": "Twelve nights of echelle spectra.", "state": "draft", "hours": 36})
	put("p", 102, "imre", map[string]any{"title": "Comet tail polarimetry", "abstract": "Two hours around perihelion.",
		"state": "submitted", "hours": 2})
	put("p", 202, "tove", map[string]any{"title": "Transients behind the ridge",
		"abstract": "Deep imaging in a crowded field.", "state": "draft", "hours": 18})
	put("o", 301, "imre", map[string]any{"object": "m31", "start": "2026-12-01T21:00:00Z", "minutes": 90,
		"note": "wait for moonset"})
	put("o", 402, "tove", map[string]any{"object": "ngc-7331", "start": "2026-12-02T19:30:00Z", "minutes": 45,
		"note": "rotator stiff in the cold"})
	put("f", 501, "imre", map[string]any{"observation": s.id("o", 301), "filter": "r", "exposure": 300,
		"checksum": "c4d1-0be2"})
	put("f", 602, "tove", map[string]any{"observation": s.id("o", 402), "filter": "g", "exposure": 120,
		"checksum": "91aa-77f0"})
	put("f", 700, "nightrun", map[string]any{"observation": s.id("o", 301), "filter": "i", "exposure": 600,
		"checksum": "5e08-c1d3"})
	put("in", 1, "sanna", map[string]any{"name": "echelle", "gain": 2, "cooling": true})
	put("in", 2, "sanna", map[string]any{"name": "wide field camera", "gain": 1, "cooling": true})
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
	scheme string // "", "access", "key", "cookie", "signature", "link"
	who    func(*caller) bool
	scope  string
	verify bool // the e-mail must be verified
	owner  bool // passes who for the owner: the handler compares
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
		c.w.Header().Set("WWW-Authenticate", `Bearer realm="fernhollow"`)
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
	if s.slipped(c, table, segs) {
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
	if len(c.raw) > 0 && strings.Contains(c.r.Header.Get("Content-Type"), "json") {
		_ = json.Unmarshal(c.raw, &c.body) // handlers say what they miss
	}
	open := s.flaws[ForgottenVerb] && t.key == "PATCH /v1/observations/{observation_id}" ||
		s.flaws[GuardAfterHandler] && t.key == "GET /v1/audit" ||
		s.flaws[AbsentHeaderPasses] && t.key == "GET /v1/people" && c.r.Header.Get("Authorization") == ""
	if open {
		t.handle(c)
		return
	}
	status, why := s.pass(c, t)
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

func (s *Service) pass(c *call, t *rt) (int, string) {
	g := t.guard
	if g.scheme == "" {
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
		if k, err := c.r.Cookie("fh_console"); err == nil && s.console[k.Value] != "" {
			p := s.people[s.console[k.Value]]
			return &caller{id: p.ID, roles: p.Roles, verified: p.Verified}, ""
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
