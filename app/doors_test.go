package app

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/fault"
	"millgate/app/sweep"
	"millgate/app/tokens"
	"millgate/core/finding"
	"millgate/core/token"
	"millgate/store"
)

// doors is a service with opaque tokens that its issuer is asked about, and
// with basic credentials. Each fault is one thing that it does wrong.
type doors struct {
	mu       sync.Mutex
	fault    string
	next     int
	access   map[string]string // token → session
	refresh  map[string]string
	used     map[string]bool
	ended    map[string]bool
	sessions map[string]string // session → person
}

const doorsText = `millgate: 1
targets: { stand-in: { base: "%s", direct: "%s", pace: 5000 per 1s, unsafe: allowed } }
routes: [GET /notes, GET /vault, POST /logout, { at: POST /ask, send: { as: ann, form: { token: none, secret: "{secret}" } } }]
roles: { r: }
schemes:
  access:
    kind: bearer
    issuer: desk
    audience: notes
    claims: { roles: /roles }
    lifetime: { access: a, refresh: r }
    login: { send: POST /login, json: { name: "{name}", secret: "{secret}" }, take: { access: /t, refresh: /r } }
    refresh: { send: POST /renew, json: { r: "{refresh}" }, take: { access: /t, refresh: /r } }
    logout: { send: POST /logout, json: { r: "{refresh}" } }
    introspect: { send: POST /ask, form: { token: "{token}", secret: "{secret}" }, as: ann }
  staff: { kind: basic }
  page: { kind: cookie, name: page }
lifetimes: { a: { max: 10m }, r: { max: 1d, rotates: true, reuse: ends-grant } }
identities:
  ann: { roles: r, credentials: { access: { name: ann, secret: env:ANN_SECRET } } }
  bob: { credentials: { access: { name: bob, secret: env:BOB_SECRET } } }
  cat: { credentials: { staff: { username: cat, password: env:CAT_SECRET } } }
access:
  - { at: GET /notes, who: r }
  - { at: GET /vault, who: "identity:cat", by: staff }
  - { at: POST /logout, who: signed-in, by: access }
  - { at: POST /ask, who: anyone }
`

func (s *doors) grant(w http.ResponseWriter, session string) {
	s.next++
	a, r := fmt.Sprintf("access-token-%d", s.next), fmt.Sprintf("refresh-token-%d", s.next)
	s.access[a], s.refresh[r] = session, session
	life := 600
	if s.fault == "said to live long" {
		life = 86400
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"t": a, "r": r, "expires_in": life})
}

// who is the session and the person that a request's token stands for.
func (s *doors) who(r *http.Request) (session, person string) {
	word, tok, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	session = s.access[tok]
	if !strings.EqualFold(word, "bearer") || s.fault == "letters" && word != "Bearer" ||
		s.ended[session] && s.fault != "deaf" {
		session = ""
	}
	if tok = r.URL.Query().Get("access_token"); session == "" && s.fault == "query" {
		session = s.access[tok]
	}
	if s.fault == "stale" && r.Header.Get("Cookie") != "" {
		return "", ""
	}
	if s.fault == "two" && session == "" {
		for _, h := range r.Header.Values("Authorization") {
			if _, t, ok := strings.Cut(h, " "); ok && s.access[t] != "" && !s.ended[s.access[t]] {
				return s.access[t], "ann" // it takes the rights of the other
			}
		}
	}
	return session, s.sessions[session]
}

func (s *doors) serve(direct bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		raw, _ := io.ReadAll(r.Body)
		var in map[string]string
		_ = json.Unmarshal(raw, &in)
		session, person := s.who(r)
		deny := func(status int) {
			if s.fault == "page" && strings.Contains(r.Header.Get("Accept"), "html") {
				w.Header().Set("Content-Type", "text/html")
				_, _ = io.WriteString(w, "<h1>Please sign in</h1>")
				return
			}
			w.WriteHeader(status)
		}
		path := r.URL.Path
		if s.fault == "encoded" && strings.Contains(r.URL.EscapedPath(), "%6") ||
			s.fault == "dots" && strings.Contains(path, "/../") || direct && s.fault == "direct" ||
			s.fault == r.Method {
			if strings.HasSuffix(path, "/notes") && r.Method != "POST" {
				_, _ = io.WriteString(w, `{"notes":["buy lamp oil"]}`)
				return
			}
		}
		if session != "" && slices.Contains([]string{"/notes", "/logout"}, path) && person == "" {
			deny(401)
			return
		}
		switch r.Method + " " + path {
		case "POST /login":
			secret := map[string]string{"ann": "ann-secret-1", "bob": "bob-secret-1"}[in["name"]]
			given, there := in["secret"]
			switch {
			case s.fault == "empty" && there && given == "", s.fault == "none" && !there, secret != "" &&
				secret == given:
				s.next++
				id := fmt.Sprintf("s%d", s.next)
				s.sessions[id] = in["name"]
				s.grant(w, id)
			case s.fault == "tells" && secret == "":
				w.WriteHeader(401)
				_, _ = io.WriteString(w, `{"error":"no such person"}`)
			default:
				w.WriteHeader(401)
				_, _ = io.WriteString(w, `{"error":"that does not fit"}`)
			}
		case "POST /renew":
			id := s.refresh[in["r"]]
			switch {
			case id == "" || s.ended[id]:
				deny(401)
			case s.used[in["r"]] && s.fault != "reuse":
				s.ended[id] = s.fault != "family"
				deny(401)
			default:
				s.used[in["r"]] = true
				s.grant(w, id)
			}
		case "POST /logout":
			theirs := s.refresh[in["r"]]
			switch {
			case session == "":
				deny(401)
			case theirs == "" || theirs != session && s.fault != "other's":
				deny(400)
			default:
				s.ended[theirs] = true
				w.WriteHeader(204)
			}
		case "POST /ask":
			r.Body = io.NopCloser(strings.NewReader(string(raw)))
			id := s.access[r.FormValue("token")]
			out := map[string]any{"active": id != "" && (!s.ended[id] || s.fault == "asked")}
			if out["active"] == true {
				now := time.Now().Unix()
				out["iss"], out["aud"], out["iat"], out["exp"], out["roles"] = "desk", "notes", now, now+600, "r"
				switch s.fault {
				case "asked for another":
					out["aud"] = "somebody else"
				case "lives long":
					out["exp"] = now + 86400
				}
				if s.sessions[id] == "bob" {
					delete(out, "roles")
				}
			}
			_ = json.NewEncoder(w).Encode(out)
		case "GET /notes":
			switch {
			case session == "":
				deny(401)
			case person != "ann":
				deny(403)
			default:
				_, _ = io.WriteString(w, `{"notes":["buy lamp oil"]}`)
			}
		case "HEAD /notes":
			switch {
			case session == "":
				deny(401)
			case person != "ann":
				deny(403)
			}
		case "GET /vault":
			user, pass, _ := r.BasicAuth()
			if user != "cat" || pass != "cat-secret-1" && !(s.fault == "any vault" && pass != "") {
				deny(401)
				return
			}
			_, _ = io.WriteString(w, `{"gold":3}`)
		case "HEAD /vault":
			deny(401)
		default:
			deny(404)
		}
	}
}

// Each fault alone is found as what it is, and the service without one is
// clean.
func TestFaultsOfOtherDoors(t *testing.T) {
	for k, v := range map[string]string{"ANN_SECRET": "ann-secret-1", "BOB_SECRET": "bob-secret-1",
		"CAT_SECRET": "cat-secret-1"} {
		t.Setenv(k, v)
	}
	const behind = "everything behind access"
	for fault, want := range map[string][]string{
		"":        nil,
		"letters": {"R " + behind + ": The scheme's word is read with its letter case"},
		"stale":   {"R " + behind + ": A sound credential is turned away beside a broken other"},
		"query":   {"U GET /notes: A token in the query is accepted"},
		"two":     {"U GET /notes: A broken credential passes beside a sound one"},
		"page": {"W GET /notes: Shown a page, 401 is declared",
			"W GET /vault: Shown a page, 401 is declared"},
		"HEAD":              {"U GET /notes: The guard is stepped around by asking with HEAD"},
		"OPTIONS":           {"U GET /notes: The guard is stepped around by asking with OPTIONS"},
		"encoded":           {"U GET /notes: The guard is stepped around by percent-encoding"},
		"dots":              {"U GET /notes: The guard is stepped around by dot segments"},
		"direct":            {"U GET /notes: The guard is stepped around past the gateway, at the direct address"},
		"empty":             {"U POST /login: Any secret logs in"},
		"none":              {"U POST /login: Any secret logs in"},
		"tells":             {"L POST /login: Tells who has an account"},
		"deaf":              {"S " + behind + ": A session works on after the logout"},
		"reuse":             {"S " + behind + ": A used refresh token goes on working"},
		"family":            {"S " + behind + ": A session survives the reuse of its refresh token"},
		"other's":           {"P " + behind + ": A caller ends the session of another"},
		"asked":             {"S " + behind + ": A session works on after the logout"},
		"asked for another": {"K " + behind + ": Issued tokens are meant for another service"},
		"lives long":        {"S " + behind + ": Tokens live longer than declared"},
		"said to live long": nil, // the issuer's own word counts
		"any vault":         {"U GET /vault: Open to a broken credential"},
	} {
		t.Run(fault, func(t *testing.T) {
			d := &doors{fault: fault, access: map[string]string{}, refresh: map[string]string{},
				used: map[string]bool{}, ended: map[string]bool{}, sessions: map[string]string{}}
			front := newFake(t, func(_ *fake, w http.ResponseWriter, r *http.Request) { d.serve(false)(w, r) })
			back := newFake(t, func(_ *fake, w http.ResponseWriter, r *http.Request) { d.serve(true)(w, r) })
			a := openText(t, fmt.Sprintf(doorsText, front.URL, back.URL), "")
			run, res := swept(t, a)
			assert.Equal(t, store.Done, run.State)
			var got []string
			for _, f := range res.Findings {
				got = append(got, fmt.Sprintf("%s %s: %s", f.Kind, f.Where(), f.Title))
			}
			golden(t, "doors "+fault, res.Findings)
			slices.Sort(got)
			assert.Equal(t, want, slices.Compact(got), "%+v", res.Findings)
		})
	}
}

// The direct address does not answer: that is as one hopes, and no reason not
// to sweep.
func TestTheDirectAddressMayBeClosed(t *testing.T) {
	for k, v := range map[string]string{"ANN_SECRET": "ann-secret-1", "BOB_SECRET": "bob-secret-1",
		"CAT_SECRET": "cat-secret-1"} {
		t.Setenv(k, v)
	}
	d := &doors{access: map[string]string{}, refresh: map[string]string{}, used: map[string]bool{},
		ended: map[string]bool{}, sessions: map[string]string{}}
	front := newFake(t, func(_ *fake, w http.ResponseWriter, r *http.Request) { d.serve(false)(w, r) })
	a := openText(t, fmt.Sprintf(doorsText, front.URL, "http://127.0.0.1:1"), "")
	_, res := swept(t, a)
	assert.Empty(t, res.Findings)

	// What drills measured is served beside what is declared.
	list, err := a.View.Sessions(t.Context(), "", "", 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Len(t, list[0].Drills, 1, "bob's token opens nothing that shows whether it works")
	v := list[0].Drills[0]
	assert.Equal(t, "ann", v.Identity)
	assert.Equal(t, finding.Agrees, v.Verdict.Kind)
	require.Len(t, v.Steps, len(v.Result.Steps))
	assert.Equal(t, "works", v.Steps[0].Wanted)
	assert.Equal(t, 200, v.Steps[0].Report.Exchange.Status)
	b, err := json.Marshal(v)
	require.NoError(t, err)
	assert.NotContains(t, string(b), "access-token-")
	assert.NotContains(t, string(b), "ann-secret-1")

	// Run alone, only that is sent.
	r, err := a.Sweeps.ProbeAgain(t.Context(), "stand-in", []sweep.CrossingKey{{Route: v.Route, Caller: "session:ann"}})
	require.NoError(t, err)
	assert.Equal(t, 2, r.Planned, "and what it ended is tried again")
	a.Sweeps.Wait(r.ID)
	x, err := a.View.Crossing(t.Context(), "", v.Route, "session:ann")
	require.NoError(t, err)
	require.Len(t, x.Probes, 2)
	assert.Equal(t, "ann · session drill", x.Label)
	assert.NotEmpty(t, x.Probes[0].Steps)

	// A pasted token is only sent to its issuer when that is asked for.
	view, err := a.Tokens.JudgeToken(context.Background(), tokens.Query{Text: "no-such-token", Scheme: "access"})
	require.NoError(t, err)
	assert.True(t, view.CanAsk)
	assert.Equal(t, token.CannotTell, view.Outcome)
	view, err = a.Tokens.JudgeToken(context.Background(), tokens.Query{Text: "no-such-token", Scheme: "access",
		Ask: true})
	require.NoError(t, err)
	assert.Equal(t, "introspect-inactive", view.Judgements[0].ID)
	view, err = a.Tokens.JudgeToken(context.Background(), tokens.Query{Identity: "ann", Obtain: true})
	require.NoError(t, err)
	assert.Equal(t, token.Takes, view.Outcome, "%v", view.Judgements)
	assert.NotEmpty(t, view.Reach)
	assert.False(t, view.Axis.Ends.IsZero())

	timing, err := a.Sweeps.CompareLogins(context.Background(), "stand-in", "ann", "access")
	require.NoError(t, err)
	assert.Equal(t, sweep.TimingPairs, timing.N)
	_, err = a.Sweeps.CompareLogins(context.Background(), "stand-in", "cat", "access")
	require.ErrorIs(t, err, fault.ErrInput)
}
