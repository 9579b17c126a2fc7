package snapshot

import (
	"context"
	"fmt"
	"runtime"
	"time"

	"golang.org/x/sync/errgroup"

	"millgate/core/check"
	"millgate/store"
)

// readAtOnce is how many rows are decoded in one go.
const readAtOnce = 512

// Journal reads what sweeps sent: the facts, a later one in place of those before, and the
// unsafe probes that were sent and never answered. Rows are decoded on all cores while others
// are read.
func (ts *Targets) Journal(ctx context.Context, sweeps ...uint) (facts map[string]*Fact, lost map[string]bool,
	err error) {
	var parts []*part
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	err = ts.store.EachProbe(ctx, sweeps, readAtOnce, func(rows []store.Probe) error {
		p := &part{rows: rows}
		parts = append(parts, p)
		g.Go(func() error { return p.decode(ts) })
		return nil
	})
	if failed := g.Wait(); failed != nil {
		err = failed // what it was read for came to nothing
	}
	if err != nil {
		return nil, nil, err
	}
	facts, lost = make(map[string]*Fact, len(parts)*readAtOnce), map[string]bool{}
	for _, p := range parts {
		for i, row := range p.rows {
			key := SameProbe(row.ProbeID)
			switch f := p.facts[i]; {
			case f == nil:
				lost[key] = row.Unsafe
			case f.Beside && facts[key] != nil:
			case facts[key] == nil || facts[key].Sweep != f.Sweep || f.Exchange.At.After(facts[key].Exchange.At):
				facts[key] = f // ids of before can have become one
			}
		}
	}
	for k, unsafe := range lost {
		if !unsafe {
			delete(lost, k)
		}
	}
	return facts, lost, nil
}

// part are rows and their facts; nil where nothing was answered.
type part struct {
	rows  []store.Probe
	facts []*Fact
}

func (p *part) decode(ts *Targets) error {
	p.facts = make([]*Fact, len(p.rows))
	for i := range p.rows {
		row := &p.rows[i]
		if !row.Answered {
			continue
		}
		f, err := Decode(row.ProbeID, row.Identity, row.Fact, ts.Families)
		if err != nil {
			return fmt.Errorf("probe %s of sweep %d cannot be read: %w", row.ProbeID, row.SweepID, err)
		}
		p.facts[i], row.Fact = f, nil
	}
	return nil
}

// Row is what a journal has of a probe that was answered, or will not be.
func Row(sweep uint, p *check.Probe, f *Fact) (store.Probe, error) {
	b, err := f.MarshalJSON() // json.Marshal would copy what that gives
	if err != nil {
		return store.Probe{}, err
	}
	sent := f.Exchange.At
	if sent.IsZero() {
		sent = time.Now()
	}
	return store.Probe{SweepID: sweep, ProbeID: p.Key(), Route: p.Route, Identity: p.Caller.Identity, Unsafe: p.Unsafe,
		Sent: sent, Answered: true, Kind: KindOf(p), Status: f.Exchange.Status, Fact: b}, nil
}
