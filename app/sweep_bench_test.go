package app

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"millgate/app/sweep"
	"millgate/core/declaration"
	"millgate/store"
)

// wide is a declaration with many safe routes, each a crossing for many callers.
func wide(base string, routes, callers int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "millgate: 1\ntargets: { t: { base: %q, pace: 1000000 per 1s } }\nroutes:\n", base)
	for i := range routes {
		fmt.Fprintf(&b, "  - \"GET /r%d/items\"\n", i)
	}
	b.WriteString("roles: { r0: ")
	for i := 1; i < callers; i++ {
		fmt.Fprintf(&b, ", r%d: ", i)
	}
	b.WriteString("}\nschemes: { key: { kind: api-key, in: header, name: X-Key } }\nidentities:\n")
	for i := range callers {
		fmt.Fprintf(&b, "  c%d: { roles: r%d, credentials: { key: { key: env:WIDE_%d } } }\n", i, i, i)
	}
	b.WriteString("access:\n")
	for i := range routes {
		fmt.Fprintf(&b, "  - { at: \"GET /r%d/items\", who: r%d }\n", i, i%callers)
	}
	return b.String()
}

// The goal: at least 40% of the requests per second of a plain loop of the same
// concurrency, in less than 150 MB.
func BenchmarkSweep50k(b *testing.B) {
	const routes, callers = 500, 90
	answer := []byte(`{"items":[{"id":1,"name":"a thing of no weight","owner":"c1"},{"id":2,"name":"another","owner":"c2"}]}`)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		var route, caller int
		if n, _ := fmt.Sscanf(r.Header.Get("X-Key"), "the-key-of-caller-%d", &caller); n != 1 {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if n, _ := fmt.Sscanf(r.URL.Path, "/r%d/items", &route); n != 1 {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		if route%callers != caller {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		_, _ = w.Write(answer)
	}))
	defer s.Close()
	for i := range callers {
		b.Setenv(fmt.Sprintf("WIDE_%d", i), fmt.Sprintf("the-key-of-caller-%d", i))
	}
	defer debug.SetGCPercent(debug.SetGCPercent(GCPercent)) // as the command has it
	for b.Loop() {
		a, err := openFile(b, wide(s.URL, routes, callers), b.TempDir())
		require.NoError(b, err)
		_, msgs := a.Workspace.Document()
		require.False(b, declaration.Failed(msgs), "%v", msgs[:min(3, len(msgs))])
		var peak uint64
		stop := make(chan struct{})
		go func() {
			for {
				select {
				case <-stop:
					return
				case <-time.After(100 * time.Millisecond):
					var m runtime.MemStats
					runtime.ReadMemStats(&m)
					peak = max(peak, m.Sys-m.HeapReleased)
				}
			}
		}()
		from, used := time.Now(), processor(b)
		r, err := a.Sweeps.Start(b.Context(), "t", "")
		require.NoError(b, err)
		a.Sweeps.Wait(r.ID)
		took, ourUse := time.Since(from), processor(b)-used
		close(stop)
		run, _, err := a.Sweeps.Result(b.Context(), r.ID)
		require.NoError(b, err)
		require.Equal(b, store.Done, run.State, run.Note)
		ours := float64(run.Planned) / took.Seconds()
		require.NoError(b, a.Close())
		used = processor(b)
		plain := plainLoop(b, s.URL, run.Planned)
		plainUse := processor(b) - used
		b.ReportMetric(float64(run.Planned), "probes")
		b.ReportMetric(ours, "probes/s")
		b.ReportMetric(100*ours/plain, "%-of-plain")
		// The same where the host takes the processor away from one of them.
		b.ReportMetric(100*plainUse.Seconds()/ourUse.Seconds(), "%-of-plain-by-processor")
		b.ReportMetric(float64(peak)/1e6, "MB-peak")
	}
}

// processor is the time that this process has used of all processors.
func processor(b *testing.B) time.Duration {
	var u syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// plainLoop is how many requests a second a plain loop of as many lanes sends, reading the
// bodies.
func plainLoop(b *testing.B, base string, many int) float64 {
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: sweep.Lanes, MaxConnsPerHost: sweep.Lanes}}
	defer c.CloseIdleConnections()
	work := make(chan int)
	var all sync.WaitGroup
	from := time.Now()
	for range sweep.Lanes {
		all.Go(func() {
			for i := range work {
				req, err := http.NewRequestWithContext(context.Background(), "GET",
					fmt.Sprintf("%s/r%d/items", base, i%500), nil)
				if err != nil {
					b.Error(err)
					return
				}
				req.Header.Set("X-Key", fmt.Sprintf("the-key-of-caller-%d", i%90))
				resp, err := c.Do(req)
				if err != nil {
					b.Error(err)
					return
				}
				_, _ = io.Copy(io.Discard, resp.Body)
				_ = resp.Body.Close()
			}
		})
	}
	for i := range many {
		work <- i
	}
	close(work)
	all.Wait()
	return float64(many) / time.Since(from).Seconds()
}
