package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type client struct {
	t *testing.T
	r *Running
}

func start(t *testing.T, flaws ...Flaw) client {
	t.Helper()
	r, err := Listen("127.0.0.1:0", Options{Flaws: flaws})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	return client{t, r}
}

func (c client) send(method, url, body string, headers ...string) (int, string, http.Header) {
	c.t.Helper()
	req, err := http.NewRequest(method, url, bytes.NewReader([]byte(body)))
	require.NoError(c.t, err)
	if strings.HasPrefix(body, "{") {
		req.Header.Set("Content-Type", "application/json")
	} else if body != "" {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(c.t, err)
	defer resp.Body.Close() //nolint:errcheck // reading is over
	b, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	return resp.StatusCode, string(b), resp.Header
}

func (c client) login(name string) (access, refresh string) {
	c.t.Helper()
	st, b, _ := c.send("POST", c.r.IssuerURL+"/v1/session", fmt.Sprintf(`{"username":%q,"password":%q}`, name,
		Secrets()[strings.ToUpper(name)+"_PASSWORD"]))
	require.Equal(c.t, 200, st, b)
	var v struct {
		Access  string `json:"access_token"`
		Refresh string `json:"refresh_token"`
	}
	require.NoError(c.t, json.Unmarshal([]byte(b), &v))
	return v.Access, v.Refresh
}

func TestSessions(t *testing.T) {
	c := start(t)
	access, refresh := c.login("imre")
	get := func(tok string) int {
		st, _, _ := c.send("GET", c.r.Base+"/v1/proposals", "", "Authorization", "Bearer "+tok)
		return st
	}
	renew := func(tok string) (int, string) {
		st, b, _ := c.send("POST", c.r.IssuerURL+"/v1/session/refresh", fmt.Sprintf(`{"refresh_token":%q}`, tok))
		var v struct {
			Refresh string `json:"refresh_token"`
		}
		_ = json.Unmarshal([]byte(b), &v)
		return st, v.Refresh
	}
	assert.Equal(t, 200, get(access))
	assert.Equal(t, 401, get(access+"x"))
	st, second := renew(refresh)
	require.Equal(t, 200, st)
	st, _ = renew(refresh)
	assert.Equal(t, 401, st, "a renewal token that is used twice")
	st, _ = renew(second)
	assert.Equal(t, 401, st, "ends the whole family")
	assert.Equal(t, 401, get(access), "and its access tokens at once")

	access, refresh = c.login("imre")
	st, _, _ = c.send("POST", c.r.IssuerURL+"/v1/session/end", fmt.Sprintf(`{"refresh_token":%q}`, refresh))
	assert.Equal(t, 204, st)
	assert.Equal(t, 401, get(access))
	st, _, _ = c.send("POST", c.r.IssuerURL+"/v1/session", `{"username":"imre","password":"wrong"}`)
	assert.Equal(t, 401, st)
}

func TestClientCredentialsAndIntrospection(t *testing.T) {
	c := start(t)
	form := "client_id=nightrun&client_secret=" + Secrets()["NIGHTRUN_SECRET"]
	st, b, _ := c.send("POST", c.r.IssuerURL+"/oauth/token", "grant_type=client_credentials&"+form)
	require.Equal(t, 200, st, b)
	var v struct {
		Access string `json:"access_token"`
	}
	require.NoError(t, json.Unmarshal([]byte(b), &v))
	st, _, _ = c.send("POST", c.r.Base+"/v1/frames", `{"filter":"r","exposure":1}`, "Authorization", "Bearer "+v.Access)
	assert.Equal(t, 201, st)
	st, b, _ = c.send("POST", c.r.IssuerURL+"/oauth/introspect", "token="+v.Access+"&"+form)
	assert.Equal(t, 200, st)
	assert.JSONEq(t, `{"active":true,"sub":"nightrun"}`, b)
	st, b, _ = c.send("POST", c.r.IssuerURL+"/oauth/introspect", "token=none&"+form)
	assert.Equal(t, 200, st)
	assert.JSONEq(t, `{"active":false}`, b)
	st, _, _ = c.send("POST", c.r.IssuerURL+"/oauth/revoke", "token=none&"+form)
	assert.Equal(t, 200, st, "RFC 7009 section 2.2")
	st, _, _ = c.send("POST", c.r.IssuerURL+"/oauth/token",
		"grant_type=client_credentials&client_id=nightrun&client_secret=x")
	assert.Equal(t, 401, st)
	st, _, _ = c.send("POST", c.r.IssuerURL+"/oauth/token", "grant_type=password&"+form)
	assert.Equal(t, 400, st)
}

func TestLinksAlertsAndConsole(t *testing.T) {
	c := start(t)
	access, _ := c.login("imre")
	st, b, _ := c.send("POST", c.r.Base+"/v1/frames/f-501/link", "", "Authorization", "Bearer "+access)
	require.Equal(t, 201, st)
	var v struct{ URL string }
	require.NoError(t, json.Unmarshal([]byte(b), &v))
	st, _, _ = c.send("GET", c.r.Base+v.URL, "")
	assert.Equal(t, 200, st)
	st, _, _ = c.send("GET", c.r.Base+strings.Replace(v.URL, "f-501", "f-602", 1), "")
	assert.Equal(t, 401, st, "a link fits one frame")
	st, _, _ = c.send("POST", c.r.Base+"/v1/alerts", `{"event":"nova"}`)
	assert.Equal(t, 401, st)
	at := fmt.Sprint(time.Now().Unix())
	sig := c.r.Service.mac("RELAY_SECRET", at+`.{"event":"nova"}`)
	st, _, _ = c.send("POST", c.r.Base+"/v1/alerts", `{"event":"nova"}`, "X-Relay-Time", at, "X-Relay-Signature", sig)
	assert.Equal(t, 202, st)
	st, _, _ = c.send("POST", c.r.Base+"/v1/alerts", `{"event":"nova"}`, "X-Relay-Time", at, "X-Relay-Signature", sig)
	assert.Equal(t, 401, st, "an alert is taken once")
	st, _, h := c.send("POST", c.r.Base+"/v1/console/login", fmt.Sprintf(`{"username":"odell","password":%q}`,
		Secrets()["ODELL_PASSWORD"]))
	require.Equal(t, 200, st)
	assert.Contains(t, h.Get("Set-Cookie"), "HttpOnly; Secure; SameSite=Strict")
	st, _, _ = c.send("GET", c.r.Base+"/v1/console/overview", "", "Cookie", strings.Split(h.Get("Set-Cookie"), ";")[0])
	assert.Equal(t, 200, st)
	st, _, _ = c.send("GET", c.r.Base+"/v1/console/overview", "")
	assert.Equal(t, 401, st)
}

func TestShapeOfErrors(t *testing.T) {
	c := start(t)
	for path, want := range map[string]int{"/nowhere": 404, "/v1/proposals": 401, "/v1/sky/objects/m32": 404} {
		st, b, h := c.send("GET", c.r.Base+path, "")
		assert.Equal(t, want, st, path)
		assert.Equal(t, "application/problem+json", h.Get("Content-Type"))
		assert.Contains(t, b, `"detail"`)
		assert.Equal(t, want == 401, h.Get("WWW-Authenticate") != "")
	}
	st, _, h := c.send("DELETE", c.r.Base+"/v1/proposals", "")
	assert.Equal(t, 405, st)
	assert.Equal(t, "GET, POST", h.Get("Allow"))
}

func TestDataResetsAtTheStart(t *testing.T) {
	a, b := start(t), start(t, StrangerDeletes)
	tok, _ := b.login("imre")
	st, _, _ := b.send("DELETE", b.r.Base+"/v1/frames/f-602", "", "Authorization", "Bearer "+tok)
	assert.Equal(t, 204, st)
	tok, _ = a.login("tove")
	st, _, _ = a.send("GET", a.r.Base+"/v1/frames/f-602", "", "Authorization", "Bearer "+tok)
	assert.Equal(t, 200, st)
}

func TestParseFlaws(t *testing.T) {
	none, err := ParseFlaws("none")
	require.NoError(t, err)
	assert.Empty(t, none)
	two, err := ParseFlaws("old-door, any-password")
	require.NoError(t, err)
	assert.Equal(t, []Flaw{OldDoor, AnyPassword}, two)
	_, err = ParseFlaws("old-dor")
	assert.ErrorContains(t, err, "is not a flaw")
	for _, f := range Demo {
		_, err := ParseFlaws(string(f))
		assert.NoError(t, err)
	}
	_, err = Listen("nonsense", Options{})
	assert.Error(t, err)
}
