package finding

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

const waiving = `millgate: 1.1
roles: { reader: , writer: { includes: reader } }
schemes: { key: { kind: api-key, in: header, name: X-Key } }
identities:
  ann: { roles: writer, credentials: { key: { key: env:A } } }
  bob: { roles: reader, credentials: { key: { key: env:B } } }
routes: [GET /a, "GET /a/{id}", POST /b]
access: [{ at: /**, who: reader }]
waivers:
`

// A waiver accepts a finding as it was; what grew beyond that is open.
func TestWaive(t *testing.T) {
	const id = "mg-0123456789"
	f := Finding{ID: id, Kind: OverPermissive, Route: "GET /a", Callers: []string{"bob"}}
	with := func(change func(*Finding)) Finding { g := f; change(&g); return g }
	for _, x := range []struct {
		name, waiver string
		f            Finding
		is           bool
	}{
		{"by its id", "finding: " + id, f, true},
		{"another id", "finding: mg-0123456780", f, false},
		{"by its id and callers", "finding: " + id + ", callers: bob", f, true},
		{"by a role that its caller has", "finding: " + id + ", callers: reader", f, true},
		{"by a role that its caller includes", "finding: " + id + ", callers: reader",
			with(func(f *Finding) { f.Callers = []string{"ann"} }), true},
		{"by a role that its caller has not", "finding: " + id + ", callers: writer", f, false},
		{"another caller came", "finding: " + id + ", callers: bob",
			with(func(f *Finding) { f.Callers = []string{"bob", "ann"} }), false},
		{"another caller is inferred", "finding: " + id + ", callers: bob",
			with(func(f *Finding) { f.Inferred = []string{"ann"} }), false},
		{"more is said of the caller", "finding: " + id + ", callers: [bob, nobody]",
			with(func(f *Finding) { f.Callers = []string{"bob (a token that ended)", "nobody (no credential)"} }),
			true},
		{"another route came", "finding: " + id + ", at: GET /a",
			with(func(f *Finding) { f.Routes = []string{"GET /a", "POST /b"} }), false},
		{"both routes", "finding: " + id + ", at: [/a, POST /b]",
			with(func(f *Finding) { f.Routes = []string{"GET /a", "POST /b"} }), true},
		{"by kind", "kind: over-permissive, at: /**", f, true},
		{"by letter", "kind: P, at: GET /a", f, true},
		{"a graver kind", "kind: P, at: /**", with(func(f *Finding) { f.Kind = Unprotected }), false},
		{"by kind elsewhere", "kind: P, at: POST /b", f, false},
		{"by kind and caller", "kind: P, at: /**, callers: ann", f, false},
		{"at no route", "kind: P, at: /**", with(func(f *Finding) { f.Route = AnyPath }), false},
	} {
		d, msgs := declaration.Parse("x", []byte(waiving+"  - { "+x.waiver+", reason: so, by: me, until: 2027-03-31 "+
			"}\n"),
			nil)
		require.Empty(t, msgs, x.name)
		day := time.Date(2027, 3, 31, 23, 59, 0, 0, time.UTC)
		out := Waive(d, []Finding{x.f}, day)
		assert.Equal(t, x.is, out[0].Waived != nil, x.name)
		assert.Nil(t, x.f.Waived, "the list stays as it is")
		assert.Nil(t, Waive(d, out, day.Add(time.Minute))[0].Waived, "the day is over")
		assert.Equal(t, !x.is, FailOn{Kinds: Order}.Stops(out[0]), x.name)
		if x.is {
			assert.Equal(t, []any{"so", "me", 10}, []any{out[0].Waived.Reason, out[0].Waived.By, out[0].Waived.Line})
		}
	}
}

// What is said of the weight adds up to the severity.
func TestWeightInWords(t *testing.T) {
	for _, x := range []struct {
		w    Weight
		want string
	}{
		{Weigh(Unprotected, declaration.Update, declaration.High, ByAnyone), "unprotected is 5, effect update (+1), " +
			"sensitivity high (+1), anyone can use it: 7, and critical is from 7"},
		{Weigh(WeakToken, declaration.Read, declaration.Low, AsAll), "weak token is 4, effect read, sensitivity low " +
			"(-1), " +
			"anyone can use it, with any caller's rights (+1): 4, and medium is from 3"},
		{Weigh(WrongRefusal, declaration.Delete, declaration.Medium, ByAFew),
			"wrong refusal is 1: 1, and low is below 3"},
	} {
		assert.Equal(t, x.want, x.w.String())
	}
}
