package check

import (
	"encoding/json"
	"testing"

	"millgate/core/pointer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDifferences(t *testing.T) {
	decode := func(s string) (v any) {
		require.NoError(t, json.Unmarshal([]byte(s), &v))
		return v
	}
	for _, c := range []struct {
		a, b string
		want []string
	}{
		{`{"a":1,"b":{"c":2}}`, `{"b":{"c":2},"a":1}`, nil},
		{`{"a":1,"b":{"c":2}}`, `{"a":1,"b":{"c":3}}`, []string{"/b/c"}},
		{`{"a":1}`, `{"b":1}`, []string{"/a", "/b"}},
		{`[1,2]`, `[2,1]`, []string{""}},
		{`{"a":[{"b":1}]}`, `{"a":[{"b":2}]}`, []string{"/a"}},
	} {
		got := map[pointer.JSON]bool{}
		differences(decode(c.a), decode(c.b), "", got)
		want := map[pointer.JSON]bool{}
		for _, w := range c.want {
			want[pointer.JSON(w)] = true
		}
		assert.Equal(t, want, got, "%s %s", c.a, c.b)
	}
}
