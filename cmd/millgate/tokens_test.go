package main

import (
	"crypto/rand"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/token"
)

func TestTokensCommand(t *testing.T) {
	dir := t.TempDir()
	k, err := token.ReadSigningKey([]byte("under the ridge"), []string{"HS256"})
	require.NoError(t, err)
	s, err := k.Mint(rand.Reader, "JWT", map[string]any{"sub": "imre", "roles": []string{"director"}})
	require.NoError(t, err)
	file, words := filepath.Join(dir, "tokens"), filepath.Join(dir, "words")
	require.NoError(t, os.WriteFile(file, []byte(s+"\n"+s+"\n"), 0o600))
	require.NoError(t, os.WriteFile(words, []byte("one\nunder the ridge\ntwo\n"), 0o600))

	code, out, _ := run(t, "tokens", file, "--gate", example(t, "none"))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "2 tokens, 1 different, 0 of them sound, 1 without an end")
	assert.Contains(t, out, "[role-beyond]")
	assert.Contains(t, out, "of them not granted to its holder")
	assert.NotContains(t, out, s)

	code, out, _ = run(t, "tokens", file, "--words", words, "--format", "json", "--fail-on", "critical")
	assert.Equal(t, 1, code)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, lines, 3, "a line for each token, and the whole")
	for i, want := range []string{`^\{"type":"token","line":1,.*"outcome":"cannot tell".*"exp-missing"`,
		`^\{"type":"token","line":2,.*"again":true`, `^\{"type":"summary","tokens":2,"distinct":1`} {
		assert.Regexp(t, want, lines[i])
	}
	var r token.Audited
	require.NoError(t, json.Unmarshal([]byte(lines[2]), &r))
	assert.Equal(t, "secret-guessed", r.Tallies[0].ID)
	assert.Contains(t, r.Tallies[0].Text, "under the ridge")

	for want, args := range map[string][]string{
		"no such file":     {"tokens", filepath.Join(dir, "nowhere")},
		"needs --gate":     {"tokens", file, "--target", "x"},
		"low, medium":      {"tokens", file, "--fail-on", "dreadful"},
		"text or json":     {"tokens", file, "--format", "xml"},
		"no target":        {"tokens", file, "--gate", example(t, "none"), "--target", "nowhere"},
		"nothing to guess": {"tokens", words, "--words", words},
	} {
		code, _, errs := run(t, args...)
		assert.Equal(t, 2, code, want)
		assert.Contains(t, errs, want)
	}
}

// A file without a token was not checked, whatever else is in it.
func TestAFileWithoutATokenSaysSo(t *testing.T) {
	for name, text := range map[string]string{"empty": "", "words": "no token in here\n"} {
		file := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		code, out, errs := run(t, "tokens", file)
		assert.Equal(t, 2, code, name)
		assert.Empty(t, out)
		assert.Contains(t, errs, "holds no token: nothing was checked")
	}
}
