package declaration

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestShorterLifetimes(t *testing.T) {
	text := func(version, lives string) string {
		return "millgate: " + version + "\nlifetimes: { l: { max: 1h, idle: 30m } }\n" +
			"targets: { a: { base: \"http://a\", drill: { lifetimes: " + lives + " } } }\n"
	}
	d, msgs := Parse("x", []byte(text("1.1", "{ l: { idle: 2s } }")), nil)
	require.Empty(t, msgs)
	on, shorter := d.Targets[0].Lifetime(d.Lifetimes[0])
	assert.True(t, shorter)
	assert.Equal(t, []time.Duration{2 * time.Second, time.Hour}, []time.Duration{on.Idle, on.Max})
	assert.Equal(t, 30*time.Minute, d.Lifetimes[0].Idle, "what is declared stays")
	assert.Equal(t, DefaultDrill, d.Targets[0].Drill)
	for _, x := range []struct{ version, lives, says string }{
		{"1", "{ l: { idle: 2s } }", "`lifetimes` of a drill"},
		{"1.1", "{ l: { } }", `the shorter lifetime "l" has no time`},
		{"1.1", "{ m: { idle: 2s } }", `"m"`},
		{"1.1", "{ l: { idle: soon } }", "soon"},
		{"1.1", "{ l: { skew: 2s } }", "skew"},
	} {
		_, msgs := Parse("x", []byte(text(x.version, x.lives)), nil)
		require.True(t, Failed(msgs), x.lives)
		var said []string
		for _, m := range msgs {
			said = append(said, m.Text)
		}
		assert.Contains(t, strings.Join(said, "\n"), x.says)
	}
}

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
