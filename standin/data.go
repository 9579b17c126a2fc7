package standin

import (
	"net"
	"strconv"
	"time"
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
	// ShortestIdle is after how long a session at most ends that is not used; 0 leaves them as they
	// are.
	ShortestIdle time.Duration
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
		"FERNHOLLOW_SIGNING_KEY": SigningKey(), "FERNHOLLOW_DEV_KEY": DevKey(),
		"FERNHOLLOW_EXPIRED_LINK": expiredLink(),
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
	password        string // of who signed up; "" is one of Secrets
}

type thing struct {
	ID, Owner string
	Team      string // whose it is; "" is its owner's alone
	Data      map[string]any
}

// visit is a session of the console.
type visit struct {
	person      string
	began, used time.Time
}

// How long a session of the console lives, and how long it may be left alone; and a refresh token.
const (
	consoleMax  = time.Hour
	consoleIdle = 30 * time.Minute
	refreshIdle = 12 * time.Hour
)

// idle is how long something may be left alone, as it is configured.
func (s *Service) idle(d time.Duration) time.Duration {
	if s.opt.ShortestIdle > 0 {
		return min(d, s.opt.ShortestIdle)
	}
	return d
}

// visitor is whose session of the console that is, "" where it is over.
func (s *Service) visitor(cookie string) string {
	v := s.console[cookie]
	now := s.now()
	if v == nil || now.Sub(v.began) >= consoleMax || now.Sub(v.used) >= s.idle(consoleIdle) && !s.flaws[IdleIgnored] {
		return ""
	}
	v.used = now
	return v.person
}

// over says whether a token, or a family of them, was ended. A purge that comes too early forgets that.
func (s *Service) over(id string) bool {
	at, ok := s.ended[id]
	return ok && !(s.flaws[PurgeRevives] && s.now().Sub(at) > purgedAfter)
}

// purgedAfter is when it does.
const purgedAfter = 300 * time.Millisecond

type session struct {
	person string
	family string
	used   bool
	since  time.Time
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
	s.things = map[string]map[string]*thing{"p": {}, "o": {}, "f": {}, "in": {}, "n": {}}
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
	put("p", 303, "tove", map[string]any{"title": "Light curves of the old nova",
		"abstract": "Nine winters of photometry.", "state": "published", "hours": 54})
	note := func(num int, owner, text string) {
		put("n", num, owner, map[string]any{"text": text})
		s.things["n"][s.id("n", num)].Team = s.people[s.n(owner)].Team
	}
	note(801, "imre", "recalibrate the echelle before the new moon")
	note(802, "tove", "the crowded field needs the guider camera")
	note(803, "sanna", "the shutter sticks below ten degrees")
	note(804, "odell", "the night assistant is ill until Thursday")
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
