package access

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

func TestExplain(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
routes: [GET /notes, "GET /notes/{note_id}", "PUT id:/notes/{note_id}/tags/{tag}"]
roles: { reader: }
schemes: { b: { kind: basic } }
identities:
  ann: { roles: reader, credentials: { b: { username: ann, password: env:A } } }
  bob: { credentials: { b: { username: bob, password: env:B } } }
targets: { t: { base: "http://h", hosts: { id: "http://i" } } }
records: { note: { fills: note_id, owned_by: { ann: [n-1, n-3], bob: [n-2, n-3] } } }
access:
  - { at: GET /notes, who: reader }
  - { at: "GET /notes/{id}", who: [owner, reader], hide: true }
  - { at: "PUT id:/notes/{note_id}/tags/{tag}", who: owner, owner_of: note, hide: true }
`), nil)
	require.False(t, declaration.Failed(msgs), "%v", msgs)
	for _, c := range []struct {
		at, caller, record string
		broken             bool
		outcome            Outcome
		decider            int
		whose              string
	}{
		{"GET /notes", "bob", "", false, Forbid, 4, ""},
		{"GET /notes", "nobody", "", false, Refuse, 2, ""},
		{"GET /notes", "ann", "", true, Refuse, 3, ""},
		{"get  /notes/{id}", "bob", "", false, Admit, 0, ""},
		{"GET /notes/{note_id}", "bob", "n-1", false, Hide, 6, "the note n-1 is ann's"},
		{"GET /notes/n-2", "bob", "", false, Admit, 0, "the note n-2 is bob's"},
		{"GET /notes/n-2", "ann", "", false, Admit, 0, "the note n-2 is bob's"},
		{"GET /notes/n-3", "bob", "", false, Admit, 0, "the note n-3 is bob's"},
		{"GET /notes/n-9", "bob", "", false, Hide, 6, "nobody whom the declaration names owns the note n-9"},
		{"PUT id:/notes/n-1/tags/x", "ann", "", false, Admit, 0, "the note n-1 is ann's"},
		{"PUT id:/notes/n-1/tags/n-2", "bob", "", false, Hide, 6, "the note n-1 is ann's"},
	} {
		x, err := Explain(d, c.at, c.caller, c.record, c.broken)
		require.NoError(t, err, c.at)
		assert.Equal(t, c.outcome, x.Outcome, "%s as %s", c.at, c.caller)
		assert.Equal(t, c.decider, x.Decider, "%s as %s", c.at, c.caller)
		assert.Equal(t, c.whose, x.Whose)
		assert.Len(t, x.Ladder, 7)
	}
	for _, c := range [][4]string{
		{"GET /notess", "ann", "", "did you mean GET /notes?"},
		{"DELETE /notes", "ann", "", "the inventory has no route DELETE /notes"},
		{"", "ann", "", "the inventory has no route"},
		{"GET /notes", "anna", "", `did you mean "ann"?`},
		{"GET /notes", "ann", "n-1", "is about no record"},
	} {
		_, err := Explain(d, c[0], c[1], c[2], false)
		assert.ErrorContains(t, err, c[3], c)
	}
}
