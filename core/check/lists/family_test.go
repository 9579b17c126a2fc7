package lists

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/testkit/play"
)

const declared = `millgate: 1.1
targets: { t: { base: "http://h" } }
routes: [GET /things, GET /all, GET /paged, GET /linked, "GET /teams/{team}/things",
  GET /notes, "GET /notes/{note_id}", GET /open, "GET /open/{note_id}"]
roles: { reader: , boss: }
schemes: { s: { kind: bearer } }
identities:
  ann: { roles: reader, in: { team: north }, credentials: { s: { token: env:A } } }
  bob: { roles: reader, in: { team: south }, credentials: { s: { token: env:B } } }
  cat: { roles: reader, in: { team: west }, credentials: { s: { token: env:C } } }
  meg: { roles: boss, credentials: { s: { token: env:M } } }
records:
  thing:
    fills: thing_id
    owned_by: { ann: [t-1], bob: [t-2] }
    in: { team: { north: [t-1, t-3], south: [t-2] } }
    groups: { shown: [t-4] }
    listed:
      - { at: GET /things, each: /items }
      - { at: GET /all, each: /items }
      - { at: GET /paged, each: /items, pages: { query: page, from: 0 } }
      - { at: GET /linked, each: /items, pages: { next: /next } }
      - { at: "GET /teams/{team}/things", each: /items }
  team: { fills: team }
  note: { fills: note_id, owned_by: { ann: [n-1], bob: [n-2] } }
access:
  - { at: [GET /notes, GET /open, "GET /open/{note_id}"], who: reader }
  - { at: "GET /notes/{note_id}", who: owner }
  - { at: GET /things, who: [{ who: anyone, on: shown }, { who: reader, on: team }, boss] }
  - { at: GET /all, who: [reader, boss] }
  - { at: [GET /paged, GET /linked], who: [{ who: reader, on: own }, boss] }
  - { at: "GET /teams/{team}/things", who: [{ who: reader, on: team }, boss] }
`

// planned is the plan of the family behind that of crossings.
func planned(t *testing.T, text string) *check.Plan {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	return check.NewPlan(d, d.Targets[0], check.Families{crossing.Family{}, Family{}})
}

func at(t *testing.T, p *check.Plan, route, who string) *check.Probe {
	t.Helper()
	for _, x := range p.Probes {
		if x.Is(Family{}) && x.Route == route && x.Caller.Identity == who && x.Relation != "foreign" {
			return x
		}
	}
	t.Fatalf("%s does not ask for %s", who, route)
	return nil
}

// Whoever must be admitted asks for the list; where everybody may see all there is nothing to see.
func TestWhoAsks(t *testing.T) {
	p := planned(t, declared)
	who := map[string][]string{}
	for _, x := range p.Probes {
		if x.Is(Family{}) {
			who[x.Route] = append(who[x.Route], x.Caller.Identity+" "+x.Record.Value)
			assert.Equal(t, check.SafeFirst, x.Phase)
			assert.NotNil(t, p.Find(x.Control), "as at its crossing")
		}
	}
	for _, list := range who {
		slices.Sort(list)
	}
	assert.Equal(t, map[string][]string{"GET /things": {" ", "ann ", "cat ", "meg "},
		"GET /paged": {"ann ", "cat ", "meg "}, "GET /linked": {"ann ", "cat ", "meg "},
		"GET /teams/{team}/things": {"ann north", "bob south", "cat west", "meg west"}}, who)
	var left []string
	for _, o := range p.Left {
		if o.Family == "lists" {
			left = append(left, o.Route+": "+o.Why)
		}
	}
	assert.Equal(t, []string{"GET /notes: nothing says whether it lists the records of note, and whose; say  listed: " +
		"{ at: GET /notes, each: /… }  there"}, left)
	assert.Equal(t, 20, Family{}.Cost(p.Context, at(t, p, "GET /paged", "ann")).Requests)
	assert.Equal(t, 1, Family{}.Cost(p.Context, at(t, p, "GET /things", "ann")).Requests)
	assert.Equal(t, "shows only rows that are shown or of its own team",
		Family{}.Declared(p.Context, at(t, p, "GET /things", "ann")))
	assert.Equal(t, "shows all rows", Family{}.Declared(p.Context, at(t, p, "GET /things", "meg")))
}

// rows are a body with rows.
func rows(ids ...string) map[string]any {
	list := []any{}
	for _, id := range ids {
		list = append(list, map[string]any{"id": id, "note": "a"})
	}
	return map[string]any{"items": list}
}

func answered(c check.Call, status int, body any) check.Report {
	text, _ := json.Marshal(body)
	r := check.Report{Name: c.Name, Fate: check.Answered, Took: map[string]string{},
		Exchange: check.Exchange{Status: status,
			Content: string(text), Answer: [][2]string{{"Content-Type", "application/json"}}}}
	for _, take := range c.Take {
		if m, _ := body.(map[string]any); m != nil {
			if s, _ := m["next"].(string); strings.HasPrefix(s, "/") {
				r.Took[take.Slot] = s
			}
		}
	}
	return r
}

// said is what is concluded where each caller is shown these rows ("!403" is another answer), all from one answer.
func said(t *testing.T, p *check.Plan, route, who string, shown map[string]string) check.Verdict {
	t.Helper()
	facts := map[string]*check.Fact{}
	for _, x := range p.Probes {
		is, asked := shown[x.Caller.Identity]
		if !x.Is(Family{}) || x.Route != route || !asked || x.Relation == "foreign" {
			continue
		}
		f, calls := play.Run(Family{}.Script(p.Context, x), -1, func(c check.Call, _ time.Duration) check.Report {
			if status, ok := strings.CutPrefix(is, "!"); ok {
				n := 0
				_, _ = fmt.Sscan(status, &n)
				return answered(c, n, map[string]any{})
			}
			return answered(c, 200, rows(strings.Fields(is)...))
		})
		require.Len(t, calls, 1)
		facts[x.Key()] = &f
	}
	x := at(t, p, route, who)
	return Family{}.Judge(p.Context, x, facts[x.Key()],
		check.NewEvidence(func(key string) *check.Fact { return facts[key] }))
}

func TestJudge(t *testing.T) {
	p := planned(t, declared)
	const things, teams = "GET /things", "GET /teams/{team}/things"
	for _, c := range []struct {
		name, route, who string
		shown            map[string]string
		kind             finding.Kind
		sure             finding.Confidence
		says             string
	}{
		{"what is its own, and others see more", things, "ann", map[string]string{"ann": "t-1 t-3 t-4",
			"meg": "t-1 t-2 t-3 t-4"},
			finding.Agrees, finding.Proven, "ann is shown 3 rows, none of them somebody else's; meg was shown t-2 " +
				"there"},
		{"another's", things, "ann", map[string]string{"ann": "t-1 t-2 t-3 t-4", "meg": "t-1"},
			finding.OverPermissive, finding.Proven,
			"ann is shown thing t-2 of bob, and may be shown only rows that are shown or of its own team."},
		{"others', as nobody", things, "", map[string]string{"": "t-4 t-1 t-3 t-2"}, finding.OverPermissive,
			finding.Proven,
			"nobody (no credential) is shown thing t-1 of ann, t-3 and 1 more"},
		{"what is in the group, as nobody", things, "", map[string]string{"": "t-4", "ann": "t-1 t-4"},
			finding.Agrees, finding.Proven, "ann was shown t-1 there"},
		{"nobody shows that there could be another's", things, "ann", map[string]string{"ann": "t-1", "meg": "t-1"},
			finding.Unproven,
			finding.NotSure, "nobody was shown a row that is not for ann"},
		{"its own is not there", things, "ann", map[string]string{"ann": "t-4 t-3", "meg": "t-1 t-2 t-3 t-4"},
			finding.OverRestrictive, finding.Proven, "ann is not shown thing t-1, which is for it"},
		{"its own is nowhere", things, "ann", map[string]string{"ann": "t-9", "meg": "t-2"}, finding.Unproven,
			finding.NotSure,
			"(of 1 nothing is declared), none of them somebody else's; but thing t-1, which is for it, is not " +
				"there either"},
		{"an empty list, of who owns nothing", teams, "cat", map[string]string{"cat": "", "bob": "t-2"}, finding.Agrees,
			finding.Likely, "cat is shown 0 rows"},
		{"who may see all", things, "meg", map[string]string{"meg": "t-1 t-7"}, finding.Agrees, finding.Proven,
			"meg is shown 2 rows, as who may see all"},
		{"who is turned away", things, "ann", map[string]string{"ann": "!403"}, finding.Unproven, finding.NotSure,
			"the request was answered 403"},
		{"its team's, behind a path", teams, "ann", map[string]string{"ann": "t-1 t-3", "bob": "t-2"}, finding.Agrees,
			finding.Proven, "bob was shown t-2 there"},
		{"another team's, behind its own path", teams, "ann", map[string]string{"ann": "t-1 t-2"},
			finding.OverPermissive,
			finding.Proven, "ann is shown thing t-2 of bob, and may be shown only rows that are of its own team."},
		{"not all of its team's", teams, "ann", map[string]string{"ann": "t-1", "cat": "t-1 t-3"},
			finding.OverRestrictive,
			finding.Proven, "ann is not shown thing t-3"},
	} {
		t.Run(c.name, func(t *testing.T) {
			v := said(t, p, c.route, c.who, c.shown)
			kind, sure, _ := play.Said(v)
			assert.Equal(t, c.kind, kind, v.Says)
			assert.Equal(t, c.sure, sure, v.Says)
			says := v.Says
			if len(v.Gaps) > 0 {
				says = v.Gaps[0].Says
			}
			assert.Contains(t, says, c.says)
		})
	}
}

// The rows that are not as declared are told with whose they are, and where they stand.
func TestRowsThatAreNotAsDeclared(t *testing.T) {
	p := planned(t, declared)
	x := at(t, p, "GET /things", "ann")
	f, _ := play.Run(Family{}.Script(p.Context, x), -1, func(c check.Call, _ time.Duration) check.Report {
		return answered(c, 200, rows("t-2", "t-3", "x", "t-2"))
	})
	assert.Equal(t, []check.Row{{ID: "t-2", Owner: "bob", Stands: []string{"team south"}},
		{ID: "t-1", Owner: "ann", Stands: []string{"team north"}, Missing: true},
		{ID: "t-4", Stands: []string{"shown"}, Missing: true}}, Family{}.Rows(p.Context, x, &f))
}

// Pages are asked for until there are no more; what was not read is said, and proves nothing.
func TestPages(t *testing.T) {
	p := planned(t, declared)
	ids := func(from, n int) (out []string) {
		for k := range n {
			out = append(out, fmt.Sprintf("x-%d", from+k))
		}
		return out
	}
	for _, c := range []struct {
		name, route string
		pages       []any // the last one is answered to all that follow
		asked       []string
		read        int
		end         bool
		why         string
	}{
		{"by number", "GET /paged", []any{rows(ids(0, 3)...), rows("t-1"), rows()}, []string{"/paged?page=0",
			"/paged?page=1",
			"/paged?page=2"}, 4, true, ""},
		{"no page behind the last", "GET /paged", []any{rows(ids(0, 3)...), 404}, []string{"/paged?page=0",
			"/paged?page=1"},
			3, true, ""},
		{"a page that fails", "GET /paged", []any{rows(ids(0, 3)...), 500}, []string{"/paged?page=0",
			"/paged?page=1"}, 3,
			false, "page 2 was answered 500"},
		{"the same page for ever", "GET /paged", []any{rows(ids(0, 3)...)}, []string{"/paged?page=0",
			"/paged?page=1"}, 6,
			false, "page 2 shows no other rows than those before"},
		{"by address", "GET /linked", []any{map[string]any{"items": []any{map[string]any{"id": "x"}},
			"next": "/linked?after=x"},
			rows("t-1")}, []string{"/linked?", "next"}, 2, true, ""},
		{"an address elsewhere", "GET /linked", []any{map[string]any{"items": []any{}, "next": "http://other/x"}},
			[]string{"/linked?"}, 0, false, `"http://other/x", is none of the target`},
		{"no rows where they stand", "GET /linked", []any{map[string]any{"rows": 1}}, []string{"/linked?"}, 0, false,
			"the answer to the request has no rows at /items"},
	} {
		t.Run(c.name, func(t *testing.T) {
			n := 0
			f, calls := play.Run(Family{}.Script(p.Context, at(t, p, c.route, "ann")), -1,
				func(k check.Call, _ time.Duration) check.Report {
					n++
					if status, ok := c.pages[min(n, len(c.pages))-1].(int); ok {
						return answered(k, status, map[string]any{})
					}
					return answered(k, 200, c.pages[min(n, len(c.pages))-1])
				})
			var asked []string
			for _, k := range calls {
				if asked = append(asked, k.Request.Path+"?"+k.Request.Query); k.Request.Link != "" {
					asked[len(asked)-1] = k.Request.Link
				}
			}
			m, _ := f.Data.(*Measured)
			assert.Equal(t, c.asked, asked)
			assert.Len(t, m.Rows, c.read)
			assert.Equal(t, c.end, m.End)
			if c.why == "" {
				assert.Empty(t, m.Why)
			} else {
				assert.Contains(t, m.Why, c.why)
			}
		})
	}
	many := func(k check.Call, _ time.Duration) check.Report {
		var page int
		_, _ = fmt.Sscanf(k.Request.Query, "page=%d", &page)
		return answered(k, 200, rows(ids(page*3, 3)...))
	}
	f, calls := play.Run(Family{}.Script(p.Context, at(t, p, "GET /paged", "ann")), -1, many)
	assert.Len(t, calls, 20)
	v := Family{}.Judge(p.Context, at(t, p, "GET /paged", "ann"), &f, check.NewEvidence(func(string) *check.Fact {
		return nil
	}))
	assert.Contains(t, v.Says, "no more than 20 pages are read")
	f.Reports[0].Exchange.Truncated = true
	got, why := rowsOf(p.Context, p.Context.Doc.List(0), f.Reports[0])
	assert.Empty(t, got)
	assert.Contains(t, why, "longer than what is kept")
	text, err := json.Marshal(f.Data)
	require.NoError(t, err)
	back, err := Family{}.Decode(version, text)
	require.NoError(t, err)
	assert.Equal(t, f.Data, back)
	_, err = Family{}.Decode(version+1, text)
	require.ErrorContains(t, err, "a list")
}

// Rows are the items of an array, or the members of an object; an id may be a number, or the row.
func TestRows(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(declared), nil)
	require.False(t, declaration.Failed(msgs))
	c := &check.Context{Doc: d}
	for _, x := range []struct{ each, id, body, ids string }{
		{"/items", "/id", `{"items": [{"id": "a"}, {"id": 7}, {"no": 1}]}`, "a|7|"},
		{"", "/id", `[{"id": "a"}]`, "a"},
		{"", "", `["a", 7, null]`, "a|7|"},
		{"/by", "/of/id", `{"by": {"y": {"of": {"id": "b"}}, "x": {"of": {"id": "a"}}}}`, "a|b"},
		{"/items", "/id", `{"items": null}`, ""},
	} {
		l := &declaration.List{}
		require.NoError(t, json.Unmarshal([]byte(fmt.Sprintf(`{"Each": %q, "ID": %q}`, x.each, x.id)), l))
		ids, why := rowsOf(c, l, check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 200,
			Content: x.body,
			Answer:  [][2]string{{"Content-Type", "application/json"}}}})
		assert.Empty(t, why)
		assert.Equal(t, x.ids, strings.Join(ids, "|"))
	}
}
