package app

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

// PruneData takes exchanges away that the retention of a workspace does not keep. What the
// latest whole sweep of a target and all after it saw stays, and every sweep's findings.
func PruneData(ctx context.Context, dataDir string, keep Retention) (Pruned, error) {
	a, err := Open(ctx, dataDir, "")
	if err != nil {
		return Pruned{}, err
	}
	a.Retention = keep
	out, err := a.Prune(ctx)
	if err == nil && out.Exchanges > 0 {
		err = a.store.Shrink(ctx)
	}
	if cerr := a.Close(); err == nil {
		err = cerr
	}
	return out, err
}

// Prune takes away what the retention does not keep.
func (a *App) Prune(ctx context.Context) (Pruned, error) {
	if a.Retention == (Retention{}) {
		return Pruned{}, nil
	}
	if a.store.ReadOnly() != "" {
		return Pruned{}, fmt.Errorf("nothing was pruned: %s", a.store.ReadOnly())
	}
	return a.store.Prune(ctx, a.Retention, time.Now())
}
