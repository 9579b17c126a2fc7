package declaration_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const teamed = `millgate: 1.1
roles: { observer: , operator: }
schemes: { s: { kind: api-key, in: header, name: X-Key } }
identities:
  imre: { roles: observer, in: { team: spectra }, credentials: { s: { key: env:A } } }
  sanna: { roles: operator, in: { team: [spectra, "7"] }, credentials: { s: { key: env:B } } }
records:
  note:
    fills: note_id
    owned_by: { imre: [n-1] }
    in: { team: { spectra: [n-1, n-3], 7: [n-2] } }
    groups: { published: [n-2] }
  log: { fills: log_id }
routes: ["GET /notes/{note_id}", "GET /logs/{log_id}", GET /plain]
access:
  - { at: "GET /notes/{note_id}", who: [owner, { who: operator, on: team }, { who: anyone, on: published }] }
  - { at: "GET /logs/{log_id}", who: { who: identity:imre, on: own } }
  - { at: GET /plain, who: operator }
`

func TestOnIsRead(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(teamed), nil)
	require.Empty(t, msgs)
	e := d.Entry(0)
	assert.Equal(t, "[owner, { who: operator, on: team }, { who: anyone, on: published }]", declaration.WhoList(e.Who))
	assert.Equal(t, `{ who: "identity:imre", on: own }`, declaration.WhoList(d.Entry(1).Who))
	var words []string
	for _, o := range e.Words() {
		words = append(words, fmt.Sprint(o.Kind, o.Name, ": ", o.Text()))
	}
	assert.Equal(t, []string{"1own: its own", "3team: of its own team", "2published: published"}, words)
	assert.Equal(t, []string{"n-1", "n-3", "n-2"}, d.RecordNamed("note").IDs())
	assert.Equal(t, []string{"7"}, d.RecordNamed("note").In("team", "n-2"))
	assert.Equal(t, []string{"spectra", "7"}, d.IdentityNamed("sanna").In("team"))

	again, msgs := declaration.Parse("x", []byte(strings.Replace(teamed, "[owner, {",
		"[{ who: signed-in, on: own }, {", 1)),
		nil)
	require.Empty(t, msgs)
	assert.True(t, again.Entry(0).SaysTheSame(e), "owner is short for it")
	assert.False(t, again.Entry(0).SaysTheSame(&declaration.Entry{Who: e.Who[1:], Broken: e.Broken}))
}

func TestWhatOnCannotSay(t *testing.T) {
	for _, c := range []struct{ name, old, new, says, hint string }{
		{"a version before", "millgate: 1.1", "millgate: 1", "`in` of identity imre came with version 1.1",
			"millgate: 1.1"},
		{"a group that is none", "on: published", "on: publshed", `no record has the group "publshed"`,
			`did you mean "published"?`},
		{"a group of another record", "{ who: identity:imre, on: own }", "{ who: observer, on: published }",
			"GET /logs/{log_id} is about the record log, which has no group and no `in` called published",
			"under record log"},
		{"a kind of another record", "{ who: identity:imre, on: own }", "{ who: observer, on: team }",
			"GET /logs/{log_id} is about the record log", "under record log"},
		{"no record", "{ at: GET /plain, who: operator }", "{ at: GET /plain, who: { who: operator, on: own } }",
			"`owner` is admitted, but no record fills GET /plain", "remove owner"},
		{"no record of a kind", "{ at: GET /plain, who: operator }",
			"{ at: GET /plain, who: { who: operator, on: team } }",
			"`on: team` is admitted, but no record fills GET /plain", "remove on: team"},
		{"anyone on its own", "{ who: anyone, on: published }", "{ who: anyone, on: own }",
			"`anyone` is admitted on a group only", "who: signed-in"},
		{"anyone of a team", "{ who: anyone, on: published }", "{ who: anyone, on: team }",
			"`anyone` is admitted on a group only", "who: signed-in"},
		{"nobody on a group", "{ who: anyone, on: published }", "{ who: nobody, on: published }",
			"`nobody` takes no `on`", "name anyone"},
		{"owner on a group", "{ who: anyone, on: published }", "{ who: owner, on: published }", "`owner` takes no `on`",
			"name anyone"},
		{"without who", "{ who: anyone, on: published }", "{ on: published }", "needs `who` and `on`",
			"write for example"},
		{"without on", "{ who: anyone, on: published }", "{ who: anyone }", "needs `who` and `on`",
			"write for example"},
		{"anyone beside others", "{ who: anyone, on: published }", "anyone", "`anyone` and `nobody` stand alone",
			"leave"},
		{"a group called own", "groups: { published", "groups: { own", `"own" cannot be the name of a group`,
			"not the word"},
		{"a group called foreign", "groups: { published", "groups: { foreign",
			`"foreign" cannot be the name of a group`,
			"not the word"},
		{"a kind called foreign", "in: { team: spectra }", "in: { foreign: spectra }",
			`"foreign" cannot be the name of a kind`, "not the word"},
		{"a record called foreign", "{ who: anyone, on: published }", "{ who: observer, on: foreign }",
			`"foreign" cannot be the name of a kind`, "not the word"},
		{"a group called as a kind", "groups: { published", "groups: { team: [], published",
			`"team" is a group here and a kind elsewhere`, "call the group"},
		{"a group called as a record", "groups: { published", "groups: { log: [], published",
			`"log" is a group here and a kind elsewhere`, "call the group"},
		{"a team where nothing stands", "in: { team: spectra }", "in: { team: spektra }",
			`no record stands in the team "spektra"`, `did you mean "spectra"?`},
	} {
		require.Contains(t, teamed, c.old, c.name)
		_, msgs := declaration.Parse("x", []byte(strings.Replace(teamed, c.old, c.new, 1)), nil)
		require.NotEmpty(t, msgs, c.name)
		assert.Contains(t, msgs[0].Text, c.says, c.name)
		assert.Contains(t, msgs[0].Hint, c.hint, c.name)
		assert.Positive(t, msgs[0].Line, c.name)
	}
}

// Whoever comes with `on` decides which schemes a route accepts; who needs none does not.
func TestSchemesOfWhoComesOnSomeRecords(t *testing.T) {
	text := strings.Replace(teamed, "schemes: { s:", "schemes: { k: { kind: basic }, s:", 1)
	text = strings.Replace(text, "  imre: {", "  kim: { credentials: { k: { username: a, password: env:C } } }\n  "+
		"imre: {", 1)
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs, "kim owns nothing, stands in no team, and needs no credential for what is published")
	assert.Equal(t, []string{"s"}, declaration.Names(d.Accepted(d.Entry(0)), func(s *declaration.Scheme) string {
		return s.Name
	}))
	_, msgs = declaration.Parse("x", []byte(strings.Replace(text, "kim: { cred", "kim: { in: { team: spectra }, cred",
		1)),
		nil)
	require.Empty(t, msgs, "it has not the role")
	_, msgs = declaration.Parse("x", []byte(strings.Replace(text, "kim: { cred",
		"kim: { roles: operator, in: { team: spectra }, cred", 1)), nil)
	require.NotEmpty(t, msgs)
	assert.Contains(t, msgs[0].Text, "which does the route accept?")
}
