package app

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/core/finding"
	"millgate/testkit/memnet"
)

// Rule: A claim that misled somebody becomes a row first.

// village is the declaration of most rows: five routes, an owner, a reader without
// what the route asks for, a login.
const village = `millgate: 1
targets: { t: { base: "%s", pace: 5000 per 1s, unsafe: allowed } }
routes: [GET /a, GET /b, GET /c, "GET /t/{id}", "PATCH /t/{id}"]
roles: { r: }
schemes:
  access: { kind: bearer, login: { send: POST /login, json: { n: "{n}", p: "{password}" }, take: { access: /t } } }
identities:
  ann: { roles: r, attributes: { checked: true }, credentials: { access: { n: ann, password: right-ann } } }
  bob: { roles: r, credentials: { access: { n: bob, password: right-bob } } }
records:
  thing: { fills: "/t/{id}", owned_by: { ann: [t-ann], bob: [t-bob] } }
access:
  - { at: GET /a, who: r }
  - { at: GET /b, who: r }
  - { at: GET /c, who: r }
  - { at: "/t/{id}", who: owner }
`

// villager is a service that does what village says. Its fields make it lie.
type villager struct {
	mu    sync.Mutex
	count map[string]int
	twist func(v *villager, w http.ResponseWriter, r *http.Request) bool // answered already
	// names that the login made, and their secrets
	signsUp map[string]string
}

func (v *villager) times(key string) int {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.count[key]++
	return v.count[key]
}

func (v *villager) who(r *http.Request) string {
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	n, ok := strings.CutPrefix(token, "token-of-")
	if !ok || !strings.EqualFold(scheme, "bearer") || n != "ann" && n != "bob" ||
		len(r.Header.Values("Authorization")) > 1 {
		return ""
	}
	return n
}

func (v *villager) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	v.times("all")
	if v.twist == nil || !v.twist(v, w, r) {
		v.serve(w, r)
	}
}

// serve does what village says.
func (v *villager) serve(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	thing, isThing := strings.CutPrefix(r.URL.Path, "/t/")
	switch who := v.who(r); {
	case r.URL.Path == "/login" && r.Method == "POST":
		var in struct{ N, P string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		if in.P != "right-"+in.N {
			w.WriteHeader(401)
			return
		}
		_, _ = fmt.Fprintf(w, `{"t":"token-of-%s"}`, in.N)
	case !slices.Contains([]string{"/a", "/b", "/c"}, r.URL.Path) && (!isThing || strings.Contains(thing, "/")):
		w.WriteHeader(404)
	case r.Method != "GET" && r.Method != "HEAD" && (r.Method != "PATCH" || r.URL.Path[:2] != "/t"):
		w.WriteHeader(405)
	case who == "":
		w.WriteHeader(401)
	case isThing && thing != "t-ann" && thing != "t-bob":
		w.WriteHeader(404)
	case isThing && thing != "t-"+who:
		w.WriteHeader(403)
	default:
		_, _ = fmt.Fprintf(w, `{"path":%q,"of":%q}`, r.URL.Path, who)
	}
}

// status answers everything so.
func answering(status int, header ...string) func(*villager, http.ResponseWriter, *http.Request) bool {
	return func(_ *villager, w http.ResponseWriter, _ *http.Request) bool {
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		w.WriteHeader(status)
		return true
	}
}

// rewriting answers what the village does, as change makes it.
func rewriting(change func(v *villager, r *http.Request, a *httptest.ResponseRecorder)) func(*villager,
	http.ResponseWriter, *http.Request) bool {
	return rewritten(nil, change)
}

// rewritten answers what another twist of the village does, as change makes it.
func rewritten(then func(*villager, http.ResponseWriter, *http.Request) bool, change func(v *villager, r *http.Request,
	a *httptest.ResponseRecorder)) func(*villager, http.ResponseWriter, *http.Request) bool {
	return func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		a := httptest.NewRecorder()
		if then == nil || !then(v, a, r) {
			v.serve(a, r)
		}
		change(v, r, a)
		maps.Copy(w.Header(), a.Header())
		w.WriteHeader(a.Code)
		_, _ = w.Write(a.Body.Bytes())
		return true
	}
}

// annsAlone is the village in which b and c are ann's alone, and what makes a service of it.
var annsAlone = strings.NewReplacer("GET /c, who: r", "GET /c, who: identity:ann", "GET /b, who: r",
	"GET /b, who: identity:ann").Replace(village)

func keepsForAnn(v *villager, r *http.Request, a *httptest.ResponseRecorder) {
	if a.Code == 200 && v.who(r) == "bob" && (r.URL.Path == "/b" || r.URL.Path == "/c") {
		says(a, 403, `{"error":"not you"}`)
	}
}

// says makes an answer another.
func says(a *httptest.ResponseRecorder, status int, body string) {
	a.Code = status
	a.Body.Reset()
	_, _ = a.Body.WriteString(body)
}

// dies answers sixty requests, and fails from then on.
func dies(v *villager, w http.ResponseWriter, _ *http.Request) bool {
	if v.times("requests") < 60 {
		return false
	}
	w.WriteHeader(502)
	return true
}

func reset(_ *villager, w http.ResponseWriter, _ *http.Request) bool {
	c, _, err := w.(http.Hijacker).Hijack()
	if err == nil {
		_ = c.Close()
	}
	return true
}

// liar is a misbehaving or unusual service: what may be said of it, what must not
// be, and the exit code.
type liar struct {
	name   string
	text   string // of the declaration; village without
	change []string
	twist  func(*villager, http.ResponseWriter, *http.Request) bool
	serves http.Handler // in place of a villager
	most   float64      // percent; 0 is the default
	before func(a *App)
	within time.Duration // virtual time of the sweep; 0 is any
	sends  int           // requests at most; 0 is any
	whole  bool          // nothing is unproven

	code  int
	rules []coverage.DoubtRule // that hold, in their order
	kinds []string             // findings: kind and route, in any order
	says  []string             // in findings, doubts, what is left and unsent
	never []string
	// untouched is what the service counted and must not have met
	untouched string
}

// liars is the liar's table. A row is here because a measure from outside was
// misled by it.
var liars = []liar{
	{name: "a sound service"},
	{name: "a sound service, and a disk that takes nothing",
		before: func(a *App) { a.store.SetReadOnly(errors.New("the disk is full")) }, code: 3,
		rules: []coverage.DoubtRule{coverage.NotStored}, says: []string{"the disk is full"}},
	{name: "sound, and one route for the highest role alone", text: `millgate: 1
targets: { t: { base: "%s", pace: 5000 per 1s, unsafe: allowed } }
routes: [GET /a, { at: PATCH /a, send: { json: { n: 1 } } }]
roles: { r: , admin: { includes: r } }
schemes:
  access: { kind: bearer, token: jwt, algorithms: [ES256], claims: { roles: /roles }, login: { send: POST /login, json: { n: "{n}", p: "{password}" }, take: { access: /t } } }
identities:
  ann: { roles: admin, credentials: { access: { n: ann, password: right-ann } } }
  bob: { roles: r, credentials: { access: { n: bob, password: right-bob } } }
access: [{ at: /a, who: admin }]
`, twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		switch {
		case r.URL.Path != "/a":
			return false
		case v.who(r) == "":
			w.WriteHeader(401)
		case v.who(r) == "bob":
			w.WriteHeader(403)
		case r.Method == "GET" || r.Method == "HEAD" || r.Method == "PATCH":
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"n":1}`)
		default:
			w.WriteHeader(405)
		}
		return true
	}, never: []string{"P PATCH", "U "}, code: 0},
	{name: "every connection is reset", twist: reset, code: 3, within: 20 * time.Second,
		rules: []coverage.DoubtRule{coverage.NotReached, coverage.NoControls, coverage.MostUnproven},
		says:  []string{"nothing more was sent"}, sends: 30},
	{name: "429 to everything, come back in an hour", twist: answering(429, "Retry-After", "3600"), code: 3,
		within: 20 * time.Second, rules: []coverage.DoubtRule{coverage.NotReached, coverage.NoControls,
			coverage.MostUnproven}, sends: 30},
	{name: "429 to everything, come back in more seconds than a number holds",
		twist: answering(429, "Retry-After", "99999999999999999999"), code: 3, within: 20 * time.Second,
		rules: []coverage.DoubtRule{coverage.NotReached, coverage.NoControls, coverage.MostUnproven}, sends: 30},
	{name: "503 to everything", twist: answering(503, "Retry-After", "60"), code: 3, within: 20 * time.Second,
		rules: []coverage.DoubtRule{coverage.NotReached, coverage.NoControls, coverage.MostUnproven}, sends: 30},
	{name: "101 to everything", twist: func(_ *villager, w http.ResponseWriter, _ *http.Request) bool {
		c, b, err := w.(http.Hijacker).Hijack()
		if err == nil {
			_, _ = b.WriteString("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: x\r\n\r\n")
			_ = b.Flush()
			go func() { _, _ = io.Copy(io.Discard, c) }() // it never says anything more
		}
		return true
	}, code: 3, within: time.Minute, rules: []coverage.DoubtRule{coverage.NoCredential, coverage.NoControls,
		coverage.MostUnproven}},
	{name: "header fields without end", twist: func(_ *villager, w http.ResponseWriter, _ *http.Request) bool {
		c, b, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return true
		}
		go func() {
			defer c.Close() //nolint:errcheck // the other side closes it
			_, err := b.WriteString("HTTP/1.1 200 OK\r\n")
			for i := 0; err == nil && i < 1000; i++ {
				_, err = fmt.Fprintf(b, "X-%d: %s\r\n", i, strings.Repeat("x", 4000))
			}
		}()
		return true
	}, code: 3, within: 20 * time.Second, rules: []coverage.DoubtRule{coverage.NotReached, coverage.NoControls,
		coverage.MostUnproven},
		says: []string{"1048576 bytes"}},
	{name: "a login that gives nothing", twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/login" {
			return false
		}
		w.WriteHeader(403)
		return true
	}, code: 3, rules: []coverage.DoubtRule{coverage.NoCredential, coverage.NoControls, coverage.MostUnproven},
		never: []string{" proven", "401"}},
	{name: "one route of five answers that the request is wrong", text: village, change: []string{`"PATCH /t/{id}"]`,
		`"PATCH /t/{id}", { at: POST /go, effect: command, send: { json: { n: one } } }]`, "access:\n",
		"access:\n  - { at: POST /go, who: r }\n"}, twist: func(v *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if r.URL.Path != "/go" || r.Method != "POST" || v.who(r) == "" {
			return false
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(422)
		_, _ = io.WriteString(w, `{"detail":"n must be a number"}`)
		return true
	}, most: 30, code: 3, rules: []coverage.DoubtRule{coverage.NoControls}, kinds: []string{},
		says: []string{"not fair: POST /go as ann: POST http://", `{"n":"one"}: 422 {"detail":"n must be a number"}`,
			"unproven: 1: ", "the request is not fair yet", "POST /go as ann", "POST /go as nobody"}},
	{name: "one route of five fails", twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/c" {
			return false
		}
		w.WriteHeader(500)
		return true
	}, most: 3, code: 3, rules: []coverage.DoubtRule{coverage.NoControls, coverage.MostUnproven},
		says: []string{"1 of 5 routes", "GET /c", "at most 3% may be"}},
	{name: "it dies in the middle", twist: dies, code: 3, rules: []coverage.DoubtRule{coverage.NotEnded,
		coverage.NoControls, coverage.MostUnproven},
		says: []string{"10 failures in a row", "admitted before, was answered 502"}, sends: 100, kinds: []string{}},
	{name: "it dies in the middle, and one goes on", twist: dies,
		before: func(a *App) { a.Sweeps.KeepGoing = true }, code: 3,
		rules: []coverage.DoubtRule{coverage.NoControls, coverage.MostUnproven}, kinds: []string{}},
	{name: "it dies in the middle, and somebody at a terminal says no", twist: dies,
		before: func(a *App) { a.Sweeps.Ask = func(q string) bool { return !strings.Contains(q, "Go on?") } }, code: 3,
		rules: []coverage.DoubtRule{coverage.NotEnded, coverage.NoControls, coverage.MostUnproven}, sends: 100},
	{name: "it dies in the middle, and somebody at a terminal says yes", twist: dies, before: func(a *App) {
		asked := false
		a.Sweeps.Ask = func(q string) bool { // once
			defer func() { asked = true }()
			return !asked && strings.Contains(q, "Go on?")
		}
	}, code: 3, rules: []coverage.DoubtRule{coverage.NoControls, coverage.MostUnproven}, kinds: []string{}},
	{name: "it fails at what nobody declared, and only there", twist: func(v *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if slices.Contains([]string{"/a", "/b", "/c", "/login"}, r.URL.Path) || strings.HasPrefix(r.URL.Path, "/t/t-") {
			return false
		}
		w.WriteHeader(500)
		return true
	}, code: 0, says: []string{"W any unknown path"}, never: []string{"failures in a row"}},
	{name: "a signed address in the answer", text: village + "answers: { never: { fields: [password] } }\n",
		twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/a" || r.Method != "GET" || v.who(r) == "" {
				return false
			}
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"picture":"https://files.example/p?sig=abcdef012345","password":"hunter2"}`)
			return true
		}, kinds: []string{"L GET /a"}, code: 1},
	{name: "the attribute is never checked, ownership is", change: []string{`{ at: "/t/{id}", who: owner }`,
		`{ at: "/t/{id}", who: owner, given: { checked: true } }`},
		kinds: []string{"P GET /t/{id}", "P PATCH /t/{id}"}, code: 1, says: []string{"attribute"}},
	{name: "the login signs up whoever it does not know", twist: func(v *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if r.URL.Path != "/login" {
			return false
		}
		var in struct{ N, P string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		v.mu.Lock()
		defer v.mu.Unlock()
		want, known := v.signsUp[in.N]
		if !known {
			want = in.P
			v.signsUp[in.N] = in.P
		}
		if in.P != want || in.P == "" {
			w.WriteHeader(401)
			return true
		}
		_, _ = fmt.Fprintf(w, `{"t":"token-of-%s"}`, in.N)
		return true
	}, code: 0, says: []string{"the login signs up a name", "account nobody-"},
		never: []string{"Unprotected", "U POST"}},
	{name: "the login takes any secret", twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/login" {
			return false
		}
		_, _ = io.WriteString(w, `{"t":"token-of-ann"}`)
		return true
	}, says: []string{"U POST /login: Any secret logs in"}, code: 1},
	{name: "the second of two equal requests meets another state", text: village +
		"answers: { errors: { type: application/json } }\n", change: []string{`"PATCH /t/{id}"]`,
		`"PATCH /t/{id}", { at: POST /go, effect: command, send: { json: { n: 1 } } }]`, "access:\n",
		"access:\n  - { at: POST /go, who: identity:ann }\n"},
		twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/go" {
				return false
			}
			w.Header().Set("Content-Type", "application/json")
			switch {
			case r.Method != "POST":
				w.WriteHeader(405)
				return true
			case v.who(r) == "":
				w.WriteHeader(401)
				return true
			}
			if v.who(r) == "bob" {
				w.WriteHeader(403)
			} else if v.times("gone") > 1 {
				w.WriteHeader(409)
			}
			_, _ = io.WriteString(w, "{}")
			return true
		}, code: 0, kinds: []string{}},
	{name: "a limiter behind a service that fails now and then", text: village +
		"quotas:\n  q: { at: GET /c, allow: 40 per 1m, counted_by: everyone }\n",
		twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/c" || r.Method != "GET" || v.who(r) == "" {
				return false
			}
			switch n := v.times("calls of c"); {
			case n > 30 && n%4 == 0: // once it is drilled
				w.WriteHeader(503)
			case v.times("counted") > 40:
				w.Header().Set("Retry-After", "50")
				w.WriteHeader(429)
			default:
				return false
			}
			return true
		}, kinds: []string{}, code: 0},
	{name: "a service that never limits and fails now and then", text: village +
		"quotas:\n  q: { at: GET /c, allow: 100 per 1m, counted_by: everyone }\n",
		twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/c" || r.Method != "GET" || v.who(r) == "" {
				return false
			}
			if n := v.times("calls of c"); n < 30 || n%9 != 8 {
				return false
			}
			w.WriteHeader(503)
			return true
		}, kinds: []string{}, code: 0, never: []string{"refused", "quota"}},
	{name: "what is not there is said to anybody", twist: func(_ *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if thing, ok := strings.CutPrefix(r.URL.Path, "/t/"); !ok || thing == "t-ann" || thing == "t-bob" {
			return false
		}
		w.WriteHeader(404)
		return true
	}, kinds: []string{"L the guard of access"}, code: 0},
	{name: "HEAD has no body", text: village + "answers: { 401: { type: application/json, has: [/error] } }\n",
		twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			if v.who(r) != "" || r.URL.Path == "/login" || !slices.Contains([]string{"/a", "/b", "/c"}, r.URL.Path) &&
				!strings.HasPrefix(r.URL.Path, "/t/") {
				return false
			}
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(401)
			_, _ = io.WriteString(w, `{"error":"no"}`)
			return true
		}, never: []string{"HEAD"}, code: 0},
}

func TestLiars(t *testing.T) {
	for i, c := range slices.Concat(liars, oneCause, withTokens, detours, undeclaredRows, underHeaders, withLimits,
		badTransport, oddHeaders, oddBodies, oddTimes,
		oddStatus, oddLogins, oddRecords, oddLinks, mixedUp) {
		t.Run(c.name, func(t *testing.T) {
			virtually(t, func(t *testing.T, n *memnet.Net) {
				v := &villager{count: map[string]int{}, twist: c.twist,
					signsUp: map[string]string{"ann": "right-ann", "bob": "right-bob"}}
				var serves http.Handler = v
				if c.serves != nil {
					serves = c.serves
				}
				base, end := n.Serve(serves)
				defer end()
				text := c.text
				if text == "" {
					text = village
				}
				text = strings.NewReplacer(c.change...).Replace(fmt.Sprintf(text, base))
				a := openIn(t, n, text)
				if c.before != nil {
					c.before(a)
				}
				r, err := a.Sweeps.Start(t.Context(), "t", "")
				require.NoError(t, err)
				a.Sweeps.Wait(r.ID)
				run, res, err := a.Sweeps.Result(t.Context(), r.ID)
				require.NoError(t, err)
				if i < len(liars) {
					golden(t, "village "+c.name, res.Findings)
				}
				c.check(t, v, run, res)
				time.Sleep(2 * time.Minute) // what is answered without end has ended
			})
		})
	}
}

// openIn opens a declaration for a target on a network in memory.
func openIn(t *testing.T, n *memnet.Net, text string) *App {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	a, err := Open(t.Context(), "", file)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	a.Workspace.Dial = n.Dial
	_, msgs := a.Workspace.Document()
	for _, m := range msgs {
		require.NotContains(t, m.String(), "error", "%v", m)
	}
	return a
}

func (c liar) check(t *testing.T, v *villager, run *events.Run, res coverage.Result) {
	t.Helper()
	most := c.most
	if most == 0 {
		most = coverage.DefaultMostUnproven
	}
	doubts := res.Doubts(run, most)
	var b strings.Builder
	var kinds []string
	for _, f := range res.Findings {
		kinds = append(kinds, string(f.Kind)+" "+f.Where())
		fmt.Fprintf(&b, "%s %s: %s. %s %s\n", f.Kind, f.Where(), f.Title, f.Reason, f.Confidence)
	}
	var rules []coverage.DoubtRule
	for _, d := range doubts {
		rules = append(rules, d.Rule)
		fmt.Fprintf(&b, "%s: %s\n", d.Rule, d.Text)
	}
	for _, m := range res.Made {
		fmt.Fprintf(&b, "left behind: %s by %s: %s\n", m.What, m.Route, m.Why)
	}
	said := b.String()
	for _, u := range res.Unsent {
		fmt.Fprintf(&b, "unsent: %d: %s\n", u.Probes, u.Why)
	}
	for _, u := range res.Unproven {
		fmt.Fprintf(&b, "unproven: %d: %s: %v\n", u.Probes, u.Why, u.Crossings)
	}
	for _, u := range res.NotFair {
		fmt.Fprintf(&b, "not fair: %s as %s: %s %s %s: %d %s\n", u.Route, u.Caller, u.Method, u.URL, u.Body, u.Status,
			u.Complaint)
	}
	for _, l := range res.Left {
		fmt.Fprintf(&b, "left out: %s: %s: %s\n", l.Route, l.What, l.Why)
	}
	t.Log(b.String())
	assert.Equal(t, c.code, res.Code(run, most, finding.FailOn{Least: finding.High}.Stops), "the exit code")
	if c.rules != nil || c.code != 3 {
		assert.Equal(t, c.rules, rules)
	}
	if c.kinds != nil {
		assert.ElementsMatch(t, c.kinds, kinds)
	}
	for _, s := range c.says {
		assert.Contains(t, b.String(), s)
	}
	for _, s := range c.never {
		assert.NotContains(t, said, s)
	}
	if c.whole {
		assert.Empty(t, res.Unproven)
	}
	if c.untouched != "" {
		assert.Zero(t, v.count[c.untouched])
	}
	if c.within > 0 {
		assert.LessOrEqual(t, run.EndedAt.Sub(run.StartedAt), c.within)
	}
	if c.sends > 0 {
		assert.LessOrEqual(t, v.count["all"], c.sends)
	}
}

// A drill that gives up because the service fails keeps the calls that it made: they were
// sent, and what refuses them was not found out.
func TestADrillOfAServiceThatFails(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}, twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/c" || r.Method != "GET" || v.who(r) == "" {
				return false
			}
			if n := v.times("calls of c"); n < 40 || n%3 != 0 {
				return false
			}
			w.WriteHeader(http.StatusBadGateway)
			return true
		}}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base)+
			"quotas:\n  q: { at: GET /c, allow: 100 per 1m, counted_by: everyone }\n")
		run, err := a.Sweeps.Start(t.Context(), "t", "")
		require.NoError(t, err)
		a.Sweeps.Wait(run.ID)
		_, res, err := a.Sweeps.Result(t.Context(), run.ID)
		require.NoError(t, err)
		for _, u := range res.Unsent {
			assert.NotContains(t, u.Why, "failed", "its calls were sent")
		}
		x, err := a.View.Crossing(t.Context(), "t", "GET /c", "quota:q")
		require.NoError(t, err)
		require.Len(t, x.Probes, 1)
		assert.Equal(t, finding.Unproven, x.Probes[0].Verdict.Kind)
		assert.Contains(t, x.Probes[0].Verdict.Reason, "4 calls failed in place of being admitted or refused")
		assert.NotEmpty(t, x.Probes[0].Quota.Measured.Calls)
	})
}
