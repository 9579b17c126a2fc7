package route

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func must(t testing.TB, s string) Selector {
	t.Helper()
	sel, err := Parse(s)
	require.NoError(t, err, s)
	return sel
}

func TestParsePrintsBack(t *testing.T) {
	for _, s := range []string{"GET /", "/v1/**", "DELETE,GET /a/*/b", "POST id:/v1/session", "GET /a/{id}/",
		"/%7Bx%7D"} {
		assert.Equal(t, s, must(t, s).String())
	}
	assert.Equal(t, "/a-b", must(t, "/%61%2Db").String(), "unreserved characters are decoded")
}

func TestParseRefuses(t *testing.T) {
	for s, why := range map[string]string{
		"":                "write METHOD /path",
		"GET":             "must begin with /",
		"FETCH /a":        "not a method",
		"GET /a/**/b":     "only be the last",
		"GET /a/{id}.txt": "fill a whole segment",
		"GET /a//b":       "empty segment",
		"GET /a/../b":     "dot segment",
		"GET /a?x=1":      "query",
		"GET /a b":        "write METHOD",
		"GET a.b:/x":      "not a host name",
		"get /a":          "not a method",
	} {
		_, err := Parse(s)
		require.ErrorIs(t, err, ErrSelector, s)
		assert.Contains(t, err.Error(), why, s)
	}
	for _, s := range []string{"/a", "GET,POST /a", "GET /a/*", "GET /a/**"} {
		_, err := ParseTemplate(s)
		assert.ErrorIs(t, err, ErrSelector, s)
	}
}

func TestMatches(t *testing.T) {
	cases := []struct {
		selector, method, path string
		want                   bool
	}{
		{"GET /a", "GET", "/a", true},
		{"GET /a", "HEAD", "/a", true},
		{"HEAD /a", "GET", "/a", false},
		{"GET /a", "GET", "/a/", false},
		{"GET /a/{x}", "GET", "/a/", false}, // a parameter is not empty
		{"GET /a/{x}", "GET", "/a/b/c", false},
		{"/a/**", "PUT", "/a", true},
		{"/a/**", "PUT", "/a/", true},
		{"/a/**", "PUT", "/ab", false},
		{"/a/b", "GET", "/a/%62", true},
		{"/a/b", "GET", "/a/./x/../b", true},
		{"/a/b", "GET", "/A/b", false},
		{"/**", "GET", "/", true},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, must(t, c.selector).Matches(c.method, "", c.path), "%s %s %s", c.selector, c.method,
			c.path)
	}
	assert.False(t, Selector{}.Matches("GET", "", "/"), "the zero selector matches nothing")
	assert.False(t, must(t, "/a").Matches("GET", "id", "/a"), "another host is another route")
}

// random makes selectors over a small alphabet, so that they meet often.
func random(r *rand.Rand) Selector {
	words := []string{"a", "b", "{x}", "*"}
	var segs []string
	for range r.IntN(4) {
		segs = append(segs, words[r.IntN(len(words))])
	}
	switch r.IntN(5) {
	case 0:
		segs = append(segs, "**")
	case 1:
		segs = append(segs, "")
	}
	methods := []string{"", "GET ", "POST ", "GET,POST ", "HEAD "}[r.IntN(5)]
	s, err := Parse(methods + "/" + strings.Join(segs, "/"))
	if err != nil {
		panic(err)
	}
	return s
}

// requests is every path up to four segments over an alphabet that has a word
// no selector names, so that parameters show.
func requests() (out [][2]string) {
	paths := []string{""}
	all := []string{}
	for range 4 {
		var next []string
		for _, p := range paths {
			for _, w := range []string{"a", "b", "other"} {
				next = append(next, p+"/"+w)
			}
			all = append(all, p+"/")
		}
		all = append(all, next...)
		paths = next
	}
	for _, p := range all {
		for _, m := range []string{"GET", "HEAD", "POST", "PUT"} {
			out = append(out, [2]string{m, p})
		}
	}
	return out
}

func TestContainsAgreesWithBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	reqs := requests()
	contained, met := 0, 0
	for range 4000 {
		a, b := random(r), random(r)
		all, some := true, false
		both, ok := a.Intersect(b)
		for _, q := range reqs {
			inA, inB := a.Matches(q[0], "", q[1]), b.Matches(q[0], "", q[1])
			all = all && (!inB || inA)
			some = some || inA && inB
			require.Equal(t, inA && inB, ok && both.Matches(q[0], "", q[1]), "%s ∩ %s at %v", a, b, q)
		}
		require.Equal(t, all, a.Contains(b), "%s ⊇ %s", a, b)
		require.Equal(t, some, ok, "%s meets %s", a, b)
		if all {
			contained++
		}
		if some {
			met++
		}
	}
	assert.Greater(t, contained, 200, "the generator must make pairs that contain each other")
	assert.Greater(t, met, 1000)
}

func inventory(t testing.TB, lines ...string) *Inventory {
	t.Helper()
	var list []Selector
	for _, l := range lines {
		s, err := ParseTemplate(l)
		require.NoError(t, err)
		list = append(list, s)
	}
	inv, dup := NewInventory(list)
	require.Empty(t, dup)
	return inv
}

func TestInventory(t *testing.T) {
	inv := inventory(t, "GET /p/{id}", "GET /p/mine", "DELETE /p/{id}", "GET /p/{id}/x", "HEAD /h", "GET /h",
		"POST id:/p/{id}")
	find := func(m, p string) int { return inv.Find(m, "", p) }
	assert.Equal(t, 1, find("GET", "/p/mine"), "the more specific one")
	assert.Equal(t, 0, find("GET", "/p/7"))
	assert.Equal(t, 0, find("HEAD", "/p/7"), "GET serves HEAD")
	assert.Equal(t, 4, find("HEAD", "/h"), "unless HEAD is declared")
	assert.Equal(t, -1, find("GET", "/p"))
	assert.Equal(t, 6, inv.Find("POST", "id", "/p/7"))
	assert.Equal(t, []int{0, 2}, inv.Named(must(t, "/p/{anything}")), "parameter names do not matter")
	assert.Empty(t, inv.Named(must(t, "GET /p/*")), "a pattern names no template")

	rel := func(s string, i int) Relation { return inv.Relate(must(t, s), i) }
	assert.Equal(t, Covers, rel("GET /p/*", 0))
	assert.Equal(t, Covers, rel("/p/**", 3))
	assert.Equal(t, Apart, rel("POST /p/*", 0))
	assert.Equal(t, Splits, rel("GET /p/7", 0), "a part of the template")
	assert.Equal(t, Apart, rel("GET /p/mine", 0), "that part belongs to the more specific route")
	assert.Equal(t, Apart, rel("GET /*/mine", 0))
	assert.Equal(t, Covers, rel("GET /*/mine", 1))
	assert.Equal(t, Apart, rel("GET /h", 4), "GET does not speak for a declared HEAD")

	_, dup := NewInventory([]Selector{inv.Routes[0], must(t, "GET /p/{other}")})
	assert.Equal(t, [][2]int{{0, 1}}, dup)
}

func TestIndexFindsAllThatTouch(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var sels []Selector
	for range 300 {
		sels = append(sels, random(r))
	}
	ix := NewIndex(sels)
	for range 300 {
		b := random(r)
		near := ix.Near(b)
		for i, s := range sels {
			if _, ok := s.Intersect(b); ok {
				require.Contains(t, near, i, "%s near %s", s, b)
			}
		}
	}
}

func TestFill(t *testing.T) {
	s := must(t, "GET /a/{id}/b/{x}")
	p, missing := s.Fill(map[string]string{"id": "p 1/2", "x": "ü"})
	assert.Equal(t, "/a/p%201%2F2/b/%C3%BC", p)
	assert.Empty(t, missing)
	_, missing = s.Fill(map[string]string{"id": "1"})
	assert.Equal(t, "x", missing)
}

func FuzzSelector(f *testing.F) {
	for _, s := range []string{"GET /a/{x}", "/**", "GET,POST id:/a/*/", "/%2e%2E/x", "/{}", "/a%", "PUT /a//"} {
		f.Add(s, "/a/b")
	}
	f.Fuzz(func(t *testing.T, text, path string) {
		if n := Normalise(path); Normalise(n) != n {
			t.Fatalf("normalising %q twice gives %q", path, Normalise(n))
		}
		s, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(s.String())
		if err != nil || again.String() != s.String() {
			t.Fatalf("%q prints as %q, which reads as %v (%v)", text, s, again, err)
		}
		if !s.Contains(s) {
			t.Fatalf("%q does not contain itself", s)
		}
		if both, ok := s.Intersect(s); !ok || !both.Contains(s) || !s.Contains(both) {
			t.Fatalf("%q does not meet itself", s)
		}
		if slices.Contains(s.Methods, "GET") && s.Matches("GET", s.Host, path) != s.MatchesPath(path) {
			t.Fatalf("%q at %q", s, path)
		}
	})
}
