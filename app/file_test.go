package app

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReplaceFile(t *testing.T) {
	dir := t.TempDir()
	at := filepath.Join(dir, "a.gate.yaml")
	require.NoError(t, ReplaceFile(filepath.Join(dir, "new", "b.yaml"), "b"), "with its folder")
	require.NoError(t, os.WriteFile(at, []byte("old"), 0o600))
	require.NoError(t, os.Symlink(at, filepath.Join(dir, "link")))
	require.NoError(t, ReplaceFile(filepath.Join(dir, "link"), "new"))
	text, err := os.ReadFile(at)
	require.NoError(t, err)
	assert.Equal(t, "new", string(text), "what the link leads to")
	info, err := os.Lstat(filepath.Join(dir, "link"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink, "the link stays")
	info, err = os.Stat(at)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "its mode is never widened")

	r, err := replacing(at, "newer")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at, []byte("somebody else's"), 0o600))
	require.ErrorIs(t, r.take(), ErrInput)
	r.drop()
	text, _ = os.ReadFile(at)
	assert.Equal(t, "somebody else's", string(text))
	assert.Empty(t, beside(t, dir))
	assert.ErrorContains(t, ReplaceFile(filepath.Join(at, "x"), ""), "cannot be written")
}

// beside are the files that were to take another's place and are still there.
func beside(t *testing.T, dir string) []string {
	list, err := filepath.Glob(filepath.Join(dir, ".gate-*"))
	require.NoError(t, err)
	return list
}

// A text that cannot be kept changes neither the file nor what is known.
func TestAKeepThatFailsChangesNothing(t *testing.T) {
	a := openText(t, "millgate: 1\ntitle: Before\n", t.TempDir())
	before := a.Workspace.Declaration()
	where, name := a.Workspace.where()
	stopped, stop := context.WithCancel(t.Context())
	stop() // the store takes nothing any more
	_, err := a.Workspace.Keep(stopped, "millgate: 1\ntitle: After\n", "", before.Revision)
	require.Error(t, err)
	text, err := os.ReadFile(filepath.Join(where, name))
	require.NoError(t, err)
	assert.Equal(t, before.Text, string(text))
	assert.Equal(t, before.Text, a.Workspace.Declaration().Text)
	assert.Equal(t, before.Revision, a.Workspace.Declaration().Revision)
	assert.Empty(t, beside(t, where))
	after, err := a.Workspace.Keep(t.Context(), "millgate: 1\ntitle: After\n", "", before.Revision)
	require.NoError(t, err)
	text, err = os.ReadFile(filepath.Join(where, name))
	require.NoError(t, err)
	assert.Equal(t, after.Text, string(text))
	list, err := a.Workspace.Revisions(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 2)
}
