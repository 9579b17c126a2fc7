package app

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"millgate/app/events"
	"millgate/store"
)

// The goal: the first board of 2,000 routes by 60 identities with 52,000 stored facts in under
// two seconds after a process start, also when the declaration was changed while it was down;
// and the next in far less.
func BenchmarkFirstBoard(b *testing.B) {
	const routes, callers, classes = 2000, 60, 10
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		var route, caller int
		_, _ = fmt.Sscanf(r.URL.Path, "/r%d/items", &route)
		switch n, _ := fmt.Sscanf(r.Header.Get("X-Key"), "the-key-of-caller-%d", &caller); {
		case n != 1:
			w.WriteHeader(http.StatusUnauthorized)
		case route%classes != caller%classes:
			w.WriteHeader(http.StatusForbidden)
		default:
			_, _ = w.Write([]byte(`{"items":[{"id":1,"name":"a thing"}]}`))
		}
	}))
	defer s.Close()
	for i := range callers {
		b.Setenv(fmt.Sprintf("WIDE_%d", i), fmt.Sprintf("the-key-of-caller-%d", i))
	}
	text := wide(s.URL, routes, callers)
	for i := classes; i < callers; i++ { // several are alike
		text = strings.Replace(text, fmt.Sprintf("  c%d: { roles: r%d,", i, i), fmt.Sprintf("  c%d: { roles: r%d,", i,
			i%classes), 1)
	}
	for i := range routes {
		text = strings.Replace(text, fmt.Sprintf("\"GET /r%d/items\", who: r%d }", i, i%callers),
			fmt.Sprintf("\"GET /r%d/items\", who: r%d }", i, i%classes), 1)
	}
	data, file := b.TempDir(), filepath.Join(b.TempDir(), "x.gate.yaml")
	write := func(text string) { require.NoError(b, os.WriteFile(file, []byte(text), 0o600)) }
	write(text)
	a, err := Open(b.Context(), data, file)
	require.NoError(b, err)
	r, err := a.Sweeps.Start(b.Context(), "t", "")
	require.NoError(b, err)
	a.Sweeps.Wait(r.ID)
	run, _, err := a.Sweeps.Result(b.Context(), r.ID)
	require.NoError(b, err)
	require.Equal(b, store.Done, run.State, run.Note)
	require.NoError(b, a.Close())
	var first, next, changed time.Duration
	n := 0
	look := func(text string, again *time.Duration) time.Duration {
		write(text)
		from := time.Now()
		a, err := Open(b.Context(), data, file)
		require.NoError(b, err)
		x, err := a.View.Board(b.Context(), "t", "")
		require.NoError(b, err)
		took := time.Since(from)
		require.Len(b, x.Rows, routes)
		require.IsType(b, &events.Run{}, x.Sweep)
		from = time.Now()
		_, err = a.View.Board(b.Context(), "t", x.Version)
		require.NoError(b, err)
		*again += time.Since(from)
		require.NoError(b, a.Close())
		return took
	}
	for b.Loop() {
		n++
		first += look(text, &next)
		changed += look(strings.Replace(text, "millgate: 1\n", fmt.Sprintf("millgate: 1\ntitle: Other %d\n", n),
			1), &next)
	}
	b.ReportMetric(float64(run.Planned), "facts")
	b.ReportMetric(first.Seconds()/float64(n), "s-first")
	b.ReportMetric(changed.Seconds()/float64(n), "s-changed")
	b.ReportMetric(next.Seconds()/float64(2*n), "s-next")
}
