package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What was measured while the sender stood still counts for nothing, at either end of it.
func TestAPulseThatStoodStill(t *testing.T) {
	p := &Pulse{Beat: 5, Still: [][2]time.Duration{{100, 200}}}
	for _, c := range []struct {
		left, came time.Duration
		broke      bool
	}{{0, 99, false}, {0, 100, true}, {150, 300, true}, {204, 300, true}, {205, 300, false}, {0, 300, false}} {
		assert.Equal(t, c.broke, p.Broke(c.left, c.came), c)
	}
	assert.False(t, (*Pulse)(nil).Broke(0, 100), "none never stood")
}
