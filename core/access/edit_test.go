package access

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

const editable = `millgate: 1
routes: [GET /a, POST /a, "GET /a/{id}", "DELETE /a/{id}", GET /b, POST /c]
roles:
  reader:
  writer: { includes: reader }
  keeper:
schemes:
  token: { kind: bearer }
  key: { kind: api-key, in: header, name: K }
identities:
  ann: { roles: reader, credentials: { token: { token: env:T } } }
  amy: { roles: reader, attributes: { ok: true }, credentials: { token: { token: env:T } } }
  bob: { roles: writer, credentials: { token: { token: env:T } } }
  cat: { roles: keeper, credentials: { token: { token: env:T } } }
  bot: { credentials: { key: { key: env:K } } }
records:
  thing: { fills: id, owned_by: { ann: [t1], bob: [t2] } }
access:
  # the list and new ones
  - { at: "GET,POST /a", who: reader } # both
  - { at: "/a/**", who: [owner, keeper], hide: true }
  - { at: GET /b, who: anyone, broken: refused }
`

func read(t *testing.T, text string) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(text), nil)
	require.False(t, declaration.Failed(msgs), "%s\n%v", text, msgs)
	return d
}

func pick(t *testing.T, d *declaration.Document, keys ...string) (out []int) {
	for _, k := range keys {
		i := d.RouteNamed(k)
		require.GreaterOrEqual(t, i, 0, k)
		out = append(out, i)
	}
	return out
}

func column(d *declaration.Document, name string) int {
	return slices.IndexFunc(d.Identities, func(i *declaration.Identity) bool { return i.Name == name }) + 1
}

func TestBoardEdits(t *testing.T) {
	for _, c := range []struct {
		name   string
		routes []string
		who    []string
		action Action
		set    map[string]string
		want   string // the lines of access that are new
		note   string
	}{
		{"a role where it says it", []string{"GET /a", "POST /a"}, []string{"cat"}, Raise, nil,
			`  - { at: "GET,POST /a", who: [reader, keeper] } # both`, ""},
		{"an identity where no role says it", []string{"GET /a", "POST /a"}, []string{"amy"}, Lower, nil,
			`  - { at: "GET,POST /a", who: [writer, "identity:ann"] } # both`, ""},
		{"one route of an entry gets its own", []string{"POST /a"}, []string{"ann", "amy"}, Lower, nil,
			"  - { at: \"GET /a\", who: reader } # both\n  - { at: \"POST /a\", who: writer }", ""},
		{"a pattern stays as it is", []string{"DELETE /a/{id}"}, []string{"cat"}, Lower, nil,
			`  - { at: "DELETE /a/{id}", who: owner, hide: true }`, ""},
		{"a route without an entry", []string{"POST /c"}, []string{"bob"}, Raise, nil,
			`  - { at: POST /c, who: writer }`, ""},
		{"another scheme comes with it", []string{"POST /c"}, []string{"bob", "bot"}, Raise, nil,
			`  - { at: POST /c, who: [writer, "identity:bot"], by: [token, key] }`, ""},
		{"nobody up opens it to anyone", []string{"GET /a/{id}"}, []string{""}, Raise, nil,
			`  - { at: "GET /a/{id}", who: anyone }`, ""},
		{"nobody down closes it to all who are not signed in", []string{"GET /b"}, []string{""}, Lower, nil,
			`  - { at: GET /b, who: signed-in, by: [token, key] }`, ""},
		{"everybody down", []string{"GET /b"}, nil, Lower, nil, `  - { at: GET /b, who: nobody }`, ""},
		{"an owner", []string{"DELETE /a/{id}"}, []string{"ann"}, Lower, nil, ``, "ann is admitted to its own records"},
		{"what a raise cannot give", []string{"POST /a"}, []string{"bob"}, "",
			map[string]string{"given": "{ ok: true }"}, "  - { at: \"GET /a\", who: reader } # both\n  - { at: " +
				"\"POST /a\", who: reader, given: { ok: true } }", ""},
		{"owner", []string{"POST /c"}, []string{"cat"}, Owner, nil, `  - { at: POST /c, who: owner }`, ""},
		{"who, for a whole row", []string{"GET /a", "GET /a/{id}"}, nil, "", map[string]string{"who": "keeper"},
			"  - { at: \"GET /a\", who: keeper }", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := read(t, editable)
			change := Change{Routes: pick(t, d, c.routes...), Action: c.action, Set: c.set}
			for _, w := range c.who {
				change.Columns = append(change.Columns, 0)
				if w != "" {
					change.Columns[len(change.Columns)-1] = column(d, w)
				}
			}
			edits, notes, err := Edits(d, change)
			require.NoError(t, err)
			out, err := layout.Apply(editable, edits...)
			require.NoError(t, err)
			// The quotes of a selector without braces are a matter of taste.
			norm := func(s string) string {
				return strings.NewReplacer(`"GET,POST /a"`, "GET,POST /a", `"GET /a"`, "GET /a", `"POST /a"`,
					"POST /a").Replace(s)
			}
			for _, l := range strings.Split(c.want, "\n") {
				assert.Contains(t, norm(out), norm(l), "%+v", edits)
			}
			assert.Contains(t, out, "# the list and new ones")
			if c.note != "" {
				assert.Contains(t, fmt.Sprint(notes), c.note)
			} else {
				assert.Empty(t, notes)
			}
		})
	}
}

// Whatever is selected, the crossings that are selected come out as asked (or a
// note says why not), all others stay as they were, and the text has a meaning.
func TestBoardEditsDoWhatTheySay(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for n := range 1200 {
		text := editable
		for range 1 + n%3 {
			d := read(t, text)
			before := NewBoard(d)
			c := Change{Action: []Action{Raise, Lower}[r.IntN(2)]}
			for i := range d.Routes {
				if r.IntN(3) == 0 {
					c.Routes = append(c.Routes, i)
				}
			}
			for k := range len(d.Identities) + 1 {
				if r.IntN(3) == 0 && (k > 0 || c.Action == Lower) {
					c.Columns = append(c.Columns, k)
				}
			}
			if len(c.Routes) == 0 || len(c.Columns) == 0 {
				continue
			}
			edits, notes, err := Edits(d, c)
			require.NoError(t, err)
			out, err := layout.Apply(text, edits...)
			require.NoError(t, err, text)
			after := NewBoard(read(t, out))
			for i := range d.Routes {
				open := before.At(i, 0).Outcome() == Admit
				for k := range len(d.Identities) + 1 {
					was, is := before.At(i, k), after.At(i, k)
					meant := slices.Contains(c.Routes, i) && slices.Contains(c.Columns, k)
					where := fmt.Sprintf("%s column %d, %s, %v\n%s\nbecame\n%s", d.Routes[i].Key(), k, c.Action, c,
						text, out)
					switch {
					case !meant && !slices.Contains(c.Routes, i):
						require.Equal(t, was, is, where)
					case !meant && k > 0 && !open && (was.Outcome() == Admit) != (is.Outcome() == Admit):
						t.Fatal(where)
					case meant && c.Action == Raise && len(notes) == 0:
						require.Equal(t, Admit, is.Outcome(), where)
						require.False(t, is.Depends(), where)
					case meant && c.Action == Lower && len(notes) == 0 && !is.Depends():
						require.NotEqual(t, Admit, is.Outcome(), where)
					}
				}
			}
			text = out
		}
	}
}
