package layout

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

// A byte order mark in front of a text hides nothing.
func TestAByteOrderMark(t *testing.T) {
	const text = "\ufeffmillgate: 1.1\nroutes: [GET /a]\naccess:\n  - { at: GET /a, who: anyone }\n"
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs)
	require.Len(t, d.Routes, 1)
	out, err := Format(text)
	require.NoError(t, err)
	d, msgs = declaration.Parse("x", []byte(out), nil)
	require.Empty(t, msgs)
	assert.Len(t, d.Routes, 1)
	assert.Equal(t, "millgate", Outline(text)[0].Name)
	more, err := AddRoutes(text, []string{"GET /b"})
	require.NoError(t, err)
	assert.Equal(t, "\ufeff", more[:3])
	d, msgs = declaration.Parse("x", []byte(more), nil)
	require.Empty(t, msgs)
	assert.Len(t, d.Routes, 2)
	assert.NotContains(t, out, "\ufeff", "the canonical layout has none")
}
