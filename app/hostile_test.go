package app

import (
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/testkit/memnet"
)

// A sweep of a service whose connections go on without end takes bounded memory, and ends soon
// after it was stopped, whatever it waits for.
func TestHostileServicesAreStopped(t *testing.T) {
	const most = 1 << 30 // bytes in all, of 180 probes: no body is read whole
	for _, c := range badTransport {
		t.Run(c.name, func(t *testing.T) {
			virtually(t, func(t *testing.T, n *memnet.Net) {
				base, end := n.Serve(&villager{count: map[string]int{}, twist: c.twist})
				defer end()
				a := openIn(t, n, fmt.Sprintf(village, base))
				var before, after runtime.MemStats
				runtime.ReadMemStats(&before)
				r, err := a.Sweeps.Start(t.Context(), "t", "")
				require.NoError(t, err)
				time.Sleep(500 * time.Millisecond)
				at := time.Now()
				_ = a.Sweeps.Stop(r.ID) // some have ended by themselves
				a.Sweeps.Wait(r.ID)
				assert.LessOrEqual(t, time.Since(at), 3*time.Second)
				runtime.ReadMemStats(&after)
				assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(most))
				time.Sleep(2 * time.Minute) // what is answered without end has ended
			})
		})
	}
}
