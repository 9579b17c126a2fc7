package app

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"millgate/core/finding"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a route declares under `then` is sent after an admitted answer: a
// service that answers 2xx and does nothing is found, one that does it is not.
func TestFollowUpsShowTheEffect(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	text := strings.Replace(small, `"DELETE /t/{id}", { at: POST /t, send: { json: { n: 1 } } }`,
		`{ at: "DELETE /t/{id}", then: { send: "GET /t/{id}", as: ann, shows: { status: 404 } } }, { at: POST /t, send: { json: { n: 1 } }, then: { send: "GET /t/{new}", as: ann, with: { new: /id }, shows: { has: /id } } }`, 1)
	require.NotEqual(t, small, text)
	for _, c := range []struct {
		name, lazy string // the request that is answered as done and not done
		route      string
	}{{"sound", "", ""}, {"a delete that deletes nothing", "DELETE", "DELETE /t/{id}"},
		{"a create that creates nothing", "POST", "POST /t"}} {
		t.Run(c.name, func(t *testing.T) {
			o := &obedient{have: map[string]bool{"t0": true}}
			f := newFake(t, func(f *fake, w http.ResponseWriter, r *http.Request) {
				if r.Method == c.lazy && strings.HasPrefix(r.URL.Path, "/t") &&
					r.Header.Get("Authorization") == "Bearer tok" {
					w.Header().Set("Content-Type", "application/json")
					if r.Method == "POST" {
						_, _ = fmt.Fprint(w, `{"id":"t77"}`)
						return
					}
					if r.Method == "DELETE" {
						w.WriteHeader(204)
						return
					}
				}
				o.serve(f, w, r)
			})
			_, res := swept(t, openText(t, fmt.Sprintf(text, f.URL, "allowed"), ""))
			var found []string
			for _, x := range res.Findings {
				if x.Title == "Answered as done, and not done" {
					assert.Equal(t, finding.OverRestrictive, x.Kind)
					found = append(found, x.Route)
				}
			}
			if c.route == "" {
				assert.Empty(t, res.Findings)
				return
			}
			assert.Equal(t, []string{c.route}, found)
		})
	}
}
