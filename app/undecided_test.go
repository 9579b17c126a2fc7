package app

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/app/coverage"
	"millgate/core/finding"
	"millgate/testkit/memnet"
)

// Of a route of which nobody has decided who may call, nothing is expected: nothing is sent there but what somebody
// else's rule asks for, no gap is claimed, and the crossings count as not checked, apart from the others.
func TestWhatNobodyDecidedIsNotChecked(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		base, end := n.Serve(&villager{count: map[string]int{}})
		defer end()
		text := strings.Replace(fmt.Sprintf(village, base), "millgate: 1", "millgate: 1.1", 1)
		some := strings.Replace(text, "at: GET /c, who: r", "at: GET /c, who: undecided", 1)
		all := text[:strings.Index(text, "access:\n")] + "access:\n  - { at: /**, who: undecided }\n"
		for _, c := range []struct {
			text      string
			undecided int // routes, of three callers each
			code      int
		}{{text, 0, coverage.Clean}, {some, 1, coverage.Clean}, {all, 5, coverage.Doubts}} {
			run, res := sweptAt(t, openIn(t, n, c.text), "t")
			assert.Empty(t, res.Findings)
			assert.Equal(t, c.undecided, res.Checked.Undecided)
			assert.Equal(t, 3*c.undecided, res.Figure.Whole.Undecided)
			assert.Equal(t, c.code, res.Code(run, coverage.DefaultMostUnproven,
				finding.FailOn{Least: finding.Low}.Stops))
			for key := range res.Probed {
				asked := strings.HasPrefix(key, "crossing") && strings.Contains(key, "GET /c")
				assert.False(t, c.undecided > 0 && asked, key)
			}
			if c.code == coverage.Doubts {
				assert.Equal(t, coverage.NotDecided, res.Doubts(run, coverage.DefaultMostUnproven)[0].Rule)
				assert.Less(t, res.Figure.Whole.Checked(), 100.0)
			}
		}
	})
}
