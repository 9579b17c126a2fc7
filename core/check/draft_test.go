package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/declaration"
)

// Where groups count, records that nobody owns are known too, behind those that somebody owns.
func TestRecordsWithoutOwnersAreKnown(t *testing.T) {
	const text = `
millgate: 1.1
targets: { t: { base: "http://h" } }
routes: ["GET /things/{id}"]
schemes: { s: { kind: bearer } }
identities: { ann: { credentials: { s: { token: kept:A } } }, bob: { credentials: { s: { token: kept:B } } } }
records:
  thing: { fills: id, owned_by: { ann: [t-1, t-2] }, groups: { shown: [t-2, t-3], old: [t-4, t-1] } }
access: [{ at: "GET /things/{id}", who: [{ who: anyone, on: shown }, { who: signed-in, on: old }] }]
`
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs)
	x := NewDrafts(d, d.Targets[0], access.Classes(d))
	of := func(rel access.Relation) (out []string) {
		for _, r := range x.known(0, d.Records[0], x.OwnersOf(d.Records[0]), d.IdentityNamed("bob"), rel) {
			out = append(out, r.Owner+"/"+r.Value)
		}
		return out
	}
	assert.Equal(t, []string{"ann/t-2", "/t-3"}, of("shown"))
	assert.Equal(t, []string{"ann/t-1", "/t-4"}, of("old"))
	draft, why, ok := x.For(0, nil, "shown", false)
	require.True(t, ok, why)
	assert.Equal(t, "t-2", draft.Record.Value)
}
