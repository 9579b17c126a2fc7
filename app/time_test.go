package app

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/events"
	"millgate/core/declaration"
	"millgate/core/quota"
	"millgate/standin"
	"millgate/testkit/memnet"
)

// Rule: The planned time is the real one.

// rewrite changes the declaration of a workspace as another editor would.
func rewrite(t *testing.T, a *App, change func(string) string) {
	t.Helper()
	dir, name := a.Workspace.Where()
	at := filepath.Join(dir, name)
	b, err := os.ReadFile(at)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at, []byte(change(string(b))), 0o600))
	require.NoError(t, a.Workspace.Sync(t.Context()))
}

// limited is a villager behind the quotas that its declaration says.
func limited(d *declaration.Document) func(*villager, http.ResponseWriter, *http.Request) bool {
	gates := map[string]*quota.Gate{}
	began := time.Now()
	return func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		i := d.Inventory.Find(r.Method, "", r.URL.Path)
		if i < 0 {
			return false
		}
		v.mu.Lock()
		defer v.mu.Unlock()
		for _, k := range d.QuotasAt[i] {
			q := d.Quotas[k]
			key, ok := quota.KeyOf(q, quota.Caller{Address: "x", Identity: v.who(r)})
			if !ok {
				continue
			}
			g := gates[q.Name+key]
			if g == nil {
				g = quota.NewGate(quota.StackFor(d, q, ""))
				gates[q.Name+key] = g
			}
			if dec := g.Call(quota.Ticks(time.Since(began)), 1); !dec.OK {
				w.Header().Set("Retry-After",
					fmt.Sprint(int(quota.Span(dec.Retry-quota.Ticks(time.Since(began))).Seconds())+1))
				w.WriteHeader(http.StatusTooManyRequests)
				return true
			}
		}
		return false
	}
}

// The time that a plan says is within 30% of the time that its sweep takes, and a sweep that
// is counted takes no more than one and a half times what holds it up most: its slowest quota,
// its requests at the declared pace, its longest drill.
func TestTheTimeOfAPlanIsTrue(t *testing.T) {
	pass := regexp.MustCompile(`(?m)^ *pass: .*\n`)
	stand := func(pace string, counted bool) func(*testing.T, *memnet.Net) (*App, string) {
		return func(t *testing.T, n *memnet.Net) (*App, string) {
			flaws, err := standin.ParseFlaws("demo")
			require.NoError(t, err)
			a, _ := observatory(t, n, standin.Options{Flaws: flaws, Gateway: true, Quotas: true, Nodes: 3}, nil)
			rewrite(t, a, func(s string) string {
				s = strings.Replace(s, "pace: 100000 per 1s\n    drill: 200ms", "pace: "+pace, 1)
				if counted {
					s = pass.ReplaceAllString(s, "")
				}
				return s
			})
			return a, "stand-in"
		}
	}
	villages := func(pace, quotas string) func(*testing.T, *memnet.Net) (*App, string) {
		return func(t *testing.T, n *memnet.Net) (*App, string) {
			text := strings.Replace(village, "5000 per 1s", pace, 1) + quotas
			d, msgs := declaration.Parse("x", []byte(fmt.Sprintf(text, "http://h")), nil)
			require.False(t, declaration.Failed(msgs), "%v", msgs)
			base, end := n.Serve(&villager{count: map[string]int{}, twist: limited(d)})
			t.Cleanup(end)
			return openIn(t, n, fmt.Sprintf(text, base)), "t"
		}
	}
	for _, c := range []struct {
		name string
		open func(*testing.T, *memnet.Net) (*App, string)
		by   string // the quota that holds it up
	}{
		{"the demo", stand("400 per 1s", false), ""},
		{"the demo, slowly", stand("20 per 1s", false), ""},
		{"the demo without its pass", stand("400 per 1s", true), "general"},
		{"a village without quotas", villages("20 per 1s", ""), ""},
		{"a village with one quota", villages("100 per 1s", "quotas: { all: { at: /**, allow: 30 per 20s, "+
			"counted_by: everyone } }\n"), "all"},
		{"a village whose quotas overlap", villages("100 per 1s", "quotas:\n  a: { at: GET /a, allow: 5 per 30s, "+
			"counted_by: everyone }\n  b: { at: GET /b, allow: 5 per 30s, counted_by: everyone }\n"+
			"  login: { at: POST /login, allow: 1 per 20s, counted_by: address }\n"), "a"},
	} {
		t.Run(c.name, func(t *testing.T) {
			virtually(t, func(t *testing.T, n *memnet.Net) {
				a, target := c.open(t, n)
				waits, end := a.Events.Listen(events.Waiting)
				defer end()
				plan, err := a.Sweeps.Plan(target)
				require.NoError(t, err)
				r, err := a.Sweeps.Start(t.Context(), target, "")
				require.NoError(t, err)
				a.Sweeps.Wait(r.ID)
				run, _, err := a.Sweeps.Result(t.Context(), r.ID)
				require.NoError(t, err)
				real := run.EndedAt.Sub(run.StartedAt).Seconds()
				t.Logf("planned %.1f s (pace %.1f, quota %s %.1f, drills %.1f), took %.1f s", plan.Seconds,
					plan.PaceSeconds,
					plan.Quota, plan.QuotaSeconds, plan.DrillSeconds, real)
				assert.InEpsilon(t, real, plan.Seconds, 0.3)
				assert.LessOrEqual(t, real, 1.5*max(plan.PaceSeconds, plan.QuotaSeconds, plan.DrillSeconds))
				assert.Equal(t, c.by, plan.Quota)
				if c.by != "" {
					said := false
					for len(waits) > 0 {
						e := <-waits
						said = said || regexp.MustCompile(`^waiting [0-9.]+ s for quota `+c.by).MatchString(e.Text)
					}
					assert.True(t, said, "it says what it waits for")
				}
			})
		})
	}
}
