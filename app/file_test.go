package app

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A text that cannot be kept changes neither the file nor what is known.
func TestAKeepThatFailsChangesNothing(t *testing.T) {
	a := openText(t, "millgate: 1\ntitle: Before\n", t.TempDir())
	before := a.Workspace.Declaration()
	where, name := a.Workspace.Where()
	stopped, stop := context.WithCancel(t.Context())
	stop() // the store takes nothing any more
	_, err := a.Workspace.Keep(stopped, "millgate: 1\ntitle: After\n", "", before.Revision)
	require.Error(t, err)
	text, err := os.ReadFile(filepath.Join(where, name))
	require.NoError(t, err)
	assert.Equal(t, before.Text, string(text))
	assert.Equal(t, before.Text, a.Workspace.Declaration().Text)
	assert.Equal(t, before.Revision, a.Workspace.Declaration().Revision)
	assert.Empty(t, besideIt(t, where))
	after, err := a.Workspace.Keep(t.Context(), "millgate: 1\ntitle: After\n", "", before.Revision)
	require.NoError(t, err)
	text, err = os.ReadFile(filepath.Join(where, name))
	require.NoError(t, err)
	assert.Equal(t, after.Text, string(text))
	list, err := a.Workspace.Revisions(t.Context(), 0, 100)
	require.NoError(t, err)
	assert.Len(t, list, 2)
}

// besideIt are the files that were to take another's place and are still there.
func besideIt(t *testing.T, dir string) []string {
	list, err := filepath.Glob(filepath.Join(dir, ".gate-*"))
	require.NoError(t, err)
	return list
}

// A revision is read as it was, with what its descriptions refer to.
func TestRevisionsKeepWhatDescriptionsReferTo(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("x.gate.yaml", "millgate: 1\nroutes:\n  - from: api/all.yaml\n")
	write("api/all.yaml", "openapi: 3.1.0\ninfo: {title: x, version: '1'}\npaths:\n  /a: {$ref: paths/a.yaml}\n")
	write("api/paths/a.yaml", "get: {responses: {'200': {$ref: ../shared.yaml}}}\n")
	write("api/shared.yaml", "description: all\n")
	a, err := Open(t.Context(), "", filepath.Join(dir, "x.gate.yaml"))
	require.NoError(t, err)
	defer a.Close() //nolint:errcheck // it is only read
	_, msgs := a.Workspace.Document()
	require.Empty(t, msgs)
	source, err := a.Workspace.SourceOf(t.Context(), 1)
	require.NoError(t, err)
	assert.Len(t, source.Files, 3)
	write("api/paths/a.yaml", "delete: {responses: {'200': {description: other}}}\n")
	require.NoError(t, os.Remove(filepath.Join(dir, "api/shared.yaml")))
	rev, err := a.Workspace.AtRevision(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, rev.Doc.Routes, 1)
	assert.Equal(t, "GET /a", rev.Doc.Routes[0].Key())
	assert.Empty(t, rev.Messages)
}
