package app

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/workspace"
	"millgate/core/check/pages"
	"millgate/standin"
)

const pagesText = `millgate: 1.1
routes: [GET /a, POST /a, GET /b]
access: [{ at: /**, who: anyone }]
origins:
  - at: /** # all
    allow:
      https://x.example: { methods: [GET, POST], credentials: true } # ours
      https://y.example: {}
  - { at: GET /b, allow: any }
`

func TestPagesAreEdited(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	edit := func(c workspace.PageChange) (string, error) {
		e, err := a.Workspace.EditPages(pagesText, c)
		return strings.TrimPrefix(e.Text, pagesText[:strings.Index(pagesText, "origins:")]), err
	}
	x, y := "https://x.example", "https://y.example"
	for want, c := range map[string]workspace.PageChange{
		"https://x.example: { methods: GET, credentials: true, max_age: 10m } # ours": {Line: 5, Was: x, Page: x,
			Set: map[string]string{"methods": "GET", "max_age": "10m"}},
		"https://x.example: { methods: [GET, POST] } # ours": {Line: 5, Was: x, Page: x,
			Set: map[string]string{"credentials": ""}},
		"https://z.example: { methods: [GET, POST], headers: [a, b], credentials: true }": {Line: 5, Was: x,
			Page: "https://z.example", Set: map[string]string{"headers": "a, b"}},
		"https://z.example: { credentials: true }": {Line: 5, Page: "https://z.example",
			Set: map[string]string{"credentials": "true"}},
		"- at: GET /a # all\n": {Line: 5, At: []string{"GET /a"}, Was: y, Page: y},
		"- { at: GET /b, allow: { any: { methods: GET } } }": {Line: 9, Was: "any", Page: "any",
			Set: map[string]string{"methods": "GET"}},
		"- { at: GET /b, allow: { any: {}, https://x.example: {} } }": {Line: 9, Page: x},
		"- { at: GET /b, allow: { https://x.example: {} } }":          {Line: 9, Was: "any", Page: x},
		"- { at: GET /b, allow: none }":                               {Line: 9, Was: "any"},
		"- { at: [GET /a, POST /a], allow: { https://x.example: { methods: POST } } }": {
			At: []string{"GET /a", "POST /a"}, Page: x, Set: map[string]string{"methods": "POST"}},
	} {
		out, err := edit(c)
		if assert.NoError(t, err, want) {
			assert.Contains(t, out, want)
		}
	}
	out, err := edit(workspace.PageChange{Line: 5, Was: y})
	require.NoError(t, err)
	assert.NotContains(t, out, y)
	assert.Contains(t, out, "# ours")
	out, err = edit(workspace.PageChange{Line: 9})
	require.NoError(t, err)
	assert.NotContains(t, out, "GET /b")
	for want, c := range map[string]workspace.PageChange{
		"is not an origin":        {Line: 5, Was: x, Page: "https://x.example/path"},
		"permitted there already": {Line: 5, Was: x, Page: y},
		"not permitted there":     {Line: 5, Was: "https://q.example", Page: x},
		"begins in line 6":        {Line: 6, Was: x, Page: x},
		"say for which routes":    {Page: x},
		"is not a method":         {Line: 5, Was: x, Page: x, Set: map[string]string{"methods": "FETCH"}},
		"is not set in a form":    {Line: 5, Was: x, Page: x, Set: map[string]string{"who": "anyone"}},
	} {
		_, err := edit(c)
		assert.ErrorContains(t, err, want)
	}
}

// What pages could do by a text stands beside what they may, before anybody keeps it.
func TestPagesOfATextAreCompared(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	kept := a.Workspace.Declaration().Text
	v, err := a.View.Pages("")
	require.NoError(t, err)
	assert.Zero(t, v.Total)
	require.Len(t, v.Entries, 2)
	desk := v.Entries[0].Allow[0]
	assert.Equal(t, map[string]string{"methods": "GET, POST, PUT, PATCH, DELETE",
		"headers": "authorization, content-type",
		"expose":  "retry-after", "credentials": "true", "max_age": "10m"}, desk.Members)
	delete(desk.Members, "expose") // one alone would be written without brackets
	same, err := a.Workspace.EditPages(kept, workspace.PageChange{Line: v.Entries[0].Place.Line, Was: desk.Origin,
		Page: desk.Origin, Set: desk.Members})
	require.NoError(t, err)
	assert.True(t, kept == same.Text, "what a form shows is what stands there")

	e, err := a.Workspace.EditPages(kept, workspace.PageChange{Line: v.Entries[1].Place.Line, Page: "any"})
	require.NoError(t, err)
	v, err = a.View.Pages(e.Text)
	require.NoError(t, err)
	by := map[string]pages.Seen{}
	for _, p := range v.Pages {
		by[p.ID] = p
	}
	hostile := by["unrelated"]
	assert.Zero(t, hostile.Was["read"])
	assert.Equal(t, v.Entries[1].Routes, hostile.Now["read"], "any page reads what that entry decides")
	assert.Positive(t, v.Total)
	for _, x := range v.Turned {
		assert.NotEqual(t, x.Was, x.Becomes, x)
		assert.Contains(t, x.Route, "/v1/sky/")
	}
}
