package route

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Vectors of RFC 3986: section 5.2.4 (dot segments), 5.4 (as paths), 6.2.2
// (percent-encoding).
func TestNormaliseVectors(t *testing.T) {
	for in, want := range map[string]string{
		"/a/b/c/./../../g":    "/a/g",
		"/mid/content=5/../6": "/mid/6",
		"/b/c/g;x=1/./y":      "/b/c/g;x=1/y",
		"/b/c/g;x=1/../y":     "/b/c/y",
		"/./g":                "/g",
		"/../g":               "/g",
		"/b/c/..g":            "/b/c/..g",
		"/b/c/g..":            "/b/c/g..",
		"/b/c/./g/.":          "/b/c/g/",
		"/b/c/..":             "/b/",
		"/b/c/../":            "/b/",
		"/.":                  "/",
		"/%7Euser/%7euser":    "/~user/~user",
		"/%3a/%3A":            "/%3A/%3A",
		"/a%2Fb/a%2fb":        "/a%2Fb/a%2Fb",
		"/%41%zz%4":           "/A%zz%4",
		"/a//b":               "/a//b",
		"/A/b":                "/A/b",
		"/%2e%2E/x":           "/x",
		"/%4%31/%%41B/%e%62":  "/%4%31/%%41B/%e%62", // what would mend a broken encoding is another path
		"/%4%7e/%%7ex/%g%41":  "/%4~/%~x/%gA",
		"":                    "/",
		"/":                   "/",
	} {
		assert.Equal(t, want, Normalise(in), in)
	}
}

func TestEscapeSegment(t *testing.T) {
	for in, want := range map[string]string{"p-101": "p-101", "a b": "a%20b", "a/b": "a%2Fb", "100%": "100%25",
		"ü": "%C3%BC", "a:b@c": "a:b@c", "?#[]": "%3F%23%5B%5D", "\x00": "%00"} {
		assert.Equal(t, want, EscapeSegment(in), in)
		s, err := ParseTemplate("GET /x/{id}")
		assert.NoError(t, err)
		p, _ := s.Fill(map[string]string{"id": in})
		assert.True(t, s.MatchesPath(p), "%q stays one segment", in)
	}
}
