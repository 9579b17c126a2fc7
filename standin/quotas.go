package standin

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4/jwt"
)

// passHeader lets whoever knows the secret call without being counted: staging
// services have such a thing for their own tests.
const passHeader = "X-Fernhollow-Pass"

// meter counts the calls of one caller. take says whether a call at t has room,
// counts it, and otherwise how long it must wait.
type meter interface {
	take(t time.Time) (wait time.Duration)
}

// window is a fixed one: from the first call on, or on the clock.
type window struct {
	n     int
	d     time.Duration
	clock bool
	count int
	end   time.Time
}

func (w *window) take(t time.Time) time.Duration {
	if !t.Before(w.end) {
		w.count, w.end = 0, t.Add(w.d)
		if w.clock {
			w.end = t.Truncate(w.d).Add(w.d)
		}
	}
	if w.count >= w.n {
		return w.end.Sub(t)
	}
	w.count++
	return 0
}

// sliding keeps the instants of the calls that count.
type sliding struct {
	n     int
	d     time.Duration
	calls []time.Time
}

func (s *sliding) take(t time.Time) time.Duration {
	s.calls = slices.DeleteFunc(s.calls, func(c time.Time) bool { return !c.After(t.Add(-s.d)) })
	if len(s.calls) >= s.n {
		return s.calls[len(s.calls)-s.n].Add(s.d).Sub(t)
	}
	s.calls = append(s.calls, t)
	return 0
}

// bucket fills with rate tokens a second, up to burst.
type bucket struct {
	rate, burst, level float64
	at                 time.Time
}

func (b *bucket) take(t time.Time) time.Duration {
	if b.at.IsZero() {
		b.level = b.burst
	} else {
		b.level = math.Min(b.burst, b.level+t.Sub(b.at).Seconds()*b.rate)
	}
	b.at = t
	if b.level < 1 {
		return time.Duration((1 - b.level) / b.rate * float64(time.Second))
	}
	b.level--
	return 0
}

// rule is one quota of the service.
type rule struct {
	name   string
	keys   func(c *call, who *caller) string
	meters func() []meter // one for each amount
	policy string         // for the RateLimit-Policy field
	queue  int
}

func (s *Service) byAddress(c *call, _ *caller) string {
	if v := c.r.Header.Get("X-Forwarded-For"); v != "" && s.flaws[WrittenByCaller] {
		return "address " + v
	}
	host, _, _ := net.SplitHostPort(c.r.RemoteAddr)
	if s.flaws[HostNotCounted] {
		host += " at " + c.r.Host
	}
	return "address " + host
}

func (s *Service) byIdentity(c *call, who *caller) string {
	if who != nil && who.id != "" {
		return "identity " + who.id
	}
	return s.byAddress(c, who)
}

func (s *Service) windows(list ...window) func() []meter {
	return func() []meter {
		out := make([]meter, len(list))
		for i := range list {
			w := list[i]
			w.d = s.longest(w.d)
			out[i] = &w
		}
		return out
	}
}

// policy is what the RateLimit-Policy field says.
func (s *Service) policy(name string, n int, w time.Duration) string {
	return fmt.Sprintf(`"%s";q=%d;w=%d`, name, n, int(s.longest(w).Seconds()))
}

// longest is a window as it is configured.
func (s *Service) longest(w time.Duration) time.Duration {
	if s.opt.Longest > 0 {
		return min(w, s.opt.Longest)
	}
	return w
}

// rules are the quotas that count a call, by the route's key.
func (s *Service) rules(issuer bool, key string) (out []*rule) {
	method, path, _ := strings.Cut(key, " ")
	add := func(r *rule) { out = append(out, r) }
	login := issuer && (key == "POST /v1/session" || key == "POST /oauth/token") ||
		!issuer && key == "POST /v1/console/login"
	if login && !s.flaws[LoginUnthrottled] {
		add(&rule{name: "login", keys: s.byAddress, meters: s.windows(window{n: 8, d: 5 * time.Minute},
			window{n: 100, d: 24 * time.Hour}), policy: s.policy("login", 8, 300*time.Second)})
	}
	resend := issuer && key == "POST /v1/session/email" && !s.flaws[ResendUnlimited]
	if resend || !issuer && key == "POST /v1/people" {
		add(&rule{name: "message", keys: s.byAddress, meters: s.windows(window{n: 3, d: 10 * time.Minute}),
			policy: s.policy("message", 3, 600*time.Second)})
	}
	if issuer && method == "POST" && (strings.HasPrefix(path, "/v1/session/") || path == "/v1/session" ||
		strings.HasPrefix(path, "/oauth/")) {
		add(&rule{name: "issuer", keys: s.byAddress, meters: s.windows(window{n: 60, d: time.Minute}),
			policy: s.policy("issuer", 60, 60*time.Second)})
	}
	if issuer || !strings.HasPrefix(path, "/v1/") {
		return out
	}
	add(&rule{name: "general", keys: func(c *call, who *caller) string {
		if s.flaws[CountedPerRoute] {
			return key + " " + s.byIdentity(c, who)
		}
		return s.byIdentity(c, who)
	}, meters: s.windows(window{n: 120, d: time.Minute}, window{n: 2000, d: time.Hour}),
		policy: s.policy("general", 120, 60*time.Second)})
	switch {
	case path == "/v1/cutouts" && method == "POST":
		add(&rule{name: "cutouts", keys: s.byIdentity,
			meters: func() []meter { return []meter{&bucket{rate: 1, burst: 10}} },
			policy: s.policy("cutouts", 10, 10*time.Second)})
	case strings.HasPrefix(path, "/v1/partners/"):
		queue := 2
		if s.flaws[QueueLonger] {
			queue = 20
		}
		add(&rule{name: "partner", queue: queue, policy: s.policy("partner", 30, 10*time.Second),
			keys: func(c *call, _ *caller) string {
				if s.flaws[OneCountForAll] {
					return "partners"
				}
				return "key " + c.r.Header.Get("X-Partner-Key")
			}, meters: func() []meter {
				d := s.longest(10 * time.Second)
				if s.flaws[EdgeDoubles] {
					return []meter{&window{n: 30, d: d, clock: true}}
				}
				return []meter{&sliding{n: 30, d: d}}
			}})
	}
	return out
}

// counted is the state of one counter.
type counted struct {
	meters  []meter
	waiting int
}

// keyOf finds the route's key that a request would be served by.
func keyOf(c *call, table []*rt) string {
	for _, t := range table {
		if _, ok := t.match(split(c.r.URL.Path), false); ok && (t.method == c.r.Method ||
			t.method == "GET" && c.r.Method == "HEAD") {
			return t.key
		}
	}
	return ""
}

// knows says who a request is counted as, without any trace of the question.
func (s *Service) knows(c *call, table []*rt, key string) *caller {
	for _, t := range table {
		if t.key != key || t.guard.scheme != "access" && t.guard.scheme != "key" && t.guard.scheme != "cookie" {
			continue
		}
		c.rt = t
		s.mu.Lock()
		who, _ := s.authenticate(c, t.guard.scheme)
		s.mu.Unlock()
		return who
	}
	return nil
}

// named is whom a token names, whether it verifies or not.
func named(header string) *caller {
	parts := strings.Split(header, ".")
	if len(parts) != 3 {
		return nil
	}
	var claims jwt.Claims
	text, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil || json.Unmarshal(text, &claims) != nil {
		return nil
	}
	return &caller{id: claims.Subject}
}

// throttled counts a request and answers it when there is no room. leave is
// called when it has been served.
func (s *Service) throttled(c *call, table []*rt) (done bool, leave func()) {
	leave = func() {}
	key := keyOf(c, table)
	if key == "" || !s.opt.Quotas || same(c.r.Header.Get(passHeader), s.secrets["FERNHOLLOW_PASS"]) {
		return false, leave
	}
	who := s.knows(c, table, key)
	if who == nil && s.flaws[QuotaBeforeGuard] {
		who = named(c.r.Header.Get("Authorization"))
	}
	node := int(s.turn.Add(1)) % max(1, s.opt.Nodes)
	local := s.flaws[LocalExempt] && strings.HasPrefix(c.r.Header.Get("X-Forwarded-For"), "127.")
	for _, r := range s.rules(&table[0] != &s.api[0], key) {
		if local && slices.Contains([]string{"login", "message", "issuer", "general"}, r.name) {
			continue // they count addresses
		}
		if wait := s.countFor(c, r, who, node); wait > 0 {
			s.refuse(c, r, wait)
			return true, leave
		}
	}
	if strings.Contains(key, "/v1/dome/") {
		if s.flaws[DomeCrowded] {
			time.Sleep(domeTakes)
			return false, leave
		}
		select {
		case s.dome <- struct{}{}:
			time.Sleep(domeTakes)
			return false, func() { <-s.dome }
		default:
			s.refuse(c, &rule{name: "dome", policy: `"dome";q=1`}, time.Second)
			return true, leave
		}
	}
	return false, leave
}

// domeTakes is how long a request to the dome occupies it.
const domeTakes = 40 * time.Millisecond

// countFor counts a call, waits for its turn where the quota has a queue, and
// otherwise says how long the caller must wait.
func (s *Service) countFor(c *call, r *rule, who *caller, node int) time.Duration {
	name := r.name + " " + r.keys(c, who)
	if s.flaws[CountedPerNode] {
		name += fmt.Sprint(" node ", node)
	}
	queued := false
	for {
		s.quotaMu.Lock()
		k := s.counts[name]
		if k == nil {
			k = &counted{meters: r.meters()}
			s.counts[name] = k
		}
		longest := time.Duration(0)
		for _, m := range k.meters {
			longest = max(longest, m.take(s.now()))
		}
		if longest == 0 || !queued && k.waiting >= r.queue {
			if queued {
				k.waiting--
			}
			s.quotaMu.Unlock()
			return longest
		}
		if !queued {
			queued = true
			k.waiting++
		}
		s.quotaMu.Unlock()
		select {
		case <-time.After(min(longest, 50*time.Millisecond)):
		case <-c.r.Context().Done(): // who gives up waits no longer
			s.quotaMu.Lock()
			k.waiting--
			s.quotaMu.Unlock()
			return longest
		}
	}
}

func (s *Service) refuse(c *call, r *rule, wait time.Duration) {
	if s.flaws[WrongRefusal503] {
		c.problem(503, "too much to do")
		return
	}
	left := strconv.Itoa(int(math.Ceil(wait.Seconds())))
	h := c.w.Header()
	h.Set("Retry-After", left)
	h.Set("RateLimit-Policy", r.policy)
	h.Set("RateLimit", fmt.Sprintf(`"%s";r=0;t=%s`, r.name, left))
	c.problem(429, "too many calls for "+r.name+"; try again in "+left+" s")
}

// now is the service's clock.
func (s *Service) now() time.Time { return time.Now().Add(time.Duration(s.ahead.Load())) }

// Advance sets the service's clock ahead.
func (s *Service) Advance(d time.Duration) { s.ahead.Add(int64(d)) }

// Restart is what happens to counts when the service is started again: nothing,
// since they are kept outside of it; unless it forgets them.
func (s *Service) Restart() {
	if s.flaws[RestartForgets] {
		s.quotaMu.Lock()
		defer s.quotaMu.Unlock()
		s.counts = map[string]*counted{}
	}
}

// ControlHandler is for tests alone: it restarts the service and moves its
// clock.
func (s *Service) ControlHandler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("POST /restart", func(w http.ResponseWriter, _ *http.Request) {
		s.Restart()
		w.WriteHeader(204)
	})
	m.HandleFunc("POST /clock", func(w http.ResponseWriter, r *http.Request) {
		d, err := time.ParseDuration(r.URL.Query().Get("advance"))
		if err != nil || d < 0 {
			http.Error(w, "say how far, like /clock?advance=5m", http.StatusBadRequest)
			return
		}
		s.Advance(d)
		w.WriteHeader(204)
	})
	return m
}
