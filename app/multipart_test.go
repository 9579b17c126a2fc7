package app

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/testkit/memnet"
)

const uploads = `millgate: 1.1
targets: { t: { base: "%s", unsafe: allowed, pace: 1000 per 1s } }
routes:
  - at: POST /frames
    send: { as: ann, multipart: { by: "{who}", frame: { name: a.fits, type: application/fits, text: hello } } }
roles: { staff: }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities:
  ann: { roles: staff, credentials: { key: { key: k-ann, who: ann } } }
  bob: { credentials: { key: { key: k-bob, who: bob } } }
access: [{ at: /**, who: staff }]
`

// A service that takes uploads alone is reached with one: without its parts nobody would be admitted, and nothing
// shown.
func TestUploadsAreSent(t *testing.T) {
	for open, want := range map[bool]int{false: 0, true: 1} {
		virtually(t, func(t *testing.T, n *memnet.Net) {
			base, end := n.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				key := r.Header.Get("X-Key")
				switch {
				case r.Method != http.MethodPost || r.URL.Path != "/frames":
					http.Error(w, "nothing here", http.StatusNotFound)
				case key != "k-ann" && key != "k-bob" && (key != "" || !open):
					http.Error(w, "who are you", http.StatusUnauthorized)
				case key == "k-bob":
					http.Error(w, "not you", http.StatusForbidden)
				default:
					f, h, err := r.FormFile("frame")
					if err != nil || h.Filename != "a.fits" || h.Header.Get("Content-Type") != "application/fits" ||
						r.FormValue("by") != "ann" {
						http.Error(w, "no frame", http.StatusBadRequest)
						return
					}
					assert.NoError(t, f.Close())
					w.WriteHeader(http.StatusCreated)
					_, err = w.Write([]byte(`{"id":"f-1"}`))
					assert.NoError(t, err)
				}
			}))
			defer end()
			_, res := sweptAt(t, openIn(t, n, fmt.Sprintf(uploads, base)), "t")
			assert.Len(t, res.Findings, want, "one fault is one finding")
			assert.EqualValues(t, "agrees", res.Probed["crossing|POST /frames|ann|key|sound||"].Kind,
				"its upload was taken")
		})
	}
}
