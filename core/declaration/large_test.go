package declaration

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is larger than anybody writes is refused where reading it would take minutes, and read
// where it does not.
func TestLargeDeclarations(t *testing.T) {
	var b strings.Builder
	b.WriteString("millgate: 1\nroutes: [GET /a]\n")
	for i := range 100_000 {
		fmt.Fprintf(&b, "word%d: 1\n", i)
	}
	_, msgs := Parse("x", []byte(b.String()), nil)
	require.Len(t, msgs, 1)
	assert.Equal(t, "x:10001:1: error: a mapping has more than 10000 entries here; split the file: include reads others "+
		"beside it", msgs[0].String())

	b.Reset()
	b.WriteString("millgate: 1\nroutes:\n")
	for i := range mostEntries + 1 {
		fmt.Fprintf(&b, "  - at: GET /a%d\n    effect: read\n", i)
	}
	assert.Zero(t, wide(b.String()), "each item of a list has a mapping of its own")

	b.Reset()
	b.WriteString("millgate: 1\nroutes:\n")
	for i := range 3000 {
		fmt.Fprintf(&b, "  - GET /v1/c%d/{id}/x%d\n", i%60, i)
	}
	b.WriteString("roles: { r: }\naccess:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "  - { at: \"GET /v1/c%d/{any}/x%d\", who: r }\n  - { at: \"/v1/c%d/**\", who: r }\n",
			i%60, i, i%60)
	}
	d, msgs := Parse("x", []byte(b.String()), nil)
	assert.False(t, Failed(msgs), "%v", msgs)
	assert.Len(t, d.Routes, 3000)
}
