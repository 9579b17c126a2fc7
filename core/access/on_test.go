package access

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const teams = `millgate: 1.1
roles:
  observer:
  operator:
  auditor:
schemes:
  access: { kind: api-key, in: header, name: X-Key }
identities:
  imre:  { roles: observer, in: { team: spectra }, credentials: { access: { key: env:A } } }
  tove:  { roles: observer, in: { team: [transients] }, scopes: [w], credentials: { access: { key: env:B } } }
  sanna: { roles: operator, in: { team: spectra }, credentials: { access: { key: env:C } } }
  quill: { roles: auditor, credentials: { access: { key: env:D } } }
records:
  observation:
    fills: observation_id
    owned_by: { imre: [o-1], tove: [o-2], quill: [o-4] }
    in: { team: { spectra: [o-1, o-3], transients: [o-2] } }
    groups: { published: [o-2] }
  team: { fills: team_id }
routes:
%s
access:
%s
`

// with is the declaration with an entry for each `+"`who`"+`, at /0, /1 and so on.
func with(t testing.TB, who ...string) *declaration.Document {
	t.Helper()
	var routes, access strings.Builder
	for i, w := range who {
		at := fmt.Sprintf("GET /%d/{observation_id}", i)
		if strings.Contains(w, "team_id") {
			at = fmt.Sprintf("GET /%d/{team_id}", i)
		}
		fmt.Fprintf(&routes, "  - \"%s\"\n", at)
		fmt.Fprintf(&access, "  - { at: \"%s\", who: %s }\n", at, strings.TrimPrefix(w, "team_id "))
	}
	d, msgs := declaration.Parse("x", fmt.Appendf(nil, teams, routes.String(), access.String()), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return d
}

func TestAdmittedOnSomeRecords(t *testing.T) {
	d := with(t, "[{ who: observer, on: own }, { who: operator, on: team }], hide: true",
		"[{ who: anyone, on: published }, owner], by: access",
		"{ who: anyone, on: published }", "team_id { who: signed-in, on: team }",
		"[{ who: anyone, on: published }, observer], scope: w, by: access")
	for _, c := range []struct {
		route       int
		who, record string
		want        string
	}{
		{0, "imre", "o-1", "0 admit the owner is admitted; which record decides"},
		{0, "imre", "o-2", "404 hide the record is somebody else's, and to others it does not exist"},
		{0, "imre", "o-3", "404 hide the record is somebody else's, and to others it does not exist"}, // its team's
		{0, "sanna", "o-3", "0 admit admitted for a record that is of its own team; which record decides"},
		{0, "sanna", "o-2", "404 hide the record is not of its own team, and to others it does not exist"},
		{0, "quill", "o-4", "403 forbid needs observer (for an own record) or operator (for a record that is of its " +
			"own team), quill has auditor"}, // on its own record: ownership alone does not do
		{0, "", "o-1", "401 refuse needs access, none is presented"},
		{1, "", "o-2", "0 admit anyone is admitted for a record that is published"},
		{1, "", "o-1", "401 refuse needs access, none is presented"},
		{1, "imre", "o-2", "0 admit anyone is admitted for a record that is published"},
		{1, "imre", "o-1", "0 admit the owner is admitted; which record decides"},
		{1, "imre", "o-4", "403 forbid the record is not its own, and not published"},
		{2, "imre", "o-1", "0 turn away the declaration admits nobody here, but for a record that is published"},
		{2, "imre", "o-2", "0 admit anyone is admitted for a record that is published"},
		{3, "imre", "spectra", "0 admit admitted for a record that is of its own team; which record decides"},
		{3, "imre", "transients", "403 forbid the record is not of its own team"},
		{3, "quill", "spectra", "403 forbid the record is not of its own team"},
		{4, "imre", "o-2", "0 admit anyone is admitted for a record that is published"}, // the scope is not for anyone
		{4, "imre", "o-1", "403 forbid needs the scope w, imre does not hold it"},
		{4, "tove", "o-1", "0 admit observer is among anyone (for a record that is published) or observer"},
	} {
		who := c.who
		if who == "" {
			who = "nobody"
		}
		x, err := Explain(d, d.Routes[c.route].Key(), who, c.record, false)
		require.NoError(t, err)
		assert.Equal(t, c.want, fmt.Sprint(x.Status(), " ", x.Outcome, " ", x.Reason()), "%d %s %s", c.route, who,
			c.record)
		brief := Decide(d, c.route, Caller{Identity: d.IdentityNamed(c.who), State: map[bool]State{true: Absent,
			false: Sound}[c.who == ""], Record: Standing(d, c.route, d.Record(c.route), c.record,
			d.IdentityNamed(c.who))})
		assert.Equal(t, x.Reason(), brief.Reason())
	}
	broken := func(record string) Outcome {
		x, err := Explain(d, d.Routes[1].Key(), "imre", record, true)
		require.NoError(t, err)
		return x.Outcome
	}
	assert.Equal(t, Either, broken("o-2"), "an open record")
	assert.Equal(t, Refuse, broken("o-1"))
	assert.Equal(t, Refuse, broken(""), "of which nothing is known")
}

// Not knowing the record is knowing that it depends: whoever is admitted on some record and not on all.
func TestWhatDependsIsWhatDiffers(t *testing.T) {
	d := onSomeRecords(t)
	for i := range d.Routes {
		rec := d.Record(i)
		for c := range len(d.Identities) + 1 {
			caller := Caller{State: Absent}
			if c > 0 {
				caller = Caller{Identity: d.Identities[c-1], State: Sound}
			}
			in := map[bool]int{}
			// A record of each sort, for each of which all words hold that can hold together.
			for n := range 1 << 3 {
				var words []declaration.On
				for k, o := range Counting(d, i) {
					if n&(1<<k) != 0 && (caller.Identity != nil || o.Kind == declaration.OnGroup) {
						words = append(words, o)
					}
				}
				caller.Record = RelationOf(words)
				in[Decide(d, i, caller).Outcome == Admit]++
			}
			caller.Record = NoRecord
			x := Decide(d, i, caller)
			require.Equal(t, in[true] > 0, x.Outcome == Admit, "%s %v of %s", d.Entry(i).Text(), caller, rec.Name)
			require.Equal(t, in[true] > 0 && in[false] > 0, x.Depends, "%s %v", d.Entry(i).Text(), caller)
		}
	}
}

// onSomeRecords is a declaration of many entries, with words of `+"`on`"+` drawn.
func onSomeRecords(t testing.TB) *declaration.Document {
	r := rand.New(rand.NewPCG(7, 11))
	var who []string
	for range 300 {
		var alts []string
		for range 1 + r.IntN(3) {
			w := []string{"anyone", "signed-in", "observer", "operator", "auditor", "\"identity:imre\""}[r.IntN(6)]
			on := []string{"own", "published", "team", ""}[r.IntN(4)]
			switch {
			case on != "" && w == "anyone":
				w = "{ who: anyone, on: published }"
			case on != "":
				w = fmt.Sprintf("{ who: %s, on: %s }", w, on)
			case w == "anyone":
				w = "owner"
			}
			alts = append(alts, w)
		}
		rest := []string{"", ", scope: w", ", hide: true", ", turned_away: { role: 404, ownership: 410 }"}[r.IntN(4)]
		who = append(who, "["+strings.Join(alts, ", ")+"]"+rest)
	}
	return with(t, who...)
}

func TestABoardSaysWhichRecords(t *testing.T) {
	old := with(t, "[owner, auditor]", "[{ who: observer, on: own }, auditor]")
	now := with(t, "[{ who: signed-in, on: own }, auditor]", "[{ who: observer, on: own }, { who: observer, on: "+
		"team }, auditor]")
	x := Compare(old, now)
	var got []string
	for _, c := range x.Changes {
		got = append(got, fmt.Sprint(c.Route, " ", c.Caller, ": ", c.From, " → ", c.To, ", ", c.Turn))
	}
	assert.Equal(t, []string{
		"GET /1/{observation_id} imre: admit for an own record → admit for a record that is its own or of its own " +
			"team, opens",
		"GET /1/{observation_id} tove: admit for an own record → admit for a record that is its own or of its own " +
			"team, opens",
	}, got, "owner is short for whoever is signed in, on its own")
	assert.Equal(t, Closes, Compare(now, old).Changes[0].Turn)
}

func TestBoardEditsOnSomeRecords(t *testing.T) {
	base := with(t, "operator", "[{ who: observer, on: own }, { who: operator, on: team }]",
		"[{ who: anyone, on: published }, auditor]")
	for _, c := range []struct {
		name   string
		route  int
		who    []string // none is every caller, "" nobody
		action Action
		on     string
		want   string
		note   string
	}{
		{"its own", 0, []string{"imre"}, Owner, "", "[owner, operator]", ""},
		{"its team's", 0, []string{"imre", "tove"}, Owner, "team", "[{ who: observer, on: team }, operator]", ""},
		{"one of a role", 0, []string{"imre"}, Owner, "team", `[{ who: "identity:imre", on: team }, operator]`, ""},
		{"everybody's team", 0, nil, Owner, "team", "{ who: signed-in, on: team }", ""},
		{"a group, for anyone", 0, []string{""}, Owner, "published", "[{ who: anyone, on: published }, operator]", ""},
		{"a group, for a role", 0, []string{"quill"}, Owner, "published",
			"[{ who: auditor, on: published }, operator]", ""},
		{"what is there already", 1, []string{"sanna"}, Owner, "team",
			"[{ who: observer, on: own }, { who: operator, on: team }]", ""},
		{"all records beside some", 1, []string{"quill"}, Raise, "",
			"[{ who: observer, on: own }, { who: operator, on: team }, auditor]", ""},
		{"who stays on some", 1, []string{"sanna"}, Lower, "",
			"[{ who: observer, on: own }, { who: operator, on: team }]",
			"sanna is admitted for a record that is of its own team; take that out of the rule"},
		{"who keeps its own", 1, []string{"imre"}, Lower, "",
			"[{ who: observer, on: own }, { who: operator, on: team }]", "imre is admitted to its own records"},
		{"everybody down", 1, nil, Lower, "", "nobody", ""},
		{"everybody but nobody", 2, []string{"imre", "tove", "sanna", "quill"}, Lower, "",
			"{ who: anyone, on: published }",
			""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var columns []int
			for _, w := range c.who {
				columns = append(columns, column(base, w))
			}
			out, notes := who(t, base, Change{Routes: []int{c.route}, Columns: columns, Action: c.action, On: c.on})
			assert.Equal(t, c.want, out)
			assert.Contains(t, strings.Join(notes, "; "), c.note)
			if c.note == "" {
				assert.Empty(t, notes)
			}
		})
	}
	_, _, err := Edits(base, Change{Routes: []int{0}, Action: Owner, On: "drafts"})
	assert.ErrorContains(t, err, "is about the record observation, which has no group and no `in` called drafts")
}

// who is what a change makes of the rule of its route.
func who(t *testing.T, d *declaration.Document, c Change) (text string, notes []string) {
	t.Helper()
	set := rule(d, d.Entry(c.Routes[0]), c, func(note string) { notes = append(notes, note) })
	_, _, err := Edits(d, c)
	require.NoError(t, err)
	return set["who"], notes
}
