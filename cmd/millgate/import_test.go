package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const described = `openapi: 3.1.0
info: { title: Things, version: "1" }
components: { securitySchemes: { key: { type: apiKey, in: header, name: X-Key } } }
security: [{ key: [] }]
paths:
  /things: { get: { responses: { "200": { description: all } } } }
  /things/{id}: { $ref: "paths/thing.yaml" }
`

const recorded = `{"log": {"version": "1.2", "creator": {"name": "x", "version": "1"}, "entries": [
  {"startedDateTime": "2026-11-01T10:00:00Z", "time": 1, "request": {"method": "POST",
   "url": "https://api.example/orders",
   "httpVersion": "HTTP/1.1", "headers": [], "queryString": [], "cookies": [], "headersSize": -1, "bodySize": 30,
   "postData": {"mimeType": "application/json", "text": "{\"author\": \"a note\", \"to\": \"jo@corp.example\", \"api_key\": \"hush-hush\"}"}},
   "response": {"status": 201, "statusText": "", "httpVersion": "HTTP/1.1", "headers": [], "cookies": [],
   "content": {"size": 0, "mimeType": ""}, "redirectURL": "", "headersSize": -1, "bodySize": 0}, "cache": {},
   "timings": {"send": 0, "wait": 1, "receive": 0}}]}}`

func TestRoutesAreImported(t *testing.T) {
	dir := t.TempDir()
	file := func(name string, text ...string) string {
		path := filepath.Join(dir, name)
		if len(text) > 0 {
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
			require.NoError(t, os.WriteFile(path, []byte(text[0]), 0o600))
		}
		return path
	}
	read := func(name string) string {
		b, err := os.ReadFile(file(name))
		require.NoError(t, err)
		return string(b)
	}
	millgate := func(args ...string) (int, string, string) { return run(t, append([]string{"import"}, args...)...) }
	table := file("routes.txt", "GET|POST /orders/:id  One of them\nANY /files/*rest\nnothing\n")

	code, out, errs := millgate(table)
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "routes:\n  - { at: \"GET /orders/{id}\", summary: One of them }\n")
	assert.NotContains(t, out, "/files", "it is unclear")
	assert.Contains(t, errs, "2 new, 5 unclear")
	assert.Contains(t, errs, `not read `+table+`:3: "nothing" is not METHOD /path`)

	gate := file("policy.gate.yaml")
	code, out, _ = millgate(table, "--into", gate, "--dry-run")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "nothing was written")
	assert.NoFileExists(t, gate)

	file("policy.gate.yaml", "millgate: 1 # ours\nroutes:\n  - GET /health # first\n")
	code, out, errs = millgate(table, "--into", gate, "--unclear")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "7 routes are in")
	text := read("policy.gate.yaml")
	assert.Contains(t, text, "millgate: 1.1 # ours\nroutes:\n  - GET /health # first\n")
	assert.Contains(t, text, "DELETE /files/{rest}")
	assert.Contains(t, text, "access:\n  - { at: \"/**\", who: undecided }\n", "nobody has decided yet")
	code, out, _ = millgate(table, "--into", gate)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "7 same")
	assert.Equal(t, text, read("policy.gate.yaml"), "there is nothing to add")

	// A description that stands there already stays where it is, with what it refers to.
	api := file("api/things.openapi.yaml", described)
	file("api/paths/thing.yaml", `{ get: { responses: { "200": { description: one } } } }`)
	code, out, errs = millgate(api, "--into", gate, "--propose", "scheme key")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, `+ proposed "scheme key"`)
	assert.Contains(t, out, `  proposed "access key"`)
	assert.Contains(t, read("policy.gate.yaml"), "- from: api/things.openapi.yaml\n")
	assert.Contains(t, read("policy.gate.yaml"), "key: { kind: api-key, in: header, name: X-Key }")
	assert.NoFileExists(t, file("things.openapi.yaml"))
	code, out, _ = run(t, "review", gate, "--format", "json")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "GET /things/{id}")

	// One from elsewhere is put beside it.
	elsewhere := filepath.Join(t.TempDir(), "other.openapi.yaml")
	require.NoError(t, os.WriteFile(elsewhere, []byte(strings.NewReplacer("/things", "/others",
		`{ $ref: "paths/thing.yaml" }`,
		`{ get: { responses: { "200": { description: one } } } }`).Replace(described)), 0o600))
	code, _, errs = millgate(elsewhere, "--into", gate, "--host", "id")
	require.Equal(t, 0, code, errs)
	assert.FileExists(t, file("other.openapi.yaml"))

	har := file("visit.har", recorded)
	code, out, errs = millgate(har, table, "--format", "json")
	require.Equal(t, 0, code, errs)
	var res struct {
		Files []struct {
			Kind, Origin string
			Notes        []string
			Items        []struct {
				Route, State, Send string
				Taken              bool
			}
		}
		Written bool
		Text    string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &res))
	require.Len(t, res.Files, 2)
	assert.Equal(t, []string{"har", "https://api.example"}, []string{res.Files[0].Kind, res.Files[0].Origin})
	assert.Contains(t, res.Text, `"author": "a note"`, "it is no secret")
	assert.Contains(t, res.Text, `"api_key": "{api_key}"`)
	assert.NotContains(t, out, "hush-hush")
	assert.NotContains(t, out, "jo@corp.example")
	assert.Contains(t, res.Files[0].Notes, "Values of to in samples are made up, in the same form: they looked like "+
		"somebody's.")
	assert.False(t, res.Written)
	assert.Equal(t, "unclear", res.Files[1].Items[2].State)
	assert.False(t, res.Files[1].Items[2].Taken)

	broken := file("broken.gate.yaml", "millgate: 1\nroutes: [GET a]\n")
	for says, args := range map[string][]string{
		"no such file":                {file("none.txt")},
		"there is nothing in it":      {file("empty.txt", "")},
		"has errors; mend them first": {table, "--into", broken},
		`did you mean "scheme key"`:   {api, "--propose", "scheme keys"},
		"nothing is proposed":         {table, "--propose", "x"},
		"is not something to import":  {table, "--kind", "wsdl"},
		"--format is text or json":    {table, "--format", "xml"},
		"the correction":              {har, "--template", "/a/../b"},
		"requires at least 1 arg":     {},
	} {
		code, out, errs = millgate(args...)
		assert.Equal(t, 2, code, says)
		assert.Contains(t, out+errs, says)
	}
	assert.Equal(t, "millgate: 1\nroutes: [GET a]\n", read("broken.gate.yaml"))
}
