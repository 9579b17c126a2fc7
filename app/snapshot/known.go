package snapshot

// Rule: Whoever reads what is known waits for nobody who sends.

import (
	"hash/maphash"
	"maps"
	"sync"
	"sync/atomic"
)

// Known are the facts of a target, by the keys of their probes. One sweep at a time changes
// them, while anybody takes readings: a reading is what is known at a moment, and stays as it
// is.
//
// Facts stand in chunks. A reading shares all of them; what changes afterwards copies its
// chunk first, once for each reading.
type Known struct {
	mu     sync.Mutex
	now    Reading
	shared [chunks]bool // with a reading
}

// chunks is how many there are: of 50,000 facts one has 800.
const chunks = 64

// Reading is what is known at a moment. It does not change. The zero one knows nothing.
type Reading struct {
	chunk   [chunks]map[string]*Fact
	serial  uint64 // of what it is a reading of: each sweep knows anew
	changes uint64 // so many came before it
}

// serials counts what there was to read.
var serials atomic.Uint64

var chunkSeed = maphash.MakeSeed()

func chunkOf(key string) int { return int(maphash.String(chunkSeed, key) % chunks) }

// NewKnown is what is known by facts.
func NewKnown(facts map[string]*Fact) *Known {
	k := &Known{now: Reading{serial: serials.Add(1)}}
	for key, f := range facts {
		k.Put(key, f)
	}
	return k
}

// Of is the fact of a probe, nil without.
func (k *Known) Of(key string) *Fact {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now.Of(key)
}

// Put sets the fact of a probe; nil takes it away. It gives the one before.
func (k *Known) Put(key string, f *Fact) (before *Fact) {
	k.mu.Lock()
	defer k.mu.Unlock()
	i := chunkOf(key)
	if before = k.now.chunk[i][key]; before == f {
		return before
	}
	switch {
	case k.now.chunk[i] == nil:
		k.now.chunk[i] = map[string]*Fact{}
	case k.shared[i]:
		k.now.chunk[i] = maps.Clone(k.now.chunk[i])
	}
	if k.shared[i] = false; f == nil {
		delete(k.now.chunk[i], key)
	} else {
		k.now.chunk[i][key] = f
	}
	k.now.changes++
	return before
}

// Read is what is known now.
func (k *Known) Read() Reading {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range k.shared {
		k.shared[i] = true
	}
	return k.now
}

// Of is the fact of a probe, nil without.
func (r *Reading) Of(key string) *Fact { return r.chunk[chunkOf(key)][key] }

// Before says whether a reading is earlier than another of the same target.
func (r *Reading) Before(o *Reading) bool {
	return r.serial < o.serial || r.serial == o.serial && r.changes < o.changes
}

// changed is how many changes there were.
func (k *Known) changed() uint64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now.changes
}

// Len is how many facts there are.
func (r *Reading) Len() (n int) {
	for _, m := range r.chunk {
		n += len(m)
	}
	return n
}
