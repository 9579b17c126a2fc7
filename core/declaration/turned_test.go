package declaration

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How callers are turned away is read and written, and what does not turn anybody away is said to be wrong.
func TestTurnedAway(t *testing.T) {
	const head = "millgate: 1.1\nroutes: [GET /a]\nroles: { r: }\n" +
		"schemes: { s: { kind: basic, refuses: 403 } }\n"
	for with, want := range map[string]string{
		"410":                                 "410",
		"{ role: 404 }":                       "{ role: 404 }",
		"{ ownership: 404, credential: 403 }": "{ credential: 403, ownership: 404 }",
		"{ credential: 401, soundness: 401, role: 401, scope: 401, ownership: 401 }": "401",
	} {
		d, msgs := Parse("x", []byte(head+"access: [{ at: GET /a, who: r, turned_away: "+with+" }]\n"), nil)
		require.Empty(t, msgs, with)
		assert.Equal(t, want, d.Access[0].Turned.Text(), with)
		assert.Equal(t, "{ at: GET /a, who: r, turned_away: "+want+" }", d.Access[0].Text())
		assert.Equal(t, 403, d.Schemes[0].Refuses)
	}
	for with, want := range map[string]string{
		"access: [{ at: GET /a, who: undecided, turned_away: 404 }]":             "`undecided` decides nothing",
		"access: [{ at: GET /a, who: nobody, turned_away: 404 }]":                "401, 403, 404 and 405 all agree",
		"access: [{ at: GET /a, who: signed-in, turned_away: 200 }]":             "200 does not turn a caller away",
		"access: [{ at: GET /a, who: signed-in, turned_away: { role: 429 } }]":   "429 does not turn a caller away",
		"access: [{ at: GET /a, who: signed-in, turned_away: { rol: 404 } }]":    "did you mean \"role\"?",
		"access: [{ at: GET /a, who: signed-in, hide: true, turned_away: 404 }]": "both say how somebody else's",
	} {
		_, msgs := Parse("x", []byte(head+with+"\n"), nil)
		require.NotEmpty(t, msgs, with)
		assert.Contains(t, msgs[0].String(), want, with)
	}
	_, msgs := Parse("x",
		[]byte("millgate: 1\nroutes: [GET /a]\naccess: [{ at: GET /a, who: signed-in, turned_away: 404 }]\n"),
		nil)
	require.NotEmpty(t, msgs)
	assert.Contains(t, msgs[0].String(), "came with version 1.1 of the language")
}
