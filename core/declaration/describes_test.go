package declaration

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDescribes(t *testing.T) {
	text := func(version, who string) string {
		return "millgate: " + version + "\nroles: { boss: }\ntargets: { a: { base: \"http://a\", describes: " +
			"" + who + " } }\n"
	}
	d, msgs := Parse("x", []byte(text("1.1", "[boss, signed-in]")), nil)
	require.Empty(t, msgs)
	assert.Equal(t, []WhoKind{WhoRole, WhoSignedIn}, []WhoKind{d.Targets[0].Describes.Who[0].Kind,
		d.Targets[0].Describes.Who[1].Kind})
	for _, x := range []struct{ version, who, says string }{
		{"1", "nobody", "`describes` of a target"},
		{"1.1", "[]", "`describes` is empty"},
		{"1.1", "[boss, anyone]", "stand alone in `describes`"},
		{"1.1", "owner", "a description of the API is none"},
		{"1.1", "bos", `"bos"`},
		{"1.1", "identity:ann", `"ann"`},
	} {
		_, msgs := Parse("x", []byte(text(x.version, x.who)), nil)
		require.True(t, Failed(msgs), x.who)
		assert.Contains(t, msgs[0].Text, x.says)
		assert.Equal(t, 3, msgs[0].Line)
	}
}
