package finding

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

// Who can use a gap weighs, where it stands, and what the cause is.
func TestSeverityByReach(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1\nroutes: [GET /a, { at: GET /b, sensitivity: high }]\n"), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	row := func(r Row) *Row { r.Cause = "c"; return &r }
	p := Seen{Route: "GET /a", Identity: "ann", Gaps: []Gap{{Row: row(Row{Kind: OverPermissive})}}}
	with := func(s Seen, change func(*Seen)) []Seen { change(&s); return []Seen{s} }
	for _, c := range []struct {
		name string
		list []Seen
		want Severity
	}{
		{"one of some", with(p, func(s *Seen) { s.Out = []string{"ann", "bob"} }), Medium},
		{"everyone who should be out", with(p, func(s *Seen) { s.Out = []string{"ann"} }), High},
		{"everyone, some stood for", with(p, func(s *Seen) {
			s.Out, s.StandsFor = []string{"ann", "bob"},
				[]string{"bob"}
		}),
			High},
		{"nobody else is known", with(p, func(*Seen) {}), Medium},
		{"whatever the rest says", with(p, func(s *Seen) {
			s.Gaps = []Gap{{Row: row(Row{Kind: OverPermissive,
				Least: High})}}
		}),
			High},
		{"a token of anybody", with(p, func(s *Seen) {
			s.Route, s.Identity, s.Gaps = "GET /b", "", []Gap{{Row: row(Row{Kind: Unprotected, Forges: true})}}
		}), Critical},
		{"a token of one", with(p, func(s *Seen) {
			s.Route, s.Identity, s.Gaps = "GET /b", "", []Gap{{Row: row(Row{Kind: Unprotected})}}
		}), High},
		{"the gravest of its routes", []Seen{
			{Route: "GET /a", Gaps: []Gap{{Row: row(Row{Kind: Unprotected, Forges: true}),
				Scope: Scope{AtScheme, "s"}}}},
			{Route: "GET /b", Gaps: []Gap{{Row: row(Row{Kind: Unprotected, Forges: true}),
				Scope: Scope{AtScheme, "s"}}}},
		}, Critical},
	} {
		found := Gather(d, c.list)
		require.Len(t, found, 1, c.name)
		assert.Equal(t, c.want, found[0].Severity, c.name)
	}
}
