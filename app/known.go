package app

// Rule: Whoever reads what is known waits for nobody who sends.

import (
	"hash/maphash"
	"maps"
	"sync"
)

// known are the facts of a target, by the keys of their probes. One sweep at a time changes
// them, while anybody takes readings: a reading is what is known at a moment, and stays as it
// is.
//
// Facts stand in chunks. A reading shares all of them; what changes afterwards copies its
// chunk first, once for each reading.
type known struct {
	mu     sync.Mutex
	now    reading
	shared [chunks]bool // with a reading
}

// chunks is how many there are: of 50,000 facts one has 800.
const chunks = 64

// reading is what is known at a moment. It does not change. The zero one knows nothing.
type reading struct {
	chunk   [chunks]map[string]*Fact
	changes uint64 // so many came before it: of two readings, the one with more is the later
}

var chunkSeed = maphash.MakeSeed()

func chunkOf(key string) int { return int(maphash.String(chunkSeed, key) % chunks) }

// newKnown is what is known by facts.
func newKnown(facts map[string]*Fact) *known {
	k := &known{}
	for key, f := range facts {
		k.put(key, f)
	}
	return k
}

// of is the fact of a probe, nil without.
func (k *known) of(key string) *Fact {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now.of(key)
}

// put sets the fact of a probe; nil takes it away. It gives the one before.
func (k *known) put(key string, f *Fact) (before *Fact) {
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

// read is what is known now.
func (k *known) read() reading {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range k.shared {
		k.shared[i] = true
	}
	return k.now
}

// of is the fact of a probe, nil without.
func (r *reading) of(key string) *Fact { return r.chunk[chunkOf(key)][key] }

// changed is how many changes there were.
func (k *known) changed() uint64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now.changes
}

// len is how many facts there are.
func (r *reading) len() (n int) {
	for _, m := range r.chunk {
		n += len(m)
	}
	return n
}
