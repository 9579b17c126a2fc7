package coverage

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The docs name everything that no sweep looks at.
func TestWhatIsNeverLookedAtIsDocumented(t *testing.T) {
	b, err := os.ReadFile("../../docs/verdicts.md")
	require.NoError(t, err)
	_, text, _ := strings.Cut(string(b), "## What is never looked at")
	text = strings.Join(strings.Fields(text), " ")
	for _, what := range Outside {
		word, _, _ := strings.Cut(what, " (")
		assert.Contains(t, text, strings.TrimSuffix(word, "es"))
	}
}
