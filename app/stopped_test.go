package app

import (
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/sweep"
	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/core/finding"
	"millgate/store"
	"millgate/testkit/memnet"
)

// What waits for a quota or a Retry-After when a sweep is stopped stays unsent, and is
// sent when the sweep goes on; an unsafe request too, since it was turned away.
func TestAStopWhileWaitingLosesNothing(t *testing.T) {
	for _, c := range []struct {
		name   string
		quota  string // declared
		method string
		path   string
	}{
		{"Retry-After", "", "GET", "/a"},
		{"Retry-After of an unsafe request", "", "PATCH", "/t/t-ann"},
		{"a declared quota", "quotas:\n  q: { at: GET /a, allow: 2 per 40s, counted_by: everyone }\n", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			virtually(t, func(t *testing.T, n *memnet.Net) {
				v := &villager{count: map[string]int{}, twist: func(v *villager, w http.ResponseWriter,
					r *http.Request) bool {
					if c.quota != "" || r.Method != c.method || r.URL.Path != c.path || v.who(r) != "ann" ||
						v.times("turned away") > 1 {
						return false
					}
					w.Header().Set("Retry-After", "30")
					w.WriteHeader(429)
					return true
				}}
				base, end := n.Serve(v)
				defer end()
				a := openIn(t, n, fmt.Sprintf(village, base)+c.quota)
				r, err := a.Sweeps.Start(t.Context(), "t", "")
				require.NoError(t, err)
				time.Sleep(5 * time.Second)
				require.NoError(t, a.Sweeps.Stop(r.ID))
				run, res, err := a.Sweeps.Result(t.Context(), r.ID)
				require.NoError(t, err)
				assert.Equal(t, store.Stopped, run.State)
				require.NotEmpty(t, res.Unsent)
				for _, u := range res.Unsent {
					assert.NotContains(t, u.Why, "cancel")
				}
				facts, lost, err := a.Targets.Journal(t.Context(), r.ID)
				require.NoError(t, err)
				assert.Empty(t, lost, "it was turned away, not lost")
				for id, f := range facts {
					assert.NotContains(t, f.Lost, "cancel", id)
					assert.NotEqual(t, 429, f.Exchange.Status, id)
				}
				again, err := a.Sweeps.Resume(t.Context(), r.ID)
				require.NoError(t, err)
				a.Sweeps.Wait(again.ID)
				run, res, err = a.Sweeps.Result(t.Context(), again.ID)
				require.NoError(t, err)
				assert.Equal(t, store.Done, run.State, run.Note)
				assert.Empty(t, res.Unsent)
				assert.Empty(t, res.Doubts(run, coverage.DefaultMostUnproven))
				for _, f := range res.Findings {
					assert.Equal(t, finding.Unthrottled, f.Kind, "the villager counts nothing")
				}
			})
		})
	}
}

// A disk that is full in the middle is told, with what could not be removed.
func TestAFullDiskIsTold(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		o := &obedient{have: map[string]bool{"t0": true}}
		f := &fake{took: map[string]int{}}
		var a *App
		base, end := n.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == "POST" && r.URL.Path == "/t" {
				assert.NoError(t, a.store.LimitPages(r.Context(), 1)) // no more than there are
			}
			if r.Method == "DELETE" {
				w.WriteHeader(403)
				return
			}
			o.serve(f, w, r)
		}))
		defer end()
		t.Setenv("ANN_SECRET", "ann-secret-1")
		data := t.TempDir()
		file := filepath.Join(data, "x.gate.yaml")
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, small, base, "allowed"), 0o600))
		var err error
		a, err = Open(t.Context(), data, file)
		require.NoError(t, err)
		a.Workspace.Dial = n.Dial
		r, err := a.Sweeps.Start(t.Context(), "stand-in", "")
		require.NoError(t, err)
		a.Sweeps.Wait(r.ID)
		run, res, err := a.Sweeps.Result(t.Context(), r.ID)
		require.NoError(t, err)
		assert.Equal(t, store.Failed, run.State)
		assert.Equal(t, coverage.Doubts, res.Code(run, coverage.DefaultMostUnproven,
			finding.FailOn{Least: finding.High}.Stops))
		rules := map[coverage.DoubtRule]string{}
		for _, d := range res.Doubts(run, coverage.DefaultMostUnproven) {
			rules[d.Rule] = d.Text
		}
		assert.Contains(t, rules[coverage.NotReached], "full")
		require.NotEmpty(t, res.Made, "throwaway records are told")
		assert.Contains(t, res.Made[0].What, "thing")
		require.NoError(t, a.Close())

		// Another process can look at what is there.
		a, err = Open(t.Context(), data, file)
		require.NoError(t, err)
		require.NoError(t, a.Close())
	})
}

// Two processes do not write one directory, and a secret is kept beside one.
func TestOneWorkspaceForADirectory(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}}
		release := make(chan struct{})
		v.twist = func(*villager, http.ResponseWriter, *http.Request) bool { <-release; return false }
		base, end := n.Serve(v)
		defer end()
		data := t.TempDir()
		file := filepath.Join(data, "x.gate.yaml")
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, village, base), 0o600))
		a, err := Open(t.Context(), data, file)
		require.NoError(t, err)
		a.Workspace.Dial = n.Dial
		r, err := a.Sweeps.Start(t.Context(), "t", "")
		require.NoError(t, err)
		_, err = Open(t.Context(), data, file)
		require.ErrorIs(t, err, store.ErrInUse)
		assert.ErrorContains(t, err, fmt.Sprintf("process %d", os.Getpid()))
		require.NoError(t, workspace.KeepSecret(t.Context(), data, "K", "v"))
		list, err := a.Sweeps.List(t.Context(), 0, 100)
		require.NoError(t, err)
		assert.Equal(t, store.Running, list[0].State, "it was not marked interrupted")
		w, err := a.store.SweepByID(t.Context(), r.ID)
		require.NoError(t, err)
		assert.Equal(t, store.Running, w.State)
		close(release)
		a.Sweeps.Wait(r.ID)
		require.NoError(t, a.Close())
	})
}

// A sweep that is still running, or was when its process ended, has no result: that
// is no 0.
func TestWithoutAResultNothingIsClean(t *testing.T) {
	for _, state := range []string{store.Running, store.Interrupted, store.Stopped, store.Failed} {
		var res coverage.Result
		assert.Equal(t, coverage.Doubts, res.Code(&events.Run{State: state}, 100,
			finding.FailOn{Least: finding.High}.Stops), state)
	}
}

// What is asked of a board while something is probed again is answered.
func TestReadersWhileProbedAgain(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}, twist: func(_ *villager, _ http.ResponseWriter, _ *http.Request) bool {
			time.Sleep(3 * time.Millisecond)
			return false
		}}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base))
		r, err := a.Sweeps.Start(t.Context(), "t", "")
		require.NoError(t, err)
		a.Sweeps.Wait(r.ID)
		for range 5 {
			_, err = a.View.Ticks(t.Context(), "t", view.Wanted{})
			require.NoError(t, err)
			r, err := a.Sweeps.ProbeAgain(t.Context(), "t", []sweep.CrossingKey{{Route: "GET /a", Caller: "*"},
				{Route: "GET /b", Caller: "*"}})
			require.NoError(t, err)
			var g sync.WaitGroup
			done := make(chan struct{})
			for _, read := range []func() error{
				func() error { _, err := a.View.Worklist(t.Context(), "t"); return err },
				func() error { _, err := a.View.Ticks(t.Context(), "t", view.Wanted{}); return err },
				func() error { _, err := found(t, a, "t"); return err },
				func() error { _, err := a.View.Crossing(t.Context(), "t", "GET /a", "ann"); return err },
				func() error { _, err := a.Sweeps.List(t.Context(), 0, 100); return err },
			} {
				g.Go(func() {
					for {
						select {
						case <-done:
							return
						case <-time.After(time.Millisecond):
							assert.NoError(t, read())
						}
					}
				})
			}
			a.Sweeps.Wait(r.ID)
			close(done)
			g.Wait()
		}
	})
}

// A restart check that nobody ends lets go of what it holds.
func TestARestartCheckIsGivenUp(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}, twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/a" || v.who(r) == "" || v.times("counted") <= 4 {
				return false
			}
			w.Header().Set("Retry-After", "60")
			w.WriteHeader(429)
			return true
		}}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base)+"quotas:\n  q: { at: GET /a, allow: 4 per 1m, counted_by: "+
			"everyone }\n")
		f, err := a.Sweeps.FillForRestart(t.Context(), "t", "q")
		require.NoError(t, err)
		assert.True(t, f.Refused)
		time.Sleep(time.Minute + sweep.RestartWaits + time.Second)
		_, err = a.Sweeps.CompareAfterRestart(t.Context(), "t", "q")
		assert.ErrorIs(t, err, fault.ErrInput)
	})
}

// TLS that is not spoken, or not trusted, is no clean result.
func TestBrokenTLSIsNoResult(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer plain.Close()
	secure := httptest.NewUnstartedServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	secure.TLS = &tls.Config{MinVersion: tls.VersionTLS12}
	secure.Config.ErrorLog = quiet()
	secure.StartTLS()
	defer secure.Close()
	for name, base := range map[string]string{"plain HTTP": strings.Replace(plain.URL, "http:", "https:", 1),
		"an unknown certificate": secure.URL} {
		t.Run(name, func(t *testing.T) {
			a := openIn(t, memnet.New(), fmt.Sprintf(village, base))
			a.Workspace.Dial = (&net.Dialer{}).DialContext
			begun := time.Now()
			r, err := a.Sweeps.Start(t.Context(), "t", "")
			require.NoError(t, err)
			a.Sweeps.Wait(r.ID)
			run, res, err := a.Sweeps.Result(t.Context(), r.ID)
			require.NoError(t, err)
			assert.Equal(t, coverage.Doubts, res.Code(run, coverage.DefaultMostUnproven,
				finding.FailOn{Least: finding.High}.Stops))
			assert.Empty(t, res.Findings)
			assert.Less(t, time.Since(begun), 20*time.Second)
			assert.Contains(t, run.Note, "nothing more was sent")
		})
	}
}

// quiet is a log that nobody reads.
func quiet() *log.Logger { return log.New(io.Discard, "", 0) }
