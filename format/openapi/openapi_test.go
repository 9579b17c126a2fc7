package openapi

import (
	"encoding/json"
	"fmt"
	"os"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const text = `openapi: 3.1.0
info: { title: x, version: "1" }
servers: [{ url: "https://api.example/base/" }]
paths:
  /things/{id}:
    parameters:
      - { name: id, in: path, required: true, schema: { type: string }, example: t-1 }
    get:
      summary: One thing
      parameters:
        - { name: full, in: query, required: true, schema: { type: boolean, default: true } }
        - { name: page, in: query, schema: { type: integer } }
        - { name: X-Trace, in: header, required: true, schema: { type: string, enum: [a, b] } }
      responses:
        "200":
          description: ok
          content:
            application/json: { schema: { $ref: "#/components/schemas/Thing" } }
        default:
          description: error
          content:
            application/problem+json: { schema: { type: object, additionalProperties: true, properties: { detail: { type: string } } } }
    delete: { responses: { "204": { description: gone } } }
  /things:
    post:
      requestBody:
        content:
          application/json: { schema: { $ref: "#/components/schemas/New" } }
      responses: { "201": { description: made } }
  /form:
    post:
      requestBody:
        content:
          application/x-www-form-urlencoded: { schema: { type: object, properties: { a: { type: string, example: b } } } }
      responses: { "200": { description: ok } }
  /raw:
    put:
      requestBody:
        content:
          text/plain: { example: hello }
      responses: { "200": { description: ok } }
components:
  schemas:
    Base: { type: object, properties: { id: { type: string, readOnly: true } } }
    New:
      allOf:
        - { $ref: "#/components/schemas/Base" }
        - type: object
          properties:
            name: { type: string, minLength: 8 }
            when: { type: string, format: date-time }
            count: { type: integer, minimum: 3 }
            tags: { type: array, items: { type: string, enum: [red] } }
            flag: { type: boolean }
            kind: { oneOf: [{ type: string, const: x, example: x }, { type: integer }] }
    Thing:
      type: object
      additionalProperties: false
      properties:
        id: { type: string }
        parts: { type: array, items: { type: object, properties: { n: { type: integer } } } }
        any: { oneOf: [{ type: string }, { type: integer }] }
`

func read(t *testing.T, text string) map[string]declaration.Imported {
	t.Helper()
	routes, problems := Read([]byte(text), nil)
	require.Empty(t, problems)
	out := map[string]declaration.Imported{}
	for _, r := range routes {
		out[r.Method+" "+r.Path] = r
	}
	return out
}

func TestRead(t *testing.T) {
	for _, version := range []string{"3.1.0", "3.0.3"} {
		got := read(t, strings.Replace(text, "3.1.0", version, 1))
		require.Len(t, got, 5, version)
		one := got["GET /base/things/{id}"]
		assert.Equal(t, "One thing", one.Summary)
		assert.Equal(t, 8, one.Line)
		assert.Equal(t, map[string]string{"id": "t-1"}, one.Sample.Path, "the path's own parameters count")
		assert.Equal(t, map[string]string{"full": "true"}, one.Sample.Query, "only what is required")
		assert.Equal(t, map[string]string{"X-Trace": "a"}, one.Sample.Headers)
		assert.Equal(t, map[string]string{"id": "t-1"}, got["DELETE /base/things/{id}"].Sample.Path)

		shape := one.Answers[200]
		assert.True(t, shape.Closed)
		assert.Contains(t, shape.Fields["parts"].Items.Fields, "n")
		assert.True(t, shape.Fields["any"].Open, "what may be one of several is not held to a list")
		assert.True(t, one.Answers[0].Open)

		var body map[string]any
		require.NoError(t, json.Unmarshal(got["POST /base/things"].Sample.JSON, &body))
		assert.NotContains(t, body, "id", "what is read only is not sent")
		assert.GreaterOrEqual(t, len(body["name"].(string)), 8)
		assert.Equal(t, []any{"red"}, body["tags"])
		assert.EqualValues(t, 3, body["count"])
		assert.Equal(t, true, body["flag"])
		assert.Equal(t, "x", body["kind"])
		assert.Equal(t, map[string]string{"a": "b"}, got["POST /base/form"].Sample.Form)
		assert.Equal(t, "hello", got["PUT /base/raw"].Sample.Text)
	}
}

func TestJSONIsReadToo(t *testing.T) {
	got := read(t, `{"openapi":"3.0.0","info":{"title":"x","version":"1"},"paths":{"/a":{"get":{"responses":{"200":{"description":"ok"}}}}}}`)
	assert.Contains(t, got, "GET /a")
}

func TestWhatIsNotOpenAPI(t *testing.T) {
	for _, s := range []string{"", "hello", "swagger: \"2.0\"\npaths: {}\n", "openapi: 4.0.0\npaths: {}\n",
		"openapi: 3.0.0\ninfo: {title: x, version: '1'}\n", "{", "openapi: [\n"} {
		routes, problems := Read([]byte(s), nil)
		assert.Empty(t, routes, s)
		require.NotEmpty(t, problems, s)
		assert.ErrorIs(t, problems[len(problems)-1], ErrFormat, s)
	}
}

func TestSchemasThatTurnInCirclesEnd(t *testing.T) {
	routes, _ := Read([]byte(`openapi: 3.0.0
info: { title: x, version: "1" }
paths:
  /a:
    post:
      requestBody: { content: { application/json: { schema: { $ref: "#/components/schemas/Node" } } } }
      responses: { "200": { description: ok, content: { application/json: { schema: { $ref: "#/components/schemas/Node" } } } } }
components:
  schemas:
    Node: { type: object, properties: { name: { type: string }, next: { $ref: "#/components/schemas/Node" }, all: { type: array, items: { $ref: "#/components/schemas/Node" } } } }
`), nil)
	require.Len(t, routes, 1)
	assert.True(t, json.Valid(routes[0].Sample.JSON))
	assert.Less(t, len(routes[0].Sample.JSON), 1<<20)
}

func TestTheExampleIsRead(t *testing.T) {
	for file, n := range map[string]int{"fernhollow.openapi.yaml": 45, "fernhollow-id.openapi.yaml": 10} {
		b, err := os.ReadFile("../../examples/fernhollow/" + file)
		require.NoError(t, err)
		routes, problems := Read(b, nil)
		assert.Empty(t, problems)
		assert.Len(t, routes, n, fmt.Sprint(file))
	}
}

// Schemas that refer to each other are finite.
func TestSchemasThatReferToEachOther(t *testing.T) {
	var b strings.Builder
	b.WriteString("openapi: 3.1.0\ninfo: { title: a, version: '1' }\npaths:\n  /a:\n    post:\n      requestBody: { " +
		"content: { application/json: { schema: { $ref: '#/components/schemas/S0' } } } }\n      responses: { '200': " +
		"{ description: d, content: { application/json: { schema: { $ref: '#/components/schemas/S0' } } } } " +
		"}\ncomponents:\n  schemas:\n")
	const n = 8
	for i := range n {
		fmt.Fprintf(&b, "    S%d:\n      type: object\n      properties:\n        name: { type: string }\n", i)
		for k := range n {
			fmt.Fprintf(&b, "        p%d: { $ref: '#/components/schemas/S%d' }\n", k, k)
		}
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	routes, errs := Read([]byte(b.String()), nil)
	runtime.ReadMemStats(&after)
	require.Empty(t, errs)
	require.Len(t, routes, 1)
	assert.Contains(t, string(routes[0].Sample.JSON), `"name"`)
	assert.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(300), "MB in all")
}
