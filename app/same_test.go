package app

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/finding"
	"millgate/standin"
	"millgate/testkit/memnet"
)

// The same service gives the same findings, sweep after sweep: one that is found now and then
// would have to be unproven, or be always there. What depends on which node a call meets is left
// out.
func TestTheSameServiceGivesTheSameFindings(t *testing.T) {
	if testing.Short() {
		t.Skip("it sweeps the demo several times")
	}
	var first map[string]bool
	for range 4 {
		virtually(t, func(t *testing.T, n *memnet.Net) {
			a, _ := observatory(t, n, standin.Options{Nodes: 3, Flaws: standin.Demo}, nil)
			_, res := swept(t, a)
			found := map[string]bool{}
			for _, f := range res.Findings {
				if f.Scope == nil || f.Scope.Of != finding.AtQuota {
					found[f.ID+" "+string(f.Kind)+" "+f.Where()+" "+string(f.Severity)+" "+string(f.Confidence)] = true
				}
			}
			if first == nil {
				first = found
			}
			assert.Equal(t, first, found)
		})
	}
}
