package route

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Find walks by segments; what it finds is what looking at every route finds.
func TestFindIsALookAtEveryRoute(t *testing.T) {
	slow := func(inv *Inventory, method, host, path string) int {
		best := -1
		for i, r := range inv.Routes {
			if r.Host == host && r.Method() == method && r.MatchesPath(path) &&
				(best < 0 || inv.Routes[best].containsPath(r)) {
				best = i
			}
		}
		return best
	}
	r := rand.New(rand.NewPCG(3, 4))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	found := 0
	for range 400 {
		var list []Selector
		for range 1 + r.IntN(12) {
			var path strings.Builder
			for range 1 + r.IntN(3) {
				path.WriteString("/" + pick("a", "b", "{x}", "{y}", "a%2Db"))
			}
			s, err := ParseTemplate(pick("GET ", "POST ") + pick("", "id:") + path.String())
			require.NoError(t, err)
			list = append(list, s)
		}
		inv, _ := NewInventory(list)
		for range 30 {
			var path strings.Builder
			for range 1 + r.IntN(4) {
				path.WriteString("/" + pick("a", "b", "c", "", ".", "..", "a-b", "%61"))
			}
			method, host := pick("GET", "POST", "PUT"), pick("", "id", "far")
			want := slow(inv, method, host, path.String())
			require.Equal(t, want, inv.Find(method, host, path.String()), "%s %s in %v", method, path.String(), list)
			if want >= 0 {
				found++
			}
		}
	}
	require.Greater(t, found, 300)
}
