package main

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One request as somebody, or that of a probe: what was sent, what came, and what was expected.
func TestSend(t *testing.T) {
	file := example(t, "observer-slews")
	for _, x := range []struct {
		name string
		args []string
		code int
		out  []string
		errs string
	}{
		{"as somebody", []string{"GET /v1/frames/{frame_id}", "--as", "imre", "--record", "f-501"}, 0,
			[]string{"/v1/frames/f-501\n", "authorization: Bearer ‹token:", `"id":"f-501"`, "as imre: admit",
				"the record is imre's own", "The answer is what is declared."}, ""},
		{"a path of somebody else's", []string{"GET /v1/frames/f-602", "--as", "imre"}, 0,
			[]string{"/v1/frames/f-602\n", "\n403 forbidden", "the frame f-602 is tove's", "forbid (403)"}, ""},
		{"as nobody", []string{"GET /v1/people"}, 0, []string{"\n401 refused", "needs access or service"}, ""},
		{"with a broken credential", []string{"GET /v1/frames", "--as", "imre", "--broken", "expired"}, 0,
			[]string{"\n401 refused", "the credential does not verify"}, ""},
		{"changed", []string{"POST /v1/dome/slew", "--as", "sanna", "--body", `{"ra":1,"dec":2}`, "--header",
			"X-Note: by hand"},
			0, []string{"\n{\"ra\":1,\"dec\":2}\n", "x-note: by hand", "\n202 admitted"}, ""},
		{"a link", []string{"GET /v1/downloads/{frame_id}", "--as", "imre"}, 0,
			[]string{"sig=‹signature:", "\n200 admitted"}, ""},
		{"otherwise than declared", []string{"POST /v1/dome/slew", "--as", "imre"}, 1,
			[]string{"\n202 admitted", "forbid (403)", "The answer is not what is declared: admitted."}, ""},
		{"a probe", []string{"--probe", "crossing|POST /v1/dome/slew|tove|access|sound||"}, 1, []string{"as tove: " +
			"forbid"},
			""},
		{"a probe that is none", []string{"--probe", "crossing|GET /v1/none|tove|access|sound||"}, 2, nil,
			"no such probe"},
		{"a route that is none", []string{"GET /v1/farmes"}, 2, nil, "did you mean GET /v1/frames?"},
		{"somebody who is none", []string{"GET /v1/frames", "--as", "imer"}, 2, nil, "imer"},
		{"a way that is none", []string{"GET /v1/frames", "--as", "imre", "--broken", "xx"}, 2, nil,
			`cannot be broken as "xx"; the ways are malformed, empty`},
		{"a throwaway record", []string{"DELETE /v1/proposals/{proposal_id}", "--as", "imre"}, 2, nil,
			"say which proposal is asked for"},
		{"both", []string{"GET /v1/frames", "--probe", "x"}, 2, nil, "or --probe"},
		{"a header that is none", []string{"GET /v1/frames", "--header", "x"}, 2, nil, `"Name: value"`},
	} {
		code, out, errs := run(t, append([]string{"send", file, "--target", "stand-in"}, x.args...)...)
		assert.Equal(t, x.code, code, "%s: %s%s", x.name, out, errs)
		for _, s := range x.out {
			assert.Contains(t, out, s, x.name)
		}
		assert.Contains(t, errs, x.errs, x.name)
		assert.NotRegexp(t, `eyJ[A-Za-z0-9_-]{10,}\.`, out+errs, "no token")
	}
	code, out, _ := run(t, "send", file, "GET /v1/people", "--target", "stand-in", "--as", "sanna", "--format", "json")
	require.Equal(t, 0, code)
	var got struct {
		Route, Class string
		Agrees       bool
		Exchange     struct{ Status int }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, "GET /v1/people admitted", got.Route+" "+got.Class)
	assert.Equal(t, 200, got.Exchange.Status)
	assert.True(t, got.Agrees)
}
