package declaration

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How a service says no with another status is read.
func TestRefusedWhen(t *testing.T) {
	const head = "millgate: 1.1\nroutes: [GET /a, \"GET /b/{id}\"]\nanswers: { refused_when: "
	d, msgs := Parse("x",
		[]byte(head+"[{ at: /b/**, status: 200, equals: { /e/0/code: 7 }, is: hidden }, { status: 200, has: "+
			"/e }] }\n"), nil)
	require.Empty(t, msgs)
	first, second := &d.Answers.RefusedWhen[0], &d.Answers.RefusedWhen[1]
	assert.Equal(t, []any{"hidden", []EqualMember{{"/e/0/code", "7"}}}, []any{first.Is, first.Equals})
	assert.Equal(t, []any{"refused", "/e"}, []any{second.Is, string(second.Has)})
	for _, c := range []struct {
		route         string
		first, second bool
	}{{"GET /a", false, true}, {"GET /b/{id}", true, true}, {"", false, true}} {
		assert.Equal(t, c.first, first.Serves(c.route), c.route)
		assert.Equal(t, c.second, second.Serves(c.route), c.route)
	}
	assert.True(t, d.Answers.ByRoute())
	for with, want := range map[string]string{
		"{ status: 200 }":                                     "needs a status and what the answer then has",
		"{ has: /e }":                                         "needs a status and what the answer then has",
		"{ status: 200, equals: { } }":                        "needs a status and what the answer then has",
		"{ status: 200, has: /e, is: forbid }":                "did you mean \"forbidden\"?",
		"{ status: 200, has: /e, at: /zz/** }":                "/zz/** selects no route of the inventory",
		"{ status: 200, has: /e, at: GET /b/x }":              "takes only a part of the route GET /b/{id}",
		"[{ status: 200, has: /e }, { status: 200, has: e }]": "has must be a JSON Pointer",
	} {
		_, msgs := Parse("x", []byte(head+with+" }\n"), nil)
		require.NotEmpty(t, msgs, with)
		assert.Contains(t, msgs[0].String(), want, with)
	}
	for _, with := range []string{"[{ status: 200, has: /e }]", "{ status: 200, has: /e, is: hidden }"} {
		_, msgs := Parse("x", []byte(strings.Replace(head, "1.1", "1", 1)+with+" }\n"), nil)
		require.NotEmpty(t, msgs)
		assert.Equal(t, "version", msgs[0].Code)
	}
}

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
