package app

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/sweep"
	"millgate/store"
)

// A database that an earlier version made opens: every finding keeps its id, of the
// sweeps of then and by what they saw. It was made by the version before marks, issued
// tokens as they were seen, and retention.
func TestADatabaseOfBefore(t *testing.T) {
	data := t.TempDir()
	in, err := os.Open(filepath.Join("testdata", "before", "millgate.db.gz"))
	require.NoError(t, err)
	defer in.Close() //nolint:errcheck // it was only read
	z, err := gzip.NewReader(in)
	require.NoError(t, err)
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(data, "millgate.db"), b, 0o600))
	text, err := os.ReadFile(filepath.Join("testdata", "before", "x.gate.yaml"))
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, text, 0o600))

	a, err := Open(t.Context(), data, file)
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	want := map[string]string{"mg-916411623a": "U GET /open", "mg-8c76d47a58": "P GET /t/{id}",
		"mg-e1ad2b52b9": "L GET /t/{id}", "mg-cd3fc3cf02": "R everything behind access"}
	now, err := found(t, a, "t")
	require.NoError(t, err)
	got := map[string]string{}
	for _, f := range now {
		got[f.ID] = string(f.Kind) + " " + f.Where()
	}
	assert.Equal(t, want, got, "judged now, by what was seen then")
	runs, err := a.Sweeps.List(t.Context(), 0, 100)
	require.NoError(t, err)
	require.Len(t, runs, 2)
	for _, r := range runs {
		assert.Equal(t, store.Done, r.State)
		assert.False(t, r.Pruned)
		require.NotNil(t, r.Counts, "it is a column now")
		assert.Len(t, r.Counts.Findings, 4)
		_, res, err := a.Sweeps.Result(t.Context(), r.ID)
		require.NoError(t, err)
		then := map[string]string{}
		for _, f := range res.Findings {
			then[f.ID] = string(f.Kind) + " " + f.Where()
		}
		assert.Equal(t, want, then, "as they were told then")
	}
	x, err := a.View.Crossing(t.Context(), "t", "GET /t/{id}", "ann")
	require.NoError(t, err)
	require.NotEmpty(t, x.History)
	for _, h := range x.History {
		assert.NotZero(t, h.Status, "so is what was answered")
	}
	answered := ""
	for _, p := range x.Probes { // what families ask that came since was not sent then
		if p.Fact != nil {
			answered += p.Fact.Exchange.Content
		}
	}
	assert.Contains(t, answered, "····", "masked as it was then")
	a.Sweeps.Retention = sweep.Retention{Sweeps: 1}
	done, err := a.Sweeps.Prune(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, done.Sweeps)
	again, err := found(t, a, "t")
	require.NoError(t, err)
	assert.Equal(t, now, again)
}
