package inventory

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNotationsOfRouteTables(t *testing.T) {
	for _, x := range []struct {
		methods, path string
		want          []string
		unclear       string
	}{
		{"GET", "/things", []string{"GET /things"}, ""},
		{"get", "/things/", []string{"GET /things/"}, ""},
		{"GET", "/", []string{"GET /"}, ""},
		{"GET|POST", "/things/:id", []string{"GET /things/{id}", "POST /things/{id}"}, ""},
		{"GET, HEAD, POST", "/a", []string{"GET /a", "POST /a"}, ""},
		{"HEAD", "/a", []string{"HEAD /a"}, ""},
		{"GET", `/things/:id(\d+)`, []string{"GET /things/{id}"}, ""},
		{"GET", "/things/<id>", []string{"GET /things/{id}"}, ""},
		{"GET", "/things/<int:id>/parts/<uuid:part>", []string{"GET /things/{id}/parts/{part}"}, ""},
		{"GET", "/things/<string(length=2):lang>", []string{"GET /things/{lang}"}, ""},
		{"GET", "/things/{id:int}", []string{"GET /things/{id}"}, ""},
		{"GET", "/things/{id:[0-9]{2,4}}", []string{"GET /things/{id}"}, ""},
		{"GET", "/things/{id:[a-z/]+}/x", []string{"GET /things/{id}/x"}, ""},
		{"GET", "/things/:id?", []string{"GET /things/{id}", "GET /things"}, ""},
		{"GET", "/things/{id?}", []string{"GET /things/{id}", "GET /things"}, ""},
		{"GET", "id:/session/:id", []string{"GET id:/session/{id}"}, ""},
		{"GET", "/files/*rest", []string{"GET /files/{rest}"}, "*rest is what is left of a path"},
		{"GET", "/files/*", []string{"GET /files/{rest}"}, "is what is left"},
		{"GET", "/files/{path...}", []string{"GET /files/{path}"}, "{path...} is what is left"},
		{"GET", "/files/{*path}", []string{"GET /files/{path}"}, "is what is left"},
		{"GET", "/files/<path:name>", []string{"GET /files/{name}"}, "is what is left"},
		{"GET", "/files/:name(.*)", []string{"GET /files/{name}"}, "is what is left"},
		{"ANY", "/a", []string{"GET /a", "POST /a", "PUT /a", "PATCH /a", "DELETE /a"}, "any method"},
		{"*", "/f/*x", []string{"GET /f/{x}", "POST /f/{x}", "PUT /f/{x}", "PATCH /f/{x}", "DELETE /f/{x}"},
			"take those that there are; *x is what is left"},
	} {
		keys, unclear, err := Templates(x.methods, x.path)
		require.NoError(t, err, "%s %s", x.methods, x.path)
		assert.Equal(t, x.want, keys, "%s %s", x.methods, x.path)
		if x.unclear == "" {
			assert.Empty(t, unclear, "%s %s", x.methods, x.path)
		}
		assert.Contains(t, unclear, x.unclear)
	}
	for _, x := range [][2]string{{"FETCH", "/a"}, {"", "/a"}, {"GET", "a/b"}, {"GET", "/a/../b"}, {"GET", "/a/{b"},
		{"GET|FETCH", "/a"}, {"GET", "/:a/:a"}} {
		_, _, err := Templates(x[0], x[1])
		assert.Error(t, err, "%v", x)
	}
}

func FuzzTemplates(f *testing.F) {
	f.Add("GET|POST", "/a/:b?/{c:[0-9]{2}}/*d")
	f.Fuzz(func(t *testing.T, methods, path string) {
		keys, _, err := Templates(methods, path)
		assert.Equal(t, err == nil, len(keys) > 0)
	})
}
