package planning

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/declaration"
)

const service = `millgate: 1.1
targets:
  t: { base: "http://t.example", unsafe: refused }
routes:
  - GET /things
  - POST /things
  - "GET /things/{thing_id}"
  - "DELETE /things/{thing_id}"
  - { at: POST /siren, effect: command }
  - { at: POST /login, effect: command }
roles: { staff: }
schemes:
  key: { kind: bearer, login: { send: POST /login, json: { user: "{user}" }, take: { access: /t } } }
identities:
  ann: { roles: staff, credentials: { key: { user: ann } } }
  bob: { credentials: { key: { user: bob } } }
records:
  thing:
    fills: thing_id
    owned_by: { ann: ["1"], bob: ["2"] }
    make: { send: POST /things, id: /id }
    remove: "DELETE /things/{id}"
access:
  - { at: /**, who: staff }
  - { at: POST /login, who: anyone }
`

// Under each policy what is sent is what it says, and under the middle one nothing that is there is touched.
func TestByPolicy(t *testing.T) {
	t.Parallel()
	d, msgs := declaration.Parse("t.gate.yaml", []byte(service), nil)
	require.False(t, declaration.Failed(msgs), "%v", msgs)
	list := ByPolicy(d, d.TargetNamed("t"), families.All)
	require.Len(t, list, 3)
	refused, made, allowed := list[0], list[1], list[2]
	assert.Equal(t, declaration.UnsafeRefused, d.TargetNamed("t").Unsafe, "the target stays as it is declared")
	assert.Zero(t, refused.Changing)
	assert.Empty(t, refused.Routes)
	assert.Zero(t, made.OnThere)
	assert.Positive(t, made.OnMade)
	assert.Positive(t, made.Begin)
	assert.Equal(t, made.OnMade, allowed.OnMade)
	require.NotEmpty(t, allowed.Routes)
	assert.Equal(t, "POST /siren", allowed.Routes[0].Route, "most of what is there comes first")
	for _, p := range list {
		as := *d.TargetNamed("t")
		as.Unsafe = p.Unsafe
		pl := check.NewPlan(d, &as, families.All)
		assert.Equal(t, pl.Unsafe(), p.OnMade+p.Begin+p.OnThere, p.Unsafe)
		var sum Changing
		for _, r := range p.Routes {
			sum.OnMade, sum.Begin, sum.OnThere = sum.OnMade+r.OnMade, sum.Begin+r.Begin, sum.OnThere+r.OnThere
		}
		assert.Equal(t, p.Changing, sum, p.Unsafe)
	}
}
