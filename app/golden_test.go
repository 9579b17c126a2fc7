package app

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"millgate/core/check/families"

	"millgate/core/finding"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// measuredNumber is a number that a drill measured: it may differ from run to run.
var measuredNumber = regexp.MustCompile(`\b\d+(\.\d+)?( calls|ms|µs| ms| s\b|s\b)`)

// golden holds findings against the file that was kept of them: their ids, causes and
// words change only where somebody means them to. MILLGATE_GOLDEN=write keeps them anew.
func golden(t *testing.T, name string, findings []finding.Finding) {
	t.Helper()
	var b strings.Builder
	for _, f := range findings {
		_, known := families.Causes.Row(f.Kind, f.Cause)
		assert.True(t, known, "no row says what %s %q is", f.Kind, f.Cause)
		fmt.Fprintf(&b, "%s %s %s %s, rung %d\ncause: %s\nroute: %s\n", f.ID, f.Kind, f.Severity, f.Confidence, f.Rung,
			f.Cause, f.Where())
		fmt.Fprintf(&b, "callers: %s\n", strings.Join(f.Callers, ", "))
		if len(f.Inferred) > 0 {
			fmt.Fprintf(&b, "inferred: %s\n", strings.Join(f.Inferred, ", "))
		}
		fmt.Fprintf(&b, "%s\n%s\n%s\n%s, CWE-%d\n\n", f.Title, measuredNumber.ReplaceAllString(f.Reason, "#$2"),
			f.Advice, f.OWASP, f.CWE)
	}
	if b.Len() == 0 {
		b.WriteString("no findings\n")
	}
	file := filepath.Join("testdata", "findings", strings.Map(func(r rune) rune {
		if strings.ContainsRune(" /'\",:", r) {
			return '-'
		}
		return r
	}, name)+".txt")
	if os.Getenv("MILLGATE_GOLDEN") == "write" {
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
		return
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err, "MILLGATE_GOLDEN=write keeps what is found now")
	assert.Equal(t, string(want), b.String(), "%s differs: where that is meant, write it anew with "+
		"MILLGATE_GOLDEN=write", file)
}
