package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReveals(t *testing.T) {
	control := Answer{Body: []byte(`{"items":[{"id":"f-501","filter":"r","object":"Andromeda & co","state":"open",` +
		`"exposure":120}]}`)}
	for _, c := range []struct {
		name, asked, body string
		want              int
	}{
		{"JSON, by name and value", "", `{"id":"f-501","state":"open"}`, 2},
		{"JSON, another name", "", `{"state":"f-501"}`, 0},
		{"a page", "", `<td>f-501<td>Andromeda &amp; co<td>120`, 3},
		{"a table of numbers first", "", "120,f-501\n", 2},
		{"words of any page", "", `<p>The r door is open`, 0},
		{"within another word", "", `<p>xf-501, f-5012, 1200`, 0},
		{"behind one of those", "", `<p>xf-501 and f-501`, 1},
		{"what was sent", "http://h/f/f-501?exposure=120", `<p>There is no f-501 (120).`, 0},
		{"nothing", "", "", 0},
	} {
		got := Answer{Asked: c.asked, Body: []byte(c.body)}.Reveals(control)
		assert.Len(t, got, c.want, c.name)
	}
	assert.Empty(t, Answer{Body: []byte("f-501")}.Reveals(Answer{Body: []byte("<p>f-501")}), "no values to show")
}
