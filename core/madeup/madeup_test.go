package madeup

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/inventory"
)

func TestNobodysValuesComeIn(t *testing.T) {
	for _, x := range []struct{ in, want string }{
		{`{"email": "jo.w+x@corp.co.uk", "name": "Jo Wu"}`, `{"email": "someone@example.com", "name": "Example"}`},
		{`{"name": "Left bracket", "size": 4}`, `{"name": "Left bracket", "size": 4}`},
		{`{"firstName": "Jo", "last_name": "Wu", "file_name": "a.txt"}`,
			`{"firstName": "Example", "last_name": "Example", "file_name": "a.txt"}`},
		{`{"mobile_phone": "07700 900 123", "n": "+44 20 7946 0018"}`,
			`{"mobile_phone": "15550 100 155", "n": "+15 55 0100 1555"}`},
		{`{"note": "write to a@b.example or c@d.example"}`,
			`{"note": "write to someone@example.com or someone@example.com"}`},
		{`{"date_of_birth": "1971-05-09", "starts": "2026-05-09"}`,
			`{"date_of_birth": "1990-01-01", "starts": "2026-05-09"}`},
		{`{"iban": "DE89 3704 0044 0532 0130 00", "pay": "4242424242424242", "order": "4242424242424241"}`,
			`{"iban": "DE00 0000 0000 0000 0000 00", "pay": "0000000000000000", "order": "4242424242424241"}`},
		{`{"street": "7 Mill Lane", "to": [{"emails": ["a@b.example"]}]}`,
			`{"street": "1 Example Street", "to": [{"emails": ["someone@example.com"]}]}`},
		{`{"given": "eyJhbGciOiJub25lIn0.eyJzdWIiOiJqbyJ9.", "password": "x", "id": "9b2f1d7c-0c1a-4e55-9d0a-3f4f6f1f2a10"}`,
			`{"given": "{given}", "password": "{password}", "id": "9b2f1d7c-0c1a-4e55-9d0a-3f4f6f1f2a10"}`},
		{`{"phone": 447700900123, "street": 7, "ssn": 1.5}`, `{"phone": 155501001555, "street": 7, "ssn": 1.5}`},
		{`["x@y.example", 3, {"tel": "55"}]`, `["someone@example.com", 3, {"tel": "55"}]`},
	} {
		var v any
		d := json.NewDecoder(strings.NewReader(x.in))
		d.UseNumber()
		require.NoError(t, d.Decode(&v))
		var m Maker
		out, err := json.Marshal(m.in("", v))
		require.NoError(t, err)
		assert.JSONEq(t, x.want, string(out))
		var was, is any
		require.NoError(t, json.Unmarshal([]byte(x.in), &was))
		require.NoError(t, json.Unmarshal(out, &is))
		if x.in == x.want {
			assert.Empty(t, m.changed)
		}
	}
}

// Of a form of several parts the fields come in as others do, and files with what kind they are alone.
func TestPartsOfABody(t *testing.T) {
	ct, body := declaration.Parts{{Name: "title", Text: "Left bracket"}, {Name: "mail", Text: "jo@corp.example"},
		{Name: "password", Text: "hunter2"}, {Name: "scan", File: "Jo Wu passport.PDF", Type: "application/pdf",
			Text: strings.Repeat("secret", 20_000)}, {Name: "odd", File: "no/ext.a b", Text: "x"},
		{Name: "title", Text: "again"}}.Body()
	var m Maker
	s := m.Sample(inventory.Folded{Template: "POST /scans", Best: inventory.Observed{Method: "POST", Path: "/scans",
		Status: 201, Type: ct, Body: body}})
	assert.Equal(t, declaration.Parts{{Name: "title", Text: "Left bracket"}, {Name: "mail",
		Text: "someone@example.com"},
		{Name: "password", Text: "{password}"}, {Name: "scan", File: "sample.PDF", Type: "application/pdf",
			Text: "made up"},
		{Name: "odd", File: "sample", Text: "made up"}}, s.Parts)
	assert.Contains(t, m.changed, "mail")
	for _, broken := range []string{"", "--millgate-part\r\nContent-Disposition: form-data; name=\"a\"\r\n\r\nx"} {
		s := m.Sample(inventory.Folded{Template: "POST /scans", Best: inventory.Observed{Method: "POST", Path: "/scans",
			Status: 201, Type: ct, Body: []byte(broken)}})
		assert.LessOrEqual(t, len(s.Parts), 1)
	}
}
