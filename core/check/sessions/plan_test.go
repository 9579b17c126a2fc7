package sessions

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/testkit/play"
)

// crossings are the callers at routes, as a plan has them: a safe request for those whose
// credential opens something.
type crossings struct {
	play.Crossings
	classes []access.Class
	works   map[string]string // by identity and scheme, a path
}

func (c crossings) Works(identity, scheme string) (check.Sample, bool) {
	p, ok := c.works[identity+" "+scheme]
	return check.Sample{Request: check.Request{Method: "GET", Path: p}}, ok
}

func (c crossings) Classes() []access.Class { return c.classes }

const planned = `millgate: 1
targets:
  all: { base: "http://h", unsafe: allowed }
  safe: { base: "http://h" }
routes: [POST /in, GET /a, POST /out]
schemes:
  s:
    kind: bearer
    login: { send: POST /in, json: { u: "{u}" }, take: { access: /t, refresh: /r } }
    refresh: { send: POST /again, json: { r: "{refresh}" }, take: { access: /t, refresh: /r } }
    logout: { send: POST /out, json: { r: "{refresh}" } }
  bare: { kind: bearer, login: { send: POST /in, json: { u: "{u}" }, take: { access: /t } } }
  key: { kind: api-key, in: header, name: X-Key }
identities:
  ann: { credentials: { s: { u: ann }, bare: { u: ann }, key: { key: kept:K } } }
  bob: { credentials: { s: { u: bob } } }
  cat: { credentials: { s: { u: cat } } }
lifetimes: { l: { max: 1h } }
access: [{ at: GET /a, who: signed-in }%s]
`

func plan(t *testing.T, target, more string, works map[string]string) (*check.Planning, *check.Context) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(planned[:len(planned)-len("%s]\n")]+more+"]\n"), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c := &check.Context{Doc: d, Target: d.TargetNamed(target)}
	p := check.NewPlanning(crossings{classes: []access.Class{{Members: []int{0, 1}}, {Members: []int{2}}},
		works: works})
	Family{}.Plan(c, p)
	return p, c
}

func TestWhoIsDrilled(t *testing.T) {
	p, c := plan(t, "all", "", map[string]string{"ann s": "/a"})
	require.Len(t, p.Probes, 2, "one of each class, with each scheme that has something after its login")
	assert.Equal(t, "session|POST /in|ann|s|sound||ended before", p.Probes[1].Key())
	assert.Equal(t, check.LastPhase, p.Probes[1].Phase)
	x := p.Probes[0]
	assert.Equal(t, "session|POST /in|ann|s|sound||", x.Key())
	assert.Equal(t, check.ThenFollowing, x.Phase)
	assert.Equal(t, []string{"bob"}, x.StandsFor)
	assert.False(t, x.Unsafe, "it ends only what was begun for it")
	assert.Equal(t, Detail{Use: check.Request{Method: "GET", Path: "/a"}}, x.Detail)
	require.Len(t, p.Left, 1)
	assert.Equal(t, "cat", p.Left[0].Caller)
	assert.Contains(t, p.Left[0].Why, "no safe route admits it")
	assert.False(t, p.Left[0].ByTarget)
	cell, says := Family{}.Cell(x)
	assert.Equal(t, check.Cell{Route: "POST /in", Lens: check.Access, Key: "ann"}, cell)
	assert.Equal(t, "session drill", says)
	assert.Equal(t, requests, Family{}.Cost(c, x).Requests)
}

func TestTheNeighbourIsOnlyNeededBehindAGuard(t *testing.T) {
	p, _ := plan(t, "all", ", { at: POST /out, who: signed-in }", map[string]string{"ann s": "/a", "cat s": "/a"})
	require.Len(t, p.Probes, 4, "and what they ended")
	assert.Equal(t, "bob", p.Probes[0].Detail.(Detail).Neighbour)
	assert.Equal(t, "ann", p.Probes[2].Detail.(Detail).Neighbour)
}

func TestATargetThatAllowsNothingUnsafe(t *testing.T) {
	p, _ := plan(t, "safe", "", map[string]string{"ann s": "/a"})
	assert.Empty(t, p.Probes)
	require.Len(t, p.Left, 1, "it is said once for a scheme")
	assert.True(t, p.Left[0].ByTarget)
	assert.Equal(t, "POST /in", p.Left[0].Route)
}
