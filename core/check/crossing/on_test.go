package crossing

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
)

const teams = `millgate: 1.1
targets: { t: { base: "http://h", unsafe: made-records-only } }
roles: { observer: , operator: { includes: observer }, auditor: }
schemes: { s: { kind: api-key, in: header, name: X-Key } }
identities:
  imre: { roles: observer, in: { team: spectra }, credentials: { s: { key: env:A } } }
  sanna: { roles: operator, in: { team: spectra }, credentials: { s: { key: env:C } } }
  tove: { roles: operator, in: { team: transients }, credentials: { s: { key: env:B } } }
  quill: { roles: auditor, credentials: { s: { key: env:D } } }
records:
  note:
    fills: note_id
    owned_by: { imre: [n-1], tove: [n-2], quill: [n-4] }
    in: { team: { spectra: [n-1, n-3], transients: [n-2] } }
    groups: { published: [n-2] }
    make: { send: POST /notes, json: {}, id: /id }
  team: { fills: team_id }
routes: ["GET /notes/{note_id}", "PATCH /notes/{note_id}", "GET /teams/{team_id}/notes/{note_id}", POST /notes,
  "GET /teams/{team_id}/log"]
access:
  - { at: "GET /notes/{note_id}", who: [{ who: anyone, on: published }, owner, auditor], by: s }
  - { at: "PATCH /notes/{note_id}", who: [{ who: observer, on: own }, { who: operator, on: team }] }
  - { at: "GET /teams/{team_id}/notes/{note_id}", who: [{ who: operator, on: team }, auditor], owner_of: note }
  - { at: POST /notes, who: signed-in }
  - { at: "GET /teams/{team_id}/log", who: [{ who: operator, on: team }] }
`

func TestOneOfEachRelation(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(teams), nil)
	require.Empty(t, msgs)
	c, p := &check.Context{Doc: d, Target: d.Targets[0]}, check.NewPlanning(nil)
	Family{}.Plan(c, p)
	got := map[string][]string{}
	for _, x := range p.Probes {
		if x.Of == AcceptHTML || x.Of == AcceptNone {
			continue
		}
		at := x.Record.Value
		if x.Record.Lent() {
			at = x.Record.Owner + "'s new one"
		}
		if team := of(x).Params["team_id"]; team != "" {
			at = team + "/" + at
		}
		e := Family{}.Expect(c, x)
		got[x.Route] = append(got[x.Route], strings.Join(strings.Fields(fmt.Sprintf("%s %s %s: %s %d",
			x.Caller.Identity, x.Caller.State, x.Relation, at, e.Status())), " ")+x.Of)
	}
	says := map[string]string{}
	for _, x := range p.Probes {
		if x.Route == "GET /notes/{note_id}" && x.Of == "" {
			_, says[x.Caller.Identity+" "+string(x.Caller.State)+" "+string(x.Relation)] = Family{}.Cell(x)
		}
	}
	assert.Subset(t, says, map[string]string{" absent published": "no credential, published note",
		" broken foreign": "broken credential, somebody else's note", "imre sound own": "own note",
		"imre sound foreign": "somebody else's note", "quill sound ": "sound credential"})
	assert.Equal(t, []string{
		"absent published: n-2 0", "absent foreign: n-1 401", "broken published: n-2 0", "broken foreign: n-1 401",
		"imre sound own: n-1 0", "imre sound published: n-2 0", "imre sound foreign: n-4 403", "quill sound : n-1 0",
		"sanna sound published: n-2 0", "sanna sound foreign: n-1 403",
		"tove sound published+own: n-2 0", "tove sound foreign: n-1 403"}, got["GET /notes/{note_id}"],
		"whoever comes meets one that is open to anyone, and one that is not")
	assert.Equal(t, []string{"absent : imre's new one 401", "broken : imre's new one 401",
		"imre sound own+team: imre's new one 0", "imre sound foreign: tove's new one 403",
		"quill sound own: quill's new one 403", // it owns it, and has not the role
		"sanna sound team: imre's new one 0", "sanna sound foreign: tove's new one 403",
		"tove sound own+team: tove's new one 0", "tove sound foreign: imre's new one 403"},
		got["PATCH /notes/{note_id}"], "what is made stands where its owner does")
	assert.Equal(t, []string{"absent : spectra/n-1 401", "broken : spectra/n-1 401",
		"imre sound team: spectra/n-1 403", // its team's, and it has not the role
		"quill sound : spectra/n-1 0",
		"sanna sound team: spectra/n-1 0", "sanna sound foreign: transients/n-2 403",
		"sanna sound foreign: spectra/n-2 403in its own place, another's record",
		"sanna sound team: transients/n-1 403in another's place, its own record",
		"tove sound team: transients/n-2 0", "tove sound foreign: spectra/n-1 403",
		"tove sound foreign: transients/n-1 403in its own place, another's record",
		"tove sound team: spectra/n-2 403in another's place, its own record"},
		got["GET /teams/{team_id}/notes/{note_id}"])
	assert.Equal(t, []string{"absent : spectra 401", "broken : spectra 401", "imre sound team: spectra 403",
		"quill sound : spectra 403", "sanna sound team: spectra 0", "sanna sound foreign: transients 403",
		"tove sound team: transients 0", "tove sound foreign: spectra 403"},
		got["GET /teams/{team_id}/log"], "a team stands in itself")
	for _, x := range p.Probes {
		assert.False(t, x.IsControl && x.Relation == "published", "%s: what is open to anyone shows no guard", x.Key())
	}
}
