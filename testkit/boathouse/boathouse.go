// Package boathouse is a second service that is checked in tests: another stack than the stand-in's, other
// words, and faults of its own. A router and a limiter that others wrote serve it, its tokens are those of a
// JWT library, its pages templates, its errors plain text; a mailed link has its secret in the path.
package boathouse

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	_ "embed" // the declaration
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/httprate"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Declaration is what is declared of it; its base is %[1]s, that of its post %[2]s.
//
//go:embed boathouse.gate.yaml
var Declaration string

// Faults that it can have, each alone.
var Faults = []string{"confirming opens nothing", "mail without end", "a link works twice", "any secret will do",
	"new members cannot come in", "a duty can be asked for", "pages show everything", "bodies before passes",
	"counted before passes are looked at", "passes live five minutes longer", "leaving ends all", "the plan is public",
	"the plan names more", "a missing pass breaks it", "the boats fail", "each host counts alone"}

// Member is somebody who is known.
type Member struct {
	ID, Mail, secret string
	Duties           []string
	Confirmed        bool
}

// Booking is one of a boat.
type Booking struct {
	ID   string `json:"booking"`
	Boat string `json:"boat"`
	Note string `json:"note"`
	Day  string `json:"day"`
	Of   string `json:"of"`
}

// Service is a boathouse with one fault, or none.
type Service struct {
	Fault string
	// Bell is the header value that is not counted, Base where it is served.
	Bell, Base string

	key      *ecdsa.PrivateKey
	mu       sync.Mutex
	members  map[string]*Member // by id
	bookings map[string]*Booking
	ended    map[string]bool     // by id of a pass
	passes   map[string][]string // ids, by member
	codes    map[string]string
	used     map[string]bool
	post     map[string][]string // by address, the newest first
	n        int
}

// New is one with its first members: ann and bob row, stew looks after the house.
func New(fault, bell string) *Service {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err) // without randomness nothing works
	}
	s := &Service{Fault: fault, Bell: bell, key: key, bookings: map[string]*Booking{}, ended: map[string]bool{},
		passes: map[string][]string{}, codes: map[string]string{}, used: map[string]bool{}, post: map[string][]string{}}
	s.members = map[string]*Member{}
	for _, m := range []*Member{{ID: "m-ann", Mail: "ann@boats.example", secret: "ann-rows-alone", Confirmed: true},
		{ID: "m-bob", Mail: "bob@boats.example", secret: "bob-rows-with-her"},
		{ID: "m-stew", Mail: "stew@boats.example", secret: "stew-has-the-keys", Confirmed: true}} {
		m.Duties = []string{"rower"}
		if m.ID == "m-stew" {
			m.Duties = []string{"steward"}
		}
		s.members[m.ID] = m
	}
	s.bookings["b-1"] = &Booking{"b-1", "heron", "before breakfast", "2026-06-03", "m-ann"}
	s.bookings["b-2"] = &Booking{"b-2", "otter", "with a child", "2026-06-14", "m-bob"}
	return s
}

// Key is its signing key as a JWK.
func (s *Service) Key() string {
	b, _ := jose.JSONWebKey{Key: s.key, KeyID: "oar", Algorithm: "ES256", Use: "sig"}.MarshalJSON()
	return string(b)
}

// has says whether it has a fault.
func (s *Service) has(fault string) bool { return s.Fault == fault }

// Post is its mailbox, of the test environment.
func (s *Service) Post() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		list := s.post[r.URL.Query().Get("to")]
		s.mu.Unlock()
		answer(w, 200, map[string]any{"letters": append([]string{}, list...)})
	})
}

// Handler serves it.
func (s *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) { no(w, 404, "no such thing") })
	r.MethodNotAllowed(func(w http.ResponseWriter, _ *http.Request) { no(w, 405, "not like that") })
	if s.has("bodies before passes") {
		r.Use(readable)
	}
	mail, entry := s.counts(3, 10*time.Minute, s.address), s.counts(10, 5*time.Minute, s.address)
	calls := s.counts(40, time.Minute, s.caller)
	r.Get("/keys.json", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: s.key.Public(), KeyID: "oar",
			Algorithm: "ES256", Use: "sig"}}})
	})
	r.With(entry).Post("/entry", s.enter)
	r.With(mail).Post("/members", s.join)
	resent := r.With(s.member("rower"))
	if !s.has("mail without end") {
		resent = resent.With(mail)
	}
	resent.Post("/me/confirmation", s.sendCode)
	r.Get("/confirm/{code}", s.confirm)
	r.With(s.member()).Post("/exit", s.leave)
	r.With(s.member()).Get("/members/{member}", s.showMember)
	r.With(s.member("steward")).Delete("/members/{member}", s.removeMember)
	guard := func(duties ...string) chi.Router {
		if s.has("counted before passes are looked at") {
			return r.With(calls, s.member(duties...))
		}
		return r.With(s.member(duties...), calls)
	}
	r.With(calls).Get("/boats", func(w http.ResponseWriter, _ *http.Request) {
		if s.has("the boats fail") {
			no(w, 500, "no boats")
			return
		}
		answer(w, 200, map[string]any{"boats": []string{"heron", "otter", "grebe"}})
	})
	guard("rower").Post("/bookings", s.book)
	if show := http.HandlerFunc(s.showBooking); s.has("pages show everything") {
		r.Get("/bookings/{booking}", s.leakyPage(s.member("rower")(calls(show))))
	} else {
		guard("rower").Get("/bookings/{booking}", show)
	}
	guard("rower").Get("/weather", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, 200, map[string]any{"wind": "south", "beaufort": 3})
	})
	guard("rower").Delete("/bookings/{booking}", s.unbook)
	guard("rower").Get("/races", s.races)
	guard("steward").Get("/logbook", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, 200, map[string]any{"entries": []string{"the grebe leaks"}})
	})
	s.plan(r, guard)
	return r
}

// no refuses with a status, in plain text.
func no(w http.ResponseWriter, status int, why string) { http.Error(w, why, status) }

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// readable refuses bodies that are no JSON, whoever sends them.
func readable(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "POST" && r.URL.Path == "/bookings" {
			var v struct{ Boat, Note string }
			if json.NewDecoder(r.Body).Decode(&v) != nil {
				no(w, 400, "that is no booking")
				return
			}
			b, _ := json.Marshal(map[string]string{"boat": v.Boat, "note": v.Note}) // texts always encode
			r.Body = io.NopCloser(bytes.NewReader(b))
		}
		next.ServeHTTP(w, r)
	})
}

// counts is a limiter of the library, by a key.
func (s *Service) counts(n int, per time.Duration, key func(r *http.Request) string) func(http.Handler) http.Handler {
	limit := httprate.LimitBy(n, per, func(r *http.Request) (string, error) { return key(r), nil })
	return func(next http.Handler) http.Handler {
		counted := limit(next)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if s.Bell != "" && r.Header.Get("X-Test-Bell") == s.Bell {
				next.ServeHTTP(w, r)
				return
			}
			counted.ServeHTTP(w, r)
		})
	}
}

func (s *Service) address(r *http.Request) string {
	host, _, _ := strings.Cut(r.RemoteAddr, ":")
	if s.has("each host counts alone") {
		host += " " + r.Host
	}
	return host
}

// caller is the member whom a pass is of, or else the address.
func (s *Service) caller(r *http.Request) string {
	if m, _, _ := s.pass(r); m != nil {
		return m.ID
	}
	if s.has("counted before passes are looked at") {
		if t, err := jwt.ParseSigned(passOf(r), []jose.SignatureAlgorithm{jose.ES256}); err == nil {
			var c jwt.Claims
			if t.UnsafeClaimsWithoutVerification(&c) == nil && c.Subject != "" {
				return c.Subject
			}
		}
	}
	return s.address(r)
}

func passOf(r *http.Request) string {
	word, text, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(word, "bearer") || len(r.Header.Values("Authorization")) > 1 {
		return ""
	}
	return text
}

// pass is whose a request's pass is, and its id.
func (s *Service) pass(r *http.Request) (m *Member, id, why string) {
	text := passOf(r)
	if text == "" {
		return nil, "", "a pass is needed"
	}
	t, err := jwt.ParseSigned(text, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil || t.Headers[0].KeyID != "oar" {
		return nil, "", "that is no pass"
	}
	var c jwt.Claims
	if t.Claims(s.key.Public(), &c) != nil {
		return nil, "", "that pass is not ours"
	}
	leeway := 20 * time.Second
	if s.has("passes live five minutes longer") {
		leeway = 5 * time.Minute
	}
	want := jwt.Expected{Issuer: "boathouse", AnyAudience: jwt.Audience{"members"}, Time: time.Now()}
	if c.ValidateWithLeeway(want, leeway) != nil || c.Expiry == nil {
		return nil, "", "that pass is over"
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if m = s.members[c.Subject]; m == nil || s.ended[c.ID] {
		return nil, "", "that pass has ended"
	}
	return m, c.ID, ""
}

// member lets those in who have a pass, and one of the duties where some are named.
func (s *Service) member(duties ...string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			m, _, why := s.pass(r)
			switch {
			case m == nil && s.has("a missing pass breaks it") && r.Header.Get("Authorization") == "" &&
				strings.HasPrefix(r.URL.Path, "/logbook"):
				no(w, 500, "something is wrong")
			case m == nil:
				w.Header().Set("WWW-Authenticate", "Bearer")
				no(w, 401, why)
			case len(duties) > 0 && !slices.ContainsFunc(duties, func(d string) bool {
				return slices.Contains(m.Duties, d)
			}):
				no(w, 403, "that is not your duty")
			default:
				next.ServeHTTP(w, r)
			}
		})
	}
}

func code() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// letter is what a request says in JSON; ok is false where it was answered that it is none.
func letter(w http.ResponseWriter, r *http.Request, v any) bool {
	if json.NewDecoder(r.Body).Decode(v) != nil {
		no(w, 400, "that cannot be read")
		return false
	}
	return true
}

func (s *Service) enter(w http.ResponseWriter, r *http.Request) {
	var in struct{ Mail, Secret string }
	if !letter(w, r, &in) {
		return
	}
	s.mu.Lock()
	var m *Member
	for _, x := range s.members {
		if x.Mail == in.Mail && x.secret == in.Secret && in.Secret != "" {
			m = x
		}
	}
	s.mu.Unlock()
	if m == nil || s.has("new members cannot come in") && m.ID != "m-ann" && m.ID != "m-bob" && m.ID != "m-stew" {
		no(w, 401, "nobody has that mail and secret")
		return
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: s.key},
		(&jose.SignerOptions{}).WithType("JWT").WithHeader("kid", "oar"))
	if err != nil {
		no(w, 500, "no signer")
		return
	}
	now, id := time.Now(), code()
	s.mu.Lock()
	s.passes[m.ID] = append(s.passes[m.ID], id)
	s.mu.Unlock()
	text, err := jwt.Signed(signer).Claims(jwt.Claims{Issuer: "boathouse", Audience: jwt.Audience{"members"}, ID: id,
		Subject: m.ID, IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(10 * time.Minute))}).
		Claims(map[string]any{"duties": m.Duties, "confirmed": m.Confirmed}).Serialize()
	if err != nil {
		no(w, 500, "no pass")
		return
	}
	answer(w, 200, map[string]string{"pass": text})
}

func (s *Service) leave(w http.ResponseWriter, r *http.Request) {
	m, id, _ := s.pass(r)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended[id] = true
	if s.has("leaving ends all") {
		for _, other := range s.passes[m.ID] {
			s.ended[other] = true
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

func (s *Service) join(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Mail, Secret string
		Duties       []string
	}
	if !letter(w, r, &in) {
		return
	}
	weak := len(in.Secret) < 12 || in.Secret == in.Mail ||
		slices.Contains([]string{"password1234", "123456789012", "qwertyuiopas"}, strings.ToLower(in.Secret))
	switch {
	case !strings.Contains(in.Mail, "@"):
		no(w, 422, "a mail is needed")
		return
	case weak && !s.has("any secret will do") || in.Secret == "":
		no(w, 422, "choose a longer secret, and one of your own")
		return
	}
	m := &Member{ID: "m-" + code()[:12], Mail: in.Mail, secret: in.Secret, Duties: []string{"rower"}}
	if s.has("a duty can be asked for") && len(in.Duties) > 0 {
		m.Duties = in.Duties
	}
	s.mu.Lock()
	s.members[m.ID] = m
	s.mu.Unlock()
	answer(w, 201, map[string]string{"member": m.ID, "mail": m.Mail})
}

func (s *Service) showMember(w http.ResponseWriter, r *http.Request) {
	me, _, _ := s.pass(r)
	s.mu.Lock()
	m := s.members[chi.URLParam(r, "member")]
	s.mu.Unlock()
	switch {
	case m == nil || m != me && !slices.Contains(me.Duties, "steward"):
		no(w, 404, "no such member")
	default:
		answer(w, 200, map[string]any{"member": m.ID, "mail": m.Mail, "duties": m.Duties, "confirmed": m.Confirmed})
	}
}

func (s *Service) removeMember(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id := chi.URLParam(r, "member")
	if s.members[id] == nil {
		no(w, 404, "no such member")
		return
	}
	delete(s.members, id)
	w.WriteHeader(http.StatusNoContent)
}

func (s *Service) sendCode(w http.ResponseWriter, r *http.Request) {
	m, _, _ := s.pass(r)
	c := code()
	s.mu.Lock()
	s.codes[c] = m.ID
	s.post[m.Mail] = append([]string{fmt.Sprintf("Follow this to confirm: %s/confirm/%s. It works once.", s.Base, c)},
		s.post[m.Mail]...)
	s.mu.Unlock()
	w.WriteHeader(http.StatusAccepted)
}

func (s *Service) confirm(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := chi.URLParam(r, "code")
	m := s.members[s.codes[c]]
	if m == nil || s.used[c] && !s.has("a link works twice") {
		no(w, 401, "that link does not hold")
		return
	}
	s.used[c] = true
	m.Confirmed = m.Confirmed || !s.has("confirming opens nothing")
	answer(w, 200, map[string]any{"member": m.ID, "thanks": "your mail is confirmed"})
}

// mine is a booking of whoever asks, nil once it was answered that it is none.
func (s *Service) mine(w http.ResponseWriter, r *http.Request) *Booking {
	m, _, _ := s.pass(r)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch b := s.bookings[chi.URLParam(r, "booking")]; {
	case b == nil:
		no(w, 404, "no such booking")
	case b.Of != m.ID:
		no(w, 403, "that is somebody else's")
	default:
		return b
	}
	return nil
}

var page = template.Must(template.New("booking").Parse(`<!doctype html><title>A booking</title>
<h1>{{.Boat}}</h1><p>{{.Note}}, on {{.Day}}<p>Booked as {{.ID}} by {{.Of}}`))

func (s *Service) showBooking(w http.ResponseWriter, r *http.Request) {
	b := s.mine(w, r)
	switch {
	case b == nil:
	case strings.HasPrefix(r.Header.Get("Accept"), "text/html"):
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		_ = page.Execute(w, b)
	default:
		answer(w, 200, b)
	}
}

// leakyPage shows a page to anybody, and leaves the rest to who looks at passes.
func (s *Service) leakyPage(rest http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		b := s.bookings[chi.URLParam(r, "booking")]
		s.mu.Unlock()
		if b == nil || !strings.HasPrefix(r.Header.Get("Accept"), "text/html") {
			rest.ServeHTTP(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		_ = page.Execute(w, b)
	}
}

func (s *Service) book(w http.ResponseWriter, r *http.Request) {
	m, _, _ := s.pass(r)
	var in struct{ Boat, Note string }
	if !letter(w, r, &in) {
		return
	}
	if !slices.Contains([]string{"heron", "otter", "grebe"}, in.Boat) {
		no(w, 422, "no such boat")
		return
	}
	s.mu.Lock()
	s.n++
	b := &Booking{fmt.Sprint("b-", 100+s.n), in.Boat, in.Note, time.Now().Format(time.DateOnly), m.ID}
	s.bookings[b.ID] = b
	s.mu.Unlock()
	answer(w, 201, b)
}

func (s *Service) unbook(w http.ResponseWriter, r *http.Request) {
	if b := s.mine(w, r); b != nil {
		s.mu.Lock()
		delete(s.bookings, b.ID)
		s.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	}
}

func (s *Service) races(w http.ResponseWriter, r *http.Request) {
	m, _, _ := s.pass(r)
	s.mu.Lock()
	confirmed := m.Confirmed
	s.mu.Unlock()
	if !confirmed {
		no(w, 403, "confirm your mail first")
		return
	}
	answer(w, 200, map[string]any{"races": []string{"round the island"}})
}

// plan serves what describes it, to stewards.
func (s *Service) plan(r chi.Router, guard func(...string) chi.Router) {
	text := "openapi: 3.0.3\ninfo: { title: Boathouse, version: '1' }\npaths:\n"
	for _, p := range []string{"/boats: { get: { security: [],", "/races: { get: { security: [{ pass: [] }],",
		"/logbook: { get: { security: [{ pass: [] }],"} {
		text += "  " + p + " responses: { default: { description: what came of it } } } }\n"
	}
	if s.has("the plan names more") {
		text += "  /cellar: { get: { security: [{ pass: [] }], responses: { default: { description: wine } } } }\n"
		guard().Get("/cellar", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, map[string]any{"bottles": 12})
		})
	}
	show := func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/yaml")
		_, _ = w.Write([]byte(text))
	}
	if s.has("the plan is public") {
		r.Get("/openapi.yaml", show)
		return
	}
	r.With(s.member("steward")).Get("/openapi.yaml", show)
}
