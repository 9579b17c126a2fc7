package app

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/core/check"
	"millgate/testkit/memnet"
)

// What was checked is counted once by each way of counting, and what was not stands beside it.
func TestCoverageAddsUp(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		base, end := n.Serve(&villager{count: map[string]int{}})
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base))
		_, res := sweptAt(t, a, "t")
		f := res.Figure
		require.NotNil(t, f)
		d, _ := a.Workspace.Document()
		pl := check.NewPlan(d, d.TargetNamed("t"), a.Targets.Families)
		inferred := 0
		for _, p := range pl.Probes {
			inferred += len(p.StandsFor)
		}
		assert.GreaterOrEqual(t, f.Whole.All(), len(pl.Probes)+inferred+len(pl.Left))
		assert.Equal(t, len(pl.Left), f.Whole.Left)
		assert.Positive(t, f.Whole.Proven)
		unproven := 0
		for _, u := range res.Unproven {
			unproven += u.Probes
		}
		assert.GreaterOrEqual(t, f.Whole.Unproven, unproven)
		for name, list := range map[string][]coverage.Share{"kinds": f.Kinds, "groups": f.Groups} {
			sum := coverage.Share{Name: f.Whole.Name}
			for _, s := range list {
				sum.Proven += s.Proven
				sum.Inferred += s.Inferred
				sum.Unproven += s.Unproven
				sum.Unsent += s.Unsent
				sum.Left += s.Left
			}
			assert.Equal(t, f.Whole, sum, name)
		}
		var names []string
		for _, s := range f.Kinds {
			names = append(names, s.Name)
		}
		assert.Subset(t, names, []string{"callers who may", "1 route", "2 credential", "3 soundness", "6 ownership"})
		k, err := a.Past.Of(t.Context(), "t")
		require.NoError(t, err)
		assert.Equal(t, f, k.Figure, "it is the same as long as nothing changes")
	})
}
