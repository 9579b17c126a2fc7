package finding

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/declaration"
)

// What the inventory does not have is as grave as what was sent to it: something that changes.
func TestSeverityOfWhatIsNotDeclared(t *testing.T) {
	d := &declaration.Document{}
	for unsafe, want := range map[bool]Severity{false: Rate(Undeclared, declaration.Read, declaration.Medium, ByMany),
		true: Rate(Undeclared, declaration.Update, declaration.Medium, ByMany)} {
		b := bundle{row: &Row{Kind: Undeclared}, scope: Scope{Of: AtNoRoute}, seen: []Seen{{Route: "PUT /x",
			Unsafe: unsafe}}}
		is, why := b.severity(d, ByMany)
		assert.Equal(t, want, is)
		assert.Contains(t, why, "undeclared is 4, effect ")
	}
	assert.NotEqual(t, Rate(Undeclared, declaration.Read, declaration.Medium, ByMany),
		Rate(Undeclared, declaration.Update, declaration.Medium, ByMany))
}

// A finding tells of the first probe that proves it, or else of the first.
func TestWhatShowsItBest(t *testing.T) {
	row := Row{Kind: Leaking, Cause: "x"}
	for _, c := range []struct {
		sure []Confidence
		says string
	}{
		{[]Confidence{Likely, Likely}, "reason 0"},
		{[]Confidence{Likely, Proven, Proven}, "reason 1"},
		{[]Confidence{Proven, Likely, Proven}, "reason 0"},
	} {
		var seen []Seen
		for k, sure := range c.sure {
			name := string(rune('0' + k))
			seen = append(seen, Seen{Probe: name, Route: "GET /a", Column: "ann", Who: "ann", Identity: "ann",
				Gaps: []Gap{
					{Row: &row, Reason: "reason " + name, Confidence: sure, Scope: Scope{Of: AtScheme, Name: "s"}}}})
		}
		list := Gather(&declaration.Document{}, seen)
		if assert.Len(t, list, 1) {
			assert.Contains(t, list[0].Reason, c.says)
		}
	}
}

// A finding says how many more it is about, once: by its callers, its routes, or the sum of its row.
func TestHowManyMore(t *testing.T) {
	d := &declaration.Document{}
	for _, c := range []struct {
		row           Row
		routes, seen  []string
		says, saysNot string
	}{
		{Row{}, []string{"GET /a"}, []string{"ann"}, "It was.", "The same"},
		{Row{}, []string{"GET /a"}, []string{"ann", "bob", "meg"}, "It was. The same for 2 more.", ""},
		{Row{Led: true}, []string{"GET /a"}, []string{"ann", "bob"}, "It was.", "The same"},
		{Row{}, []string{"GET /a", "GET /b"}, []string{"ann"}, "It was. The same at 2 routes.", "more"},
		{Row{}, []string{"GET /a", "GET /b"}, []string{"ann", "bob"}, "It was. The same for 1 more, at 2 routes.", ""},
		{Row{Led: true}, []string{"GET /a", "GET /b"}, []string{"ann", "bob"}, "It was. The same at 2 routes.", "more"},
	} {
		c.row.Kind, c.row.Cause = Leaking, "x"
		var seen []Seen
		for _, r := range c.routes {
			for _, who := range c.seen {
				seen = append(seen, Seen{Probe: r + who, Route: r, Column: who, Who: who, Identity: who, Gaps: []Gap{
					{Row: &c.row, Reason: "It was", Scope: Scope{Of: AtScheme, Name: "s"}}}})
			}
		}
		list := Gather(d, seen)
		if assert.Len(t, list, 1) {
			assert.Contains(t, list[0].Reason, c.says)
			if c.saysNot != "" {
				assert.NotContains(t, list[0].Reason, c.saysNot)
			}
		}
	}
}
