package inventory

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/route"
)

func seen(lines ...string) (out []Observed) {
	for i, l := range lines {
		m, p, _ := strings.Cut(l, " ")
		out = append(out, Observed{Method: m, Path: p, Status: 200, Line: i + 1})
	}
	return out
}

func templates(t *testing.T, keys ...string) (out []route.Selector) {
	for _, k := range keys {
		s, err := route.ParseTemplate(k)
		require.NoError(t, err)
		out = append(out, s)
	}
	return out
}

func TestFold(t *testing.T) {
	words := []string{"oak", "elm", "ash", "fir", "yew", "box", "bay", "fig", "gum", "nut", "asp"}
	var turns []string
	for _, w := range words {
		turns = append(turns, "GET /trees/"+w)
	}
	for _, c := range []struct {
		name  string
		in    []string
		known []string
		want  string // template×count, with ? where it is unclear
	}{
		{"an id with a dash", []string{"GET /v1/proposals/p-101", "GET /v1/proposals/p-102", "GET /v1/proposals"}, nil,
			"GET /v1/proposals/{proposal_id}×2, GET /v1/proposals×1"},
		{"numbers and what is under them", []string{"GET /users/17/orders/3", "GET /users/4/orders", "DELETE /users/4"},
			nil, "GET /users/{user_id}/orders/{order_id}×1, GET /users/{user_id}/orders×1, DELETE /users/{user_id}×1"},
		{"a name beside ids stays", []string{"GET /users/17", "GET /users/me", "GET /users/18"}, nil,
			"GET /users/{user_id}×2, GET /users/me×1"},
		{"a UUID, a hash, a date, an address", []string{"GET /a/3f2a4c1e-5b6d-4e7f-8a90-1b2c3d4e5f60",
			"GET /b/9f86d081884c7d65", "GET /c/2026-11-25", "GET /people/ann@mail.example"}, nil,
			"GET /a/{a_id}×1, GET /b/{b_id}×1, GET /c/{c_id}×1, GET /people/{person_id}×1"},
		{"a version is a name", []string{"GET /v1/a", "GET /v2/a"}, nil, "GET /v1/a×1, GET /v2/a×1"},
		{"a known template", []string{"GET /sky/m31", "GET /sky/m32"}, []string{"GET /sky/{object}"},
			"GET /sky/{object}×2"},
		{"a known neighbour names the parameter", []string{"PUT /sky/7"}, []string{"GET /sky/{object}"},
			"PUT /sky/{object}×1"},
		{"kept apart by a literal one", []string{"GET /sky/m31", "GET /sky/m32", "GET /sky/m33"},
			[]string{"GET /sky/m31"}, "GET /sky/m31×1, GET /sky/{sky_id}×2?"},
		{"letters and digits, several", []string{"GET /sky/m31", "GET /sky/m32"}, nil, "GET /sky/{sky_id}×2?"},
		{"letters and digits, alone", []string{"GET /oauth2/token"}, nil, "GET /oauth2/token×1?"},
		{"words that take turns", turns, nil, "GET /trees/{tree_id}×11?"},
		{"words that do not", []string{"GET /a/list", "GET /a/count", "POST /a/close"}, nil,
			"GET /a/list×1, GET /a/count×1, POST /a/close×1"},
		{"two of one name", []string{"GET /nodes/1/nodes/2"}, nil, "GET /nodes/{node_id}/nodes/{node_id_2}×1"},
		{"a trailing slash", []string{"GET /a/1/", "GET /a/2"}, nil, "GET /a/{a_id}/×1, GET /a/{a_id}×1"},
		{"the root", []string{"GET /"}, nil, "GET /×1"},
	} {
		var got []string
		for _, f := range Fold(seen(c.in...), templates(t, c.known...), nil) {
			s := fmt.Sprintf("%s×%d", f.Template, f.Count)
			if f.Unclear != "" {
				s += "?"
			}
			got = append(got, s)
			_, err := route.ParseTemplate(f.Template)
			assert.NoError(t, err, c.name)
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), c.name)
	}
}

// What is unclear under a place is asked once, and the answer holds for all requests there, whatever their method.
// What callers are called by is a value where several of them stand side by side; alone it may be a name.
func TestNamesOfCallersAreValues(t *testing.T) {
	fold := func(list ...Observed) (out []string) {
		for _, f := range Fold(list, nil, nil) {
			out = append(out, f.Template+" "+f.Unclear)
		}
		return out
	}
	get := func(path, by string) Observed { return Observed{Method: "GET", Path: path, Status: 200, By: by} }
	assert.Equal(t, []string{"GET /people/{person_id} ", "GET /admin/users "},
		fold(get("/people/imre", "imre"), get("/people/tove", "tove"), get("/admin/users", "imre")))
	assert.Equal(t, []string{"GET /people/imre imre could be a name or a value"}, fold(get("/people/imre", "imre")))
	assert.Equal(t, []string{"GET /people/imre ", "GET /people/tove "}, fold(get("/people/imre", ""),
		get("/people/tove", "")))
	assert.Equal(t, []string{"GET /admin/users admin could be a name or a value", "GET /books "},
		fold(get("/admin/users", "admin"), get("/books", "tove")))
}

func TestOneAnswerForAllAlike(t *testing.T) {
	in := seen("GET /sky/m31", "PUT /sky/m32", "GET /sky/m31/maps/x1", "GET /sky/m33/maps", "GET /oauth2/token")
	folded := func(said Said) (out []string) {
		for _, f := range Fold(in, nil, said) {
			out = append(out, strings.TrimSuffix(strings.TrimSpace(f.Template+" "+f.Under), " /"))
		}
		return out
	}
	assert.Equal(t, []string{"GET /sky/{sky_id} /sky/", "PUT /sky/{sky_id} /sky/", "GET /sky/{sky_id}/maps/x1 /sky/",
		"GET /sky/{sky_id}/maps /sky/", "GET /oauth2/token"}, folded(nil))
	assert.Equal(t, []string{"GET /sky/{sky_id}", "PUT /sky/{sky_id}", "GET /sky/{sky_id}/maps/x1 /sky/{}/maps/",
		"GET /sky/{sky_id}/maps", "GET /oauth2/token"}, folded(Said{"/sky/": true}))
	assert.Equal(t, []string{"GET /sky/{sky_id}", "PUT /sky/{sky_id}", "GET /sky/{sky_id}/maps/{map_id}",
		"GET /sky/{sky_id}/maps", "GET /oauth2/token"}, folded(Said{"/sky/": true, "/sky/{}/maps/": true}))
	assert.Equal(t, "GET /sky/m31", folded(Said{"/sky/": false})[0])
}

// Every path that was seen is a sample of the template it was folded into, and
// no request is lost.
func TestFoldingLosesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	words := []string{"a", "things", "17", "p-9", "v1", "m31", "x", "", "3f2a4c1e-5b6d-4e7f-8a90-1b2c3d4e5f60", "a%20b"}
	for range 500 {
		var in []Observed
		for range 1 + r.IntN(40) {
			p := ""
			for range 1 + r.IntN(4) {
				if w := words[r.IntN(len(words))]; w != "" {
					p += "/" + w
				}
			}
			if p == "" {
				p = "/"
			}
			in = append(in, Observed{Method: []string{"GET", "POST"}[r.IntN(2)], Path: p, Status: 200 + 100*r.IntN(3)})
		}
		n := 0
		for _, f := range Fold(in, nil, nil) {
			n += f.Count
			s, err := route.ParseTemplate(f.Template)
			require.NoError(t, err)
			for _, p := range f.Paths {
				require.True(t, s.MatchesPath(p), "%s is not %s", p, f.Template)
			}
		}
		require.Equal(t, len(in), n)
	}
}

func TestMerge(t *testing.T) {
	d, msgs := declaration.ParseFiles("x", []byte(`millgate: 1
routes:
  - from: api.yaml
  - { at: GET /own, summary: Own, effect: read }
`), declaration.Files{Routes: func(string) ([]declaration.Imported, []error) {
		return []declaration.Imported{{Method: "GET", Path: "/a/{id}", Summary: "One"}, {Method: "GET", Path: "/old"}},
			nil
	}})
	require.Empty(t, msgs)
	states := func(list []Item) string {
		var out []string
		for _, i := range list {
			out = append(out, string(i.State)+" "+i.Key)
		}
		return strings.Join(out, ", ")
	}
	got := Merge(d, []Incoming{{Key: "GET /a/{a_id}", Summary: "One"}, {Key: "GET /new"},
		{Key: "GET /own", Summary: "Mine", Count: 3}, {Key: "GET /x*"}, {Key: "GET /q/{q_id}", Unclear: "a guess"}},
		true, "api.yaml")
	assert.Equal(t, "unclear GET /x*, unclear GET /q/{q_id}, new GET /new, changed GET /a/{a_id}, changed GET /own, "+
		"gone GET /old", states(got))
	assert.Contains(t, got[3].Note, "its parameters are called a_id")
	assert.Contains(t, got[4].Note, `summary "Mine"`)
	got = Merge(d, []Incoming{{Key: "GET /a/{other}", Count: 2}, {Key: "GET /own", Effect: "read"}}, false, "")
	assert.Equal(t, "same GET /a/{id}, same GET /own", states(got), "observed requests do not rename, and a log is "+
		"never whole")
}
