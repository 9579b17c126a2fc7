package e2e

import (
	"cmp"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/origin"
	"millgate/testkit/exchanges"
)

// lab is a page and two services on loopback origins of their own.
type lab struct {
	page, service, other string
	mu                   sync.Mutex
	cases                map[string]*exchanges.Exchange
	sent                 map[string][]origin.Sent
}

func newLab(t *testing.T) *lab {
	l := &lab{cases: map[string]*exchanges.Exchange{}, sent: map[string][]origin.Sent{}}
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/x/") {
			l.serve(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, labPage)
	}))
	service, other := httptest.NewServer(http.HandlerFunc(l.serve)), httptest.NewServer(http.HandlerFunc(l.serve))
	t.Cleanup(page.Close)
	t.Cleanup(service.Close)
	t.Cleanup(other.Close)
	l.page, l.service, l.other = page.URL, service.URL, other.URL
	return l
}

// serve answers hop N of case ID at /x/ID/N, and keeps what was asked.
func (l *lab) serve(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(r.URL.Path, "/")
	if len(parts) < 4 {
		http.NotFound(w, r)
		return
	}
	n, _ := strconv.Atoi(parts[3])
	l.mu.Lock()
	x := l.cases[parts[2]]
	if x == nil || n >= len(x.Hops) {
		l.mu.Unlock()
		http.NotFound(w, r)
		return
	}
	acrm := r.Header.Get("Access-Control-Request-Method")
	s := origin.Sent{Method: r.Method, Preflight: r.Method == "OPTIONS" && acrm != "", Origin: r.Header.Get("Origin"),
		AsUser: r.Header.Get("Cookie") != ""}
	if s.Preflight {
		s.Headers = [][2]string{{"acrm", acrm}, {"acrh", r.Header.Get("Access-Control-Request-Headers")}}
	} else if r.Header.Get("Authorization") != "" {
		s.Headers = [][2]string{{"authorization", r.Header.Get("Authorization")}}
	}
	l.sent[parts[2]] = append(l.sent[parts[2]], s)
	a := x.Hops[n].Answer
	if s.Preflight {
		a = x.Hops[n].Preflight
	}
	l.mu.Unlock()
	w.Header()["Date"] = nil
	for _, h := range a.Headers {
		w.Header()[http.CanonicalHeaderKey(h[0])] = append(w.Header()[http.CanonicalHeaderKey(h[0])], h[1])
	}
	w.Header().Set("Cache-Control", "no-store")
	if a.Status >= 200 && a.Status != 204 && a.Status != 304 {
		w.Header().Set("Content-Type", "text/plain")
		w.Header().Set("Content-Length", "2")
	} else {
		w.Header()["Content-Type"] = nil
	}
	w.WriteHeader(a.Status)
	if a.Status != 204 && a.Status != 304 && r.Method != "HEAD" {
		_, _ = io.WriteString(w, "ok")
	}
}

const labPage = `<!doctype html><title>lab</title><script>
if (window === window.top) document.cookie = 'who=me; path=/'
async function ask(c) {
  const opt = { method: c.method, headers: c.headers, credentials: c.credentials, mode: c.mode, redirect: c.redirect, referrerPolicy: 'no-referrer', signal: AbortSignal.timeout(8000) }
  if (c.body) opt.body = 'x'
  try {
    const r = await fetch(c.url, opt)
    return { resolved: true, type: r.type, status: r.status, readable: [...r.headers.keys()].sort() }
  } catch (e) {
    return { resolved: false, type: e.name === 'TimeoutError' ? 'hangs' : '', status: 0, readable: [] }
  }
}
async function all(list) {
  const out = new Array(list.length)
  let next = 0
  await Promise.all(Array.from({ length: 6 }, async () => {
    while (next < list.length) {
      const i = next++
      for (let k = 0; k < list[i].times; k++) out[i] = await ask(list[i])
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
	URL         string      `json:"url"`
	Method      string      `json:"method"`
	Headers     [][2]string `json:"headers"`
	Credentials string      `json:"credentials"`
	Mode        string      `json:"mode"`
	Redirect    string      `json:"redirect"`
	Body        bool        `json:"body"`
	Times       int         `json:"times"`
}

// through sends the cases through the browser.
func (l *lab) through(t *testing.T, list []*exchanges.Exchange) []exchanges.Seen {
	p := open(t, l.page, "light")
	p.mu.Lock()
	p.allow = anything
	p.mu.Unlock()
	out := make([]exchanges.Seen, len(list))
	for _, null := range []bool{false, true} {
		var asks []asked
		var at []int
		for i, x := range list {
			if x.Null != null {
				continue
			}
			q := x.Request
			h := q.Headers
			if h == nil {
				h = [][2]string{}
			}
			asks = append(asks, asked{q.URL, cmp.Or(q.Method, "GET"), h, cmp.Or(string(q.Credentials), "same-origin"),
				cmp.Or(string(q.Mode), "cors"), cmp.Or(string(q.Redirect), "follow"), q.Body, max(x.Times, 1)})
			at = append(at, i)
		}
		if len(asks) == 0 {
			continue
		}
		how := `(list) => all(list)`
		if null {
			how = `(list) => inFrame(list)`
		}
		var got []exchanges.Seen
		require.NoError(t, json.Unmarshal([]byte(p.MustEval(how, asks).Str()), &got))
		require.Len(t, got, len(asks))
		for k, i := range at {
			out[i] = got[k]
		}
	}
	return out
}

func TestTheBrowserAgrees(t *testing.T) {
	l := newLab(t)
	list := exchanges.All(exchanges.Hosts{Page: l.page, Service: l.service, Other: l.other})
	for i, x := range list {
		l.cases[strconv.Itoa(i)] = x
	}
	got := l.through(t, list)
	wrong := 0
	explained := map[string]int{}
	for i, x := range list {
		id := strconv.Itoa(i)
		if why := exchanges.Same(exchanges.Evaluated(x, origin.Chromium), got[i], l.sent[id]); why != "" {
			if wrong++; wrong <= 20 {
				q, _ := json.Marshal(x.Request)
				h, _ := json.Marshal(x.Hops)
				t.Errorf("%s: %s\n    %s\n    %s", x.Name, why, q, h)
			}
			continue
		}
		for _, d := range origin.Chromium.Departs {
			less := origin.Chromium
			less.Departs = slices.DeleteFunc(slices.Clone(less.Departs),
				func(o *origin.Departure) bool { return o == d })
			if exchanges.Same(exchanges.Evaluated(x, less), got[i], l.sent[id]) != "" {
				explained[d.ID]++
			}
		}
	}
	assert.Zero(t, wrong)
	for _, d := range origin.Chromium.Departs {
		assert.NotZero(t, explained[d.ID], "this browser no longer departs from the standard in %s", d.ID)
	}
	t.Logf("%d exchanges; this browser departs from the standard's text by %v", len(list), explained)
}
