package server

import (
	"bufio"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app"
	"millgate/app/events"
	"millgate/server/contract"
)

func serve(t *testing.T, text string) (*httptest.Server, *app.App) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	if text != "" {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	a, err := app.Open(t.Context(), t.TempDir(), file)
	require.NoError(t, err)
	s := httptest.NewServer(New(a, nil, slog.New(slog.DiscardHandler)).Handler())
	t.Cleanup(func() { s.Close(); assert.NoError(t, a.Close()) })
	return s, a
}

func call(t *testing.T, method, url, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(headers); i += 2 {
		if headers[i] == "Host" {
			r.Host = headers[i+1]
		} else {
			r.Header.Set(headers[i], headers[i+1])
		}
	}
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close() //nolint:errcheck // reading is over
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(b)
}

const text = "millgate: 1\ntitle: Things\ntargets: { t: { base: \"http://127.0.0.1:1\" } }\nroutes: [GET " +
	"/a]\naccess:\n  - { at: GET /a, who: anyone }\n"

func TestOnlyItsOwnPagesMayUseIt(t *testing.T) {
	s, _ := serve(t, text)
	own := s.URL
	for _, c := range []struct {
		name   string
		want   int
		header []string
	}{
		{"a program", 200, nil},
		{"its own page", 200, []string{"Origin", own, "Sec-Fetch-Site", "same-origin"}},
		{"typed into the address line", 200, []string{"Sec-Fetch-Site", "none"}},
		{"another name that resolves here", 421, []string{"Host", "evil.example:7400"}},
		{"another page", 403, []string{"Origin", "https://evil.example"}},
		{"another page that hides its origin", 403, []string{"Sec-Fetch-Site", "cross-site"}},
		{"another port of this machine", 403, []string{"Origin", "http://127.0.0.1:1"}},
		{"a sandboxed frame", 403, []string{"Origin", "null"}},
		{"the loopback name", 200, []string{"Host", "localhost:7400"}},
		{"the other loopback address", 200, []string{"Host", "[::1]:7400"}},
	} {
		resp, _ := call(t, "GET", s.URL+"/api/board", "", c.header...)
		assert.Equal(t, c.want, resp.StatusCode, c.name)
	}
	resp, body := call(t, "POST", s.URL+"/api/sweeps", `{"target":"t"}`, "Origin", "https://evil.example")
	assert.Equal(t, 403, resp.StatusCode)
	assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
	assert.Contains(t, body, "another page")
}

func TestHeaders(t *testing.T) {
	s, _ := serve(t, text)
	for _, path := range []string{"/api/board", "/board", "/"} {
		resp, _ := call(t, "GET", s.URL+path, "")
		csp := resp.Header.Get("Content-Security-Policy")
		assert.Contains(t, csp, "default-src 'none'", path)
		assert.Contains(t, csp, "script-src 'self';", path)
		assert.NotContains(t, csp, "unsafe-eval", path)
		assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"), path)
		assert.Empty(t, resp.Header.Get("Access-Control-Allow-Origin"), path)
	}
}

func TestErrorsAreProblems(t *testing.T) {
	s, _ := serve(t, text)
	for _, c := range []struct {
		method, path, body string
		want               int
		says               string
	}{
		{"GET", "/api/nothing", "", 404, "nothing here"},
		{"DELETE", "/api/board", "", 405, "not served"},
		{"GET", "/api/crossing?route=GET%20/b&caller=", "", 404, `no route \"GET /b\"`},
		{"GET", "/api/crossing?route=GET%20/a&caller=eve", "", 404, `no identity \"eve\"`},
		{"GET", "/api/crossing", "", 400, "route"},
		{"GET", "/api/sweeps/7", "", 404, "no sweep 7"},
		{"GET", "/api/sweeps/x", "", 400, "id"},
		{"POST", "/api/sweeps", `{"target":"tt"}`, 404, `did you mean \"t\"`},
		{"POST", "/api/sweeps", `{`, 400, "cannot be read"},
		{"POST", "/api/sweeps/3/stop", "", 404, "not running"},
		{"PUT", "/api/declaration", `{"text":"millgate: 2","message":"","base":1}`, 422, "mend"},
		{"PUT", "/api/declaration", `{"text":"millgate: 1","message":"","base":9}`, 422, "kept meanwhile"},
		{"POST", "/api/targets/edit", `{"text":"","target":{"name":"x","base":"http://b","pace":"fast","hosts":{},"values":{},"direct":"","unsafe":"refused","askFor":[]}}`, 422, "not a pace"},
		{"POST", "/api/targets/edit", `{"text":"","target":{"name":"x","base":"b","pace":"5 per 1s","hosts":{},"values":{},"direct":"","unsafe":"refused","askFor":[]}}`, 422, "must be an http or https address"},
		{"POST", "/api/targets/edit", `{"text":"","target":{"name":" ","base":"http://b","pace":"5 per 1s","hosts":{},"values":{},"direct":"","unsafe":"refused","askFor":[]}}`, 422, "needs a name"},
		{"POST", "/api/targets/plans", `{"text":"","target":"none"}`, 404, `no target \"none\"`},
		{"POST", "/api/import/preview",
			`{"files":[],"kind":"","host":"","origin":"","mapping":{"method":"","path":"","status":"","host":""},"templates":[],"text":""}`, 422, "there is nothing in it"},
		{"POST", "/api/import/preview",
			`{"files":[{"name":"x","text":"hello"}],"kind":"openapi","host":"","origin":"","mapping":{"method":"","path":"","status":"","host":""},"templates":[],"text":""}`, 422, "not an OpenAPI"},
		{"POST", "/api/board/edit", `{"text":"millgate: 2","routes":["GET /a"],"callers":[]}`, 422,
			"mend the marked lines"},
		{"POST", "/api/declaration/fix", `{"text":"millgate: 1","key":"x"}`, 404, "the message is gone"},
		{"POST", "/api/demo", "", 404, "no demo"},
		{"GET", "/api/curl?probe=none", "", 404, "no such probe"},
	} {
		resp, body := call(t, c.method, s.URL+c.path, c.body)
		assert.Equal(t, c.want, resp.StatusCode, "%s %s: %s", c.method, c.path, body)
		assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), c.path)
		assert.Contains(t, body, c.says, c.path)
		var p contract.Problem
		require.NoError(t, json.Unmarshal([]byte(body), &p), body)
		assert.Equal(t, c.want, p.Status)
	}
}

func TestKeepAndBoard(t *testing.T) {
	s, _ := serve(t, "")
	_, body := call(t, "GET", s.URL+"/api/board", "")
	assert.Contains(t, body, `"empty":true`)
	b, err := json.Marshal(map[string]any{"text": text, "message": "first", "base": 0})
	require.NoError(t, err)
	resp, body := call(t, "PUT", s.URL+"/api/declaration", string(b))
	require.Equal(t, 200, resp.StatusCode, body)
	_, body = call(t, "GET", s.URL+"/api/board", "")
	var board contract.Board
	require.NoError(t, json.Unmarshal([]byte(body), &board))
	assert.Equal(t, "Things", board.Title)
	require.Len(t, board.Rows, 1)
	require.Len(t, board.Rows[0].Access, 1)
	assert.Equal(t, contract.Cell{Expect: contract.ExpectAdmit, Found: contract.KindUnprobed},
		board.Cells[board.Rows[0].Access[0]])
	assert.True(t, board.Whole)
	_, body = call(t, "GET", s.URL+"/api/board?since="+board.Version, "")
	var again contract.Board
	require.NoError(t, json.Unmarshal([]byte(body), &again))
	assert.False(t, again.Whole)
	assert.Empty(t, again.Rows, "nothing has changed")
	assert.Equal(t, board.Version, again.Version)
	for path, want := range map[string]string{"/api/worklist": "[]",
		"/api/findings": `{"items":[],"points":[],"total":0}`,
		"/api/sweeps":   `{"items":[]}`, "/api/ticks": `{"items":[],"total":0}`} {
		_, body := call(t, "GET", s.URL+path, "")
		assert.JSONEq(t, want, body, path)
	}
	resp, body = call(t, "GET", s.URL+"/api/findings?after=x", "")
	assert.Equal(t, 422, resp.StatusCode)
	assert.Contains(t, body, `"urn:millgate:problem:input"`)
	_, body = call(t, "GET", s.URL+"/api/plan?target=tt", "")
	assert.Contains(t, body, "there is no target")
	_, body = call(t, "GET", s.URL+"/api/plan", "")
	assert.NotContains(t, body, "null", "lists are empty, never null")
}

// nextData reads the next event of a stream, with its id.
func nextData(t *testing.T, r *bufio.Reader) (id, data string) {
	t.Helper()
	for {
		line, err := r.ReadString('\n')
		require.NoError(t, err)
		if v, ok := strings.CutPrefix(line, "id: "); ok {
			id = strings.TrimSpace(v)
		}
		if v, ok := strings.CutPrefix(line, "data: "); ok {
			return id, v
		}
	}
}

func TestEvents(t *testing.T) {
	s, a := serve(t, text)
	listen := func(last string) (*bufio.Reader, func() error) {
		q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+"/api/events", nil)
		require.NoError(t, err)
		if last != "" {
			q.Header.Set("Last-Event-ID", last)
		}
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		assert.Equal(t, "text/event-stream", resp.Header.Get("Content-Type"))
		r := bufio.NewReader(resp.Body)
		line, err := r.ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, ": hello\n", line)
		return r, resp.Body.Close
	}
	r, leave := listen("")
	for range 2 {
		a.Events.Send(events.Event{Type: events.Landed, Tick: &events.Tick{At: -1, Route: "GET /a", Kind: "U"}})
	}
	const tick = `{"at":-1,"probe":"","route":"GET /a","caller":"","who":"","kind":"U","reason":""}`
	id, data := nextData(t, r)
	assert.JSONEq(t, `{"type":"verdicts","ticks":[`+tick+","+tick+`]}`, data,
		"those that land together are told together")
	require.NoError(t, leave())

	a.Events.Send(events.Event{Type: events.Waiting, Text: "meanwhile"})
	r, leave = listen(id)
	_, data = nextData(t, r)
	assert.JSONEq(t, `{"type":"wait","text":"meanwhile"}`, data, "it goes on where it was")
	require.NoError(t, leave())
	r, leave = listen("of another process-7")
	_, data = nextData(t, r)
	assert.JSONEq(t, `{"type":"missed"}`, data)
	require.NoError(t, leave())
}

// A finding is shown in the lens that has its column.
func TestLensOfAColumn(t *testing.T) {
	for column, lens := range map[string]contract.Lens{"": contract.LensAccess, "ann": contract.LensAccess,
		"credential:unsigned": contract.LensTokens, "origin:null": contract.LensOrigins,
		"quota:login": contract.LensQuotas, "counted:address": contract.LensQuotas} {
		assert.Equal(t, lens, lensOf(column), column)
	}
}
