package answers

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/core/pointer"
)

// What counts as a member that is shown, and what does not.
func TestMembersThatAreNeverShown(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
answers: { never: { fields: [password, pin, locked], members: [
  { at: "**/token", type: string, status: 2xx }, { at: /items/*/cost, status: 200 }, { at: /list/1 }] } }
`), nil)
	require.Empty(t, msgs)
	for _, c := range []struct {
		name         string
		status       int
		body, sent   string
		want         string
		maskedBefore bool
	}{
		{name: "a text and a number", status: 200, body: `{"a":[{"pin":1234}],"password":"hunter2"}`,
			want: "/a/pin /password"},
		{name: "what is no value", status: 200, body: `{"pin":false,"password":null,"locked":{"since":1},"a":{"pin":[]}}`},
		{name: "an empty and a redacted one", status: 200, body: `{"pin":"","password":"********","a":{"pin":"[redacted]"}}`},
		{name: "a complaint about what was sent", status: 422, body: `{"errors":{"password":"must be longer"}}`,
			sent: `{"password":"short"}`},
		{name: "a list of complaints", status: 400, body: `{"password":["must be longer"]}`, sent: `{}`},
		{name: "what was sent comes back", status: 422, body: `{"errors":{"Password":"short"}}`,
			sent: `{"a":{"password":"short"}}`, want: "/errors/Password"},
		{name: "it comes back within a complaint", status: 400, body: `{"password":"'short' is too short"}`,
			sent: "password=short&x=1", want: "/password"},
		{name: "another is shown than was asked about", status: 422, body: `{"pin":1234}`, sent: `{"password":"x"}`,
			want: "/pin"},
		{name: "the complaint of a refusal", status: 403, body: `{"pin":"1234"}`, sent: `{"pin":"9999"}`, want: "/pin"},
		{name: "masked, and a complaint", status: 422, body: `{"password":"must be longer"}`,
			sent: `{"password":"short"}`, maskedBefore: true},
		{name: "masked, and it comes back", status: 422, body: `{"password":"short"}`, sent: `{"password":"short"}`,
			maskedBefore: true, want: "/password"},
		{name: "masked, and it comes back within a complaint", status: 422, body: `{"password":"short is too short"}`,
			sent: `{"password":"short"}`, maskedBefore: true, want: "/password"},
		{name: "masked, and redacted", status: 200, body: `{"password":"••••••"}`, maskedBefore: true},
		{name: "members by place, type and status", status: 201, body: `{"a":{"token":"x"},"items":[{"cost":1}]}`,
			want: "/a/token"},
		{name: "of another type", status: 200, body: `{"token":7,"items":[{"cost":{}},{"cost":null}],"list":[1,true]}`,
			want: "/items/cost /list"},
		{name: "of another status", status: 404, body: `{"token":"x","items":[{"cost":1}]}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.maskedBefore {
				m := mask.NewSet([]byte("k")).Begin()
				c.sent, c.body = m.Body(c.sent, "", false), m.Body(c.body, "", false)
				require.NotContains(t, c.sent+c.body, "short")
			}
			a := check.Answer{Status: c.status, Body: []byte(c.body), Sent: []byte(c.sent)}
			got := declaration.Names(shownMembers(a, a.JSON(), d.Answers),
				func(p pointer.JSON) string { return string(p) })
			assert.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}
