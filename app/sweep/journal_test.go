package sweep

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/store"
)

// What is safe is written late, in batches; what is unsafe at once, with all before it; and
// an error is told to whoever comes next, and to the end.
func TestTheJournalIsLateForWhatIsSafe(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		var batches [][]string
		var fails error
		written := func() [][]string {
			mu.Lock()
			defer mu.Unlock()
			return slices.Clone(batches)
		}
		failing := func(err error) {
			mu.Lock()
			defer mu.Unlock()
			fails = err
		}
		j := &journal{write: func(rows []store.Probe) error {
			mu.Lock()
			defer mu.Unlock()
			if fails != nil {
				return fails
			}
			var ids []string
			for _, r := range rows {
				ids = append(ids, r.ProbeID)
			}
			batches = append(batches, ids)
			return nil
		}}
		add := func(id string, atOnce bool) error { return j.add(store.Probe{ProbeID: id}, atOnce) }
		require.NoError(t, add("a", false))
		require.NoError(t, add("b", false))
		time.Sleep(journalLate - time.Millisecond)
		assert.Empty(t, written())
		time.Sleep(2 * time.Millisecond)
		synctest.Wait()
		assert.Equal(t, [][]string{{"a", "b"}}, written())

		require.NoError(t, add("c", false))
		require.NoError(t, add("d", true))
		assert.Equal(t, []string{"c", "d"}, written()[1])

		for i := range journalRows {
			require.NoError(t, add(fmt.Sprint(i), false))
		}
		assert.Len(t, written()[2], journalRows, "so many are not held back")
		time.Sleep(time.Second)
		assert.Len(t, written(), 3, "nothing is written twice")

		synctest.Wait()
		failing(errors.New("the disk is full"))
		require.NoError(t, add("e", false))
		time.Sleep(2 * journalLate)
		synctest.Wait()
		require.ErrorIs(t, add("f", false), errJournal)
		require.ErrorIs(t, j.flush(), errJournal)
		failing(nil)
		require.ErrorIs(t, j.flush(), errJournal, "what is lost stays lost")
		assert.False(t, slices.ContainsFunc(written(), func(ids []string) bool { return slices.Contains(ids, "e") }))
	})
}
