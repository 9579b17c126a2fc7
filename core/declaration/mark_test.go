package declaration

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheMarkOfATarget(t *testing.T) {
	for _, c := range []struct{ version, words, says string }{
		{"1.1", "mark: X-Log", ""},
		{"1", "mark: X-Log", "`mark` of a target came with version 1.1"},
		{"1.1", "mark: X Log", `"X Log" is no header field`},
		{"1.1", "mark: Authorization", "Authorization has a meaning of its own"},
		{"1.1", "mark: Traceparent", "Traceparent has a meaning of its own"},
		{"1.1", "mark: x-log, headers: { X-Log: a }", `target "t" sends x-log with a value of its own`},
		{"1.1", "mark: X-Log, pass: { header: x-log, value: env:P }", `target "t" sends X-Log with a value of its own`},
		{"1.1", "headers: { X-Log: a }", ""},
	} {
		text := "millgate: " + c.version + "\ntargets: { t: { base: \"http://h\", " + c.words + " } }\n"
		_, msgs := Parse("x", []byte(text), nil)
		if c.says == "" {
			require.False(t, Failed(msgs), "%v", msgs)
			continue
		}
		require.True(t, Failed(msgs), text)
		assert.Contains(t, msgs[0].Text, c.says)
		assert.NotEmpty(t, msgs[0].Hint)
	}
}
