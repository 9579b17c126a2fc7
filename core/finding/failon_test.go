package finding

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFailOn(t *testing.T) {
	f, err := ParseFailOn("critical", "high", "leaking", "W")
	require.NoError(t, err)
	assert.Equal(t, FailOn{High, []Kind{Leaking, WrongRefusal}}, f)
	for _, x := range []struct {
		finding Finding
		stops   bool
	}{
		{Finding{Kind: Unprotected, Severity: Critical}, true},
		{Finding{Kind: Unprotected, Severity: High}, true},
		{Finding{Kind: Unprotected, Severity: Medium}, false},
		{Finding{Kind: Leaking, Severity: Low}, true},
	} {
		assert.Equal(t, x.stops, f.Stops(x.finding), x.finding)
	}
	assert.False(t, FailOn{}.Stops(Finding{Severity: Critical}))
	_, err = ParseFailOn("grave")
	assert.ErrorContains(t, err, `"grave" is neither a severity (low, medium, high, critical) nor a kind (unprotected, `)
	_, err = ParseFailOn("agrees")
	assert.Error(t, err, "it is no gap")
}
