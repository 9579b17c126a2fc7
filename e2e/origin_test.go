package e2e

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"math/rand"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/field"
	"millgate/core/origin"
	"millgate/testkit/exchanges"
)

// lab is a page and two services on loopback origins of their own.
type lab struct {
	at    exchanges.Hosts
	mu    sync.Mutex
	cases map[string]*exchanges.Exchange
	sent  map[string][]origin.Sent
}

func newLab(t *testing.T) *lab {
	l := &lab{cases: map[string]*exchanges.Exchange{}, sent: map[string][]origin.Sent{}}
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/x/") {
			l.serve(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if r.URL.Path == "/public" {
			w.Header().Set("Content-Security-Policy", "treat-as-public-address")
		}
		_, _ = io.WriteString(w, labPage)
	}))
	service, other := httptest.NewServer(http.HandlerFunc(l.serve)), httptest.NewServer(http.HandlerFunc(l.serve))
	t.Cleanup(page.Close)
	t.Cleanup(service.Close)
	t.Cleanup(other.Close)
	l.at = exchanges.Hosts{Page: page.URL, Service: service.URL, Other: other.URL}
	return l
}

// serve answers hop N of case ID at /x/ID/N, and keeps what was asked.
func (l *lab) serve(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(r.URL.Path, "/")
	if len(parts) < 4 {
		http.NotFound(w, r)
		return
	}
	l.mu.Lock()
	x := l.cases[parts[2]]
	if x == nil {
		l.mu.Unlock()
		http.NotFound(w, r)
		return
	}
	asks := r.Header.Get("Access-Control-Request-Method")
	s := origin.Sent{Method: r.Method, Preflight: r.Method == "OPTIONS" && asks != "", Origin: r.Header.Get("Origin"),
		AsUser: r.Header.Get("Cookie") != "", URL: "http://" + r.Host}
	for _, n := range []string{"Access-Control-Request-Method", "Access-Control-Request-Headers", "Authorization"} {
		if v := r.Header.Get(n); v != "" {
			s.Headers = append(s.Headers, [2]string{n, v})
		}
	}
	if v := r.Header.Get("User-Agent"); !strings.HasPrefix(v, "Mozilla/") {
		s.Headers = append(s.Headers, [2]string{"User-Agent", v}) // the page's own
	}
	l.sent[parts[2]] = append(l.sent[parts[2]], s)
	preflights := 0
	for _, s := range l.sent[parts[2]] {
		if s.Preflight {
			preflights++
		}
	}
	a := x.Answer(r.URL.Path, s.Preflight, preflights)
	l.mu.Unlock()
	w.Header()["Date"] = nil
	w.Header()["Content-Type"] = nil
	for _, h := range a.Headers {
		n := http.CanonicalHeaderKey(h[0])
		w.Header()[n] = append(w.Header()[n], h[1])
	}
	w.WriteHeader(a.Status)
	if field.List(a.Headers).Has("Content-Length") && r.Method != "HEAD" {
		_, _ = io.WriteString(w, "ok")
	}
}

const labPage = `<!doctype html><title>lab</title><script>
if (window === window.top) document.cookie = 'who=me; path=/'
async function ask(c) {
  const opt = { method: c.method, headers: c.headers, credentials: c.credentials, mode: c.mode, redirect: c.redirect,
	cache: c.cache, referrerPolicy: 'no-referrer', signal: AbortSignal.timeout(8000) }
  if (c.body) opt.body = 'x'
  try {
    const r = await fetch(c.url, opt)
    return { resolved: true, opaque: r.type.startsWith('opaque'), status: r.status,
	readable: [...r.headers.keys()].sort() }
  } catch (e) {
    return { resolved: false, hangs: e.name === 'TimeoutError', status: 0, readable: [] }
  }
}
async function all(list) {
  const out = list.map(() => [])
  let next = 0
  await Promise.all(Array.from({ length: 8 }, async () => {
    while (next < list.length) {
      const i = next++
      for (const c of list[i]) {
        if (c.pause && out[i].length) await new Promise((r) => setTimeout(r, c.pause))
        out[i].push(await ask(c))
      }
    }
  }))
  return JSON.stringify(out)
}
window.addEventListener('message', async (e) => {
  if (e.data.list && window !== window.top) e.source.postMessage({ out: await all(e.data.list) }, '*')
})
function inFrame(list) {
  return new Promise((done) => {
    const f = document.createElement('iframe')
    f.sandbox = 'allow-scripts'
    f.src = '/frame'
    window.addEventListener('message', (e) => { if (e.data.out) done(e.data.out) })
    f.onload = () => f.contentWindow.postMessage({ list }, '*')
    document.body.append(f)
  })
}
</script><body>`

type asked struct {
	URL         string     `json:"url"`
	Method      string     `json:"method"`
	Headers     field.List `json:"headers"`
	Credentials string     `json:"credentials"`
	Mode        string     `json:"mode"`
	Redirect    string     `json:"redirect"`
	Cache       string     `json:"cache"`
	Body        bool       `json:"body"`
	Pause       int64      `json:"pause"` // milliseconds
}

// asks are what a script of a page asks for in a case.
func asks(x *exchanges.Exchange) (out []asked) {
	for _, q := range x.Asks {
		out = append(out, asked{q.URL, cmp.Or(q.Method, "GET"), append(field.List{}, q.Headers...),
			cmp.Or(string(q.Credentials), "same-origin"), cmp.Or(string(q.Mode), "cors"),
			cmp.Or(string(q.Redirect), "follow"), cmp.Or(string(q.Cache), "default"), q.Body, x.Pause.Milliseconds()})
	}
	return out
}

// through sends the cases through the browser.
func (l *lab) through(t *testing.T, list []*exchanges.Exchange) []exchanges.Told {
	out := make([]exchanges.Told, len(list))
	for _, kind := range []struct {
		path, how    string
		null, public bool
	}{{"/", "all", false, false}, {"/", "inFrame", true, false}, {"/public", "all", false, true}} {
		var todo [][]asked
		var at []int
		for i, x := range list {
			if x.Null == kind.null && x.Public == kind.public {
				todo, at = append(todo, asks(x)), append(at, i)
			}
		}
		if len(todo) == 0 {
			continue
		}
		p := open(t, l.at.Page+kind.path, "light")
		p.mu.Lock()
		p.allow = anything
		p.mu.Unlock()
		var got [][]struct {
			Resolved, Opaque, Hangs bool
			Status                  int
			Readable                []string
		}
		require.NoError(t, json.Unmarshal([]byte(p.MustEval(`(list) => `+kind.how+`(list)`, todo).Str()), &got))
		require.Len(t, got, len(todo))
		for k, i := range at {
			for _, a := range got[k] {
				had := exchanges.Had(a.Resolved, a.Opaque, a.Status, a.Readable)
				if a.Hangs {
					had = "never came back"
				}
				out[i].Had = append(out[i].Had, had)
			}
			l.mu.Lock()
			for _, s := range l.sent[list[i].ID] {
				out[i].Sent = append(out[i].Sent, l.at.Line(s))
			}
			l.mu.Unlock()
		}
	}
	return out
}

// drawn are cases that the week decides.
func drawn(list []*exchanges.Exchange, n int) []*exchanges.Exchange {
	year, week := time.Now().ISOWeek()
	r := rand.New(rand.NewSource(int64(100*year + week))) //nolint:gosec // the same ones all week
	list = slices.Clone(list)
	r.Shuffle(len(list), func(i, k int) { list[i], list[k] = list[k], list[i] })
	return list[:n]
}

// TestTheBrowserAgrees runs exchanges in a real browser: a hundred that the week decides, and all
// of them where the browser is another one than what is recorded was made with.
// MILLGATE_BROWSER_CASES=write runs all and records them.
func TestTheBrowserAgrees(t *testing.T) {
	l := newLab(t)
	list := exchanges.All(l.at)
	for _, x := range list {
		l.cases[x.ID] = x
	}
	recorded, err := exchanges.Chromium()
	require.NoError(t, err)
	write := os.Getenv("MILLGATE_BROWSER_CASES") == "write"
	version, err := open(t, l.at.Page, "light").Browser().Version()
	require.NoError(t, err)
	if !write && version.Product == recorded.Browser {
		list = drawn(list, 100)
	}
	got := l.through(t, list)
	wrong := 0
	for i, x := range list {
		if why := exchanges.Apart(l.at.Evaluated(x, origin.Chromium), got[i]); why != "" {
			if wrong++; wrong <= 20 {
				q, _ := json.Marshal(x.Asks)
				t.Errorf("%s: %s\n    %s\n    %v", x.Key(), why, q, x.Hops)
			}
		}
	}
	assert.Zero(t, wrong)
	if write {
		require.NoError(t, os.WriteFile("../testkit/exchanges/chromium.jsonl", exchanges.Write(version.Product, list,
			got),
			0o644)) //nolint:gosec // a file of the project
	}
	t.Logf("%d exchanges in %s; recorded are those of %s", len(list), version.Product, recorded.Browser)
}

// TestScripts pastes what the Origins lens offers into the console of a page: it says there what was
// told of it.
func TestScripts(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	list := exchanges.All(l.at)
	p := open(t, l.at.Page, "light")
	p.mu.Lock()
	p.allow = anything
	p.mu.Unlock()
	said := make(chan string)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go p.Context(ctx).EachEvent(func(e *proto.RuntimeConsoleAPICalled) {
		select {
		case said <- e.Args[0].Value.Str():
		case <-ctx.Done():
		}
	})()
	kinds := map[string]int{}
	for _, x := range list {
		q := x.Asks[0]
		if x.Ground != "drawn" || kinds[q.Page+q.Method] > 2 {
			continue
		}
		kinds[q.Page+q.Method]++
		l.cases[x.ID] = x
		p.MustEval("() => {\n" + origin.Script(q, "x") + "}")
		o := origin.Run(q, nil, time.Time{}, origin.Chromium, func(s origin.Sent) (origin.Answer, bool) {
			return x.Answer(s.URL, s.Preflight, 1), true
		})
		want := "not readable:"
		if o.Resolved {
			want = "readable:"
		}
		select {
		case got := <-said:
			assert.Equal(t, want, got, "%s: %s", x.Key(), origin.Script(q, "x"))
		case <-time.After(30 * time.Second):
			t.Fatalf("%s: the console says nothing", x.Key())
		}
	}
	assert.Greater(t, len(kinds), 10)
}
