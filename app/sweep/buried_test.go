package sweep

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/store"
)

// What was ended outlives the sweep, sealed, and is forgotten when it ends by itself.
func TestGraveyard(t *testing.T) {
	ann, bob := check.Caller{Identity: "ann", Scheme: "s"}, check.Caller{Identity: "bob", Scheme: "s"}
	now := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	for name, dir := range map[string]string{"sealed": t.TempDir(), "as long as the sweep": ""} {
		t.Run(name, func(t *testing.T) {
			s, err := store.Open(dir)
			require.NoError(t, err)
			defer s.Close() //nolint:errcheck // the test is over
			g := graveyard{store: s, target: "t"}
			for i, secret := range []string{"a", "b", "c", "d", "e"} {
				g.bury(t.Context(), ann, buried{Secret: secret, At: now.Add(time.Duration(i) * time.Second),
					Ends: now.Add(time.Duration(i+1) * time.Minute)})
			}
			g.bury(t.Context(), bob, buried{Secret: "x", At: now, Ends: now.Add(time.Hour)})
			assert.Equal(t, []string{"e", "d", "c", "b"}, g.recall(t.Context(), ann, now), "the newest first, and "+
				"no more")
			assert.Equal(t, []string{"e", "d"}, g.recall(t.Context(), ann, now.Add(3*time.Minute)), "the others "+
				"have ended")
			assert.Equal(t, []string{"x"}, g.recall(t.Context(), bob, now))
			next := graveyard{store: s, target: "t"}
			assert.Equal(t, dir != "", len(next.recall(t.Context(), ann, now.Add(3*time.Minute))) == 2)
			other := graveyard{store: s, target: "u"}
			assert.Empty(t, other.recall(t.Context(), ann, now), "another target has none of it")
			names, err := s.SealedNames(t.Context(), buriedName)
			require.NoError(t, err)
			assert.Len(t, names, map[bool]int{true: 3, false: 0}[dir != ""], "what has ended is forgotten")
		})
	}
}
