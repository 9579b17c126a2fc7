package room

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/examples"
	"millgate/format/openapi"
)

func TestASweepKeepsInsideTheQuotas(t *testing.T) {
	text, err := examples.Fernhollow.ReadFile("fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	read := func(name string) ([]byte, error) { return examples.Fernhollow.ReadFile("fernhollow/" + name) }
	d, _ := declaration.ParseFiles("x", text, declaration.Files{Text: read,
		Routes: func(ref string) ([]declaration.Imported,
			[]error) {
			b, err := read(ref)
			require.NoError(t, err)
			return openapi.Read(b, read)
		}})
	now := time.Now()
	assert.Nil(t, New(d, d.TargetNamed("stand-in"), now), "the target has a pass")
	r := New(d, d.TargetNamed("staging"), now)
	require.NotNil(t, r)
	p := &check.Probe{ID: check.ID{Route: "GET /v1/proposals", Caller: check.Caller{Identity: "imre"}}}
	for range 120 {
		w, _ := r.Wait(r.Of(p), now)
		require.Zero(t, w)
	}
	w, by := r.Wait(r.Of(p), now.Add(20*time.Second))
	assert.Equal(t, "general", by.Quota)
	assert.Equal(t, 40*time.Second, w.Round(time.Second))
	other := *p
	other.Caller.Identity = "tove"
	w, _ = r.Wait(r.Of(&other), now.Add(20*time.Second))
	assert.Zero(t, w, "she is counted by herself")
	w, _ = r.Wait(r.Of(p), now.Add(61*time.Second))
	assert.Zero(t, w)
	free := &check.Probe{ID: check.ID{Route: "GET /healthz"}}
	for range 1000 {
		w, _ = r.Wait(r.Of(free), now)
		require.Zero(t, w)
	}
}
