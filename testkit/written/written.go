// Package written holds documents to the code that they are made from. With UPDATE_DOCS set they are
// written anew.
package written

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// File holds a whole document to a text.
func File(t *testing.T, file, want string) {
	t.Helper()
	if os.Getenv("UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(want), 0o644)) //nolint:gosec // a document is for everybody
	}
	have, err := os.ReadFile(file) //nolint:gosec // of this project
	require.NoError(t, err)
	if want != string(have) {
		t.Errorf("%s is not what the code says from %q on: run this test with UPDATE_DOCS=1", file,
			apart(want, string(have)))
	}
}

// Parts holds parts of a document to texts by their name: each stands between <!-- name --> and
// <!-- end of name -->.
func Parts(t *testing.T, file string, parts map[string]string) {
	t.Helper()
	have, err := os.ReadFile(file) //nolint:gosec // of this project
	require.NoError(t, err)
	want := string(have)
	for name, text := range parts {
		begin, end := "<!-- "+name+" -->\n", "<!-- end of "+name+" -->\n"
		i, j := strings.Index(want, begin), strings.Index(want, end)
		require.True(t, i >= 0 && j > i, "%s has no part called %s", file, name)
		want = want[:i] + begin + "\n" + text + "\n" + want[j:]
	}
	File(t, file, want)
}

// apart is the line at which two texts part.
func apart(want, have string) string {
	a, b := strings.Split(want, "\n"), strings.Split(have, "\n")
	for i := range a {
		if i >= len(b) || a[i] != b[i] {
			return a[i]
		}
	}
	return "its end"
}
