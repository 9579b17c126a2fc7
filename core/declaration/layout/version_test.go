package layout

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

// A version is raised where it stands, and everything else stays as it is.
func TestRaise(t *testing.T) {
	for text, want := range map[string]string{
		"millgate: 1\nroutes: [GET /a]\n":        "millgate: 1.1\nroutes: [GET /a]\n",
		"# head\nmillgate: 1  # one\n":           "# head\nmillgate: 1.1  # one\n",
		"title: x\nmillgate: \"1\" \ntargets:\n": "title: x\nmillgate: 1.1 \ntargets:\n",
		"\ufeffmillgate: 1\n":                    "\ufeffmillgate: 1.1\n",
		"millgate: 1.1\n":                        "millgate: 1.1\n",
	} {
		out, raised, err := Raise(text, declaration.V11)
		require.NoError(t, err)
		assert.Equal(t, want, out)
		assert.Equal(t, text != want, raised)
	}
	for _, text := range []string{"title: x\n", "millgate:\n", ""} {
		out, raised, err := Raise(text, declaration.V11)
		assert.ErrorContains(t, err, "begin it with  millgate: 1.1")
		assert.Equal(t, []any{text, false}, []any{out, raised})
	}
}
