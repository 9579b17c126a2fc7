package observe

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

const valley = `millgate: 1.1
targets: { t: { base: "http://h" } }
routes:
  - GET /open
  - GET /v1/reports
  - { at: "GET /v1/reports/{id}", send: { path: { id: r-1 } } }
  - GET /v1/things
  - "GET /v1/things/{id}"
  - PUT /v1/things/{id}
  - POST /v1/things
  - GET /v1/admin/users
  - GET /v1/jobs/run
  - { at: GET /v1/mail, summary: Sends what waits }
  - "GET /v1/rooms/{room}"
roles: { reader: , boss: { includes: reader } }
schemes:
  token: { kind: bearer }
  key: { kind: api-key, in: header, name: X-Key }
identities:
  ann: { roles: reader, attributes: { checked: true }, credentials: { token: { token: env:A } } }
  bob: { roles: reader, credentials: { token: { token: env:B } } }
  meg: { roles: boss, attributes: { checked: true }, credentials: { token: { token: env:M } } }
  bot: { credentials: { key: { key: env:K } } }
records:
  thing: { fills: "/v1/things/{id}", owned_by: { ann: [t-1], bob: [t-2] }, groups: { shown: [t-3] },
    in: { team: { north: [t-1, t-4] } } }
access:
  - { at: "/**", who: undecided }
`

func read(t testing.TB, text string) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), "%v", msgs)
	return d
}

func parse(text string) (*declaration.Document, []declaration.Message) {
	return declaration.Parse("x", []byte(text), nil)
}

func groupsOf(d *declaration.Document, seen []Seen) []Group {
	list, _ := Read(d, seen)
	return GroupsOf(d, list)
}

// Nothing is sent that may do something, unless somebody chose it; and nothing that is decided, unless all is asked
// for.
func TestWhatIsAsked(t *testing.T) {
	d := read(t, strings.Replace(valley, "access:\n", "access:\n  - { at: GET /open, who: anyone }\n", 1))
	c := &check.Context{Doc: d, Target: d.Targets[0]}
	plan := func(choice Choice) (asked []string, left map[string]string) {
		asks, list := Plan(c, choice)
		for _, a := range asks {
			if a.Options {
				assert.Equal(t, "OPTIONS", a.Call.Request.Method)
				continue
			}
			assert.Equal(t, "GET", a.Call.Request.Method)
			assert.Equal(t, check.Safe, a.Call.Effect)
			if !slices.Contains(asked, a.Route) {
				asked = append(asked, a.Route)
			}
		}
		left = map[string]string{}
		for _, l := range list {
			left[l.Route] = l.Why
		}
		return asked, left
	}
	asked, left := plan(Choice{})
	assert.Equal(t, []string{"GET /v1/reports", "GET /v1/reports/{id}", "GET /v1/things", "GET /v1/things/{id}",
		"GET /v1/admin/users", "GET /v1/mail"}, asked)
	assert.Equal(t, map[string]string{"GET /v1/jobs/run": `"run" sounds as if it did something`,
		"GET /v1/rooms/{room}": "no sample for {room}"}, left)
	asked, _ = plan(Choice{Also: []string{"GET /v1/jobs/run"}, All: true})
	assert.Contains(t, asked, "GET /v1/jobs/run")
	assert.Contains(t, asked, "GET /open")

	asks, _ := Plan(c, Choice{Only: []string{"GET /v1/things/{id}"}, Callers: []string{"ann", "meg"}})
	var who []string
	for _, a := range asks {
		if !a.Options {
			who = append(who, strings.TrimSpace(fmt.Sprint(a.Identity, " ", a.Relation, " ", a.Record, " of ",
				a.Owner)))
		}
	}
	assert.Equal(t, []string{"shown t-3 of", "foreign t-1 of ann", "ann own t-1 of ann", "ann shown t-3 of",
		"ann foreign t-2 of bob", "meg shown t-3 of", "meg foreign t-1 of ann"}, who)
}

// seen is what a service says: a route, who asks, and a status for no record, or for an own one and another's, or for
// records that stand so to the caller: own=200,published=200,foreign=403.
func seen(route string, by ...string) (out []Seen) {
	for _, b := range by {
		who, says, _ := strings.Cut(b, " ")
		id, scheme, _ := strings.Cut(who, "/")
		if id == "nobody" {
			id = ""
		} else if scheme == "" {
			scheme = "token"
		}
		rels := []access.Relation{access.NoRecord}
		list := strings.Split(says, "|")
		if len(list) == 2 {
			rels = []access.Relation{access.Own, access.Foreign}
		}
		if strings.Contains(says, "=") {
			rels, list = nil, nil
			for _, x := range strings.Split(says, ",") {
				rel, st, _ := strings.Cut(x, "=")
				rels, list = append(rels, access.Relation(rel)), append(list, st)
			}
		}
		for k, st := range list {
			if st == "-" {
				continue
			}
			var status int
			_, _ = fmt.Sscan(st, &status)
			s := Seen{Route: route, Identity: id, Scheme: scheme, Relation: rels[k], Status: status}
			if rels[k] != access.NoRecord {
				s.Record, s.Owner = string(rels[k]), "bob"
				switch rels[k] {
				case access.Own:
					s.Record = "of " + id
				case access.Foreign:
					s.Record = "of others"
				default:
				}
			}
			if status > 0 {
				s.Class = check.Classify(check.Answer{Status: status}, declaration.Answers{})
			}
			out = append(out, s)
		}
	}
	return out
}

func TestWhatAnAnswerSays(t *testing.T) {
	d := read(t, valley)
	works := seen("GET /v1/reports", "nobody 401", "ann 200", "bob 200", "meg 200", "bot/key 401")
	key := seen("GET /v1/mail", "nobody 401", "bot/key 200")
	for _, c := range []struct {
		name  string
		at    []Seen
		marks map[string]Mark
		entry string
		why   string
	}{
		{"who signs in with one scheme", seen("GET /v1/things", "nobody 401", "ann 200", "bob 200", "meg 200",
			"bot/key 401"),
			map[string]Mark{"": Away, "ann": In, "bob": In, "meg": In, "bot": Away}, "who: reader", ""},
		{"and with each", seen("GET /v1/things", "nobody 401", "ann 200", "bob 200", "meg 200", "bot/key 200"),
			map[string]Mark{"": Away, "ann": In, "bob": In, "meg": In, "bot": In}, "who: signed-in, by: [token, key]",
			""},
		{"a role", seen("GET /v1/things", "nobody 401", "ann 403", "bob 403", "meg 200", "bot/key 401"),
			map[string]Mark{"": Away, "ann": Away, "bob": Away, "meg": In, "bot": Away}, "who: boss", ""},
		{"one by name", seen("GET /v1/things", "nobody 401", "ann 401", "bob 401", "meg 401", "bot/key 200"),
			map[string]Mark{"": Away, "ann": Away, "bob": Away, "meg": Away, "bot": In}, `who: identity:bot`, ""},
		{"its own record", seen("GET /v1/things/{id}", "nobody 401", "ann 200|403", "bob 200|403", "meg -|200",
			"bot/key -|401"),
			map[string]Mark{"": Away, "ann": Some, "bob": Some, "meg": In, "bot": Away}, "who: [owner, boss]", ""},
		{"which is hidden from others", seen("GET /v1/things/{id}", "nobody 401", "ann 200|404", "bob 200|404",
			"meg -|200",
			"bot/key -|401"), map[string]Mark{"": Away, "ann": Some, "bob": Some, "meg": In, "bot": Away},
			"who: [owner, boss], hide: true", ""},
		{"its own, and a group", seen("GET /v1/things/{id}", "nobody shown=200,foreign=401",
			"ann own=200,own+shown=200,shown=200,foreign=403", "bob own=200,shown=200,foreign=403", "meg foreign=200",
			"bot/key shown=200,foreign=401"),
			map[string]Mark{"": Some, "ann": Some, "bob": Some, "meg": In, "bot": Some},
			"who: [{ who: anyone, on: shown }, owner, boss]", ""},
		{"of its own team", seen("GET /v1/things/{id}", "nobody shown=401,foreign=401",
			"ann own+team=200,team=200,own=403,foreign=403", "bob team=403,own=403,foreign=403", "meg foreign=200",
			"bot/key foreign=401"),
			map[string]Mark{"": Away, "ann": Some, "bob": Away, "meg": In, "bot": Away},
			"who: [{ who: reader, on: team }, boss], given: { checked: true }", ""},
		{"shown to who signs in", seen("GET /v1/things/{id}", "nobody shown=401,foreign=401",
			"ann shown=200,foreign=404",
			"bob shown=200,foreign=404", "meg shown=200,foreign=200", "bot/key shown=200,foreign=404"),
			map[string]Mark{"": Away, "ann": Some, "bob": Some, "meg": In, "bot": Some},
			"who: [{ who: signed-in, on: shown }, boss], hide: true, by: [token, key]", ""},
		{"a group that does not tell", seen("GET /v1/things/{id}", "nobody 401",
			"ann shown=200,own+shown=403,foreign=403",
			"bob 403", "meg 200", "bot/key 401"), nil, "", "answered in a way that says nothing for ann"},
		{"nothing beside a group", seen("GET /v1/things/{id}", "nobody 401", "ann shown=200", "bob 403", "meg 200",
			"bot/key 401"), nil, "", "ann was shown what is shown, and nothing else is declared"},
		{"an attribute", seen("GET /v1/things", "nobody 401", "ann 200", "bob 403", "meg 200", "bot/key 401"),
			map[string]Mark{"": Away, "ann": In, "bob": Away, "meg": In, "bot": Away},
			"who: reader, given: { checked: true }", ""},
		{"everybody", seen("GET /v1/things", "nobody 200", "ann 200", "bob 200", "meg 200", "bot/key 200"),
			map[string]Mark{"": In, "ann": In, "bob": In, "meg": In, "bot": In}, "who: anyone", ""},
		{"no one", seen("GET /v1/things", "nobody 401", "ann 403", "bob 403", "meg 403", "bot/key 401"),
			map[string]Mark{"": Away, "ann": Away, "bob": Away, "meg": Away, "bot": Away}, "who: nobody", ""},
		{"nothing is there", seen("GET /v1/things", "nobody 404", "ann 404", "bob 404", "meg 404", "bot/key 404"),
			nil, "",
			"nothing was there for nobody (404)"},
		{"a failure", seen("GET /v1/things", "nobody 401", "ann 500", "bob 200", "meg 200", "bot/key 401"), nil, "",
			"it failed for ann"},
		{"no answer", seen("GET /v1/things", "nobody 401", "ann 0", "bob 200", "meg 200", "bot/key 401"), nil, "",
			"there was no answer for ann"},
		{"too fast", seen("GET /v1/things", "nobody 401", "ann 429", "bob 200", "meg 200", "bot/key 401"), nil, "",
			"ann was told to slow down"},
		{"a request that it does not take", seen("GET /v1/things", "nobody 401", "ann 400", "bob 400", "meg 400",
			"bot/key 401"), nil, "", "the request of ann was not one that it takes"},
		{"own records alone", seen("GET /v1/things/{id}", "nobody 401", "ann 200|-", "bob 200|403", "meg -|200",
			"bot/key -|401"), nil, "", "ann was shown its own record, and none of somebody else's is declared"},
		{"what no entry says", seen("GET /v1/things", "nobody 200", "ann 403", "bob 200", "meg 200", "bot/key 200"),
			map[string]Mark{"": In, "ann": Away, "bob": In, "meg": In, "bot": In}, "", "no entry of the language"},
	} {
		t.Run(c.name, func(t *testing.T) {
			all := slices.Concat(works, key, c.at)
			for _, g := range groupsOf(d, all) {
				if !slices.Contains(g.Keys(d), c.at[0].Route) {
					continue
				}
				if c.marks != nil {
					assert.Equal(t, c.marks, g.Marks)
				}
				if c.entry == "" {
					assert.Nil(t, g.Entry)
					assert.Contains(t, g.Why, c.why)
					continue
				}
				assert.Contains(t, strings.ReplaceAll(g.Text(), `"`, ""), ", "+c.entry+" }", g.Why)
				assert.Equal(t, strings.Contains(c.entry, "given"), g.Guessed != "")
			}
		})
	}
}

// Of a credential that opened nothing, nothing is said, and nothing that it was answered keeps others from being told.
func TestACredentialThatOpenedNothing(t *testing.T) {
	d := read(t, valley)
	list := slices.Concat(seen("GET /v1/reports", "nobody 401", "ann 200", "bob 401", "meg 200"),
		seen("GET /v1/things", "nobody 401", "ann 200", "bob 401", "meg 403"))
	read, lost := Read(d, list)
	assert.Equal(t, []string{"bob: it opened nothing that was asked"}, lost)
	for _, g := range GroupsOf(d, read) {
		assert.NotContains(t, g.Marks, "bob")
		assert.NotNil(t, g.Entry, g.Why)
	}
}

// Where no caller is known, that nobody gets in without a credential says of no route that it is for nobody.
func TestNoCallerIsKnown(t *testing.T) {
	d := read(t, valley)
	list := slices.Concat(seen("GET /v1/reports", "nobody 401", "ann 401", "bob 0"), seen("GET /open", "nobody 200",
		"ann 200", "bob 0"))
	for k := range list {
		if list[k].Status == 0 {
			list[k].Why = "its password is not there"
		}
	}
	at, lost := Read(d, list)
	assert.Equal(t, []string{"ann: it opened nothing that was asked", "bob: its password is not there"}, lost)
	groups := GroupsOf(d, at)
	require.Len(t, groups, 2)
	assert.Equal(t, "Open to all", groups[0].Title)
	assert.Nil(t, groups[1].Entry)
	assert.Contains(t, groups[1].Why, "no caller is known to get in anywhere")
}

// Who has several credentials is turned away where each is that works; of the others nothing is said.
func TestSeveralCredentials(t *testing.T) {
	d := read(t, strings.Replace(valley, "credentials: { token: { token: env:A } }",
		"credentials: { token: { token: env:A }, key: { key: env:K } }", 1))
	works := seen("GET /v1/reports", "nobody 401", "ann 200", "ann/key 401", "bot/key 200")
	key := seen("GET /v1/mail", "nobody 401", "ann 401", "ann/key 200", "bot/key 200")
	for _, c := range []struct {
		name string
		at   []Seen
		mark Mark
		why  string
	}{
		{"both are turned away", seen("GET /v1/things", "nobody 401", "ann 401", "ann/key 403"), Away, ""},
		{"one is let in", seen("GET /v1/things", "nobody 401", "ann 200", "ann/key 500"), In, ""},
		{"of one nothing is known", seen("GET /v1/things", "nobody 401", "ann 403", "ann/key 429"), Unknown,
			"ann was told to slow down"},
		{"one failed", seen("GET /v1/things", "nobody 401", "ann 500", "ann/key 401"), Unknown, "it failed for ann"},
		{"of one no answer came", seen("GET /v1/things", "nobody 401", "ann 401", "ann/key 0"), Unknown,
			"there was no answer for ann"},
		{"its own with one, and not known with the other", seen("GET /v1/things/{id}", "nobody 401", "ann 200|403",
			"ann/key 429|429"), Unknown, "ann was told to slow down"},
		{"all with one", seen("GET /v1/things/{id}", "nobody 401", "ann 200|403", "ann/key 200|200"), In, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			list, lost := Read(d, slices.Concat(works, key, c.at))
			assert.Empty(t, lost)
			for _, a := range list {
				if d.Routes[a.Route].Key() == c.at[0].Route {
					assert.Equal(t, c.mark, a.Marks["ann"])
					assert.Contains(t, a.Why, c.why)
				}
			}
		})
	}
	list, lost := Read(d, slices.Concat(works, seen("GET /v1/things", "nobody 401", "ann 403", "ann/key 403")))
	assert.Equal(t, []string{"ann with key: it opened nothing that was asked"}, lost,
		"that it may not is said of unknown credentials too")
	assert.Equal(t, Away, list[1].Marks["ann"])
}

// A group that is declared after the reads were sent is seen in what they were answered.
func TestAGroupThatIsDeclaredLater(t *testing.T) {
	grouped := strings.Replace(valley, "ann: [t-1], bob: [t-2]", "ann: [t-1], bob: [t-2, t-3]", 1)
	before := strings.Replace(grouped, " groups: { shown: [t-3] },", "", 1)
	require.NotEqual(t, grouped, before)
	list := seen("GET /v1/reports", "nobody 401", "ann 200", "bob 200", "meg 200", "bot/key 200")
	add := func(id, scheme string, rel access.Relation, record string, status int) {
		list = append(list, Seen{Route: "GET /v1/things/{id}", Identity: id, Scheme: scheme, Relation: rel,
			Record: record,
			Status: status, Class: check.Classify(check.Answer{Status: status}, declaration.Answers{})})
	}
	add("", "", access.NoRecord, "t-3", 200)
	add("ann", "token", access.Own, "t-1", 200)
	add("ann", "token", access.Foreign, "t-2", 403)
	add("bob", "token", access.Own, "t-3", 200)
	add("bob", "token", access.Foreign, "t-1", 403)
	add("meg", "token", access.Foreign, "t-1", 403)
	add("bot", "key", access.Foreign, "t-2", 403)
	of := func(text string) Group {
		for _, g := range groupsOf(read(t, text), list) {
			if g.Routes[0].Seen[0].Record != "" {
				return g
			}
		}
		t.Fatal("it was not read")
		return Group{}
	}
	assert.Contains(t, of(before).Odd, "Open without a credential, and not to meg")
	g := of(grouped)
	assert.Equal(t, map[string]Mark{"": Unknown, "ann": Some, "bob": Some, "meg": Away, "bot": Away}, g.Marks,
		"nothing else was asked for as nobody")
	assert.Equal(t, "nobody was shown what is shown, and nothing else is declared", g.Why)
	add("", "", access.NoRecord, "t-2", 401)
	add("bob", "token", access.Own, "t-2", 200)
	g = of(grouped)
	assert.Contains(t, g.Text(), "who: [{ who: anyone, on: shown }, owner]")
	assert.Equal(t, "what is its own or shown is shown, the rest refused", g.Says)
	d := read(t, grouped)
	assert.Equal(t, []string{"shown"}, declaration.OnNames(g.On(d, "")))
	assert.Equal(t, []string{"own", "shown"}, declaration.OnNames(g.On(d, "bob")))
}

func TestWhatLooksWrong(t *testing.T) {
	d := read(t, valley)
	list := slices.Concat(
		seen("GET /open", "nobody 200", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/reports", "nobody 401", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/things", "nobody 401", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/mail", "nobody 401", "ann 403", "bob 403", "meg 200"),
		seen("GET /v1/admin/users", "nobody 401", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/things/{id}", "nobody 401", "ann 200|200", "bob 200|200", "meg -|200"),
		seen("GET /v1/jobs/run", "nobody 200", "ann 403", "bob 403", "meg 200"))
	for _, r := range []string{"GET /v1/reports", "GET /open"} {
		list = append(list, Seen{Route: r, Options: true, Status: 204, Allows: []string{"GET", "DELETE", "HEAD"}})
	}
	odd, says := map[string]string{}, map[string]string{}
	for _, g := range groupsOf(d, list) {
		for _, k := range g.Keys(d) {
			odd[k], says[k] = g.Odd, g.Says
		}
	}
	assert.Contains(t, says["GET /v1/reports"], "no route declares DELETE, which it allows there too")
	assert.NotContains(t, says["GET /v1/mail"], "DELETE")
	assert.Equal(t, map[string]string{"GET /open": "Open, and it allows DELETE, which no route declares",
		"GET /v1/things": "", "GET /v1/mail": "",
		"GET /v1/reports":     "",
		"GET /v1/jobs/run":    "Open without a credential, and not to ann",
		"GET /v1/admin/users": "A plain reader reads what lies under admin",
		"GET /v1/things/{id}": "Another's record is read: ann got thing of others of bob"}, odd)
}

// A pattern is used only where it decides the routes of the group alone, and what is written changes nothing else.
func TestConfirm(t *testing.T) {
	d := read(t, valley)
	list := slices.Concat(seen("GET /v1/reports", "nobody 401", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/reports/{id}", "nobody 401", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/mail", "nobody 401", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/things", "nobody 401", "ann 403", "bob 403", "meg 200"))
	at := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	text := valley
	for _, g := range groupsOf(d, list) {
		require.NotNil(t, g.Entry)
		var err error
		text, err = Confirm(text, at, parse, Entry{Rule: *g.Entry, Routes: g.Keys(d), How: "observed"})
		require.NoError(t, err)
	}
	assert.Contains(t, text, "  - { at: \"/**\", who: undecided }\n"+
		"  - { at: [\"GET /v1/reports/**\", GET /v1/mail], who: reader } # observed on 2026-12-01, confirmed\n"+
		"  - { at: GET /v1/things, who: boss } # observed on 2026-12-01, confirmed\n")
	after := read(t, text)
	for _, g := range groupsOf(after, list) {
		assert.True(t, g.Confirmed)
	}
	var guessed []string
	for _, e := range Guesses(after) {
		guessed = append(guessed, strings.Join(e.Routes, ",")+" "+e.How+" "+e.Rule.Text())
	}
	assert.Equal(t, []string{"PUT /v1/things/{id},POST /v1/things guessed from GET /v1/things { at: [], who: boss }"},
		guessed)

	_, err := Confirm(text, at, parse, Entry{Rule: entryOf(whoOf("anyone")), Routes: []string{"GET /gone"}})
	assert.ErrorContains(t, err, "GET /gone is no route of the inventory any more")
}

// How callers were turned away is proposed where all that the same thing turns away were answered alike.
func TestHowCallersAreTurnedAway(t *testing.T) {
	for _, c := range []struct {
		seen []string
		rule string
	}{
		{[]string{"nobody 401", "ann 404", "bob 404", "meg 200"}, "who: boss, turned_away: { role: 404 }"},
		{[]string{"nobody 404", "ann 404", "bob 404", "meg 200"},
			"who: boss, turned_away: { credential: 404, role: 404 }"},
		{[]string{"nobody 403", "ann 403", "bob 403", "meg 200"}, "who: boss, turned_away: { credential: 403 }"},
		{[]string{"nobody 401", "ann 404", "bob 403", "meg 200"}, "who: boss"},
		{[]string{"nobody 401", "ann 410", "bob 410", "meg 200"}, "who: boss, turned_away: { role: 410 }"},
		{[]string{"nobody 302", "ann 403", "bob 403", "meg 200"}, "who: boss"},
	} {
		d := read(t, valley)
		list := slices.Concat(seen("GET /v1/things", c.seen...),
			seen("GET /v1/reports", "nobody 401", "ann 200", "bob 200", "meg 200"))
		for k, s := range list {
			if s.Status == 302 {
				list[k].Class = check.ToLogin
			}
		}
		rules := map[string]string{}
		for _, g := range groupsOf(d, list) {
			for _, key := range g.Keys(d) {
				rules[key] = g.Text()
			}
		}
		assert.Equal(t, "{ at: GET /v1/things, "+c.rule+" }", rules["GET /v1/things"], c.seen)
	}
	before := strings.Replace(valley, ", groups: { shown: [t-3] },\n    in: { team: { north: [t-1, t-4] } } }", " }", 1)
	first := strings.Replace(before, "\naccess:\n  - { at: \"/**\", who: undecided }\n", "\n", 1)
	d := read(t, strings.Replace(first, "millgate: 1.1", "millgate: 1", 1))
	list := slices.Concat(seen("GET /v1/things", "nobody 401", "ann 404", "bob 404", "meg 200"),
		seen("GET /v1/reports", "nobody 401", "ann 200", "bob 200", "meg 200"))
	for _, g := range groupsOf(d, list) {
		assert.NotContains(t, g.Text(), "turned_away", "the first version has no word for it")
	}
}

// What the file that describes a write says it needs is a guess too, where no read stands beside it; its scopes also
// where one does.
func TestGuessesFromADescription(t *testing.T) {
	text := `millgate: 1.1
targets: { here: { base: "http://127.0.0.1:1" } }
routes: [GET /b, from: api.yaml]
schemes: { key: { kind: api-key, in: header, name: X } }
identities: { ann: { credentials: { key: { key: env:A } } } }
access: [{ at: /**, who: undecided }, { at: GET /b, who: signed-in }]
`
	d, msgs := declaration.Parse("x", []byte(text), func(string) ([]declaration.Imported, []error) {
		return []declaration.Imported{
			{Method: "POST", Path: "/a", Requires: &declaration.Required{Schemes: []string{"key"},
				Scopes: []string{"w"}}},
			{Method: "POST", Path: "/b", Requires: &declaration.Required{Schemes: []string{"key"},
				Scopes: []string{"w"}}},
			{Method: "POST", Path: "/c", Requires: &declaration.Required{Nothing: true}},
			{Method: "POST", Path: "/d", Requires: &declaration.Required{Schemes: []string{"other"}}},
			{Method: "POST", Path: "/e"}}, nil
	})
	require.False(t, declaration.Failed(msgs), msgs)
	var guessed []string
	for _, e := range Guesses(d) {
		guessed = append(guessed, strings.Join(e.Routes, ",")+" "+e.How+" "+e.Rule.Text())
	}
	assert.Equal(t, []string{
		"POST /a guessed from api.yaml { at: [], who: signed-in, scope: w, by: key }",
		"POST /b guessed from GET /b and from api.yaml { at: [], who: signed-in, scope: w }",
		"POST /c guessed from api.yaml { at: [], who: anyone }",
		"POST /d guessed from api.yaml { at: [], who: signed-in }"}, guessed)
}

// All undecided entries that name routes give way where these are confirmed, and keep what they name beside.
func TestUndecidedEntriesGiveWay(t *testing.T) {
	text := strings.Replace(valley, "access:\n", `access:
  - { at: [GET /open, GET /v1/things], who: undecided }
  - { at: GET /v1/mail, who: undecided }
  - { at: [GET /v1/reports], who: boss } # as it is
`, 1)
	d := read(t, text)
	list := slices.Concat(seen("GET /v1/things", "nobody 401", "ann 200", "bob 200", "meg 200"),
		seen("GET /v1/mail", "nobody 401", "ann 200", "bob 200", "meg 200"))
	groups := groupsOf(d, list)
	require.Len(t, groups, 1)
	got, err := Confirm(text, time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC), parse,
		Entry{Rule: *groups[0].Entry, Routes: groups[0].Keys(d), How: "observed"})
	require.NoError(t, err)
	_, got, _ = strings.Cut(got, "access:\n")
	assert.Equal(t, `  - { at: GET /open, who: undecided }
  - { at: [GET /v1/reports], who: boss } # as it is
  - { at: "/**", who: undecided }
  - { at: [GET /v1/things, GET /v1/mail], who: reader } # observed on 2026-12-01, confirmed
`, got)
}

// Of generated services, the entries that are proposed say exactly what was observed, and all others stay undecided.
func TestProposalsSayWhatWasObserved(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	proposed, turned, grouped := 0, 0, 0
	for n := range 100 {
		open, real := generated(r)
		d, service := read(t, open), read(t, real)
		list := asked(d, service)
		groups := groupsOf(d, list)
		text := open
		known := map[string]At{}
		for _, g := range groups {
			if g.Entry == nil {
				continue
			}
			proposed++
			var err error
			text, err = Confirm(text, time.Now(), parse, Entry{Rule: *g.Entry, Routes: g.Keys(d), How: "observed"})
			require.NoError(t, err, "%d\n%s", n, text)
			for _, a := range g.Routes {
				known[d.Routes[a.Route].Key()] = a
			}
		}
		after := read(t, text)
		for i, rt := range after.Routes {
			a, ok := known[rt.Key()]
			require.Equal(t, !ok, access.IsUndecided(after, i), "%d %s\n%s", n, rt.Key(), text)
			for name := range a.Marks {
				for rel, m := range a.met[name] {
					require.Equal(t, m, expected(after, i, after.IdentityNamed(name), rel),
						"%d: %s as %q on %q\n%s\n%s",
						n, rt.Key(), name, rel, text, real)
				}
			}
			if ok && len(after.Entry(i).Words()) > 0 && !declaration.OwnAlone(after.Entry(i).Words()) {
				grouped++
			}
			if ok && after.Entry(i).Turned != (declaration.TurnedAway{}) {
				turned++
				require.Zero(t, wrong(after, At{Route: i, Marks: a.Marks, Seen: ofRoute(list, rt.Key())}),
					"%d %s\n%s\n%s", n, rt.Key(), text, real)
			}
		}
	}
	assert.Greater(t, proposed, 200, "most of what is generated can be said")
	assert.Greater(t, turned, 50, "and so can how callers are turned away")
	t.Logf("%d proposed, %d with how, %d on groups and teams", proposed, turned, grouped)
	assert.Greater(t, grouped, 20, "and on which records of a group or a team they are let in")
}

func ofRoute(list []Seen, key string) []Seen {
	return slices.DeleteFunc(slices.Clone(list), func(s Seen) bool { return s.Route != key })
}

// generated is a declaration of which nothing is decided, and what its service does.
func generated(r *rand.Rand) (open, real string) {
	head := `millgate: 1.1
roles: { r0: , r1: { includes: r0 }, r2: }
schemes:
  token: { kind: bearer }
  key: { kind: api-key, in: header, name: X-Key }
identities:
`
	var ids []string
	for k := range 3 + r.IntN(4) {
		id := fmt.Sprint("i", k)
		ids = append(ids, id)
		role := []string{"roles: r0, ", "roles: r1, ", "roles: r2, ", "roles: [r0, r2], ", ""}[r.IntN(5)]
		attr := []string{"attributes: { ok: true }, ", "attributes: { ok: false }, ", "scopes: [w], ", ""}[r.IntN(4)]
		cred := []string{"token: { token: env:T }", "key: { key: env:K }",
			"token: { token: env:T }, key: { key: env:K }"}[r.IntN(3)]
		team := []string{"in: { team: north }, ", "in: { team: south }, ", "in: { team: [north, south] }, ",
			""}[r.IntN(4)]
		head += "  " + id + ": { " + role + attr + team + "credentials: { " + cred + " } }\n"
	}
	head += "records:\n  thing: { fills: \"/a/things/{id}\", owned_by: { " + ids[0] + ": [x], "
	head += ids[1] + ": [y], " + ids[2] + ": [v, w] }, groups: { shown: [y, z] }, "
	head += "in: { team: { north: [x, z], south: [y, w] } } }\nroutes:\n"
	paths := []string{"/a", "/a/b", "/a/b/c", "/a/things", "/a/things/{id}", "/b", "/b/c", "/b/d", "/c"}
	rules := ""
	for _, p := range paths {
		head += "  - \"GET " + p + "\"\n"
		who := []string{"anyone", "signed-in, by: [token, key]", "signed-in, by: token", "r0", "r1", "[r1, r2]",
			"nobody",
			"\"identity:" + ids[0] + "\"", "r0, given: { ok: true }",
			"signed-in, by: [token, key], scope: w"}[r.IntN(10)]
		if strings.Contains(p, "{") {
			who = []string{"owner", "[owner, r1]", "owner, hide: true", "r0", "[{ who: anyone, on: shown }, owner]",
				"[{ who: r0, on: own }, { who: r1, on: team }]", "{ who: signed-in, on: team }",
				"[{ who: r2, on: shown }, r1]", "{ who: anyone, on: shown }, hide: true",
				"[owner, { who: r0, on: shown }, { who: r1, on: team }]"}[r.IntN(10)]
		}
		if !strings.Contains(who, "by:") && who != "anyone" && who != "nobody" {
			who += ", by: [token, key]"
		}
		if who != "anyone" && who != "nobody" && !strings.Contains(who, "hide") && r.IntN(2) == 0 {
			who += ", turned_away: " + []string{"404", "410", "401", "{ credential: 403 }", "{ role: 404, scope: 404 }",
				"{ role: 401, scope: 410 }"}[r.IntN(6)]
		}
		rules += "  - { at: \"GET " + p + "\", who: " + who + " }\n"
	}
	return head + "access:\n  - { at: \"/**\", who: undecided }\n", head + "access:\n" + rules
}

// asked is what a service answers to each caller.
func asked(d, service *declaration.Document) (out []Seen) {
	status := map[access.Outcome]int{access.Admit: 200, access.Closed: 403}
	for i, rt := range d.Routes {
		put := func(id *declaration.Identity, scheme string, rel access.Relation, record string) {
			c := access.Caller{State: access.Absent, Record: rel}
			s := Seen{Route: rt.Key(), Scheme: scheme, Relation: rel}
			if id != nil {
				only := *id // it comes with this scheme alone
				only.Credentials = slices.DeleteFunc(slices.Clone(id.Credentials),
					func(c declaration.Credential) bool { return c.Scheme.Name != scheme })
				c.Identity, c.State, s.Identity = &only, access.Sound, id.Name
			}
			s.Record = record
			x := access.Decide(service, i, c)
			s.Status = cmp.Or(x.Status(), status[x.Outcome])
			s.Class = check.Classify(check.Answer{Status: s.Status}, declaration.Answers{})
			out = append(out, s)
		}
		stands := func(id *declaration.Identity) map[access.Relation]string {
			rec := d.Record(i)
			if rec == nil {
				return map[access.Relation]string{access.NoRecord: ""}
			}
			out := map[access.Relation]string{}
			for _, x := range rec.IDs() {
				out[access.RelationTo(d.WordsOf(rec), rec, x, id)] = x
			}
			return out
		}
		for rel, record := range stands(nil) {
			put(nil, "", rel, record)
		}
		for _, id := range d.Identities {
			for _, cr := range id.Credentials {
				for rel, record := range stands(id) {
					put(id, cr.Scheme.Name, rel, record)
				}
			}
		}
	}
	return out
}

// BenchmarkGroups gathers what 60 callers met at 5,000 routes, and BenchmarkConfirm writes all of it.
func BenchmarkGroups(b *testing.B) {
	d, list := large(b)
	b.ResetTimer()
	for b.Loop() {
		if g := groupsOf(d, list); len(g) < 10 {
			b.Fatal(len(g))
		}
	}
}

func BenchmarkConfirm(b *testing.B) {
	d, list := large(b)
	var entries []Entry
	for _, g := range groupsOf(d, list) {
		if g.Entry != nil {
			entries = append(entries, Entry{Rule: *g.Entry, Routes: g.Keys(d), How: "observed"})
		}
	}
	text := largeText("access:\n  - { at: \"/**\", who: undecided }\n")
	b.ResetTimer()
	for b.Loop() {
		if _, err := Confirm(text, time.Now(), parse, entries...); err != nil {
			b.Fatal(err)
		}
	}
}

// largeText has 5,000 reads in 250 parts of a service, and 60 identities of six roles.
func largeText(access string) string {
	var b strings.Builder
	b.WriteString("millgate: 1.1\nroles: { r0: , r1: , r2: , r3: , r4: , r5: }\nschemes: { token: { kind: bearer } }\n")
	b.WriteString("identities:\n")
	for k := range 60 {
		fmt.Fprintf(&b, "  i%d: { roles: r%d, credentials: { token: { token: env:T%d } } }\n", k, k%6, k)
	}
	b.WriteString("records: { thing: { fills: \"/p0/a0/{id}\", owned_by: { i0: [x], i1: [y] } } }\nroutes:\n")
	for p := range 250 {
		for k := range 20 {
			fmt.Fprintf(&b, "  - GET /p%d/a%d\n", p, k)
		}
	}
	b.WriteString(access)
	return b.String()
}

func large(b *testing.B) (*declaration.Document, []Seen) {
	rules := "access:\n  - { at: \"/**\", who: signed-in }\n"
	for p := 1; p < 250; p++ {
		rules += fmt.Sprintf("  - { at: \"/p%d/**\", who: %s }\n", p, []string{"anyone", "signed-in", "r1", "[r2, r3]",
			"nobody", "identity:i7"}[p%6])
		rules += fmt.Sprintf("  - { at: \"/p%d/a3\", who: r%d }\n", p, p%5)
	}
	d, service := read(b, largeText("access:\n  - { at: \"/**\", who: undecided }\n")), read(b, largeText(rules))
	return d, asked(d, service)
}
