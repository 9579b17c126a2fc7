package planning

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/check/families"
	"millgate/core/declaration"
	"millgate/examples"
	"millgate/format/openapi"
)

// observatory is the declaration that ships.
func observatory(t *testing.T) *declaration.Document {
	t.Helper()
	read := func(name string) ([]byte, error) { return examples.Fernhollow.ReadFile("fernhollow/" + name) }
	text, err := read("fernhollow.gate.yaml")
	require.NoError(t, err)
	d, msgs := declaration.ParseFiles("x", text, declaration.Files{Text: read,
		Routes: func(ref string) ([]declaration.Imported, []error) {
			b, err := read(ref)
			require.NoError(t, err)
			return openapi.Read(b, read)
		}})
	require.False(t, declaration.Failed(msgs))
	return d
}

// Every probe is somebody's, none but controls are of two, and what must be together is.
func TestShardsAreThePlan(t *testing.T) {
	d := observatory(t)
	target := d.TargetNamed("stand-in")
	for _, of := range []int{1, 2, 3, 5, 8} {
		whole := check.NewPlan(d, target, families.All)
		home, changed, requests := map[string]int{}, map[string]int{}, make([]int, of+1)
		controls := map[string]bool{}
		for _, p := range whole.Probes {
			controls[p.Control] = true
		}
		for k := 1; k <= of; k++ {
			pl := check.NewPlan(d, target, families.All)
			c, err := Part{Shard: Shard{Number: k, Of: of}}.Choose(d, target, pl)
			require.NoError(t, err)
			again, err := Part{Shard: Shard{Number: k, Of: of}}.Choose(d, target, check.NewPlan(d, target,
				families.All))
			require.NoError(t, err)
			require.Len(t, again.Probes, len(c.Probes))
			mine := map[string]bool{}
			for i, p := range c.Probes {
				mine[p.Key()] = true
				assert.Equal(t, p.Key(), again.Probes[i].Key(), "it is split the same way everywhere")
				assert.Empty(t, c.Left(p, 0), "%s is planned and not sent", p.Key())
				requests[k] += pl.Family(p).Cost(pl.Context, p).Requests
				if home[p.Key()] != 0 && (p.Unsafe || !controls[p.Key()]) {
					t.Errorf("%s is of %d and %d", p.Key(), home[p.Key()], k)
				}
				home[p.Key()] = k
				if p.Phase > check.ThenDeleting {
					assert.Equal(t, of, k, "%s disturbs others", p.Key())
				}
				if r := onRecord(p); r != "" && p.Unsafe {
					if changed[r] != 0 {
						assert.Equal(t, changed[r], k, "two may change %s", r)
					}
					changed[r] = k
				}
			}
			for _, p := range c.Probes {
				if p.Control != "" && pl.Find(p.Control) != nil {
					assert.True(t, mine[p.Control], "%s is sent without its control", p.Key())
				}
			}
		}
		assert.Len(t, home, len(whole.Probes))
		for k := 1; k < of; k++ {
			assert.Less(t, requests[k], 2*requests[1]+100, "shard %d of %d", k, of)
		}
	}
}

func TestSharesOfCounters(t *testing.T) {
	d := observatory(t)
	target := *d.TargetNamed("stand-in")
	pl := check.NewPlan(d, &target, families.All)
	c, err := Part{Shard: Shard{Number: 2, Of: 5}}.Choose(d, &target, pl)
	require.NoError(t, err)
	assert.Equal(t, 5, c.Shares("nobody sends to it by plan"))
	shared := 0
	for name := range Counters(pl, c.Probes) {
		n := c.Shares(name)
		assert.True(t, n >= 1 && n <= 5, name)
		if n > 1 {
			shared++
		}
	}
	assert.Positive(t, shared)
	assert.InDelta(t, target.Pace.PerSecond()/5, c.Shard.Paced(&target).Pace.PerSecond(), 1e-9)
	assert.Same(t, &target, Shard{}.Paced(&target))
	alone := Shard{Number: 5, Of: 5, Alone: true}
	assert.Same(t, &target, alone.Paced(&target))
	c, err = Part{Shard: alone}.Choose(d, &target, check.NewPlan(d, &target, families.All))
	require.NoError(t, err)
	assert.Nil(t, c.Shares)
}

func TestShardsAreRead(t *testing.T) {
	s, err := ParseShard("2/5")
	require.NoError(t, err)
	assert.Equal(t, Shard{Number: 2, Of: 5}, s)
	assert.Equal(t, "2/5", s.String())
	assert.Empty(t, Shard{}.String())
	for _, text := range []string{"", "2", "0/5", "6/5", "a/b", "2/", "1/1001", "-1/2", "1/2/3"} {
		_, err := ParseShard(text)
		assert.ErrorContains(t, err, "write for example 2/5", text)
	}
}
