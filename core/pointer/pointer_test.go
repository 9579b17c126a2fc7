package pointer

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func read(t *testing.T, text string) (v any) {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	require.NoError(t, d.Decode(&v))
	return v
}

// The document and the pointers of RFC 6901 section 5, and what points at nothing.
func TestIn(t *testing.T) {
	v := read(t, `{"foo": ["bar", "baz"], "": 0, "a/b": 1, "c%d": 2, "e^f": 3, "g|h": 4, "i\\j": 5, "k\"l": 6, " ": 7,
		"m~n": 8, "~1": 9, "yes": true, "null": null}`)
	for p, want := range map[JSON]string{"/foo/0": "bar", "/": "0", "/a~1b": "1", "/c%d": "2", "/e^f": "3", "/g|h": "4",
		"/i\\j": "5", "/k\"l": "6", "/ ": "7", "/m~0n": "8", "/~01": "9", "/yes": "true"} {
		got, ok := p.Text(v)
		assert.True(t, ok, p)
		assert.Equal(t, want, got, p)
		assert.NoError(t, p.Check(), p)
	}
	for _, p := range []JSON{"/foo/2", "/foo/00", "/foo/01", "/foo/-1", "/foo/1x", "/foo/+1", "/foo/-", "/bar",
		"/yes/a"} {
		_, ok := p.In(v)
		assert.False(t, ok, p)
	}
	whole, ok := JSON("").In(v)
	assert.True(t, ok)
	assert.Equal(t, v, whole)
	_, ok = JSON("").In(nil)
	assert.False(t, ok, "there is no document")
	null, ok := JSON("/null").In(v)
	assert.True(t, ok, "null is a value")
	assert.Nil(t, null)
	_, ok = JSON("/foo").Text(v)
	assert.False(t, ok, "a list is no text")
}

func TestNames(t *testing.T) {
	for _, names := range [][]string{{""}, {"a", "b"}, {"a/b", "~", "~1", "/~0"}, {"", "", "x"}} {
		p := JSON("")
		for _, n := range names {
			p = p.Member(n)
		}
		assert.Equal(t, names, p.Names())
		assert.Equal(t, names[len(names)-1], p.Last())
		assert.NoError(t, p.Check())
	}
	assert.Empty(t, JSON("").Names())
	assert.Equal(t, "", JSON("").Last())
	assert.Equal(t, JSON("/a/3"), JSON("/a").Item(3))
}

func TestCheck(t *testing.T) {
	for p, says := range map[JSON]string{"a": "does not begin with /", "$.a": "does not begin", "/a~": "neither ~0",
		"/~2": "neither ~0"} {
		assert.ErrorContains(t, p.Check(), says, p)
	}
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		p    Pattern
		at   JSON
		want bool
	}{
		{"**/a", "/a", true}, {"**/a", "/x/0/a", true}, {"**/a", "/a/x", false}, {"**/a", "", false},
		{"**/a/*", "/b/a/7", true}, {"/a/*/b", "/a/0/b", true}, {"/a/*/b", "/x/a/0/b", false}, {"/a", "/a", true},
		{"/a~1b", "/a~1b", true}, {"", "", true}, {"", "/a", false},
	} {
		assert.Equal(t, c.want, c.p.Matches(c.at), "%s %s", c.p, c.at)
	}
	for _, p := range []Pattern{"a", "**", "", "**a", "/a~2"} {
		assert.Error(t, p.Check(), "%s", p)
	}
	assert.NoError(t, Pattern("**/a/*").Check())
}
