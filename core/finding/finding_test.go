package finding

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

// Where one mend would be is the scope in words, and the route where there is none.
func TestWhere(t *testing.T) {
	for want, f := range map[string]Finding{
		"GET /a":                      {Route: "GET /a"},
		"everything behind access":    {Route: "GET /a", Scope: &Scope{AtScheme, "access"}},
		"quota login":                 {Route: "POST /in", Scope: &Scope{AtQuota, "login"}},
		"GET /b":                      {Route: "GET /a", Scope: &Scope{AtGuard, "GET /b"}},
		"pages at /**":                {Route: "GET /a", Scope: &Scope{AtPages, "pages at /**"}},
		"everything past the gateway": {Route: "GET /a", Scope: &Scope{AtService, "past the gateway"}},
	} {
		assert.Equal(t, want, f.Where())
	}
	b, err := json.Marshal(Finding{Route: "GET /a"})
	require.NoError(t, err)
	for _, absent := range []string{`"routes"`, `"scope"`, `"at"`} {
		assert.NotContains(t, string(b), absent, "of one route")
	}
	b, err = json.Marshal(Finding{Routes: []string{"GET /a", "GET /b"}, Scope: &Scope{AtScheme, "s"}})
	require.NoError(t, err)
	assert.Contains(t, string(b), `"routes":["GET /a","GET /b"],"scope":{"of":"scheme","name":"s"}`)
}

func TestKinds(t *testing.T) {
	assert.True(t, Worse(Unprotected, WrongRefusal))
	assert.False(t, Worse(Agrees, Unproven))
	assert.False(t, Worse(Leaking, Leaking))
	names := map[string]bool{}
	for _, k := range Order {
		names[k.Name()] = true
		assert.Equal(t, !slices.Contains([]Kind{Unproven, Unprobed, Agrees}, k), k.IsGap(), k)
	}
	assert.Len(t, names, len(Order), "each has a name of its own")
	assert.False(t, Kind("").IsGap())
	for i, s := range Severities {
		for k, other := range Severities {
			assert.Equal(t, i >= k, s.AtLeast(other))
		}
		assert.True(t, s.AtLeast(""), "whatever it is")
		assert.False(t, Severity("").AtLeast(s))
	}
}

func TestOneFaultHasOneID(t *testing.T) {
	none := &Row{Cause: "none", Kind: Unthrottled, Title: "Nothing limits"}
	over := &Row{Cause: "over", Kind: Unthrottled, Title: "Too many", Same: "none"}
	shown := func(r *Row) Finding {
		list := Gather(&declaration.Document{}, []Seen{{Probe: "1", Route: "GET /a", Gaps: []Gap{{Row: r,
			Scope: Scope{Of: AtQuota, Name: "ten"}}}}})
		require.Len(t, list, 1)
		return list[0]
	}
	assert.Equal(t, shown(none).ID, shown(over).ID)
	assert.Equal(t, []string{"none", "over"}, []string{shown(none).Cause, shown(over).Cause})
}
