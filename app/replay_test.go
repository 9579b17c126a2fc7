package app

import (
	"math/rand"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/sweep"
	"millgate/app/view"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/quotas"
	"millgate/core/finding"
	"millgate/standin"
	"millgate/testkit/memnet"
)

// withoutPass keeps the example without the target's pass, so that the stand-in
// counts what is sent.
func withoutPass(t *testing.T, a *App) {
	t.Helper()
	now := a.Workspace.Declaration()
	var keep []string
	for _, l := range strings.Split(now.Text, "\n") {
		if !strings.Contains(l, "pass: {") {
			keep = append(keep, l)
		}
	}
	text := strings.Join(keep, "\n")
	require.NotEqual(t, now.Text, text)
	_, err := a.Workspace.Keep(t.Context(), text, "without a pass", now.Revision)
	require.NoError(t, err)
}

// A request that is signed once and sent twice is found however full the quota is
// that counts it: a 429 to the one or the other repeats the pair.
func TestAReplayIsFoundWhateverTheQuota(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long; make test and make soak have it")
	}
	for _, flaws := range [][]standin.Flaw{{standin.AlertReplay}, nil} {
		virtually(t, func(t *testing.T, n *memnet.Net) {
			a, s := observatory(t, n, standin.Options{Flaws: flaws}, nil)
			withoutPass(t, a)
			client := n.Client()
			t.Cleanup(client.CloseIdleConnections)
			r := rand.New(rand.NewSource(1)) //nolint:gosec // the same each time
			runs, found, throttled := 100, 0, 0
			if flaws == nil {
				runs = 10
			}
			for range runs {
				// Its other amount is one of an hour.
				time.Sleep(time.Hour + time.Duration(r.Intn(60_000))*time.Millisecond)
				for range 90 + r.Intn(30) { // of 120 a minute, by somebody else at this address
					res, err := client.Get(s.Base + "/v1/sky/calendar")
					require.NoError(t, err)
					require.NoError(t, res.Body.Close())
				}
				w, err := a.Sweeps.ProbeAgain(t.Context(), "stand-in", []sweep.CrossingKey{{Route: "POST /v1/alerts"}})
				require.NoError(t, err)
				a.Sweeps.Wait(w.ID)
				v, err := a.View.Crossing(t.Context(), "stand-in", "POST /v1/alerts", "")
				require.NoError(t, err)
				for _, p := range v.Probes {
					if !p.Probe.Is(credential.Family{}) || credential.Of(p.Probe).Way != check.Repeated {
						continue
					}
					require.NotNil(t, p.Fact)
					throttled += p.Fact.Repeats
					if p.Verdict.Kind == finding.Unprotected {
						found++
					} else if flaws != nil {
						t.Log(p.Verdict.Kind, p.Verdict.Reason)
					}
				}
			}
			if flaws == nil {
				assert.Zero(t, found, "a sound service")
				return
			}
			assert.Equal(t, runs, found)
			assert.Positive(t, throttled, "some pairs were throttled, or nothing is shown")
		})
	}
}

// One that is throttled each time is unproven by its name.
func TestAReplayThatIsLostIsNamed(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		a, _ := observatory(t, n, standin.Options{Flaws: []standin.Flaw{standin.AlertReplay}}, nil)
		dial := a.Workspace.Dial
		var mu sync.Mutex
		seen := map[string]bool{}
		url, end := n.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			signed := r.Header.Get("X-Relay-Signature")
			switch {
			case signed == "":
				w.WriteHeader(401)
			case seen[signed]: // the second of a pair
				w.Header().Set("Retry-After", "1")
				w.WriteHeader(429)
			}
			seen[signed] = true
		}))
		defer end()
		a.Workspace.Dial = dial
		now := a.Workspace.Declaration()
		d, _ := a.Workspace.Document()
		_, err := a.Workspace.Keep(t.Context(), strings.Replace(now.Text, d.TargetNamed("stand-in").Base, url,
			1), "another base",
			now.Revision)
		require.NoError(t, err)
		w, err := a.Sweeps.ProbeAgain(t.Context(), "stand-in", []sweep.CrossingKey{{Route: "POST /v1/alerts"}})
		require.NoError(t, err)
		a.Sweeps.Wait(w.ID)
		v, err := a.View.Crossing(t.Context(), "stand-in", "POST /v1/alerts", "")
		require.NoError(t, err)
		lost := 0
		for _, p := range v.Probes {
			if credential.Of(p.Probe).Way == check.Repeated && p.Fact != nil {
				lost++
				assert.Equal(t, finding.Unproven, p.Verdict.Kind)
				assert.Contains(t, p.Verdict.Reason, "the pair was throttled (429) each of")
			}
		}
		assert.Equal(t, 1, lost)
	})
}

// A quota that is full when its drill begins is waited for; what an earlier sweep
// measured is shown beside it and is no verdict of this one.
func TestADrillOfAFullQuota(t *testing.T) {
	for _, c := range []struct {
		name string
		flaw []standin.Flaw
		fill int // how often the login was called before
		kind finding.Kind
		says string
		wait time.Duration
	}{
		{"room", nil, 0, finding.Agrees, "refused within what login allows", 0},
		{"full for five minutes", nil, 8, finding.Agrees, "refused within what login allows", 290 * time.Second},
		{"full for a day", nil, 104, finding.Unproven, "full before the drill began", 0},
		{"full for a day, and stepped around before", []standin.Flaw{standin.WrittenByCaller}, 104, finding.Unthrottled,
			"one with X-Forwarded-For was answered 401", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			virtually(t, func(t *testing.T, n *memnet.Net) {
				a, s := observatory(t, n, standin.Options{Flaws: c.flaw}, nil)
				client := n.Client()
				t.Cleanup(client.CloseIdleConnections)
				d, _ := a.Workspace.Document()
				pl := check.NewPlan(d, d.TargetNamed("stand-in"), a.Targets.Families)
				k := slices.IndexFunc(pl.Probes, func(p *check.Probe) bool {
					return p.Is(quotas.Family{}) &&
						p.Of == "login"
				})
				route := pl.Probes[k].Route
				again := func() view.ProbeView {
					w, err := a.Sweeps.ProbeAgain(t.Context(), "stand-in",
						[]sweep.CrossingKey{{Route: route, Caller: check.QuotaColumn + "login"}})
					require.NoError(t, err)
					a.Sweeps.Wait(w.ID)
					v, err := a.View.Crossing(t.Context(), "stand-in", route, "counted:address")
					require.NoError(t, err)
					for _, p := range v.Probes {
						if p.Probe.Of == "login" {
							return p
						}
					}
					t.Fatal("no drill of the login")
					return view.ProbeView{}
				}
				require.Equal(t, c.flaw == nil, again().Verdict.Kind == finding.Agrees)
				time.Sleep(25 * time.Hour)
				for k := range c.fill {
					if k > 0 && k%8 == 0 {
						time.Sleep(6 * time.Minute)
					}
					res, err := client.Post(s.IssuerURL+"/v1/session", "application/json",
						strings.NewReader(`{"username":"imre","password":"x"}`))
					require.NoError(t, err)
					require.NoError(t, res.Body.Close())
				}
				begun := time.Now()
				p := again()
				assert.Equal(t, c.kind, p.Verdict.Kind, p.Verdict.Reason)
				assert.Contains(t, p.Verdict.Reason, c.says)
				assert.GreaterOrEqual(t, time.Since(begun), c.wait)
				if c.kind == finding.Unproven {
					assert.False(t, p.Quota.Earlier.IsZero(), "shown with its date")
					assert.NotEmpty(t, p.Quota.Measured.Calls)
				}
			})
		})
	}
}
