package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/fault"
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
	require.ErrorIs(t, r.take(), fault.ErrInput)
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
