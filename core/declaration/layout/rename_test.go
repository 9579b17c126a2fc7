package layout

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

// A name is changed wherever it stands, also where `who` says on which records.
func TestRenameInAlternatives(t *testing.T) {
	const text = `millgate: 1.1
roles: { reader: }
schemes: { s: { kind: api-key, in: header, name: X-Key } }
identities: { ann: { roles: reader, in: { team: ann }, credentials: { s: { key: env:A } } } }
records: { thing: { fills: id, owned_by: { ann: [ann] }, groups: { reader: [t] } } }
routes: ["GET /a/{id}"]
access:
  - { at: "GET /a/{id}", who: [{ who: "identity:ann", on: own }, { who: reader, on: reader }] }
`
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs)
	out, err := Rename(text, d, "identity", "ann", "bea")
	require.NoError(t, err)
	assert.Contains(t, out, "identities: { bea: { roles: reader, in: { team: ann }")
	assert.Contains(t, out, "owned_by: { bea: [ann] }")
	assert.Contains(t, out, `{ who: "identity:bea", on: own }`)
	out, err = Rename(text, d, "role", "reader", "viewer")
	require.NoError(t, err)
	assert.Contains(t, out, "roles: { viewer: }")
	assert.Contains(t, out, "{ who: viewer, on: reader }", "a group is no role")
	formatted, err := Format(text)
	require.NoError(t, err)
	after, msgs := declaration.Parse("x", []byte(formatted), nil)
	require.Empty(t, msgs)
	assert.True(t, after.Entry(0).SaysTheSame(d.Entry(0)), formatted)
}
