package openapi

import (
	"encoding/json"
	"fmt"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

func files(m map[string]string) Load {
	return func(ref string) ([]byte, error) {
		if s, ok := m[ref]; ok {
			return []byte(s), nil
		}
		return nil, fmt.Errorf("there is no such file")
	}
}

func TestExternalReferences(t *testing.T) {
	main := `openapi: 3.0.3
info: { title: Spread, version: "1" }
paths:
  /things:
    post:
      requestBody: { content: { application/json: { schema: { $ref: "schemas/new.yaml" } } } }
      responses: { "201": { description: made } }
  /more:
    $ref: "paths/more.yaml#/item"
  /own:
    get:
      summary: Own
      responses: { "200": { description: ok, content: { application/json: { schema: { $ref: "#/components/schemas/Own" } } } } }
components:
  schemas:
    Own: { type: object, properties: { a: { type: string } } }
`
	load := files(map[string]string{
		"schemas/new.yaml": "type: object\nproperties:\n  name: { $ref: \"common.json#/defs/name\" }\n  parent: { " +
			"$ref: \"#\" }\n",
		"schemas/common.json": `{"defs": {"name": {"type": "string", "example": "from afar"}}}`,
		"paths/more.yaml":     "item:\n  get:\n    summary: More\n    responses: { \"200\": { description: ok } }\n",
	})
	d := Describe([]byte(main), load)
	require.Empty(t, d.Problems)
	assert.Equal(t, "Spread", d.Title)
	byKey := map[string]int{}
	for i, r := range d.Routes {
		byKey[r.Method+" "+r.Path] = i
	}
	require.Len(t, byKey, 3)
	assert.Equal(t, "More", d.Routes[byKey["GET /more"]].Summary)
	var body map[string]any
	require.NoError(t, json.Unmarshal(d.Routes[byKey["POST /things"]].Sample.JSON, &body))
	assert.Equal(t, "from afar", body["name"])
	assert.Equal(t, 11, d.Routes[byKey["GET /own"]].Line, "lines are those of the text")

	// Most write references without quotes, where a # would begin a comment.
	bare := regexp.MustCompile(`\$ref: "([^#"][^"]*)"`).ReplaceAllString(main, "$$ref: $1")
	require.NotEqual(t, main, bare)
	plain := Describe([]byte(bare), load)
	require.Empty(t, plain.Problems)
	assert.Equal(t, d.Routes, plain.Routes)

	asJSON, err := json.Marshal(map[string]any{"openapi": "3.1.0", "info": map[string]any{"title": "x", "version": "1"},
		"paths": map[string]any{"/more": map[string]any{"$ref": "paths/more.yaml#/item"}}})
	require.NoError(t, err)
	routes, problems := Read(asJSON, load)
	require.Empty(t, problems)
	assert.Equal(t, "More", routes[0].Summary)

	// What cannot be read is said, and the rest is there.
	d = Describe([]byte(main), files(nil))
	assert.Contains(t, fmt.Sprint(d.Problems), "schemas/new.yaml is referred to: there is no such file")
	assert.NotEmpty(t, d.Routes)
	d = Describe([]byte("openapi: 3.0.3\ninfo: { title: x, version: '1' }\npaths:\n  /a:\n    get: { responses: { "+
		"\"200\": { $ref: \"https://else.example/r.yaml\" } } }\n"), nil)
	assert.Contains(t, fmt.Sprint(d.Problems), "nothing is fetched")
}

func TestSecurityIsRead(t *testing.T) {
	d := Describe([]byte(`openapi: 3.0.3
info: { title: x, version: "1" }
security: [{ token: [] }]
paths:
  /a: { get: { responses: { "200": { description: ok } } } }
  /b: { get: { security: [], responses: { "200": { description: ok } } } }
  /c: { get: { security: [{ key: [] }, { token: [read, write] }], responses: { "200": { description: ok } } } }
components:
  securitySchemes:
    token: { type: oauth2, flows: { clientCredentials: { tokenUrl: "https://id.example/token", scopes: { read: r } } } }
    key: { type: apiKey, in: header, name: X-Key }
    plain: { type: http, scheme: basic }
    session: { type: apiKey, in: cookie, name: sid }
`), nil)
	require.Empty(t, d.Problems)
	assert.Equal(t, map[string][]Needs{"GET /a": {{{"token", nil}}}, "GET /b": {},
		"GET /c": {{{"key", nil}}, {{"token", []string{"read", "write"}}}}}, d.Security)
	assert.Equal(t, "key with token (read)", Needs{{"key", nil}, {"token", []string{"read"}}}.String())
	assert.Equal(t, SecurityScheme{Name: "token", Kind: "bearer", TokenURL: "https://id.example/token",
		Scopes: []string{"read"}}, d.Schemes["token"])
	assert.Equal(t, "api-key", d.Schemes["key"].Kind)
	assert.Equal(t, "basic", d.Schemes["plain"].Kind)
	assert.Equal(t, "cookie", d.Schemes["session"].Kind)
}

// A link that fills the last parameter of another operation says where a record comes from.
func TestLinksAreRead(t *testing.T) {
	d := Describe([]byte(`openapi: 3.0.3
info: { title: x, version: "1" }
servers: [{ url: /v1 }]
paths:
  /things:
    post:
      responses:
        "201":
          description: made
          links:
            one: { operationId: getThing, parameters: { thing_id: "$response.body#/data/id" } }
            two: { operationRef: "#/paths/~1things~1{thing_id}/delete", parameters: { path.thing_id: "$response.body#/data/id" } }
            three: { operationId: getThing, parameters: { thing_id: $request.query.x } }
            four: { operationId: nobody, parameters: { thing_id: "$response.body#/id" } }
        "400": { description: no, links: { one: { operationId: getThing, parameters: { thing_id: "$response.body#/x" } } } }
  "/things/{thing_id}":
    parameters: [{ name: thing_id, in: path, required: true, schema: { type: string } }]
    get: { operationId: getThing, responses: { "200": { description: ok } } }
    delete: { responses: { "204": { description: gone } } }
`), nil)
	require.Empty(t, d.Problems)
	assert.Equal(t, []Link{{"POST /v1/things", "GET /v1/things/{thing_id}", "thing_id", "/data/id"},
		{"POST /v1/things", "DELETE /v1/things/{thing_id}", "thing_id", "/data/id"}}, d.Links)
}

// What is made from a schema is what the schema allows.
func TestSamplesFitTheirSchema(t *testing.T) {
	for schema, want := range map[string]string{
		`{ type: integer, minimum: 5 }`:                                         `5`,
		`{ type: integer, maximum: -2 }`:                                        `-2`,
		`{ type: integer, exclusiveMinimum: 3, multipleOf: 4 }`:                 `4`,
		`{ type: number, exclusiveMinimum: 0, maximum: 0.5 }`:                   `0.25`,
		`{ type: string, maxLength: 3 }`:                                        `"pro"`,
		`{ type: string, minLength: 7 }`:                                        `"probexx"`,
		`{ type: string, pattern: "^[A-Z]{3}-\\d{2,}$" }`:                       `"AAA-00"`,
		`{ type: string, pattern: "^(red|blue)$" }`:                             `"red"`,
		`{ type: string, pattern: "^x+$", minLength: 4 }`:                       `"xxxx"`,
		`{ type: string, format: ipv4 }`:                                        `"192.0.2.1"`,
		`{ type: array, minItems: 2, items: { type: boolean } }`:                `[true,true]`,
		`{ type: [string, "null"], enum: [a, b] }`:                              `"a"`,
		`{ type: object, properties: { a: { type: string, readOnly: true } } }`: `{}`,
	} {
		routes, problems := Read([]byte("openapi: 3.1.0\ninfo: { title: x, version: '1' }\npaths:\n  /a:\n    "+
			"post:\n      requestBody: { content: { application/json: { schema: "+schema+
			" } } }\n      responses: { \"200\": { description: ok } }\n"), nil)
		require.Empty(t, problems, schema)
		assert.JSONEq(t, want, string(routes[0].Sample.JSON), schema)
	}
}

// The parts of a body are those of its schema in their order, with files as files.
func TestMultipart(t *testing.T) {
	routes, problems := Read([]byte(`openapi: 3.1.0
info: { title: x, version: '1' }
paths:
  /a:
    post:
      requestBody:
        content:
          multipart/form-data:
            schema:
              type: object
              properties:
                title: { type: string, example: Left }
                size: { type: integer, example: 3 }
                frame: { type: string, format: binary }
                notes: { contentMediaType: text/csv }
                about: { type: object, properties: { a: { type: integer, example: 1 } } }
            encoding: { frame: { contentType: "application/fits, image/png" } }
      responses: { "201": { description: made } }
`), nil)
	require.Empty(t, problems)
	assert.Equal(t, declaration.Parts{{Name: "title", Text: "Left"}, {Name: "size", Text: "3"},
		{Name: "frame", File: "sample", Type: "application/fits", Text: "made up"},
		{Name: "notes", File: "sample", Type: "text/csv", Text: "made up"}, {Name: "about", Text: `{"a":1}`}},
		routes[0].Sample.Parts)
}

func FuzzRead(f *testing.F) {
	f.Add(text)
	f.Add("openapi: 3.0.0\npaths:\n  /a: { $ref: \"x.yaml\" }\n")
	f.Add(`{"openapi":"3.1.0","paths":{"/a":{"get":{"responses":{"200":{"$ref":"x.yaml#/y"}}}}}}`)
	f.Fuzz(func(t *testing.T, s string) {
		done := make(chan bool)
		go func() { Describe([]byte(s), files(map[string]string{"x.yaml": s})); close(done) }()
		select {
		case <-done:
		case <-time.After(5 * time.Second):
			t.Fatal("it does not end")
		}
	})
}
