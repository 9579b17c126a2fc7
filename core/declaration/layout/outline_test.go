package layout

import (
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOutline(t *testing.T) {
	b, err := os.ReadFile("../testdata/things.gate.yaml")
	require.NoError(t, err)
	got := Outline(string(b))
	at := func(name string) int {
		i := slices.IndexFunc(got, func(h Heading) bool { return h.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return got[i].Line
	}
	assert.Equal(t, 11, at("roles"))
	assert.Equal(t, 13, at("writer"))
	assert.Equal(t, 22, at("bob"))
	assert.Equal(t, 28, at("GET /things/{id}"))
	assert.Equal(t, 26, got[slices.IndexFunc(got, func(h Heading) bool {
		return h.Name == "access" &&
			h.Depth == 0
	})].Line)
}
