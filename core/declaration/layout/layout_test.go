package layout

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

// writer writes the same declaration in the layouts that people use.
type writer struct {
	r *rand.Rand
	b strings.Builder
}

func (w *writer) one(of ...string) string { return of[w.r.IntN(len(of))] }
func (w *writer) line(s string) {
	w.b.WriteString(s + w.one("", "", "", " # why: {so} [it] is") + "\n")
}
func (w *writer) between(pad string) {
	if w.r.IntN(4) == 0 {
		w.b.WriteString(w.one("\n", pad+"# a note, with: a colon\n", "# at the margin\n"))
	}
}

// mapping writes members in one of the layouts.
func (w *writer) mapping(head, pad string, members [][2]string) {
	var flow []string
	for _, m := range members {
		flow = append(flow, m[0]+": "+m[1])
	}
	switch w.r.IntN(4) {
	case 0:
		w.line(head + " { " + strings.Join(flow, ", ") + " }")
	case 1: // brackets over several lines
		w.b.WriteString(head + " {\n")
		for _, f := range flow {
			w.b.WriteString(pad + "    " + f + ",\n")
		}
		w.line(pad + "  }")
	default:
		if strings.HasSuffix(head, "-") {
			w.line(head + " " + flow[0])
			for _, f := range flow[1:] {
				w.between(pad + "  ")
				w.line(pad + "  " + f)
			}
			return
		}
		w.line(head)
		for _, f := range flow {
			w.between(pad + "  ")
			w.line(pad + "  " + f)
		}
	}
}

func (w *writer) text() string {
	pad := w.one("  ", "  ", "    ", "   ")
	listPad := w.one(pad, pad, "")
	w.line("millgate: 1")
	w.between("")
	if w.r.IntN(5) == 0 {
		w.line(`routes: [GET /a, "GET /a/{id}", { at: "POST /b", summary: "x, {y}" }]`)
	} else {
		w.line("routes:")
		w.line(listPad + "- GET /a")
		w.line(listPad + `- "GET /a/{id}"`)
		w.mapping(listPad+"-", listPad, [][2]string{{"at", "POST /b"}, {"summary", `"x, {y}"`}})
	}
	w.between("")
	w.line("roles:")
	w.line(pad + "r:")
	w.line(pad + "s: { includes: r }")
	w.between("")
	w.line("access:")
	for _, e := range [][][2]string{{{"at", "GET /a"}, {"who", "r"}}, {{"who", "[r, s]"}, {"at", `["GET /a/{id}"]`},
		{"hide", "true"}}, {{"at", "POST /b"}, {"who", "s"}, {"given", "{ ok: true, name: \"a: b\" }"}}} {
		w.between(listPad)
		w.mapping(listPad+"-", listPad, e)
	}
	w.between("")
	w.line("identities:")
	for _, n := range []string{"ann", "bob"} {
		w.mapping(pad+n+":", pad, [][2]string{{"roles", "r"}, {"attributes", "{ ok: true }"}})
	}
	if w.r.IntN(2) == 0 {
		w.line("# the end")
	}
	return w.b.String()
}

// dump is what a document says, without places.
func dump(d *declaration.Document) map[string]string {
	out := map[string]string{}
	for _, r := range d.Routes {
		b, _ := json.Marshal(r.Send)
		out["route "+r.Key()] = fmt.Sprint(r.Effect, r.Sensitivity, r.Summary, r.Group, string(b))
	}
	for _, e := range d.Access {
		at := ""
		if len(e.At) > 0 {
			at = e.At[0].String()
		}
		out["entry "+at] += e.Text() + fmt.Sprint(e.At)
	}
	for _, i := range d.Identities {
		roles := declaration.Names(i.Roles, func(r declaration.Ref) string { return r.Name })
		out["identity "+i.Name] = fmt.Sprint(roles, i.Attributes, i.Scopes)
	}
	for _, r := range d.Roles {
		out["role "+r.Name] = fmt.Sprint(declaration.Names(r.Includes,
			func(r declaration.Ref) string { return r.Name }))
	}
	return out
}

// Thousands of random edits in random layouts: the text says afterwards what
// the edit is for, everything else as before, and every line that the edit is
// not about is still there, in the same order.
func TestEditsChangeOneThing(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	done := 0
	for n := range 4000 {
		w := &writer{r: r}
		text := w.text()
		before, msgs := parse(t, text)
		require.False(t, declaration.Failed(msgs), "%s\n%v", text, msgs)
		e := before.Access[r.IntN(3)]
		id := before.Identities[r.IntN(2)].Name
		type op struct {
			edit   Edit
			change string // the key of dump that changes, "" when one goes or comes
			want   func(*declaration.Document) bool
		}
		key := "entry " + e.At[0].String()
		named := func(d *declaration.Document) *declaration.Entry {
			for _, x := range d.Access {
				if x.At[0].String() == e.At[0].String() {
					return x
				}
			}
			return nil
		}
		ops := []op{
			{Edit{Section: "access", Line: e.Line, Field: []string{"who"}, Text: "owner"}, key,
				func(d *declaration.Document) bool { return named(d).Who[0].On.Kind == declaration.OnOwn }},
			{Edit{Section: "access", Line: e.Line, Field: []string{"who"}, Text: `["identity:ann", s]`}, key,
				func(d *declaration.Document) bool {
					return len(named(d).Who) == 2 && named(d).Who[0].Kind == declaration.WhoIdentity
				}},
			{Edit{Section: "access", Line: e.Line, Field: []string{"hide"}, Text: "true"}, key,
				func(d *declaration.Document) bool { return named(d).Hide }},
			{Edit{Section: "access", Line: e.Line, Field: []string{"hide"}}, key,
				func(d *declaration.Document) bool { return !named(d).Hide }},
			{Edit{Section: "access", Line: e.Line, Field: []string{"given", "team"}, Text: "dome"}, key,
				func(d *declaration.Document) bool { return named(d).Given["team"] == "dome" }},
			{Edit{Section: "access", Line: e.Line}, key, func(d *declaration.Document) bool {
				return named(d) == nil &&
					len(d.Access) == 2
			}},
			{Edit{Section: "access", After: e.Line, Text: `{ at: /x, who: anyone }`}, "entry /x",
				func(d *declaration.Document) bool { return len(d.Access) == 4 }},
			{Edit{Section: "access", Text: `{ at: /x, who: anyone }`}, "entry /x",
				func(d *declaration.Document) bool { return d.Access[3].At[0].String() == "/x" }},
			{Edit{Section: "identities", Item: id, Field: []string{"roles"}, Text: "[r, s]"}, "identity " + id,
				func(d *declaration.Document) bool { return len(d.IdentityNamed(id).Roles) == 2 }},
			{Edit{Section: "identities", Item: id, Field: []string{"attributes", "ok"}, Text: "false"},
				"identity " + id,
				func(d *declaration.Document) bool { return d.IdentityNamed(id).Attributes["ok"] == false }},
			{Edit{Section: "identities", Item: id, Field: []string{"scopes"}, Text: "[a]"}, "identity " + id,
				func(d *declaration.Document) bool { return len(d.IdentityNamed(id).Scopes) == 1 }},
			{Edit{Section: "identities", Item: id}, "identity " + id,
				func(d *declaration.Document) bool { return d.IdentityNamed(id) == nil }},
			{Edit{Section: "roles", Item: "r", Field: []string{"includes"}, Text: "s"}, "role r", nil},
			{Edit{Section: "roles", Item: "t", Text: "null"}, "role t",
				func(d *declaration.Document) bool { return d.RoleNamed("t") != nil }},
			{RouteEdit(text, "GET /a", []string{"group"}, "Things"), "route GET /a",
				func(d *declaration.Document) bool { return d.Routes[0].Group == "Things" }},
			{RouteEdit(text, "GET /a/{id}", []string{"send"}, `{ json: {"a":[1,"}"]} }`), "route GET /a/{id}",
				func(d *declaration.Document) bool { return string(d.Routes[1].Send.JSON) == `{"a":[1,"}"]}` }},
			{RouteEdit(text, "POST /b", []string{"sensitivity"}, "high"), "route POST /b",
				func(d *declaration.Document) bool { return d.Routes[2].Sensitivity == declaration.High }},
			{RouteEdit(text, "POST /b", []string{"summary"}, ""), "route POST /b",
				func(d *declaration.Document) bool { return d.Routes[2].Summary == "" }},
		}
		o := ops[r.IntN(len(ops))]
		out, err := Apply(text, o.edit)
		if err != nil {
			assert.ErrorIs(t, err, errLayout)
			continue
		}
		done++
		after, msgs := parse(t, out)
		for _, m := range msgs {
			require.NotContains(t, []string{"syntax", "type", "unknown-word", "missing", "duplicate"}, m.Code,
				"edit %d %+v of\n%s\nbecame\n%s\n%v", n, o.edit, text, out, msgs)
		}
		if o.want != nil {
			require.True(t, o.want(after), "edit %d %+v of\n%s\nbecame\n%s", n, o.edit, text, out)
		}
		was, is := dump(before), dump(after)
		delete(was, o.change)
		delete(is, o.change)
		require.Equal(t, was, is, "edit %d %+v of\n%s\nbecame\n%s", n, o.edit, text, out)
		if strings.Contains(text, "routes: [") && o.edit.Section == "routes" {
			continue // its items get lines of their own
		}
		lines := map[string]int{}
		for _, l := range strings.Split(out, "\n") {
			lines[strings.TrimSpace(l)]++
		}
		lost := 0
		for _, l := range strings.Split(text, "\n") {
			if l = strings.TrimSpace(l); lines[l] == 0 {
				lost++
				if len(o.edit.Field) > 0 {
					require.LessOrEqual(t, lost, 1, "edit %d %+v of\n%s\nbecame\n%s", n, o.edit, text, out)
				}
				if strings.HasPrefix(l, "#") && len(o.edit.Field) > 0 {
					t.Fatalf("the comment %q is lost by %+v:\n%s\nbecame\n%s", l, o.edit, text, out)
				}
			}
			lines[l]--
		}
	}
	require.Greater(t, done, 3300)
}

func TestEditsOfAnEmptyText(t *testing.T) {
	out, err := Apply("", Edit{Section: "access", Text: "{ at: GET /a, who: nobody }"})
	require.NoError(t, err)
	assert.Equal(t, "access:\n  - { at: GET /a, who: nobody }\n", out)
	out, err = Apply("millgate: 1\nroles:\nroutes: []\n", Edit{Section: "roles", Item: "r", Text: "null"},
		Edit{Section: "routes", Text: "GET /a"}, Edit{Section: "quotas", Item: "q",
			Text: "{ at: GET /a, allow: 1 per 1s, counted_by: key }"})
	require.NoError(t, err)
	d, msgs := parse(t, out)
	require.Empty(t, msgs, out)
	assert.Len(t, d.Routes, 1)
	assert.Len(t, d.Quotas, 1)
}

// Edits are given in lines of the text as it was, whatever the edits before
// them did to it.
// What an edit writes is canonical, JSON too.
func TestWhatAnEditWritesIsCanonical(t *testing.T) {
	out, err := Apply("millgate: 1.1\n", Edit{Section: "routes",
		Text: `{at: "POST /a", send: {json: {"a":[1,{"b":"x: {y}"}]}}} # as seen`},
		Edit{Section: "routes", Item: "POST /a", Field: []string{"effect"}, Text: "create"},
		Edit{Section: "schemes", Item: "s", Field: []string{"login"}, Text: `{send: POST /a,json: {"n":"{n}"}}`})
	require.NoError(t, err)
	assert.Equal(t,
		"millgate: 1.1\n\nroutes:\n  - { at: \"POST /a\", send: { json: { \"a\": [1, { \"b\": \"x: {y}\" }] } }, "+
			"effect: create } # as seen\n\nschemes:\n  s: { login: { send: POST /a, json: { \"n\": \"{n}\" } } }\n", out)
	canonical, err := Format(out)
	require.NoError(t, err)
	assert.Equal(t, canonical, out)
}

// A section that is not there comes where the canonical layout has it, with comments left where they are.
func TestANewSectionHasItsPlace(t *testing.T) {
	text := "millgate: 1.1\ntitle: X\n\ntargets:\n  t: { base: http://h } # here\n\n# who may\naccess:\n  - { at: /a, who: r }\n\n# the end\n"
	for _, e := range []Edit{{Section: "roles", Item: "r", Text: "{}"}, {Section: "routes", Text: "GET /a"},
		{Section: "schemes", Item: "s", Text: "{ kind: basic }"}, {Section: "waivers", Text: "{ routes: [GET /a] }"},
		{Section: "identities", Item: "i", Text: "{ roles: r }"}} {
		out, err := Apply(text, e)
		require.NoError(t, err)
		text = out
	}
	assert.Equal(t, "millgate: 1.1\ntitle: X\n\ntargets:\n  t: { base: http://h } # here\n\nroutes:\n  - GET /a\n\n"+
		"roles:\n  r: {}\n\nschemes:\n  s: { kind: basic }\n\nidentities:\n  i: { roles: r }\n\n# who may\naccess:\n"+
		"  - { at: /a, who: r }\n\n# the end\n\nwaivers:\n  - { routes: [GET /a] }\n", text)
	out, err := Apply("# mine\nroutes:\n  - GET /a\n", Edit{Section: "targets", Item: "t", Text: "{ base: http://h }"})
	require.NoError(t, err)
	assert.Equal(t, "# mine\nroutes:\n  - GET /a\n\ntargets:\n  t: { base: http://h }\n", out)
}

func TestEditsKeepTheirLines(t *testing.T) {
	text := "access:\n  - { at: /a, who: r }\n  - { at: /b, who: r }\n  - { at: /c, who: r }\n"
	out, err := Apply(text, Edit{Section: "access", Line: 2}, Edit{Section: "access", After: 3,
		Text: "{ at: /n, who: r }"}, Edit{Section: "access", Line: 4, Field: []string{"who"}, Text: "s"})
	require.NoError(t, err)
	assert.Equal(t, "access:\n  - { at: /b, who: r }\n  - { at: /n, who: r }\n  - { at: /c, who: s }\n", out)
}

// What nests so deeply that the YAML reader would take all memory is not handed to it.
func TestTooDeepToBeEdited(t *testing.T) {
	deep := "roles: " + strings.Repeat("[", 100_000)
	_, err := Format(deep)
	require.ErrorContains(t, err, "line 1: collections stand in each other")
	_, err = Apply(deep, Edit{Section: "roles", Item: "r", Text: "null"})
	require.ErrorContains(t, err, "line 1: collections stand in each other")
	_, err = Apply("", Edit{Section: "roles", Item: "r", Text: strings.Repeat("{ a: ", 100_000)})
	require.ErrorContains(t, err, "collections stand in each other")
}
