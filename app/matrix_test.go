package app

import (
	"context"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"
	"github.com/sethvargo/go-limiter/httplimit"
	"github.com/sethvargo/go-limiter/memorystore"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/throttled/throttled/v2"
	"github.com/throttled/throttled/v2/store/memstore"
	"github.com/ulule/limiter/v3"
	"github.com/ulule/limiter/v3/drivers/middleware/stdlib"
	"github.com/ulule/limiter/v3/drivers/store/memory"
	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"millgate/core/quota"
	"millgate/testkit/memnet"
	"millgate/wire"
)

// limiterCase is a limiter that others have written, and what a drill must find.
type limiterCase struct {
	name   string
	kinds  []quota.Kind // any of these names it: some cannot be told apart from outside
	limit  int64        // for a bucket its burst
	window time.Duration
	queue  int                                      // how many may wait; -1 is without end
	serve  func(t *testing.T, serve serving) string // the address
	live   bool                                     // another process, in real time
}

// serving serves a handler, and says where.
type serving func(h http.Handler) string

// misses says what a drill found out wrong, and what it could not tell; "" when
// nothing.
func (c limiterCase) misses(m *quota.Measured) (wrong, unsure string) {
	s := m.Side()
	switch {
	case m.Disturbed():
		return "", m.Found()
	case c.kinds == nil:
		if len(m.Fits) > 0 || m.Refused() || s.Limit > 0 || s.Queue > 0 {
			return "there is no limiter: " + m.Found(), ""
		}
		return "", ""
	case c.queue > 0 && s.Queue == 0:
		return "", fmt.Sprintf("no queue: %v", s.Seen)
	case c.queue > 0 && s.Queue < c.queue && !s.Refused:
		return "", fmt.Sprintf("at least %d wait, which is no number yet: %v", s.Queue, s.Seen)
	case c.queue > 0 && s.Queue != c.queue || c.queue < 0 && s.Refused || c.queue == 0 && s.Queue > 0:
		return fmt.Sprintf("another queue: %d, %v", s.Queue, s.Seen), ""
	case c.queue < 0 && s.Queue < 8:
		return "", fmt.Sprintf("a short queue: %d, %v", s.Queue, s.Seen)
	case c.kinds[0] == quota.Concurrent && s.Limit == 0 && len(m.Fits) == 0:
		return "", m.Found()
	case c.kinds[0] == quota.Concurrent:
		if int64(s.Limit) != c.limit {
			return fmt.Sprintf("another number at once: %d, %v", s.Limit, s.Seen), ""
		}
		return "", ""
	case len(m.Fits) == 0:
		return "", m.Found()
	}
	k := slices.IndexFunc(m.Fits, func(f quota.Fit) bool { return slices.Contains(c.kinds, f.Kind) })
	if k < 0 {
		return "another kind: " + m.Found(), ""
	}
	f := m.Fits[k]
	if f.Kind == quota.Bucket {
		if math.Abs(float64(f.Burst-c.limit)) > max(1, float64(c.limit)/10) {
			return "another burst: " + m.Found(), ""
		}
	} else if f.N != c.limit {
		return "another limit: " + m.Found(), ""
	}
	if w := float64(quota.Ticks(c.window)); math.Abs(float64(f.W)-w) > w/10 {
		return "another window: " + m.Found(), ""
	}
	return "", ""
}

func fine(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "ok") }

func byAll(*http.Request) (string, error) { return "all", nil }

func limiters() (out []limiterCase) {
	per := func(n int, w time.Duration) string { return fmt.Sprintf("%d per %s", n, w) }
	s := time.Second
	for _, c := range []struct {
		n int
		w time.Duration
	}{{5, s}, {10, 2 * s}, {20, s}, {8, 3 * s}} {
		out = append(out, limiterCase{"httprate " + per(c.n, c.w), []quota.Kind{quota.TwoCounters}, int64(c.n), c.w, 0,
			func(t *testing.T, served serving) string {
				return served(httprate.LimitBy(c.n, c.w, httprate.Key("all"))(http.HandlerFunc(fine)))
			}, false})
	}
	for _, c := range []struct {
		n int
		w time.Duration
	}{{5, s}, {10, 2 * s}, {30, s}, {8, 3 * s}, {3, 2 * s}} {
		out = append(out, limiterCase{"ulule/limiter " + per(c.n, c.w), []quota.Kind{quota.FixedFirst}, int64(c.n), c.w,
			0, func(t *testing.T, served serving) string {
				l := limiter.New(memory.NewStoreWithOptions(limiter.StoreOptions{Prefix: "l"}),
					limiter.Rate{Period: c.w, Limit: int64(c.n)})
				return served(stdlib.NewMiddleware(l).Handler(http.HandlerFunc(fine)))
			}, false})
	}
	for _, c := range []struct {
		n int
		w time.Duration
	}{{5, s}, {10, 2 * s}, {20, s}} {
		// Its windows go on from the first call, whether there are calls or not. It reads the clock of the
		// machine past the time package, so that virtual time does not reach it.
		out = append(out, limiterCase{"go-limiter " + per(c.n, c.w), []quota.Kind{quota.FixedClock}, int64(c.n), c.w, 0,
			func(t *testing.T, served serving) string {
				store, err := memorystore.New(&memorystore.Config{Tokens: uint64(c.n), Interval: c.w})
				require.NoError(t, err)
				t.Cleanup(func() { assert.NoError(t, store.Close(context.Background())) })
				m, err := httplimit.NewMiddleware(store, byAll)
				require.NoError(t, err)
				return served(m.Handle(http.HandlerFunc(fine)))
			}, true})
	}
	for _, c := range []struct {
		rate  throttled.Rate
		each  time.Duration
		burst int
	}{{throttled.PerSec(5), s / 5, 4}, {throttled.PerSec(10), s / 10, 9}, {throttled.PerSec(2), s / 2, 2},
		{throttled.PerMin(90), 2 * s / 3, 7}} {
		out = append(out, limiterCase{fmt.Sprintf("throttled each %s burst %d", c.each.Round(time.Millisecond),
			c.burst+1), []quota.Kind{quota.Bucket}, int64(c.burst + 1), c.each, 0,
			func(t *testing.T, served serving) string {
				store, err := memstore.NewCtx(100)
				require.NoError(t, err)
				l, err := throttled.NewGCRARateLimiterCtx(store, throttled.RateQuota{MaxRate: c.rate,
					MaxBurst: c.burst})
				require.NoError(t, err)
				h := throttled.HTTPRateLimiterCtx{RateLimiter: l, VaryBy: &throttled.VaryBy{}}
				return served(h.RateLimit(http.HandlerFunc(fine)))
			}, false})
	}
	for _, c := range []struct {
		each  time.Duration
		burst int
	}{{s / 5, 5}, {s / 20, 10}, {s / 2, 3}, {s / 10, 6}} {
		out = append(out, limiterCase{fmt.Sprintf("x/time/rate each %s burst %d", c.each, c.burst),
			[]quota.Kind{quota.Bucket}, int64(c.burst), c.each, 0, func(t *testing.T, served serving) string {
				l := rate.NewLimiter(rate.Every(c.each), c.burst)
				return served(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					if !l.Allow() {
						w.WriteHeader(429)
						return
					}
					fine(w, r)
				}))
			}, false})
	}
	for _, c := range []struct {
		rate  string
		each  time.Duration
		burst int
	}{{"10r/s", s / 10, 9}, {"5r/s", s / 5, 4}, {"120r/m", s / 2, 5}, {"20r/s", s / 20, 12}} {
		out = append(out, limiterCase{fmt.Sprintf("nginx %s burst %d nodelay", c.rate, c.burst),
			[]quota.Kind{quota.Bucket}, int64(c.burst + 1), c.each, 0, func(t *testing.T, _ serving) string {
				return nginx(t, fmt.Sprintf("limit_req_zone $server_name zone=z:1m rate=%s;", c.rate),
					fmt.Sprintf("limit_req zone=z burst=%d nodelay; limit_req_status 429;", c.burst))
			}, true})
	}
	out = append(out, queues()...)
	out = append(out, limiterCase{name: "none, and slow", serve: func(t *testing.T,
		served serving) string {
		return served(slow(60 * time.Millisecond))
	}})
	out = append(out, limiterCase{name: "none, now and then slow", serve: func(t *testing.T, served serving) string {
		n := atomic.Int64{}
		return served(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if n.Add(1)%7 == 0 {
				time.Sleep(150 * time.Millisecond)
			}
			fine(w, r)
		}))
	}})
	return append(out, limiterCase{name: "none", serve: func(t *testing.T,
		served serving) string {
		return served(http.HandlerFunc(fine))
	}})
}

func slow(d time.Duration) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(d)
		fine(w, r)
	})
}

// queues are limiters that let calls wait, or count how many run.
func queues() (out []limiterCase) {
	for _, c := range []struct {
		each  time.Duration
		burst int
	}{{100 * time.Millisecond, 1}, {50 * time.Millisecond, 6}} {
		out = append(out, limiterCase{fmt.Sprintf("x/time/rate waits, each %s burst %d", c.each, c.burst),
			[]quota.Kind{quota.Bucket}, int64(c.burst), c.each, -1, func(t *testing.T, served serving) string {
				l := rate.NewLimiter(rate.Every(c.each), c.burst)
				return served(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					if l.Wait(r.Context()) == nil {
						fine(w, r)
					}
				}))
			}, false})
	}
	for _, c := range []struct {
		rate  string
		each  time.Duration
		burst int
	}{{"10r/s", 100 * time.Millisecond, 4}, {"5r/s", 200 * time.Millisecond, 6}} {
		out = append(out, limiterCase{fmt.Sprintf("nginx %s burst %d", c.rate, c.burst), []quota.Kind{quota.Bucket}, 1,
			c.each, c.burst, func(t *testing.T, _ serving) string {
				return nginx(t, fmt.Sprintf("limit_req_zone $server_name zone=z:1m rate=%s;", c.rate),
					fmt.Sprintf("limit_req zone=z burst=%d; limit_req_status 429;", c.burst))
			}, true})
	}
	out = append(out, limiterCase{"nginx 3 connections", []quota.Kind{quota.Concurrent}, 3, 0, 0,
		func(t *testing.T, served serving) string {
			return nginx(t, "limit_conn_zone $server_name zone=c:1m;",
				"limit_conn c 3; limit_conn_status 429; proxy_pass "+served(slow(80*time.Millisecond))+";")
		}, true})
	for _, n := range []int{1, 4} {
		out = append(out, limiterCase{fmt.Sprintf("chi throttle %d", n), []quota.Kind{quota.Concurrent}, int64(n), 0, 0,
			func(t *testing.T, served serving) string {
				return served(middleware.Throttle(n)(slow(80 * time.Millisecond)))
			}, false})
	}
	return append(out, limiterCase{"chi throttle 2, backlog 5", []quota.Kind{quota.Concurrent}, 2, 0, 5,
		func(t *testing.T, served serving) string {
			return served(middleware.ThrottleBacklog(2, 5, 10*time.Second)(slow(120 * time.Millisecond)))
		}, false})
}

// nginx starts Debian's, which make chromium installs beside Chromium.
func nginx(t *testing.T, http, location string) string {
	bin, err := exec.LookPath("nginx")
	if err != nil {
		bin = "/usr/sbin/nginx"
	}
	if _, err := os.Stat(bin); err != nil {
		t.Fatal("nginx is not installed; make chromium installs it")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := l.Addr().String()
	require.NoError(t, l.Close())
	dir := t.TempDir()
	conf := filepath.Join(dir, "nginx.conf")
	text := fmt.Sprintf("daemon off; pid %[1]s/pid; error_log %[1]s/error.log; events {}\nhttp { access_log off; "+
		"client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; "+
		"scgi_temp_path %[1]s/s; %[2]s\nserver { listen %[3]s; server_name all; location / { %[4]s return 200 ok; } "+
		"location /l { %[4]s alias %[1]s/www/; } } }\n", dir, http, addr, location)
	if os.Getuid() == 0 {
		text = "user root;\n" + text // or it cannot read the directory
	}
	// what is returned at once is never limited
	text = strings.Replace(text, "return 200 ok;", fmt.Sprintf("root %s/www;", dir), 1)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "www"), 0o755)) //nolint:gosec // nginx may run as another user
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "index.html"), []byte("ok"), 0o644))
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // nginx may run as another user
	require.NoError(t, os.WriteFile(conf, []byte(text), 0o600))
	cmd := exec.Command(bin, "-c", conf, "-e", filepath.Join(dir, "error.log"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", addr)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 5*time.Minute, 20*time.Millisecond, "nginx does not listen")
	return "http://" + addr
}

// together makes calls at the same time.
func together(n int, call func() (quota.Seen, error)) ([]quota.Seen, error) {
	list := make([]quota.Seen, n)
	g := new(errgroup.Group)
	for i := range list {
		g.Go(func() (err error) {
			list[i], err = call()
			return err
		})
	}
	return list, g.Wait()
}

// drillAt drills an address until the drill is done.
func drillAt(ctx context.Context, c *http.Client, url string, d *quota.Drill) error {
	began, beats := time.Now(), wire.StartPulse()
	defer beats.End()
	call := func() (quota.Seen, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
		if err != nil {
			return quota.Seen{}, err
		}
		at := time.Now()
		res, err := c.Do(req) //nolint:contextcheck // the request has it
		if err != nil {
			return quota.Seen{}, err
		}
		_, _ = io.Copy(io.Discard, res.Body)
		_ = res.Body.Close()
		return quota.Seen{At: at.UnixMicro(), Took: quota.Ticks(time.Since(at)), OK: res.StatusCode == 200}, nil
	}
	for !d.Done() {
		s := d.Next(time.Now().UnixMicro())
		if s.Many == 0 {
			break
		}
		time.Sleep(time.Until(time.UnixMicro(max(s.At, 1))))
		if s.Beside {
			list, err := together(s.Many, call)
			if err != nil {
				return err
			}
			d.SawBeside(list)
			continue
		}
		for range s.Many {
			seen, err := call()
			if err != nil {
				return err
			}
			if d.Saw(seen); s.Stop && d.Enough() {
				break
			}
		}
		if s.Stop {
			d.Filled()
		}
	}
	pulse := beats.Since(began)
	for i, s := range d.Calls {
		left := time.UnixMicro(s.At).Sub(began)
		d.Calls[i].Gap = pulse.Broke(left, left+quota.Span(s.Took))
	}
	d.Finish()
	return nil
}

// drilled is what a drill of a limiter found out: in real time where it is another
// process, in virtual time otherwise.
func (c limiterCase) drilled(t *testing.T) (m quota.Measured) {
	d := &quota.Drill{Budget: quota.Budget{Calls: 500, Ticks: quota.Ticks(45 * time.Second)}, Burst: 80, Side: 16}
	if c.live {
		client := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 32}}
		defer client.CloseIdleConnections()
		require.NoError(t, drillAt(t.Context(), client, c.serve(t, func(h http.Handler) string {
			s := httptest.NewServer(h)
			t.Cleanup(s.Close)
			return s.URL
		}), d))
	} else {
		virtually(t, func(t *testing.T, n *memnet.Net) {
			client := n.Client()
			url := c.serve(t, func(h http.Handler) string {
				url, end := n.Serve(h)
				t.Cleanup(end)
				return url
			})
			t.Cleanup(client.CloseIdleConnections)
			require.NoError(t, drillAt(t.Context(), client, url, d))
		})
	}
	m.Explain(d)
	return m
}

// quickest are the live limiters that make test drills.
var quickest = []string{"nginx 10r/s burst 9 nodelay", "nginx 20r/s burst 12 nodelay", "nginx 3 connections",
	"go-limiter 5 per 1s"}

// Limiters that others have written, identified from their answers alone. A wrong
// name never passes; that it could not tell may be said once in twenty, beside those
// that were disturbed and say so.
func TestLimiterMatrix(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long; make test and make soak have it")
	}
	var mu sync.Mutex
	var table, unsure []string
	list := limiters()
	if os.Getenv("MILLGATE_DRAW") != "" {
		list = slices.DeleteFunc(list, func(c limiterCase) bool { return c.live && !slices.Contains(quickest, c.name) })
	}
	t.Run("all", func(t *testing.T) {
		for _, c := range list {
			t.Run(c.name, func(t *testing.T) {
				if !c.live { // what is live is alone on the machine
					t.Parallel()
				}
				m := c.drilled(t)
				wrong, open := c.misses(&m)
				if wrong != "" { // what it was concluded from
					t.Logf("%+v", m.Fits)
					for _, s := range m.Calls {
						t.Logf("%8.3f s took %6.1f ms admitted %t batch %d gap %t idle %t",
							quota.Span(s.At-m.Calls[0].At).Seconds(), float64(s.Took)/1000, s.OK, s.Batch, s.Gap,
							s.Idle)
					}
				}
				assert.Empty(t, wrong)
				mu.Lock()
				defer mu.Unlock()
				if open != "" && !m.Disturbed() { // which it says
					unsure = append(unsure, c.name+": "+open)
				}
				table = append(table, fmt.Sprintf("%-34s %4d calls %5.1f s  %s", c.name, len(m.Calls), m.Seconds,
					m.Found()))
			})
		}
	})
	slices.Sort(table)
	fmt.Println(strings.Join(table, "\n"))
	assert.LessOrEqual(t, len(unsure)*20, len(list), strings.Join(unsure, "\n"))
}
