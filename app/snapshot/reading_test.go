package snapshot

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is changed afterwards, a reading is what was known when it was taken.
func TestReadingsStay(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1))
	k, want := NewKnown(nil), map[string]*Fact{}
	type taken struct {
		Reading
		want map[string]*Fact
	}
	var list []taken
	changes := uint64(0)
	for range 4000 {
		key := fmt.Sprint("probe ", r.IntN(300))
		switch n := r.IntN(12); {
		case n == 0:
			list = append(list, taken{k.Read(), maps.Clone(want)})
		case n < 4:
			require.Equal(t, want[key], k.Put(key, nil))
			delete(want, key)
		default:
			f := &Fact{Repeats: r.IntN(1 << 30)}
			require.Equal(t, want[key], k.Put(key, f))
			want[key] = f
		}
		require.Same(t, want[key], k.Of(key))
	}
	require.Greater(t, len(list), 200)
	for _, l := range list {
		all := map[string]*Fact{}
		for _, m := range l.chunk {
			maps.Copy(all, m)
		}
		require.Equal(t, l.want, all)
		require.Equal(t, len(l.want), l.Len())
		require.GreaterOrEqual(t, l.changes, changes)
		changes = l.changes
	}
	first := k.Read()
	k.Put("probe 1", first.Of("probe 1"))
	again := k.Read()
	assert.Equal(t, first.changes, again.changes, "the same fact is no change")
}
