package sweep

import (
	"context"
	"fmt"
	"time"

	"millgate/store"
)

// Retention says which exchanges stay: of each target the newest so many sweeps, and
// those that began so long ago at most. Neither is set by default, and nothing goes.
type Retention = store.Retention

// Pruned is what a prune took away.
type Pruned = store.Pruned

// Prune takes away what the retention does not keep.
func (sw *Sweeps) Prune(ctx context.Context) (Pruned, error) {
	if sw.Retention == (Retention{}) {
		return Pruned{}, nil
	}
	if sw.store.ReadOnly() != "" {
		return Pruned{}, fmt.Errorf("nothing was pruned: %s", sw.store.ReadOnly())
	}
	return sw.store.Prune(ctx, sw.Retention, time.Now())
}
