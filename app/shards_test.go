package app

import (
	"bytes"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/planning"
	"millgate/app/shards"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/history"
	"millgate/core/route"
	"millgate/standin"
	"millgate/store"
	"millgate/testkit/memnet"
)

// runner sends a shard in a workspace of its own, and gives its file as it is written and read.
func runner(t *testing.T, a *App, target string, part planning.Part) *shards.File {
	t.Helper()
	run, err := a.Sweeps.StartPart(t.Context(), target, "", part)
	require.NoError(t, err)
	a.Sweeps.Wait(run.ID)
	f, err := a.Shards.Export(t.Context(), run.ID, part)
	require.NoError(t, err)
	return written(t, f)
}

// written is a file as merge reads it.
func written(t *testing.T, f *shards.File) *shards.File {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	path := filepath.Join(t.TempDir(), fmt.Sprintf("part%d.json", f.Shard.Number))
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	out, err := shards.Read(path)
	require.NoError(t, err)
	return out
}

// merged joins files in a workspace of its own.
func merged(t *testing.T, apart bool, files ...*shards.File) (*App, *events.Run, coverage.Result) {
	t.Helper()
	dir := t.TempDir()
	a, err := Open(t.Context(), dir, filepath.Join(dir, "none.gate.yaml"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	id, err := a.Shards.Merge(t.Context(), files, apart)
	require.NoError(t, err)
	run, res, err := a.Sweeps.Result(t.Context(), id)
	require.NoError(t, err)
	return a, run, res
}

// told is what of findings must be the same, however many runners saw them.
func told(list []finding.Finding) map[string]string {
	out := map[string]string{}
	for _, f := range list {
		out[f.ID] = fmt.Sprint(f.Kind, f.Severity, f.Confidence, f.Callers, f.Inferred, f.All(), f.Probes)
	}
	return out
}

func TestFiveShardsAreOneSweep(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long; make test and make soak have it")
	}
	virtually(t, func(t *testing.T, n *memnet.Net) {
		opt := standin.Options{Flaws: standin.Demo}
		a, _ := observatory(t, n, opt, nil)
		_, whole := swept(t, a)
		require.Greater(t, len(whole.Findings), 20)

		_, s := observatory(t, n, opt, nil)
		const of = 5
		files := make([]*shards.File, of)
		apps := make([]*App, of)
		for k := range apps {
			apps[k] = opened(t, s, nil, "")
			apps[k].Workspace.Dial = n.Dial
		}
		var wg sync.WaitGroup
		for k := range of - 1 { // beside each other
			wg.Go(func() {
				files[k] = runner(t, apps[k], "stand-in", planning.Part{Shard: planning.Shard{Number: k + 1, Of: of}})
			})
		}
		wg.Wait()
		files[of-1] = runner(t, apps[of-1], "stand-in", planning.Part{Shard: planning.Shard{Number: of, Of: of}})
		sent := map[string]int{}
		controls := map[string]bool{}
		plan := check.NewPlan(docOf(apps[0]), docOf(apps[0]).TargetNamed("stand-in"), apps[0].Targets.Families)
		for _, p := range plan.Probes {
			controls[p.Control] = true
		}
		for _, f := range files {
			assert.NotEmpty(t, f.Facts)
			for id := range f.Facts {
				if sent[id]++; !controls[id] {
					assert.Equal(t, 1, sent[id], "%s was sent by two", id)
				}
			}
		}
		slices.Reverse(files) // in whatever order they are named
		b, run, res := merged(t, false, files...)
		assert.Equal(t, store.Done, run.State, run.Note)
		assert.False(t, run.Partial)
		assert.Equal(t, told(whole.Findings), told(res.Findings))
		assert.Equal(t, whole.Figure, res.Figure, "coverage sums")
		assert.Equal(t, kindsOf(whole.Probed), kindsOf(res.Probed))
		assert.Equal(t, whole.Counts, res.Counts)
		assert.Empty(t, res.Doubts(run, coverage.DefaultMostUnproven))

		// It is kept as any sweep is: judged again from what was kept, it is the same.
		rev, err := b.Workspace.AtRevision(t.Context(), run.Revision)
		require.NoError(t, err)
		facts, _, err := b.Targets.Journal(t.Context(), run.ID)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(facts), len(plan.Probes))
		assert.Equal(t, docOf(apps[0]).Title, rev.Doc.Title)
	})
}

func docOf(a *App) *declaration.Document { d, _ := a.Workspace.Document(); return d }

func kindsOf(list map[string]history.Probed) map[string]finding.Kind {
	out := map[string]finding.Kind{}
	for id, p := range list {
		out[id] = p.Kind
	}
	return out
}

// inVillage sends the shards of a village's sweep one after the other.
func inVillage(t *testing.T, n *memnet.Net, base string, of int, between time.Duration,
	change ...string) (files []*shards.File) {
	t.Helper()
	for k := range of {
		text := strings.NewReplacer(change...).Replace(fmt.Sprintf(village, base))
		a := openIn(t, n, text)
		files = append(files, runner(t, a, "t", planning.Part{Shard: planning.Shard{Number: k + 1, Of: of}}))
		time.Sleep(between)
	}
	return files
}

func TestWhatRunnersSawIsHeldAgainstTheOthers(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}}
		base, end := n.Serve(v)
		defer end()
		files := inVillage(t, n, base, 2, time.Second)
		_, run, res := merged(t, false, files...)
		assert.Equal(t, store.Done, run.State)
		assert.Empty(t, res.Unproven)
		assert.Empty(t, res.Findings)

		// A control that one runner saw admitted and another turned away proves nothing.
		both := ""
		for id := range files[0].Facts {
			if files[1].Facts[id] != nil && strings.HasPrefix(id, "crossing|GET /") {
				both = max(both, id)
			}
		}
		require.NotEmpty(t, both, "some control went to both")
		v.twist = func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
			if "GET "+r.URL.Path == strings.Split(both, "|")[1] && r.Header.Get("Authorization") != "" {
				w.WriteHeader(http.StatusForbidden)
				return true
			}
			return false
		}
		again := inVillage(t, n, base, 2, time.Second)
		_, _, res = merged(t, false, files[0], again[1])
		assert.Equal(t, finding.Unproven, res.Probed[both].Kind)
		why := ""
		for _, u := range res.Unproven {
			why += u.Why + "\n"
		}
		assert.Contains(t, why, "shard 2/2 was answered otherwise than shard 1/2: forbidden, not admitted")
		for _, f := range res.Findings {
			assert.NotContains(t, f.Probes, both)
		}
	})
}

func TestADrillThatOthersMayHaveDisturbed(t *testing.T) {
	limited := []string{"routes: [", "quotas:\n  few: { at: /**, allow: 30 per 1m, counted_by: everyone }\nroutes: ["}
	virtually(t, func(t *testing.T, n *memnet.Net) {
		window, calls := time.Time{}, 0
		var mu sync.Mutex
		base, end := n.Serve(&villager{count: map[string]int{}, twist: func(_ *villager, w http.ResponseWriter,
			_ *http.Request) bool {
			mu.Lock()
			defer mu.Unlock()
			if time.Since(window) >= time.Minute {
				window, calls = time.Now(), 0
			}
			if calls++; calls <= 30 {
				return false
			}
			w.Header().Set("Retry-After", fmt.Sprint(int(time.Until(window.Add(time.Minute)).Seconds())+1))
			w.WriteHeader(http.StatusTooManyRequests)
			return true
		}})
		defer end()
		drilled := func(res coverage.Result) (unproven string, kinds []finding.Kind) {
			for id, p := range res.Probed {
				if strings.HasPrefix(id, "quota|") {
					kinds = append(kinds, p.Kind)
				}
			}
			for _, u := range res.Unproven {
				unproven += u.Why + "\n"
			}
			return unproven, kinds
		}
		files := inVillage(t, n, base, 2, 2*time.Minute, limited...)
		_, _, res := merged(t, false, files...)
		why, kinds := drilled(res)
		require.NotEmpty(t, kinds)
		assert.NotContains(t, kinds, finding.Unproven, why)
		assert.NotContains(t, why, "sent what quota few counts")

		near := *files[0]
		near.Sweep.EndedAt = files[1].Sweep.EndedAt.Add(-time.Second)
		_, _, res = merged(t, false, &near, files[1])
		why, kinds = drilled(res)
		assert.Equal(t, []finding.Kind{finding.Unproven}, slices.Compact(kinds))
		assert.Contains(t, why, "shard 1/2 sent what quota few counts while shard 2/2 drilled it, or less than its "+
			"window "+
			"before")
		_, _, res = merged(t, true, &near, files[1])
		_, kinds = drilled(res)
		assert.NotContains(t, kinds, finding.Unproven, "each had a service of its own")

		beside := *files[0]
		beside.Sweep.EndedAt = files[1].Sweep.EndedAt
		_, _, res = merged(t, false, &beside, files[1])
		assert.True(t, slices.ContainsFunc(res.Left, func(o check.Omission) bool {
			return strings.Contains(o.Why, "2/2 was sent while 1/2 was")
		}))
	})
}

func TestShardsThatDoNotBelongTogether(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		base, end := n.Serve(&villager{count: map[string]int{}})
		defer end()
		files := inVillage(t, n, base, 3, 0)
		dir := t.TempDir()
		a, err := Open(t.Context(), dir, filepath.Join(dir, "none.gate.yaml"))
		require.NoError(t, err)
		defer a.Close() //nolint:errcheck // it is only read
		changed := func(change func(f *shards.File)) *shards.File {
			f := *files[1]
			change(&f)
			return written(t, &f)
		}
		for says, list := range map[string][]*shards.File{
			"name the files":       nil,
			"both are 2/3":         {files[1], files[1]},
			"they are 1/3 and 2/4": {files[0], changed(func(f *shards.File) { f.Shard.Of = 4 })},
			"two declarations":     {files[0], changed(func(f *shards.File) { f.Declaration.Text += "# x\n" })},
			"two versions":         {files[0], changed(func(f *shards.File) { f.Plan = "0" })},
			"another version":      {changed(func(f *shards.File) { f.Plan = "0" })},
			"they are of t and u":  {files[0], changed(func(f *shards.File) { f.Sweep.Target = "u" })},
			"were not the same":    {files[0], changed(func(f *shards.File) { f.Kinds = []string{"crossing"} })},
			"cannot be read: ": {changed(func(f *shards.File) {
				f.Facts = maps.Clone(f.Facts)
				f.Facts["x"] = []byte(`7`)
			})},
			"must begin with /":   {changed(func(f *shards.File) { f.Only = []string{"y"} })},
			"cannot be read here": {changed(func(f *shards.File) { f.Declaration.Text = "millgate: 7\n" })},
		} {
			_, err := a.Shards.Merge(t.Context(), list, false)
			assert.ErrorContains(t, err, says)
		}

		// One that is missing, or was stopped, makes it a sweep that did not end.
		stopped := changed(func(f *shards.File) {
			f.Sweep.State, f.Sweep.Note = store.Stopped, "stopped after 3 of "+
				"9 probes"
		})
		_, run, res := merged(t, false, files[0], stopped)
		assert.Equal(t, store.Stopped, run.State)
		assert.Equal(t, "shard 2/3 is stopped: stopped after 3 of 9 probes; shard 3/3 is missing", run.Note)
		assert.Positive(t, res.Checked.Unsent)
		assert.Equal(t, coverage.Doubts, res.Code(run, 100, func(finding.Finding) bool { return false }))
	})
}

// Whoever runs a shard knows what it is: no sweep to compare with, and no whole one.
func TestAShardIsAPart(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		base, end := n.Serve(&villager{count: map[string]int{}})
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base))
		_, before := sweptAt(t, a, "t")
		at, err := route.Parse("/a")
		require.NoError(t, err)
		part := planning.Part{At: []route.Selector{at}, Shard: planning.Shard{Number: 1, Of: 1}}
		f := runner(t, a, "t", part)
		assert.Equal(t, []string{"/a"}, f.Only)
		runs, err := a.Sweeps.List(t.Context(), 0, 1)
		require.NoError(t, err)
		assert.Equal(t, "1/1", runs[0].Shard)
		assert.True(t, runs[0].Partial)
		k, err := a.Past.Of(t.Context(), "t")
		require.NoError(t, err)
		assert.Equal(t, before.Figure.Whole.Proven, k.Figure.Whole.Proven, "what is known of the rest stays")
		_, run, res := merged(t, false, f)
		assert.True(t, run.Partial, "only some routes were asked for")
		for id := range f.Facts {
			assert.Contains(t, res.Probed, id)
		}

		_, err = a.Sweeps.PlanPart("t", planning.Part{Shard: planning.Shard{Number: 1, Of: 1000}})
		assert.ErrorContains(t, err, "among")
		_, err = a.Shards.Export(t.Context(), runs[0].ID-1, part)
		assert.ErrorContains(t, err, "is not shard 1/1")
	})
}
