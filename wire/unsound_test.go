package wire

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
)

// A credential that ended is renewed at 401, and at what is declared in its place.
func TestUnsound(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1.1\nroutes: [GET /a]\n"+
		"schemes: { s: { kind: basic, refuses: 403 }, plain: { kind: basic } }\n"+
		"access: [{ at: GET /a, who: anyone }]\n"), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	k := &Keyring{doc: d}
	for _, c := range []struct {
		scheme   string
		declared int
		want     string
	}{
		{"s", 0, "[401 403]"}, {"s", 410, "[401 410]"}, {"plain", 0, "[401]"}, {"plain", 404, "[401 404]"},
		{"none", 0, "[401]"},
	} {
		call := check.Call{As: []check.Present{{Caller: check.Caller{Scheme: c.scheme}}}, Unsound: c.declared}
		var says []int
		for _, status := range []int{0, 200, 401, 403, 404, 410} {
			if k.Unsound(call, status) {
				says = append(says, status)
			}
		}
		assert.Equal(t, c.want, fmt.Sprint(says), "%s %d", c.scheme, c.declared)
	}
}
