package app

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/history"
	"millgate/testkit/memnet"
)

// written is village with somebody who plays no part, its members in some order.
func (x telling) written(base string) string {
	list := func(members ...string) string {
		x.shuffle(len(members), func(i, j int) { members[i], members[j] = members[j], members[i] })
		return strings.Join(members, "\n")
	}
	return fmt.Sprintf("millgate: 1\ntargets: { t: { base: %q, pace: 5000 per 1s, unsafe: allowed } }\n", base) + list(
		"routes:\n"+list(" - GET /a", " - GET /b", " - GET /c", ` - "GET /t/{id}"`, ` - "PATCH /t/{id}"`),
		"roles:\n"+list(" r:", " s:"),
		"schemes:\n access: { kind: bearer, login: { send: POST /login, json: { n: \"{n}\", p: \"{password}\" }, "+
			"take: { access: /t } } }",
		"identities:\n"+list(
			" ann: { roles: r, attributes: { checked: true }, credentials: { access: { n: ann, password: right-ann } } }",
			" bob: { roles: r, credentials: { access: { n: bob, password: right-bob } } }",
			fmt.Sprintf(" %s: { roles: s, credentials: { access: { n: other, password: right-other } } }", x.other)),
		"records:\n thing: { fills: \"/t/{id}\", owned_by: {"+strings.ReplaceAll(list(" ann: [t-ann]", " bob: [t-bob]"),
			"\n", ",")+" } }",
		"access:\n"+list(" - { at: GET /a, who: r }", " - { at: GET /b, who: r }", " - { at: GET /c, who: [r, s] }",
			` - { at: "/t/{id}", who: owner }`),
	) + "\n"
}

// telling is one way of many to write the same.
type telling struct {
	shuffle func(n int, swap func(i, j int))
	other   string // who plays no part
}

// flaws of the village, each for itself.
var flaws = []func(r *http.Request, who string) bool{
	func(r *http.Request, who string) bool { return r.URL.Path == "/a" && who == "" },
	func(r *http.Request, who string) bool { return r.URL.Path == "/b" && who == "" && r.Method == "GET" },
	func(r *http.Request, who string) bool { // a stranger reads
		return r.Method == "GET" && strings.HasPrefix(r.URL.Path, "/t/t-") && (who == "ann" || who == "bob")
	},
}

// statesOver are what became of each finding, sweep by sweep.
func statesOver(t *testing.T, n *memnet.Net, moments [][]bool, tell func(i int) telling) map[string][]history.State {
	t.Helper()
	now := 0
	v := &villager{count: map[string]int{}, twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		who := v.who(r)
		if r.Header.Get("Authorization") == "Bearer token-of-other" {
			who = "other"
			if r.URL.Path == "/a" || r.URL.Path == "/b" || strings.HasPrefix(r.URL.Path, "/t/t-") {
				w.WriteHeader(http.StatusForbidden)
				return true
			}
		}
		open := who == "other" && r.URL.Path == "/c" && (r.Method == "GET" || r.Method == "HEAD")
		for i, f := range flaws {
			open = open || moments[now][i] && f(r, who)
		}
		if !open {
			return false
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = fmt.Fprintf(w, `{"at":%q}`, r.URL.Path)
		return true
	}}
	base, end := n.Serve(v)
	defer end()
	a := openIn(t, n, tell(0).written(base))
	out := map[string][]history.State{}
	for i := range moments {
		now = i
		if i > 0 {
			_, err := a.Workspace.Keep(t.Context(), tell(i).written(base), "the same",
				a.Workspace.Declaration().Revision)
			require.NoError(t, err)
		}
		sweptAt(t, a, "t")
		k, err := a.Past.Of(t.Context(), "t")
		require.NoError(t, err)
		for _, l := range k.Lines {
			for len(out[l.Finding.ID]) < i {
				out[l.Finding.ID] = append(out[l.Finding.ID], history.Unknown)
			}
			out[l.Finding.ID] = append(out[l.Finding.ID], l.Now())
			for _, who := range l.Finding.Callers {
				assert.NotEqual(t, tell(i).other, who, "somebody who plays no part is in %s", l.Finding.Title)
			}
		}
	}
	return out
}

// However a declaration is written, and whatever they are called who play no part: findings keep their ids, and what
// became of them.
func TestIDsOutliveHowItIsWritten(t *testing.T) {
	rnd := rand.New(rand.NewPCG(18, 1))
	seen := map[history.State]bool{}
	for range 6 {
		moments := make([][]bool, 4)
		for i := range moments {
			moments[i] = []bool{rnd.IntN(2) == 0, rnd.IntN(2) == 0, rnd.IntN(2) == 0}
		}
		moments[0][rnd.IntN(3)] = true
		virtually(t, func(t *testing.T, n *memnet.Net) {
			plain := statesOver(t, n, moments, func(int) telling { return telling{func(int, func(i, j int)) {}, "cy"} })
			require.NotEmpty(t, plain)
			names := []string{"zed", "aaa", "m1", "cy", "bobby"}
			other := statesOver(t, n, moments, func(i int) telling {
				return telling{rand.New(rand.NewPCG(uint64(i), 7)).Shuffle, names[i]}
			})
			assert.Equal(t, plain, other, "%v", moments)
			for _, list := range plain {
				for _, s := range list {
					seen[s] = true
				}
			}
		})
	}
	for _, s := range []history.State{history.New, history.Open, history.Mended, history.Back} {
		assert.True(t, seen[s], "no history has one that is %s", s)
	}
}
