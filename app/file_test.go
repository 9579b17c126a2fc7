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
