package declaration_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const listing = `millgate: 1.1
routes: [POST /drafts, GET /things, "GET /things/{id}", GET /drafts, POST /things, "GET /teams/{team}/things", GET /teams]
roles: { reader: , boss: }
schemes: { s: { kind: bearer } }
identities:
  ann: { roles: reader, in: { team: north }, credentials: { s: { token: env:A } } }
  bob: { roles: reader, in: { team: south }, credentials: { s: { token: env:B } } }
  meg: { roles: boss, credentials: { s: { token: env:M } } }
records:
  thing:
    fills: "/things/{id}"
    owned_by: { ann: [t-1], bob: [t-2] }
    in: { team: { north: [t-1, t-3], south: [t-2] } }
    groups: { shown: [t-4] }
    listed:
      - { at: GET /things, each: /items, pages: { query: page, from: 0 } }
      - { at: GET /drafts, id: "", pages: { next: /links/next } }
      - { at: "GET /teams/{team}/things", each: /items, id: /ref }
  team: { fills: team, listed: { at: GET /teams } }
access:
  - { at: GET /things, who: [{ who: anyone, on: shown }, owner, { who: reader, on: team }, boss] }
  - { at: GET /drafts, who: [owner, boss] }
  - { at: "GET /teams/{team}/things", who: [{ who: reader, on: team }, boss], owner_of: team }
  - { at: GET /teams, who: { who: reader, on: team } }
  - { at: ["GET /things/{id}", POST /things, POST /drafts], who: boss }
`

// What a list shows follows from the words of its entry, and everybody who is admitted on some records is admitted.
func TestLists(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(listing), nil)
	require.Empty(t, msgs)
	at := func(key string) int { return d.RouteNamed(key) }
	l := d.List(at("GET /things"))
	require.NotNil(t, l)
	assert.Equal(t, "/items", string(l.Each))
	assert.Equal(t, "/id", string(l.ID))
	assert.Equal(t, declaration.Pages{Query: "page"}, l.Pages)
	assert.True(t, l.Pages.Paged())
	assert.Empty(t, d.List(at("GET /drafts")).ID, "a row is the id")
	assert.False(t, d.List(at("GET /teams")).Pages.Paged())
	assert.Nil(t, d.List(at("POST /things")))
	assert.Equal(t, "thing", d.About(at("GET /things")).Name)
	assert.Equal(t, "team", d.About(at("GET /teams/{team}/things")).Name, "what is behind the path comes first")

	assert.True(t, d.Admission(at("GET /things")).Open(), "anyone, who is shown some")
	assert.Equal(t, d.Entry(at("GET /teams/{team}/things")), d.Admission(at("GET /teams/{team}/things")))
	assert.Equal(t, d.Accepted(d.Entry(at("GET /drafts"))), d.Accepted(d.Admission(at("GET /drafts"))))

	for _, c := range []struct{ route, who, shown, not, unknown string }{
		{"GET /things", "", "t-4", "t-1 t-2 t-3", "t-9"},
		{"GET /things", "ann", "t-1 t-3 t-4", "t-2", "t-9"},
		{"GET /things", "bob", "t-2 t-4", "t-1 t-3", "t-9"},
		{"GET /things", "meg", "t-1 t-2 t-3 t-4 t-9", "", ""},
		{"GET /drafts", "ann", "t-1", "t-2 t-3 t-4", "t-9"},
		{"GET /teams/{team}/things", "ann", "t-1 t-3", "t-2 t-4", "t-9"},
		{"GET /teams", "bob", "south", "", "north"},
	} {
		id, list := d.IdentityNamed(c.who), d.List(at(c.route))
		x := d.Rows(at(c.route), id)
		for _, r := range strings.Fields(c.shown) {
			shown, known := list.Shows(x, r, id)
			assert.True(t, shown && known, "%s: %s to %s", c.route, r, c.who)
		}
		for _, r := range strings.Fields(c.not) {
			shown, known := list.Shows(x, r, id)
			assert.True(t, !shown && known, "%s: %s to %s", c.route, r, c.who)
		}
		for _, r := range strings.Fields(c.unknown) {
			shown, known := list.Shows(x, r, id)
			assert.False(t, shown || known, "%s: %s to %s", c.route, r, c.who)
		}
	}
}

func TestWhatListsCannotSay(t *testing.T) {
	for _, c := range []struct{ name, old, new, says, hint string }{
		{"a version before", "millgate: 1.1", "millgate: 1", "`in` of identity ann came with version 1.1", "1.1"},
		{"no route", "at: GET /drafts, id", "at: GET /draft, id", "GET /draft is no route of the inventory",
			`did you mean "GET /drafts"?`},
		{"a pattern", "at: GET /drafts, id", "at: \"GET /**\", id", `"GET /**" is no route`, "GET /things"},
		{"a write", "at: GET /drafts, id", "at: POST /things, id", "POST /things is no GET", "GET /things"},
		{"twice", "listed: { at: GET /teams }", "listed: { at: GET /things }", "GET /things lists thing already",
			"under one record"},
		{"without its route", "listed: { at: GET /teams }", "listed: { each: /items }", "does not say which route",
			"at: GET"},
		{"pages that are none", "pages: { next: /links/next }", "pages: { from: 2 }", "by a number in the query, or by",
			"write  pages"},
		{"pages of both kinds", "pages: { next: /links/next }", "pages: { next: /a, query: p }", "in the query, or by",
			"write  pages"},
		{"no pointer", "each: /items, pages", "each: items, pages", "each must be a JSON Pointer", "/items"},
		{"no parameter", "query: page", "query: \"a=b\"", `"a=b" is no name of a parameter`, "query: page"},
		{"a group of another record", "at: GET /teams, who: { who: reader, on: team }",
			"at: GET /teams, who: { who: reader, on: shown }", "GET /teams is about the record team", "record team"},
		{"nothing listed", "POST /things, POST /drafts], who: boss", "POST /things, POST /drafts], who: owner",
			"`owner` is admitted, but no record fills POST", "listed"},
	} {
		require.Contains(t, listing, c.old, c.name)
		_, msgs := declaration.Parse("x", []byte(strings.Replace(listing, c.old, c.new, 1)), nil)
		require.NotEmpty(t, msgs, c.name)
		assert.Contains(t, msgs[0].Text, c.says, c.name)
		assert.Contains(t, msgs[0].Hint, c.hint, c.name)
	}
}
