package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	neturl "net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/standin"
)

// The tests run this test binary as the program itself.
func TestMain(m *testing.M) {
	if os.Getenv("MILLGATE_AS_PROGRAM") != "" {
		main()
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func program(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	exe, err := os.Executable()
	require.NoError(t, err)
	c := exec.Command(exe, args...)
	c.Env = append(os.Environ(), "MILLGATE_AS_PROGRAM=1")
	for k, v := range standin.Secrets() {
		c.Env = append(c.Env, k+"="+v)
	}
	return c
}

func run(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	c := program(t, args...)
	var o, e bytes.Buffer
	c.Stdout, c.Stderr = &o, &e
	err := c.Run()
	if err != nil {
		var x *exec.ExitError
		require.ErrorAs(t, err, &x)
		return x.ExitCode(), o.String(), e.String()
	}
	return 0, o.String(), e.String()
}

// example writes the demo declaration for a stand-in with flaws.
func example(t *testing.T, flaws string) string {
	return exampleWith(t, flaws, nil)
}

func exampleWith(t *testing.T, flaws string, secrets map[string]string) string {
	t.Helper()
	list, err := standin.ParseFlaws(flaws)
	require.NoError(t, err)
	s, err := standin.Listen("127.0.0.1:0", standin.Options{Flaws: list, Secrets: secrets, Gateway: true, Quotas: true,
		Nodes: 3})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	dir := t.TempDir()
	require.NoError(t, writeExample(dir, s))
	file := filepath.Join(dir, "fernhollow.gate.yaml")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(b), "400 per 1s", "5000 per 1s", 1)), 0o600))
	return file
}

func TestSweepExitCodes(t *testing.T) {
	t.Parallel() // it waits for quotas to open
	sound, demo := example(t, "none"), example(t, "demo")
	begun := time.Now()
	code, out, errs := run(t, "sweep", sound, "--target", "stand-in")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "stand-in: 0 findings")
	assert.NotContains(t, out+errs, "\x1b[", "no colour in a pipe")
	assert.LessOrEqual(t, strings.Count(errs, "probes,"), int(time.Since(begun)/toldEvery), "how far it is, rarely")

	code, out, _ = run(t, "sweep", sound, "--target", "stand-in", "--only-controls")
	assert.Equal(t, 0, code)
	all := regexp.MustCompile(`only controls were sent: (\d+) of (\d+) are admitted`).FindStringSubmatch(out)
	require.Len(t, all, 3, out)
	assert.Equal(t, all[1], all[2])
	code, out, _ = run(t, "sweep", sound, "--target", "stand-in", "--only-controls", "--plan")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, all[2]+" probes,")

	code, text, _ := run(t, "sweep", demo, "--target", "stand-in")
	assert.Equal(t, 1, code)
	for _, line := range []string{`unproven: 2 probes: a body that claims "roles" was answered 201, and roles was not seen`,
		`left out: 1 probe: it would delete proposal p-202, and no throwaway one can be made`,
		`    POST /v1/partners/requests as lanternfish, raised-role; `, `left behind: proposal p-\d+ by POST`} {
		assert.Regexp(t, "(?m)^"+line, text)
	}
	code, out, _ = run(t, "sweep", demo, "--target", "stand-in", "--format", "json", "--fail-on", "critical")
	assert.Equal(t, 1, code, "an unsigned token opens a highly sensitive route")
	var res struct {
		Version  int
		Findings []map[string]any
		Counts   map[string]any
		Plan     map[string]any
		Unproven []struct {
			Why       string
			Probes    int
			Crossings []struct{ Route, Caller, What string }
		}
		NotFair, Unsent []any
	}
	require.NoError(t, json.Unmarshal([]byte(out), &res))
	assert.Equal(t, 1, res.Version)
	scope := func(f map[string]any) string {
		s, _ := f["scope"].(map[string]any)
		of, _ := s["of"].(string)
		return of
	}
	// The quotas are still full from the sweep before, so that some drills say
	// nothing this time.
	res.Findings = slices.DeleteFunc(res.Findings, func(f map[string]any) bool { return scope(f) == "quota" })
	require.Len(t, res.Findings, 18)
	for _, f := range res.Findings {
		for _, k := range []string{"id", "kind", "route", "callers", "rung", "severity", "confidence", "reason",
			"owasp", "cwe"} {
			assert.Contains(t, f, k)
		}
		assert.Contains(t, text, f["id"], "text and JSON tell of the same findings")
		if route := f["route"].(string); scope(f) != "service" && route != "any unknown path" {
			assert.Regexp(t, "^[A-Z]+ ([a-z]+:)?/", route, "a route, and no scope's name")
			if routes, ok := f["routes"].([]any); ok {
				assert.Equal(t, route, routes[0])
			}
		}
	}
	assert.NotEmpty(t, res.Counts)
	assert.Positive(t, res.Plan["probes"])
	require.NotEmpty(t, res.Unproven)
	for _, u := range res.Unproven {
		assert.Len(t, u.Crossings, u.Probes)
		if strings.Contains(u.Why, "no caller that must be admitted") { // drills say other things the second time
			assert.Contains(t, text, u.Why)
		}
	}
	assert.NotNil(t, res.NotFair)
	assert.NotNil(t, res.Unsent)

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"sweep", sound}, 2, "target"},
		{[]string{"sweep", sound, "--target", "standin"}, 2, `did you mean "stand-in"?`},
		{[]string{"sweep", "nowhere.yaml", "--target", "x"}, 2, "there is no file"},
		{[]string{"sweep", sound, "--target", "stand-in", "--format", "xml"}, 2, "text or json"},
		{[]string{"sweep", sound, "--target", "stand-in", "--fail-on", "bad"}, 2, "critical"},
		{[]string{"sweep", sound, "--target", "stand-in", "--most-unproven", "150"}, 2, "between 0 and 100"},
		{[]string{"sweep", sound, "--target", "stand-in", "--base", "http://127.0.0.1:1"}, 3, "cannot be reached"},
		{[]string{"sweep", sound, "--target", "staging"}, 3, "is not known"},
		{[]string{"sweep", sound, "--target", "stand-in", "--keep-for", "soon"}, 2, "90d"},
		{[]string{"serve", "--keep-sweeps", "-1"}, 2, "number of sweeps"},
		{[]string{"serve", "nowhere.gate.yaml", "--listen", "127.0.0.1:0", "--data", t.TempDir()}, 2,
			"there is no file nowhere.gate.yaml; with --new it is begun"},
		{[]string{"prune", "--data", t.TempDir()}, 2, "--keep-sweeps or --keep-for"},
		{[]string{"stand-in", "--flaws", "nothing"}, 2, "is not a flaw"},
		{[]string{"serve", "--listen", "0.0.0.0:0"}, 2, "loopback"},
		{[]string{"frobnicate"}, 2, "unknown command"},
	} {
		code, _, errs := run(t, c.args...)
		assert.Equal(t, c.code, code, c.args)
		assert.Contains(t, errs, c.says, c.args)
	}
}

// No secret is in what the terminal, the log, the pages or the API show.
func TestNothingShowsASecret(t *testing.T) {
	t.Parallel() // it waits for quotas to open
	secrets := map[string]string{}
	for k := range standin.Secrets() {
		secrets[k] = "canary_" + strings.ToLower(k) + "_5b2d"
	}
	file := exampleWith(t, "demo", secrets)
	with := func(args ...string) *exec.Cmd {
		c := program(t, args...)
		for k, v := range secrets {
			c.Env = append(c.Env, k+"="+v)
		}
		return c
	}
	var all bytes.Buffer
	for _, format := range []string{"text", "json"} {
		c := with("sweep", file, "--target", "stand-in", "--format", format, "--data", t.TempDir())
		c.Stdout, c.Stderr = &all, &all
		var x *exec.ExitError
		require.ErrorAs(t, c.Run(), &x)
		require.Equal(t, 1, x.ExitCode(), all.String())
	}
	var log bytes.Buffer
	c := with("serve", file, "--listen", "127.0.0.1:0", "--data", t.TempDir())
	c.Stderr = &log
	url := begin(t, c)
	post(t, url+"/api/sweeps", `{"target":"stand-in"}`)
	var list struct{ Items []struct{ State string } }
	require.Eventually(t, func() bool {
		get(t, url+"/api/sweeps", &list)
		return list.Items[0].State == "done"
	}, 5*time.Minute, 50*time.Millisecond)
	var board struct {
		Rows    []struct{ Key string }
		Columns []struct{ Key string }
	}
	get(t, url+"/api/board", &board)
	probes := regexp.MustCompile(`"id":"([^"]+)"`)
	fetch := func(path string) string {
		r, err := http.Get(url + path)
		require.NoError(t, err)
		defer r.Body.Close() //nolint:errcheck // reading is over
		b, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		all.Write(b)
		return string(b)
	}
	for _, path := range []string{"/", "/api/findings", "/api/worklist", "/api/ticks", "/api/declaration",
		"/api/sweeps/1", "/api/plan", "/api/targets"} {
		fetch(path)
	}
	for _, row := range board.Rows {
		for _, col := range board.Columns {
			body := fetch("/api/crossing?route=" + neturl.QueryEscape(row.Key) + "&caller=" + col.Key)
			for _, m := range probes.FindAllStringSubmatch(body, 1) {
				fetch("/api/curl?probe=" + neturl.QueryEscape(m[1]))
			}
		}
	}
	require.NoError(t, c.Process.Signal(os.Interrupt))
	require.NoError(t, c.Wait())
	all.Write(log.Bytes())
	text := all.String()
	require.Contains(t, text, "Bearer ‹token:")
	require.Contains(t, text, "_PASSWORD")
	for k, v := range secrets {
		assert.NotContains(t, text, v, k)
	}
	assert.NotRegexp(t, `eyJ[A-Za-z0-9_-]{10,}\.`, text, "no token")
}

func TestMissingSecret(t *testing.T) {
	c := program(t, "sweep", example(t, "none"), "--target", "stand-in")
	c.Env = []string{"MILLGATE_AS_PROGRAM=1", "HOME=" + t.TempDir()}
	out, err := c.CombinedOutput()
	var x *exec.ExitError
	require.ErrorAs(t, err, &x)
	assert.Equal(t, 2, x.ExitCode())
	assert.Contains(t, string(out), "IMRE_PASSWORD is not set")
	assert.Contains(t, string(out), "TOVE_PASSWORD is not set", "all of them at once")

	c = program(t, "sweep", example(t, "none"), "--target", "stand-in")
	c.Env = append(c.Env, "IMRE_PASSWORD=wrong")
	out, err = c.CombinedOutput()
	require.ErrorAs(t, err, &x)
	assert.Equal(t, 3, x.ExitCode(), "what could not be checked is not passed over")
	assert.Contains(t, string(out), "not sent:")
}

func TestReview(t *testing.T) {
	file := example(t, "none")
	code, out, _ := run(t, "review", file)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "56 routes, 8 identities")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	bad := filepath.Join(filepath.Dir(file), "bad.gate.yaml")
	require.NoError(t, os.WriteFile(bad,
		[]byte(strings.NewReplacer("who: director }", "who: directr }", "unsafe: allowed",
			"unsafe: alowed").Replace(string(b))), 0o600))
	code, out, _ = run(t, "review", bad)
	assert.Equal(t, 2, code)
	assert.Regexp(t, `bad\.gate\.yaml:\d+:\d+: error: the role "directr" is not declared`, out)
	assert.Contains(t, out, `did you mean "director"?`)
	assert.Contains(t, out, `did you mean "allowed"?`, "all of them at once")
	code, out, _ = run(t, "review", bad, "--format", "json")
	assert.Equal(t, 2, code)
	var res struct{ Messages []struct{ Line, Column int } }
	require.NoError(t, json.Unmarshal([]byte(out), &res))
	assert.Greater(t, len(res.Messages), 3)
	code, _, errs := run(t, "sweep", bad, "--target", "stand-in")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing was sent")
}

func TestPlanSendsNothing(t *testing.T) {
	var hits atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { hits.Add(1) }))
	defer s.Close()
	code, out, _ := run(t, "sweep", example(t, "none"), "--target", "stand-in", "--base", s.URL, "--plan")
	assert.Equal(t, 0, code)
	assert.Regexp(t, `\d+ probes, \d+ with unsafe methods`, out)
	assert.Contains(t, out, "left out: ")
	assert.Zero(t, hits.Load())
}

func TestBusyPort(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close() //nolint:errcheck // a listener of the test
	code, _, errs := run(t, "serve", "--listen", l.Addr().String(), "--data", t.TempDir())
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "choose another with --listen")
	code, _, errs = run(t, "demo", "--listen", "127.0.0.1:0", "--stand-in", l.Addr().String())
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "choose another with --stand-in")
}

var where = regexp.MustCompile(`Mill Gate is at (http://\S+)`)

// startServe runs the program until it says where it is.
func startServe(t *testing.T, file, data string) (*exec.Cmd, string) {
	t.Helper()
	c := program(t, "serve", file, "--listen", "127.0.0.1:0", "--data", data)
	return c, begin(t, c)
}

// begin starts the program and returns the address that it prints.
func begin(t *testing.T, c *exec.Cmd) string {
	t.Helper()
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	buf := make([]byte, 4096)
	n, err := out.Read(buf)
	require.NoError(t, err)
	m := where.FindStringSubmatch(string(buf[:n]))
	require.NotNil(t, m, string(buf[:n]))
	return m[1]
}

func post(t *testing.T, url, body string) string {
	t.Helper()
	r, err := http.Post(url, "application/json", strings.NewReader(body))
	require.NoError(t, err)
	defer r.Body.Close() //nolint:errcheck // reading is over
	b, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	require.Less(t, r.StatusCode, 300, string(b))
	return string(b)
}

func get(t *testing.T, url string, into any) {
	t.Helper()
	r, err := http.Get(url)
	require.NoError(t, err)
	defer r.Body.Close() //nolint:errcheck // reading is over
	require.NoError(t, json.NewDecoder(r.Body).Decode(into))
}

// A process that is killed in the middle of a sweep can go on where it was:
// no unsafe request is sent twice, and no throwaway record stays.
func TestKilledInTheMiddle(t *testing.T) {
	var seq, unsafe atomic.Int32
	have := make(chan map[string]bool, 1)
	have <- map[string]bool{"t0": true}
	sent := make(chan map[string]int, 1)
	sent <- map[string]int{}
	var held atomic.Bool
	release := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-Key") != "killed-key" {
			w.WriteHeader(401)
			return
		}
		switch {
		case r.Method == "POST" && r.URL.Path == "/t":
			id := fmt.Sprintf("t%d", seq.Add(1))
			m := <-have
			m[id] = true
			have <- m
			w.WriteHeader(201)
			_, _ = fmt.Fprintf(w, `{"id":%q}`, id)
		case strings.HasPrefix(r.URL.Path, "/t/"):
			m := <-have
			defer func() { have <- m }()
			id := strings.TrimPrefix(r.URL.Path, "/t/")
			switch {
			case !m[id]:
				w.WriteHeader(404)
			case r.Method == "DELETE":
				delete(m, id)
				w.WriteHeader(204)
			case r.Method != "GET":
				w.WriteHeader(405)
			default:
				_, _ = fmt.Fprintf(w, `{"id":%q}`, id)
			}
		case r.Method == "POST" && strings.HasPrefix(r.URL.Path, "/go"):
			n := <-sent
			n[r.URL.Path]++
			sent <- n
			unsafe.Add(1)
			if held.CompareAndSwap(false, true) {
				<-release // the answer is never seen
			}
		case r.URL.Path == "/t" || strings.HasPrefix(r.URL.Path, "/go"):
			w.WriteHeader(405)
		default:
			w.WriteHeader(404)
		}
	}))
	defer s.Close()
	var routes strings.Builder
	for i := range 12 {
		fmt.Fprintf(&routes, ", { at: POST /go%d, effect: command }", i)
	}
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`millgate: 1
targets: { t: { base: "`+s.URL+`", pace: 400 per 1s, unsafe: allowed } }
routes: ["GET /t/{id}", "DELETE /t/{id}", { at: POST /t, send: { json: { n: 1 } } }`+routes.String()+`]
roles: { r: }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities: { ann: { roles: r, credentials: { key: { key: env:KILLED_KEY } } } }
records:
  thing: { fills: "/t/{id}", owned_by: { ann: [t0] }, make: { send: POST /t, json: { n: 1 }, id: /id }, remove: "DELETE /t/{id}" }
access:
  - { at: "/t/{id}", who: owner }
  - { at: /**, who: r }
`), 0o600))
	t.Setenv("KILLED_KEY", "killed-key")
	data := t.TempDir()
	c, url := startServe(t, file, data)
	post(t, url+"/api/sweeps", `{"target":"t"}`)
	require.Eventually(t, held.Load, 5*time.Minute, time.Millisecond, "an unsafe probe must be in flight")
	require.NoError(t, c.Process.Kill())
	_ = c.Wait() // it was killed
	close(release)

	c, url = startServe(t, file, data)
	defer func() {
		_ = c.Process.Signal(os.Interrupt)
		assert.NoError(t, c.Wait())
	}()
	var list struct {
		Items []struct {
			ID    int
			State string
		}
	}
	get(t, url+"/api/sweeps", &list)
	require.Equal(t, "interrupted", list.Items[0].State)
	post(t, url+"/api/sweeps/1/resume", "")
	require.Eventually(t, func() bool {
		get(t, url+"/api/sweeps", &list)
		return list.Items[0].State == "done"
	}, 5*time.Minute, 50*time.Millisecond)
	var res struct {
		Findings []any
		Made     []any
	}
	get(t, url+"/api/sweeps/1", &res)
	assert.Empty(t, res.Findings)
	n := <-sent
	twice := 0
	for path, k := range n {
		// Each is sent as the admitted control once; ann is the only one whose
		// key holds.
		if k > 1 {
			twice++
			t.Logf("%s was sent %d times", path, k)
		}
	}
	assert.Zero(t, twice, "no unsafe probe is sent twice")
	assert.GreaterOrEqual(t, len(n), 5, "what was not in flight when it was killed is sent later")
	m := <-have
	// A record whose making was in flight too has no known id: it stays, and is told.
	assert.True(t, m["t0"])
	assert.LessOrEqual(t, len(m)-1, len(res.Made), "a throwaway record that stays is told: %v, %v", m, res.Made)
	assert.LessOrEqual(t, len(res.Made), 2)
}

func TestKeepAndStandInHelpers(t *testing.T) {
	data := t.TempDir()
	c := program(t, "keep", "NAME", "--data", data)
	c.Stdin = strings.NewReader("a-secret\n")
	require.NoError(t, c.Run())
	code, _, errs := run(t, "keep", "NAME", "--data", data)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing was kept")
	_, out, _ := run(t, "stand-in", "--secrets")
	assert.Contains(t, out, "export IMRE_PASSWORD='")
	_, out, _ = run(t, "stand-in", "--list")
	assert.Contains(t, out, "forgotten-verb")
}
