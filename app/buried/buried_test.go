package buried

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
	for of, dir := range map[string]string{"sealed": t.TempDir(), "as long as the sweep": ""} {
		t.Run(of, func(t *testing.T) {
			s, err := store.Open(dir)
			require.NoError(t, err)
			defer s.Close() //nolint:errcheck // the test is over
			g := Graves{Store: s, Target: "t"}
			for i, secret := range []string{"a", "b", "c", "d", "e"} {
				g.Bury(t.Context(), ann, Credential{Secret: secret, At: now.Add(time.Duration(i) * time.Second),
					Ends: now.Add(time.Duration(i+1) * time.Minute)})
			}
			g.Bury(t.Context(), bob, Credential{Secret: "x", At: now, Ends: now.Add(time.Hour)})
			assert.Equal(t, []string{"e", "d", "c", "b"}, g.Recall(t.Context(), ann, now), "the newest first, and "+
				"no more")
			assert.Equal(t, []string{"e", "d"}, g.Recall(t.Context(), ann, now.Add(3*time.Minute)), "the others "+
				"have ended")
			assert.Equal(t, []string{"x"}, g.Recall(t.Context(), bob, now))
			next := Graves{Store: s, Target: "t"}
			assert.Equal(t, dir != "", len(next.Recall(t.Context(), ann, now.Add(3*time.Minute))) == 2)
			other := Graves{Store: s, Target: "u"}
			assert.Empty(t, other.Recall(t.Context(), ann, now), "another target has none of it")
			names, err := s.SealedNames(t.Context(), name)
			require.NoError(t, err)
			assert.Len(t, names, map[bool]int{true: 3, false: 0}[dir != ""], "what has ended is forgotten")
		})
	}
}
