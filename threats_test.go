package millgate_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each claim of the threat model names the tests that hold it, and they are there.
func TestEachClaimOfTheThreatModelNamesItsTest(t *testing.T) {
	doc, err := os.ReadFile("docs/threat-model.md")
	require.NoError(t, err)
	have := testNames(t)
	claims := 0
	for _, line := range strings.Split(string(doc), "\n") {
		if !strings.HasPrefix(line, "| **") {
			continue
		}
		claims++
		cells := strings.Split(strings.Trim(line, "| "), " | ")
		require.Len(t, cells, 3, line)
		for _, name := range strings.Split(cells[2], ", ") {
			assert.True(t, have[name], "%s: no test is named %s", cells[0], name)
		}
	}
	assert.Greater(t, claims, 10)
}
