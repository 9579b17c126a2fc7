package wire

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/mask"
)

func target(base string) *declaration.Target {
	return &declaration.Target{Name: "t", Base: base, Pace: declaration.Pace{Count: 10000, Per: time.Second}}
}

func client(t *testing.T, tg *declaration.Target) *Client {
	t.Helper()
	c, err := NewClient(context.Background(), tg, NewMasker(nil), Options{})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func server(t *testing.T, h http.HandlerFunc) *httptest.Server {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s
}

func TestSendsWhatItIsGiven(t *testing.T) {
	var seen string
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		seen = r.Method + " " + r.RequestURI + " " + r.Header.Get("X-A") + " " + string(b)
		w.Header().Set("X-B", "c")
		w.WriteHeader(418)
		_, _ = io.WriteString(w, "short and stout")
	})
	c := client(t, target(s.URL+"/base"))
	for _, path := range []string{"/a", "//a//b", "/A/", "/a%2Fb", "/a/../b", "/not'an%22id"} {
		x, err := c.Send(context.Background(), Outgoing{Method: "PUT", Path: path, Query: "q=1",
			Headers: [][2]string{{"X-A", "v"}}, Body: []byte("body")})
		require.NoError(t, err)
		assert.Equal(t, "PUT /base"+path+"?q=1 v body", seen, "not normalised on the way")
		assert.Equal(t, 418, x.Status)
		assert.Equal(t, "short and stout", x.Content)
		assert.Contains(t, x.Answer, [2]string{"X-B", "c"})
		assert.Positive(t, x.Took)
	}
}

func TestAnswersAreReadToTheirEnd(t *testing.T) {
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/long": // and nothing of it
			w.Header().Set("Content-Length", "500")
			w.WriteHeader(http.StatusOK)
		case "/chunks":
			_, _ = io.WriteString(w, "one, ")
			_ = http.NewResponseController(w).Flush()
			_, _ = io.WriteString(w, "two")
		case "/elsewhere":
			http.Redirect(w, r, "/chunks", http.StatusFound)
		case "/who":
			name, secret, _ := r.BasicAuth()
			_, _ = io.WriteString(w, name+" "+strconv.Itoa(len(secret)))
		}
	})
	c := client(t, target(strings.Replace(s.URL, "http://", "http://ann:fern-7@", 1)))
	for _, x := range []struct {
		method, path, content, err string
		status                     int
	}{
		{"HEAD", "/long", "", "", 200},
		{"GET", "/long", "", "the answer broke off: unexpected EOF", 0},
		{"GET", "/chunks", "one, two", "", 200},
		{"GET", "/elsewhere", "<a href=\"/chunks\">Found</a>.\n\n", "", 302},
		{"GET", "/who", "ann 6", "", 200},
		{"GET", "/none", "", "", 200},
	} {
		got, err := c.Send(t.Context(), Outgoing{Method: x.method, Path: x.path})
		require.NoError(t, err)
		assert.Equal(t, []any{x.status, x.content, x.err}, []any{got.Status, got.Content, got.Error}, x.path)
	}
}

func TestOnlyTheTargetIsContacted(t *testing.T) {
	var other atomic.Int32
	out := server(t, func(http.ResponseWriter, *http.Request) { other.Add(1) })
	in := server(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, out.URL+"/x",
			http.StatusFound)
	})
	t.Setenv("HTTP_PROXY", out.URL)
	t.Setenv("http_proxy", out.URL)
	c := client(t, target(in.URL))
	x, err := c.Send(context.Background(), Outgoing{Method: "GET", Path: "/"})
	require.NoError(t, err)
	assert.Equal(t, 302, x.Status, "a redirect is recorded, not followed")
	_, err = c.dial(context.Background(), "tcp", strings.TrimPrefix(out.URL, "http://"))
	require.ErrorIs(t, err, ErrOutside)
	x, err = c.Send(context.Background(), Outgoing{Method: "GET", Host: "nowhere", Path: "/"})
	require.NoError(t, err)
	assert.Contains(t, x.Error, "no host called")
	assert.Zero(t, other.Load())
}

func TestPace(t *testing.T) {
	var times []time.Time
	s := server(t, func(http.ResponseWriter, *http.Request) { times = append(times, time.Now()) })
	tg := target(s.URL)
	tg.Pace = declaration.Pace{Count: 20, Per: time.Second}
	c := client(t, tg)
	for range 6 {
		_, err := c.Send(context.Background(), Outgoing{Method: "GET", Path: "/"})
		require.NoError(t, err)
	}
	assert.GreaterOrEqual(t, times[5].Sub(times[0]), 240*time.Millisecond, "five gaps of 50 ms, never a burst")
}

func TestBodiesAreCut(t *testing.T) {
	s := server(t, func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, strings.Repeat("x", BodyLimit-3)+"sekret-value"+strings.Repeat("y", 1<<20))
	})
	c := client(t, target(s.URL))
	c.mask.Learn(mask.Secret, "sekret-value")
	x, err := c.Send(context.Background(), Outgoing{Method: "GET", Path: "/"})
	require.NoError(t, err)
	assert.True(t, x.Truncated)
	assert.Len(t, x.Content, BodyLimit-3, "the cut goes through no mark")
	assert.NotContains(t, x.Content, "sek", "a secret on the limit is masked whole before the cut")
}

func TestUnreachable(t *testing.T) {
	s := server(t, func(http.ResponseWriter, *http.Request) {})
	s.Close()
	c := client(t, target(s.URL))
	require.ErrorIs(t, c.Reach(context.Background()), ErrUnreachable)
	x, err := c.Send(context.Background(), Outgoing{Method: "GET", Path: "/"})
	require.NoError(t, err)
	assert.Zero(t, x.Status)
	assert.Contains(t, x.Error, "refused")
	_, err = NewClient(context.Background(), target("http://no-such-host.invalid"), NewMasker(nil), Options{})
	require.ErrorIs(t, err, ErrUnreachable)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = c.Send(ctx, Outgoing{Method: "GET", Path: "/"})
	require.ErrorIs(t, err, context.Canceled)
}

const keyText = `millgate: 1
targets: { t: { base: "http://x" } }
schemes:
  access:
    kind: bearer
    token: opaque
    login: { send: POST /login, json: { u: "{u}", p: "{p}" }, take: { access: /a, refresh: /r } }
    refresh: { send: POST /refresh, form: { r: "{refresh}" }, take: { access: /a, refresh: /r } }
  plain: { kind: bearer }
  key: { kind: api-key, in: query, name: k }
identities:
  ann: { credentials: { access: { u: ann, p: env:P }, plain: { token: env:T }, key: { key: env:K } } }
`

func keyring(t *testing.T, h http.HandlerFunc) *Keyring {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(keyText), nil)
	require.Empty(t, msgs)
	s := server(t, h)
	return NewKeyring(d, target(s.URL), client(t, target(s.URL)), func(v declaration.Value) (string, error) {
		if v.Env == "P" {
			return `pass"word`, nil
		}
		return "value-of-" + v.Env, nil
	})
}

// What was let go of is obtained anew; a login that was refused is not tried again.
func TestForgottenSessions(t *testing.T) {
	logins, status := 0, 200
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		logins++
		w.WriteHeader(status)
		_, _ = fmt.Fprintf(w, `{"t":"token-number-%d"}`, logins)
	})
	d, msgs := declaration.Parse("x", []byte(fmt.Sprintf("millgate: 1\ntargets: { t: { base: %s } }\nroutes: [GET "+
		"/a]\n"+
		"schemes: { s: { kind: bearer, login: { send: POST /in, json: { p: \"{p}\" }, take: { access: /t } } } }\n"+
		"identities: { ann: { credentials: { s: { p: kept:P } } } }\n", s.URL)), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	k := NewKeyring(d, d.Targets[0], client(t, d.Targets[0]), func(declaration.Value) (string, error) {
		return "pass-phrase-1", nil
	})
	get := func() (string, error) {
		tok, _, err := k.Token(context.Background(), "ann", "s")
		return tok, err
	}
	for _, want := range []string{"token-number-1", "token-number-1"} {
		tok, err := get()
		require.NoError(t, err)
		assert.Equal(t, want, tok)
	}
	k.Forget()
	tok, err := get()
	require.NoError(t, err)
	assert.Equal(t, "token-number-2", tok)
	status = 401
	k.Forget()
	_, err = get()
	require.ErrorIs(t, err, ErrCredential)
	k.Forget()
	_, err = get()
	require.ErrorIs(t, err, ErrCredential)
	assert.Equal(t, 3, logins, "so often a wrong secret would lock the account")
}

// A call that is apart has a connection of its own; others share one.
func TestApart(t *testing.T) {
	var opened atomic.Int32
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	s.Config.ConnState = func(_ net.Conn, st http.ConnState) {
		if st == http.StateNew {
			opened.Add(1)
		}
	}
	s.Start()
	t.Cleanup(s.Close)
	c := client(t, &declaration.Target{Base: s.URL, Pace: declaration.Pace{Count: 10000, Per: time.Second}})
	for _, x := range []struct {
		apart bool
		want  int32
	}{{false, 1}, {false, 1}, {true, 2}, {true, 3}, {false, 3}} {
		r, err := c.Send(t.Context(), Outgoing{Method: "GET", Path: "/", Apart: x.apart})
		require.NoError(t, err)
		require.Equal(t, 200, r.Status)
		assert.Equal(t, x.want, opened.Load())
	}
}

// When a credential is good, by its life and by how long it may be left unused.
func TestGood(t *testing.T) {
	now := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	for name, x := range map[string]struct {
		life, age, unused, idle time.Duration
		want                    bool
	}{
		"new":                           {15 * time.Minute, 0, 0, 0, true},
		"it ends in half a minute":      {15 * time.Minute, 15*time.Minute - 30*time.Second, 0, 0, false},
		"it ends in a little more":      {15 * time.Minute, 15*time.Minute - 31*time.Second, 0, 0, true},
		"short, with a tenth left":      {10 * time.Second, 9 * time.Second, 0, 0, false},
		"short, with more left":         {10 * time.Second, 8 * time.Second, 0, 0, true},
		"two seconds, with one left":    {2 * time.Second, time.Second, 0, 0, true},
		"nothing says when it ends":     {0, time.Hour, 0, 0, true},
		"in use":                        {0, time.Hour, time.Second, 2 * time.Second, true},
		"unused for more than the half": {0, time.Hour, 1001 * time.Millisecond, 2 * time.Second, false},
	} {
		h := &held{granted: granted{access: "x", since: now.Add(-x.age)}, used: now.Add(-x.unused)}
		if x.life > 0 {
			h.expires = h.since.Add(x.life)
		}
		assert.Equal(t, x.want, h.good(now, x.idle), name)
	}
	assert.False(t, (&held{}).good(now, 0), "there is none")
}

func TestTokensAreObtainedAndRenewed(t *testing.T) {
	var calls []string
	n := 0
	k := keyring(t, func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		calls = append(calls, r.URL.Path+" "+string(b))
		n++
		_, _ = fmt.Fprintf(w, `{"a":"token-%d","r":"renew-%d","expires_in":60}`, n, n)
	})
	now := time.Now()
	k.now = func() time.Time { return now }
	ctx := context.Background()
	var o Outgoing
	epoch, err := k.Present(ctx, &o, "ann", "access")
	require.NoError(t, err)
	assert.Equal(t, field.List{{"Authorization", "Bearer token-1"}}, o.Headers)
	assert.Equal(t, []string{`/login {"u":"ann","p":"pass\"word"}`}, calls)

	_, _, err = k.Token(ctx, "ann", "access")
	require.NoError(t, err)
	assert.Len(t, calls, 1, "a good token is kept")
	now = now.Add(50 * time.Second)
	tok, _, err := k.Token(ctx, "ann", "access")
	require.NoError(t, err)
	assert.Equal(t, "token-1", tok, "a tenth of its life is left")
	now = now.Add(5 * time.Second)
	tok, _, err = k.Token(ctx, "ann", "access")
	require.NoError(t, err)
	assert.Equal(t, "token-2", tok, "renewed before it expires")
	assert.Equal(t, "/refresh r=renew-1", calls[1])

	require.NoError(t, k.Renew(ctx, "ann", "access", epoch))
	assert.Len(t, calls, 2, "somebody renewed it since")
	require.NoError(t, k.Renew(ctx, "ann", "access", epoch+1))
	assert.Contains(t, calls[2], "/login", "a token that was refused begins anew")

	v, err := k.Values(ctx, "", []string{"refresh", "u"})
	require.NoError(t, err)
	assert.Equal(t, "renew-4", v["refresh"], "a session of its own")
	tok, _, err = k.Token(ctx, "ann", "access")
	require.NoError(t, err)
	assert.Equal(t, "token-3", tok, "which leaves the kept one alone")
	_, err = k.Values(ctx, "", []string{"nothing"})
	require.ErrorIs(t, err, ErrCredential)
	assert.Equal(t, "‹token›", k.client.mask.Text("token-3"))
}

func TestOtherCredentials(t *testing.T) {
	k := keyring(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(401)
		_, _ = io.WriteString(w, `no, pass"word`)
	})
	ctx := context.Background()
	o := Outgoing{Query: "a=1"}
	_, err := k.Present(ctx, &o, "ann", "key")
	require.NoError(t, err)
	assert.Equal(t, "a=1&k=value-of-K", o.Query)
	o = Outgoing{}
	_, err = k.Present(ctx, &o, "ann", "plain")
	require.NoError(t, err)
	assert.Equal(t, "Bearer value-of-T", o.Headers[0][1], "an opaque token passes through")
	_, err = k.Present(ctx, &o, "ann", "access")
	require.ErrorIs(t, err, ErrCredential)
	assert.Contains(t, err.Error(), "answered 401: no, ‹secret›", "the service's own words, without the secret")
	o = Outgoing{}
	require.NoError(t, k.PresentBroken(ctx, &o, "access"))
	assert.Len(t, o.Headers, 1)
}

// What a login is filled with is replaced wherever it stands.
func TestWrongSecretsWhereverTheyStand(t *testing.T) {
	d, _ := declaration.Parse("x", []byte(`millgate: 1
targets: { t: { base: "http://127.0.0.1:1" } }
schemes: { access: { kind: bearer, login: { send: "POST /in/{u}/{p}", headers: { X-Key: "k-{p}", X-App: web },
	form: { user: "{u}", p: "{p}" }, take: { access: /t } } } }
identities: { ann: { credentials: { access: { u: ann, p: env:P } } } }
`), nil)
	k := NewKeyring(d, d.Targets[0], &Client{mask: NewMasker(nil)}, func(declaration.Value) (string,
		error) {
		return "right", nil
	})
	r := Runner{Keys: k}.running()
	login := func(unknown bool) Outgoing {
		q := check.LoginAs(&check.Context{Doc: d, Target: d.Targets[0]}, d.Schemes[0].Login, d.Identities[0], "access",
			func(secret bool) (check.Fill, bool) {
				if secret {
					return check.Fill{Made: "wrong"}, true
				}
				return check.Fill{Made: "nobody"}, unknown
			})
		o, _, err := r.outgoing(t.Context(), check.Call{Request: q})
		require.NoError(t, err)
		return o
	}
	o := login(false)
	assert.Regexp(t, `^/in/ann/wrong-[0-9a-f]{16}$`, o.Path)
	assert.Regexp(t, `^k-wrong-`, o.Headers.Get("X-Key"))
	assert.Regexp(t, `^p=wrong-[0-9a-f]+&user=ann$`, string(o.Body))
	assert.NotContains(t, fmt.Sprint(o), "right")
	assert.Regexp(t, `^p=wrong-[0-9a-f]+&user=nobody-[0-9a-f]+$`, string(login(true).Body))
}

func TestAlterKeepsTheForm(t *testing.T) {
	tok := "aaaa.bbbb.AAAAcccc"
	got := alter(tok)
	assert.NotEqual(t, tok, got)
	assert.Len(t, got, len(tok))
	assert.True(t, strings.HasPrefix(got, "aaaa.bbbb."))
	assert.NotEqual(t, "opaque", alter("opaque"))
}
