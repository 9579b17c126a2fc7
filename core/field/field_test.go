package field

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestNamesHaveNoLetterCase(t *testing.T) {
	l := List{{"Vary", "Origin"}, {"X-Empty", ""}, {"vary", "Accept"}}
	assert.Equal(t, "Origin", l.Get("VARY"))
	assert.Equal(t, []string{"Origin", "Accept"}, l.All("vary"))
	v, ok := l.Find("x-empty")
	assert.Equal(t, []any{"", true}, []any{v, ok})
	assert.True(t, l.Has("X-EMPTY"))
	_, ok = l.Find("Accept")
	assert.False(t, ok)
	assert.False(t, List(nil).Has("Vary"))
	assert.Empty(t, l.All("Accept"))
}

// The three forms of RFC 9110 section 5.6.7, which are one instant, and what is none of them.
func TestDates(t *testing.T) {
	want := time.Date(1994, 11, 6, 8, 49, 37, 0, time.UTC)
	for _, v := range []string{"Sun, 06 Nov 1994 08:49:37 GMT", "Sunday, 06-Nov-94 08:49:37 GMT",
		"Sun Nov  6 08:49:37 1994", "\tSun, 06 Nov 1994 08:49:37 GMT "} {
		at, ok := Date(v)
		assert.True(t, ok, v)
		assert.Equal(t, want, at, v)
	}
	for _, v := range []string{"", "0", "1994-11-06T08:49:37Z", "Sun, 06 Nov 1994 08:49:37 CET",
		"Sun, 31 Feb 1994 08:49:37 GMT", "Sun, 06 Nov 1994 08:49:37"} {
		_, ok := Date(v)
		assert.False(t, ok, v)
	}
}
