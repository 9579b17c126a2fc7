package snapshot

import (
	"context"
	"fmt"
)

// Journal reads what sweeps sent: the facts, a later one in place of those before, and the
// unsafe probes that were sent and never answered.
func (ts *Targets) Journal(ctx context.Context, sweeps ...uint) (facts map[string]*Fact, lost map[string]bool,
	err error) {
	rows, err := ts.store.Probes(ctx, sweeps...)
	if err != nil {
		return nil, nil, err
	}
	facts, lost = map[string]*Fact{}, map[string]bool{}
	for _, row := range rows {
		if !row.Answered {
			lost[SameProbe(row.ProbeID)] = row.Unsafe
			continue
		}
		f, err := Decode(row.ProbeID, row.Identity, row.Fact, ts.Families)
		if err != nil {
			return nil, nil, fmt.Errorf("probe %s of sweep %d cannot be read: %w", row.ProbeID, row.SweepID, err)
		}
		facts[SameProbe(row.ProbeID)] = f
	}
	for k, unsafe := range lost {
		if !unsafe {
			delete(lost, k)
		}
	}
	return facts, lost, nil
}
