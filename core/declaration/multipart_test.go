package declaration

import (
	"bytes"
	"encoding/json"
	"io"
	"mime"
	"mime/multipart"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func partsIn(t *testing.T, send string) (Parts, []Message) {
	t.Helper()
	d, msgs := Parse("t.gate.yaml", []byte("millgate: 1.1\nroutes: [{ at: POST /a, send: "+send+" }]\n"), nil)
	require.NotEmpty(t, d.Routes)
	return d.Routes[0].Send.Parts, msgs
}

// What is declared, written again, as JSON, and as it is sent are the same parts in the same order.
func TestParts(t *testing.T) {
	t.Parallel()
	parts, msgs := partsIn(t, `{ multipart: { title: "a \"b\"", n: 3, "odd\"name": x, file: { name: a.fits, `+
		`type: application/fits, text: "hello\n--millgate-part" }, note: { type: text/plain, text: n } } }`)
	require.False(t, Failed(msgs), "%v", msgs)
	want := Parts{{Name: "title", Text: `a "b"`}, {Name: "n", Text: "3"}, {Name: `odd"name`, Text: "x"},
		{Name: "file", File: "a.fits", Type: "application/fits", Text: "hello\n--millgate-part"},
		{Name: "note", Type: "text/plain", Text: "n"}}
	assert.Equal(t, want, parts)
	again, msgs := partsIn(t, "{ multipart: "+parts.FlowText()+" }")
	assert.Empty(t, Failed(msgs))
	assert.Equal(t, want, again)
	b, err := json.Marshal(Sample{Parts: parts})
	require.NoError(t, err)
	var s Sample
	require.NoError(t, json.Unmarshal(b, &s))
	assert.Equal(t, want, s.Parts)

	ct, body := parts.Body()
	media, params, err := mime.ParseMediaType(ct)
	require.NoError(t, err)
	assert.Equal(t, "multipart/form-data", media)
	in := multipart.NewReader(bytes.NewReader(body), params["boundary"])
	for _, x := range want {
		p, err := in.NextRawPart()
		require.NoError(t, err)
		name := x.Name
		if name == `odd"name` {
			name = "odd%22name"
		}
		assert.Equal(t, name, p.FormName())
		assert.Equal(t, x.File, p.FileName())
		assert.Equal(t, x.Type, p.Header.Get("Content-Type"))
		text, err := io.ReadAll(p)
		require.NoError(t, err)
		assert.Equal(t, x.Text, string(text))
	}
	_, err = in.NextRawPart()
	assert.ErrorIs(t, err, io.EOF)
}

func TestPartsThatAreWrong(t *testing.T) {
	t.Parallel()
	for send, want := range map[string]string{
		"{ multipart: { a: { nam: x } } }":               `"nam" is not known`,
		"{ multipart: [a] }":                             "multipart",
		"{ multipart: { a: [x] } }":                      "part a must be text",
		`{ multipart: { a: { type: "x\r\nEvil: 1" } } }`: "has a line end",
		"{ multipart: { a: { name: [x] } } }":            "name must be text",
	} {
		_, msgs := partsIn(t, send)
		require.NotEmpty(t, msgs, send)
		assert.Contains(t, msgs[0].Text, want, send)
	}
	d, msgs := Parse("t.gate.yaml", []byte("millgate: 1\nroutes: [{ at: POST /a, send: { multipart: { a: b } } }]\n"),
		nil)
	require.True(t, Failed(msgs))
	assert.Contains(t, msgs[0].Text, "came with version 1.1")
	assert.Empty(t, d.Routes[0].Send.Parts)
	for _, text := range []string{`[]`, `{"a": 3}`, `{"a": {"nam": "x"}}`, `{"a"`} {
		var p Parts
		assert.Error(t, json.Unmarshal([]byte(text), &p), text)
	}
}
