package wire

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
)

// What a caller is given is looked at without being kept, and asks for no second login.
func TestLook(t *testing.T) {
	ctx := context.Background()
	s, r := newShelf(t)
	look := func(identity, scheme string) (check.Fact, error) {
		return r.Run(ctx, check.Tell(func(t *check.Telling) {
			t.Keep(t.Look(check.Look{Name: "look", Caller: check.Caller{Identity: identity, Scheme: scheme,
				State: access.Sound}}))
		}))
	}
	for range 2 {
		f, err := look("ann", "s")
		require.NoError(t, err)
		require.NotNil(t, f.Reports[0].Given)
		assert.Equal(t, "opaque", f.Reports[0].Given.Kind)
		assert.Len(t, f.Reports[0].Given.Fingerprint, 8)
		assert.NotNil(t, f.Reports[0].Given.Shown)
	}
	assert.Equal(t, 1, s.logins)
	for _, who := range [][2]string{{"eve", "s"}, {"ann", "none"}} {
		f, err := look(who[0], who[1])
		require.ErrorIs(t, err, ErrCredential)
		assert.Equal(t, check.Unsent, f.Reports[0].Fate)
		assert.Contains(t, f.Reports[0].Why, "the credential cannot be obtained")
	}
}
