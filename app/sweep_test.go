package app

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/sweep"
	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/finding"
	"millgate/store"
)

// fake is a service whose answers a test writes itself.
type fake struct {
	*httptest.Server
	mu   sync.Mutex
	log  []string
	took map[string]int
}

// count notes a request and says how often it came before.
func (f *fake) count(key string) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.log = append(f.log, key)
	f.took[key]++
	return f.took[key] - 1
}

func (f *fake) times(key string) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.took[key]
}

func newFake(t *testing.T, h func(f *fake, w http.ResponseWriter, r *http.Request)) *fake {
	t.Helper()
	f := &fake{took: map[string]int{}}
	f.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { h(f, w, r) }))
	t.Cleanup(f.Close)
	return f
}

// openFile opens a declaration with this text.
func openFile(t testing.TB, text, data string) (*App, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return Open(t.Context(), data, file)
}

func openText(t *testing.T, text, data string) *App {
	t.Helper()
	a, err := openFile(t, text, data)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	_, msgs := a.Workspace.Document()
	require.Empty(t, msgs)
	return a
}

const small = `millgate: 1
targets: { stand-in: { base: "%s", pace: 5000 per 1s, unsafe: %s } }
routes: [GET /a, "GET /t/{id}", "DELETE /t/{id}", { at: POST /t, send: { json: { n: 1 } } }, { at: POST /go, effect: command }]
roles: { r: }
schemes:
  access: { kind: bearer, login: { send: POST /login, json: { p: "{p}" }, take: { access: /t } } }
identities:
  ann: { roles: r, credentials: { access: { p: env:ANN_SECRET } } }
records:
  thing: { fills: "/t/{id}", owned_by: { ann: [t0] }, make: { send: POST /t, json: { n: 1 }, id: /id }, remove: "DELETE /t/{id}" }
access:
  - { at: GET /a, who: r }
  - { at: "/t/{id}", who: owner }
  - { at: POST /t, who: r }
  - { at: POST /go, who: r }
`

// obedient is a service that does what small says.
type obedient struct {
	mu   sync.Mutex
	next int
	have map[string]bool
}

func (o *obedient) serve(f *fake, w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	f.count(r.Method + " " + r.URL.Path)
	if r.URL.Path == "/login" {
		if b, _ := io.ReadAll(r.Body); !strings.Contains(string(b), "ann-secret-1") {
			w.WriteHeader(401)
			return
		}
		_, _ = fmt.Fprint(w, `{"t":"tok"}`)
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	known := r.URL.Path == "/a" || r.URL.Path == "/t" || r.URL.Path == "/go" ||
		strings.HasPrefix(r.URL.Path, "/t/") && strings.Count(r.URL.Path, "/") == 2
	switch {
	case !known:
		w.WriteHeader(404)
	case !bears(r, "tok"):
		w.WriteHeader(401)
	case r.Method == "POST" && r.URL.Path == "/t":
		o.next++
		id := fmt.Sprintf("t%d", o.next)
		o.have[id] = true
		w.WriteHeader(201)
		_, _ = fmt.Fprintf(w, `{"id":%q}`, id)
	case strings.HasPrefix(r.URL.Path, "/t/"):
		id := strings.TrimPrefix(r.URL.Path, "/t/")
		switch {
		case !o.have[id]:
			w.WriteHeader(404)
		case r.Method == "DELETE":
			delete(o.have, id)
			w.WriteHeader(204)
		case r.Method == "GET":
			_, _ = fmt.Fprintf(w, `{"id":%q}`, id)
		default:
			w.WriteHeader(405)
		}
	case r.URL.Path == "/a" && r.Method == "GET", r.URL.Path == "/go" && r.Method == "POST":
		_, _ = fmt.Fprint(w, `{}`)
	default:
		w.WriteHeader(405)
	}
}

func TestMadeRecordsOnlyLeavesNothing(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, o.serve)
	a := openText(t, fmt.Sprintf(small, f.URL, "made-records-only"), "")
	_, res := swept(t, a)
	assert.Empty(t, res.Findings)
	assert.Empty(t, res.Made)
	assert.Equal(t, map[string]bool{"t0": true}, o.have, "what was made is removed, what was there is left alone")
	assert.Zero(t, f.times("POST /go"), "a route without a record is left out")
	assert.Contains(t, fmt.Sprint(res.Left), "POST /go")
	assert.Greater(t, f.times("POST /t"), 2)
	assert.NotContains(t, fmt.Sprint(f.log), "DELETE /t/t0")
}

// bears says whether a request bears a token; the word before it has no letter
// case.
func bears(r *http.Request, token string) bool {
	scheme, value, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	return strings.EqualFold(scheme, "Bearer") && value == token
}

func TestRefusedSendsNothingUnsafe(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, o.serve)
	swept(t, openText(t, fmt.Sprintf(small, f.URL, "refused"), ""))
	for _, l := range f.log {
		method, _, _ := strings.Cut(l, " ")
		assert.True(t, slices.Contains([]string{"GET", "HEAD", "OPTIONS"}, method) || l == "POST /login", l)
	}
}

func TestThrottledIsWaitedOut(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/a" && r.Method == "GET" && r.Header.Get("Authorization") == "Bearer tok" &&
			f.count("throttled") < 2 {
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(429)
			return
		}
		if r.URL.Path == "/a" && r.Header.Get("Authorization") == "" {
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(429)
			f.count("always")
			return
		}
		o.serve(f, w, r)
	})
	a := openText(t, fmt.Sprintf(small, f.URL, "refused"), "")
	_, res := swept(t, a)
	assert.Empty(t, res.Findings)
	v, err := a.View.Crossing(t.Context(), "stand-in", "GET /a", "ann")
	require.NoError(t, err)
	assert.Equal(t, finding.Agrees, v.Probes[0].Verdict.Kind)
	assert.Equal(t, 2, v.Probes[0].Fact.Repeats)
	v, err = a.View.Crossing(t.Context(), "stand-in", "GET /a", "")
	require.NoError(t, err)
	assert.Equal(t, finding.Unproven, v.Probes[0].Verdict.Kind)
	assert.Contains(t, v.Probes[0].Verdict.Reason, "throttled")
	for _, p := range v.Probes {
		if p.Label == "no credential" {
			assert.Equal(t, 3, p.Fact.Repeats, "three times, then unproven")
		}
	}
}

// A token that ends in the middle of a sweep is renewed once, and what was
// refused since its last success is sent again.
func TestEndedCredentialIsRenewed(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	var logins, served atomic.Int32
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/login" {
			if b, _ := io.ReadAll(r.Body); !strings.Contains(string(b), "ann-secret-1") {
				w.WriteHeader(401)
				return
			}
			_, _ = fmt.Fprintf(w, `{"t":"token-%d"}`, logins.Add(1))
			return
		}
		switch {
		case bears(r, "token-1"):
			if served.Add(1) > 2 {
				w.WriteHeader(401) // ended
				return
			}
			r.Header.Set("Authorization", "Bearer tok")
		case bears(r, "token-2"):
			r.Header.Set("Authorization", "Bearer tok")
		}
		o.serve(f, w, r)
	})
	a := openText(t, fmt.Sprintf(small, f.URL, "allowed"), "")
	_, res := swept(t, a)
	assert.Empty(t, res.Findings, "a token that expired is not a finding")
	v, err := a.View.Crossing(t.Context(), "stand-in", "POST /t", "ann")
	require.NoError(t, err)
	assert.Equal(t, finding.Agrees, v.Probes[0].Verdict.Kind, v.Probes[0].Verdict.Reason)
	assert.Greater(t, served.Load(), int32(2), "the ended token was used")
}

func TestUnreachableIsNoVerdict(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "allowed"), "")
	began := time.Now()
	r, err := a.Sweeps.Start(t.Context(), "stand-in", "")
	require.NoError(t, err)
	a.Sweeps.Wait(r.ID)
	run, res, err := a.Sweeps.Result(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, store.Failed, run.State)
	assert.Contains(t, run.Note, "cannot be reached")
	assert.Empty(t, res.Findings)
	assert.Less(t, time.Since(began), 10*time.Second)
	b, err := a.View.Board(t.Context(), "", "")
	require.NoError(t, err)
	for _, row := range b.Rows {
		for _, c := range row.Access {
			assert.NotEqual(t, finding.Unproven, b.Cells[c].Found)
		}
	}
}

func TestMissingSecretsAreSaidBeforeAnythingIsSent(t *testing.T) {
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, o.serve)
	a := openText(t, fmt.Sprintf(small, f.URL, "refused"), "")
	_, err := a.Sweeps.Start(t.Context(), "stand-in", "")
	require.ErrorIs(t, err, fault.ErrInput)
	assert.ErrorContains(t, err, "ann: the environment variable ANN_SECRET is not set")
	assert.Empty(t, f.log)
}

func TestALoginThatFailsIsSaid(t *testing.T) {
	t.Setenv("ANN_SECRET", "not-the-one")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, o.serve)
	a := openText(t, fmt.Sprintf(small, f.URL, "refused"), "")
	_, res := swept(t, a)
	assert.Empty(t, res.Findings)
	require.Len(t, res.Unsent, 1)
	assert.Contains(t, res.Unsent[0].Why, "ann: the credential cannot be obtained: POST /login answered 401")
	assert.Positive(t, res.Unsent[0].Probes)
	list, err := a.View.Worklist(t.Context(), "")
	require.NoError(t, err)
	require.NotEmpty(t, list)
	assert.Contains(t, list[0].Complaint, "answered 401")
}

// What is known is not lost when a target cannot be reached any more.
func TestFailuresForgetNothing(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, o.serve)
	a := openText(t, fmt.Sprintf(small, f.URL, "refused"), "")
	swept(t, a)
	before, err := a.View.Board(t.Context(), "", "")
	require.NoError(t, err)
	require.Equal(t, finding.Agrees, cell(t, before, before.Rows[0], "ann").Found)
	f.Close()
	for _, again := range []func() (*events.Run, error){
		func() (*events.Run, error) {
			return a.Sweeps.ProbeAgain(t.Context(), "stand-in", []sweep.CrossingKey{{Route: "GET /a", Caller: "ann"}})
		},
		func() (*events.Run, error) { return a.Sweeps.Start(t.Context(), "stand-in", "") },
	} {
		r, err := again()
		require.NoError(t, err)
		a.Sweeps.Wait(r.ID)
		run, _, err := a.Sweeps.Result(t.Context(), r.ID)
		require.NoError(t, err)
		require.Equal(t, store.Failed, run.State)
		after, err := a.View.Board(t.Context(), "", "")
		require.NoError(t, err)
		assert.Equal(t, before.Rows, after.Rows)
	}
}

func TestProbeAgainSendsOnlyThat(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	open := false
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
		if open && r.URL.Path == "/a" && r.Method == "GET" {
			f.count("open /a")
			return
		}
		o.serve(f, w, r)
	})
	a := openText(t, fmt.Sprintf(small, f.URL, "refused"), "")
	_, res := swept(t, a)
	require.Empty(t, res.Findings)
	open = true
	sent := len(f.log)
	r, err := a.Sweeps.ProbeAgain(t.Context(), "stand-in", []sweep.CrossingKey{{Route: "GET /a", Caller: ""}})
	require.NoError(t, err)
	assert.True(t, r.Partial)
	a.Sweeps.Wait(r.ID)
	assert.Less(t, len(f.log)-sent, 20)
	fs, err := found(t, a, "")
	require.NoError(t, err)
	require.Len(t, fs, 1)
	assert.Equal(t, finding.Unprotected, fs[0].Kind)
	_, err = a.Sweeps.ProbeAgain(t.Context(), "stand-in", []sweep.CrossingKey{{Route: "GET /nowhere", Caller: ""}})
	assert.ErrorIs(t, err, fault.ErrNotFound)
	_, err = a.Sweeps.ProbeAgain(t.Context(), "nowhere", nil)
	assert.ErrorIs(t, err, fault.ErrNotFound)
}

// Verdicts are made from facts: a changed rule is judged without a request.
func TestAChangedRuleIsJudgedAnew(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, o.serve)
	data := t.TempDir()
	a := openText(t, fmt.Sprintf(small, f.URL, "refused"), data)
	swept(t, a)
	sent := len(f.log)
	d := a.Workspace.Declaration()
	_, err := a.Workspace.Keep(t.Context(),
		strings.Replace(d.Text, "{ at: GET /a, who: r }", "{ at: GET /a, who: nobody }", 1), "",
		d.Revision)
	require.NoError(t, err)
	fs, err := found(t, a, "")
	require.NoError(t, err)
	require.Len(t, fs, 1)
	assert.Equal(t, finding.OverPermissive, fs[0].Kind)
	assert.Len(t, f.log, sent)

	// The same after a restart, from the store.
	file := filepath.Join(a.Workspace.Where())
	_, err = Open(t.Context(), data, file)
	require.ErrorContains(t, err, "in use", "two processes do not write one directory")
	require.NoError(t, a.Close())
	b, err := Open(t.Context(), data, file)
	require.NoError(t, err)
	defer func() { assert.NoError(t, b.Close()) }()
	again, err := found(t, b, "")
	require.NoError(t, err)
	assert.Equal(t, fs, again)
	v, err := b.View.Crossing(t.Context(), "", "GET /a", "ann")
	require.NoError(t, err)
	assert.NotEmpty(t, v.History)
	ticks, err := b.View.Ticks(t.Context(), "", view.Wanted{})
	require.NoError(t, err)
	var paged []events.Tick
	for at, pages := 0, 0; at >= 0; pages++ {
		require.Less(t, pages, 100)
		p, err := b.View.Ticks(t.Context(), "", view.Wanted{From: at, Limit: 3})
		require.NoError(t, err)
		assert.Equal(t, len(ticks.List), p.Total)
		paged, at = append(paged, p.List...), p.Next
	}
	assert.Equal(t, ticks.List, paged)
	assert.Greater(t, len(ticks.List), 10)
}

// The file and the interface can be edited side by side.
func TestAFileChangedElsewhereIsTakenIn(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "refused"), "")
	d := a.Workspace.Declaration()
	file := filepath.Join(a.Workspace.Where())
	require.NoError(t, os.WriteFile(file, []byte(d.Text+"# from an editor\n"), 0o600))
	_, err := a.Workspace.Keep(t.Context(), d.Text+"# from the interface\n", "", d.Revision)
	require.ErrorIs(t, err, fault.ErrInput, "what was written elsewhere is not lost")
	now := a.Workspace.Declaration()
	assert.Equal(t, d.Text+"# from an editor\n", now.Text)
	assert.Equal(t, d.Revision+1, now.Revision)
	require.NoError(t, a.Workspace.Sync(t.Context()))
	assert.Equal(t, now.Revision, a.Workspace.Declaration().Revision, "nothing new, no revision")
}

// What was sent and not answered before a process died.
func TestResumeSendsNoUnsafeProbeTwice(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true, "t77": true}}
	f := newFake(t, o.serve)
	data := t.TempDir()
	text := fmt.Sprintf(small, f.URL, "allowed")
	a := openText(t, text, data)
	d, _ := a.Workspace.Document()
	pl := check.NewPlan(d, d.TargetNamed("stand-in"), a.Targets.Families)
	// The journal as a process that was killed leaves it.
	w := store.Sweep{RevisionID: a.Workspace.Declaration().Revision, Target: "stand-in", State: store.Running,
		Planned:   len(pl.Probes),
		StartedAt: time.Now()}
	require.NoError(t, a.store.AddSweep(t.Context(), &w))
	lost := ""
	for _, p := range pl.Probes {
		if p.Route == "POST /go" && p.Caller.Identity == "ann" && p.IsControl {
			lost = p.Key()
			require.NoError(t, a.store.Intend(t.Context(), store.Probe{SweepID: w.ID, ProbeID: p.Key(), Route: p.Route,
				Identity: "ann", Unsafe: true, Sent: time.Now()}))
		}
	}
	require.NotEmpty(t, lost)
	require.NoError(t, a.store.AddMade(t.Context(),
		&store.Made{SweepID: w.ID, Record: "thing", Owner: "ann", RID: "t77",
			Route: "DELETE /t/{id}", State: "made"}))
	require.NoError(t, a.store.InterruptRunning(t.Context()))

	r, err := a.Sweeps.Resume(t.Context(), w.ID)
	require.NoError(t, err)
	a.Sweeps.Wait(r.ID)
	run, res, err := a.Sweeps.Result(t.Context(), w.ID)
	require.NoError(t, err)
	assert.Equal(t, store.Done, run.State)
	assert.Equal(t, len(pl.Probes), run.Planned)
	assert.Empty(t, res.Findings)
	assert.NotContains(t, o.have, "t77", "a throwaway record of the journal is removed")
	v, err := a.View.Crossing(t.Context(), "stand-in", "POST /go", "ann")
	require.NoError(t, err)
	for _, p := range v.Probes {
		if p.Probe.Key() == lost {
			assert.Equal(t, finding.Unproven, p.Verdict.Kind)
			assert.Contains(t, p.Verdict.Reason, "not sent twice")
		}
	}
	_, err = a.Sweeps.Resume(t.Context(), w.ID)
	assert.ErrorIs(t, err, fault.ErrInput, "one that is done cannot go on")
	_, err = a.Sweeps.Resume(t.Context(), 99)
	assert.ErrorIs(t, err, fault.ErrNotFound)
}

func TestKeepRefusesWhatIsWrong(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "refused"), "")
	d := a.Workspace.Declaration()
	_, err := a.Workspace.Keep(t.Context(), strings.Replace(d.Text, "who: r", "who: q", 1), "", d.Revision)
	require.ErrorIs(t, err, fault.ErrInvalid)
	_, err = a.Workspace.Keep(t.Context(), d.Text+"# more\n", "", d.Revision+5)
	require.ErrorIs(t, err, fault.ErrInput)
	kept, err := a.Workspace.Keep(t.Context(), d.Text+"# more\n", "  a note ", d.Revision)
	require.NoError(t, err)
	assert.Equal(t, d.Revision+1, kept.Revision)
	b, err := os.ReadFile(filepath.Join(a.Workspace.Where()))
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(string(b), "# more\n"), "the file holds what was kept")
	list, err := a.Workspace.Revisions(t.Context(), 0, 100)
	require.NoError(t, err)
	assert.Equal(t, "a note", list[0].Message)
	old, err := a.Workspace.RevisionText(t.Context(), d.Revision)
	require.NoError(t, err)
	assert.Equal(t, d.Text, old)
}

func TestCheckSaysWhatChanges(t *testing.T) {
	a := openText(t, fmt.Sprintf(small, "http://127.0.0.1:1", "refused"), "")
	text := a.Workspace.Declaration().Text
	e := a.Workspace.Check(strings.Replace(text, "{ at: GET /a, who: r }", "{ at: GET /a, who: anyone }", 1))
	assert.Equal(t, []access.Turned{{Route: "GET /a", From: "refuse", To: "admit", Expect: "admit",
		Turn: access.Opens}},
		e.Changes)
	e = a.Workspace.Check(strings.Replace(text, "  - { at: POST /go, who: r }\n", "", 1))
	assert.Equal(t, 1, e.Closes)
	assert.Equal(t, 1, e.Other, "nobody is turned away in another way")
	e = a.Workspace.Check(strings.Replace(text, "GET /a, ", "GET /a, GET /b, ", 1))
	assert.Equal(t, []string{"GET /b"}, e.Added)
	assert.Zero(t, e.Opens, "a new route is closed")
	assert.NotEmpty(t, a.Workspace.Check("millgate: 2").Messages)
}

func TestImporterStaysInItsFolder(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret.yaml"),
		[]byte("openapi: 3.0.0\ninfo: {title: x, version: '1'}\npaths: {/a: {get: {responses: {}}}}\n"), 0o600))
	sub := filepath.Join(dir, "sub")
	require.NoError(t, os.Mkdir(sub, 0o700))
	load := workspace.Importer(sub)
	for _, ref := range []string{"../secret.yaml", filepath.Join(dir, "secret.yaml"), "x/../../secret.yaml"} {
		routes, problems := load(ref)
		assert.Empty(t, routes, ref)
		assert.NotEmpty(t, problems, ref)
	}
	routes, problems := workspace.Importer(dir)("secret.yaml")
	assert.Len(t, routes, 1)
	assert.Empty(t, problems)
}

func TestKeptSecrets(t *testing.T) {
	data := t.TempDir()
	text := strings.Replace(fmt.Sprintf(small, "http://127.0.0.1:1", "refused"), "env:ANN_SECRET", "kept:ann", 1)
	a := openText(t, text, data)
	d, _ := a.Workspace.Document()
	v := d.IdentityNamed("ann").Credentials[0].Fill["p"]
	_, err := a.Workspace.Secret(t.Context(), v)
	require.ErrorContains(t, err, "millgate keep ann")
	require.NoError(t, workspace.KeepSecret(t.Context(), data, "ann", "kept-canary"))
	got, err := a.Workspace.Secret(t.Context(), v)
	require.NoError(t, err)
	assert.Equal(t, "kept-canary", got)
	for _, f := range []string{"millgate.db", "millgate.db-wal"} {
		raw, err := os.ReadFile(filepath.Join(data, f))
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "kept-canary", "sealed at rest")
	}
}

func TestStopLosesNothing(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
		time.Sleep(20 * time.Millisecond)
		o.serve(f, w, r)
	})
	a := openText(t, fmt.Sprintf(small, f.URL, "allowed"), "")
	r, err := a.Sweeps.Start(t.Context(), "stand-in", "")
	require.NoError(t, err)
	_, err = a.Sweeps.Start(t.Context(), "stand-in", "")
	require.ErrorIs(t, err, fault.ErrBusy)
	time.Sleep(150 * time.Millisecond)
	require.NoError(t, a.Sweeps.Stop(r.ID))
	run, res, err := a.Sweeps.Result(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, store.Stopped, run.State)
	assert.Contains(t, run.Note, "stopped after")
	assert.Positive(t, res.Counts.Crossings[finding.Agrees]+res.Counts.Crossings[finding.Unproven])
	r, err = a.Sweeps.Resume(t.Context(), r.ID)
	require.NoError(t, err)
	a.Sweeps.Wait(r.ID)
	run, res, err = a.Sweeps.Result(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, store.Done, run.State)
	assert.Empty(t, res.Findings)
	assert.Empty(t, res.Made)
}

// Whoever listens hears of the end last, however short the sweep was.
func TestTheEndIsToldLast(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	o := &obedient{have: map[string]bool{"t0": true}}
	f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
		time.Sleep(time.Millisecond)
		o.serve(f, w, r)
	})
	a := openText(t, fmt.Sprintf(small, f.URL, "allowed"), "")
	for range 5 {
		events, end := a.Events.Listen()
		swept(t, a)
		end()
		last := ""
		for e := range events {
			if e.Sweep != nil {
				last = e.Sweep.State
			}
		}
		assert.Equal(t, store.Done, last)
	}
}
