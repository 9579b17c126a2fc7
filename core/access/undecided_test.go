package access

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration/layout"
)

const open = `millgate: 1.1
routes: [GET /a, GET /b]
roles: { reader: }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities:
  ann: { roles: reader, credentials: { key: { key: env:A } } }
access:
  - { at: "/**", who: undecided }
`

// Who edits the board writes an entry of its own: what says that nobody has decided stays for the others, also where
// all of its routes are decided at once.
func TestWhatIsDecidedStandsBesideWhatIsNot(t *testing.T) {
	d := read(t, open)
	for _, c := range []struct {
		routes       []int
		who          []int
		want         string
		opens, shuts int
	}{
		{[]int{0}, []int{1}, "  - { at: \"/**\", who: undecided }\n  - { at: GET /a, who: reader }\n", 1, 1},
		{[]int{0, 1}, []int{0}, "who: undecided }\n  - { at: [GET /a, GET /b], who: anyone }\n", 4, 0},
	} {
		edits, notes, err := Edits(d, Change{Routes: c.routes, Columns: c.who, Action: Raise})
		require.NoError(t, err)
		assert.Empty(t, notes)
		text, err := layout.Apply(open, edits...)
		require.NoError(t, err)
		assert.Contains(t, text, c.want)
		diff := Compare(d, read(t, text))
		assert.Equal(t, []int{c.opens, c.shuts, 0, 0}, []int{diff.Opens, diff.Closes, diff.Other, diff.Undecided})
		back := Compare(read(t, text), d)
		assert.Equal(t, []int{0, 0, c.opens + c.shuts}, []int{back.Opens, back.Closes, back.Undecided})
		assert.Equal(t, Undecides, back.Changes[0].Turn)
	}
}
