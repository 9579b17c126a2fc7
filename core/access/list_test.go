package access_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

// Where records are listed `on` turns nobody away: it says which rows are shown. The board says the same.
func TestWhoIsAdmittedToAList(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
routes: [GET /things, GET /shown, GET /mine, "GET /teams/{team}/things"]
roles: { reader: , boss: }
schemes: { s: { kind: bearer }, k: { kind: basic } }
identities:
  ann: { roles: reader, in: { team: north }, credentials: { s: { token: env:A } } }
  meg: { roles: boss, credentials: { s: { token: env:M } } }
  kim: { credentials: { k: { username: kim, password: env:K } } }
records:
  thing:
    fills: thing_id
    owned_by: { ann: [t-1] }
    in: { team: { north: [t-1] } }
    groups: { shown: [t-4] }
    listed: [{ at: GET /things }, { at: GET /shown }, { at: GET /mine }, { at: "GET /teams/{team}/things" }]
  team: { fills: team }
access:
  - { at: GET /things, who: [{ who: reader, on: team }, boss], by: s }
  - { at: GET /shown, who: [{ who: anyone, on: shown }, owner], by: s }
  - { at: GET /mine, who: owner }
  - { at: "GET /teams/{team}/things", who: [{ who: reader, on: team }, boss], by: s }
`), nil)
	require.Empty(t, msgs)
	b := access.NewBoard(d)
	for _, c := range []struct {
		route, who string
		outcome    access.Outcome
		depends    bool
		why        string // of the rung of ownership
	}{
		{"GET /things", "", access.Refuse, false, ""},
		{"GET /things", "ann", access.Admit, false, "shown only rows that are of its own team"},
		{"GET /things", "meg", access.Admit, false, "does not matter here"},
		{"GET /things", "kim", access.Refuse, false, ""},
		{"GET /shown", "", access.Admit, false, "shown only rows that are shown"},
		{"GET /shown", "ann", access.Admit, false, "shown only rows that are its own or shown"},
		{"GET /shown", "kim", access.Admit, false, "shown only rows that are its own or shown"},
		{"GET /mine", "ann", access.Admit, false, "shown only rows that are its own"},
		{"GET /mine", "meg", access.Admit, false, "shown only rows that are its own"},
		{"GET /mine", "kim", access.Refuse, false, ""},
		{"GET /teams/{team}/things", "ann", access.Admit, true, "admitted for a record that is of its own team only"},
		{"GET /teams/{team}/things", "meg", access.Admit, false, "does not matter here"},
	} {
		i := d.RouteNamed(c.route)
		who := access.Nobody(d, i)
		column := 0
		for k, id := range d.Identities {
			if id.Name == c.who {
				who, column = access.Caller{Identity: id, State: access.Sound}, k+1
			}
		}
		x := access.Evaluate(d, i, who)
		assert.Equal(t, c.outcome, x.Outcome, "%s as %q: %s", c.route, c.who, x.Reason())
		assert.Equal(t, c.depends, x.Depends, "%s as %q", c.route, c.who)
		assert.Equal(t, x.Outcome, b.At(i, column).Outcome(), "%s as %q on the board", c.route, c.who)
		assert.Equal(t, x.Depends, b.At(i, column).Depends(), "%s as %q on the board", c.route, c.who)
		if c.why != "" {
			assert.Equal(t, c.why, x.Ladder[5].Text, "%s as %q", c.route, c.who)
			assert.Equal(t, strings.HasPrefix(c.why, "shown only"), strings.HasSuffix(x.Reason(), "; "+c.why),
				x.Reason())
			assert.Equal(t, x.Reason(), access.Decide(d, i, who).Reason())
		}
		assert.Same(t, d.Entry(i), x.Entry)
	}
}

// On the board a list is edited as a record is: who is admitted on some records only is shown their rows.
func TestAListIsEdited(t *testing.T) {
	const text = `millgate: 1.1
routes: [GET /things, GET /other]
roles: { reader: , boss: }
schemes: { s: { kind: bearer } }
identities:
  ann: { roles: reader, in: { team: north }, credentials: { s: { token: env:A } } }
  meg: { roles: boss, credentials: { s: { token: env:M } } }
records:
  thing: { fills: id, owned_by: { ann: [t-1] }, in: { team: { north: [t-1] } }, listed: { at: GET /things } }
access:
  - { at: GET /things, who: boss }
  - { at: GET /other, who: boss }
`
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.Empty(t, msgs)
	edits, notes, err := access.Edits(d, access.Change{Routes: []int{d.RouteNamed("GET /things")}, Columns: []int{1},
		Action: access.Owner, On: "team"})
	require.NoError(t, err)
	assert.Empty(t, notes)
	out, err := layout.Apply(text, edits...)
	require.NoError(t, err)
	assert.Contains(t, out, "{ at: GET /things, who: [{ who: reader, on: team }, boss] }")
	after, msgs := declaration.Parse("x", []byte(out), nil)
	require.Empty(t, msgs)
	assert.Equal(t, "only rows that are of its own team",
		access.RowsText(after.Rows(after.RouteNamed("GET /things"), after.IdentityNamed("ann"))))
	assert.True(t, after.Rows(after.RouteNamed("GET /things"), after.IdentityNamed("meg")).All)
	_, _, err = access.Edits(d, access.Change{Routes: []int{d.RouteNamed("GET /other")}, Columns: []int{1},
		Action: access.Owner, On: "team"})
	require.ErrorContains(t, err, "no record fills GET /other, and none is listed there")
}
