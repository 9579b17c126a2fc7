package view

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/app/snapshot"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Whoever has a version is sent the rows that changed since, and their cells keep their indexes.
func TestWhatChangedOfABoard(t *testing.T) {
	refuse, admit := Cell{Expect: "refuse", Found: finding.Unprobed}, Cell{Expect: "admit", Found: finding.Unprobed}
	gap := Cell{Expect: "refuse", Found: finding.Unprotected, Severity: finding.High}
	board := func(cells ...Cell) Board {
		b := Board{Target: "t", Columns: []Column{{Key: ""}}, Whole: true, Total: len(cells)}
		for i, c := range cells { // in an order of its own
			b.Cells = append([]Cell{c}, b.Cells...)
			b.Rows = append(b.Rows, Row{Key: string(rune('a' + i)), Access: []int{len(cells) - 1 - i}})
		}
		return b
	}
	shown := func(b Board) map[string]Cell {
		out := map[string]Cell{}
		for _, r := range b.Rows {
			out[r.Key] = b.Cells[r.Access[0]]
		}
		return out
	}
	doc, facts := &declaration.Document{}, snapshot.NewKnown(nil)
	n := 0
	at := func(changes int) moment {
		for ; n < changes; n++ {
			facts.Put("a probe", &snapshot.Fact{})
		}
		return moment{doc, &snapshot.Snapshot{Facts: facts.Read()}}
	}
	var v versions
	first := v.take(board(refuse, admit), at(1), "")
	assert.True(t, first.Whole)
	assert.Equal(t, map[string]Cell{"a": refuse, "b": admit}, shown(first))

	early := at(2)
	none := v.take(board(refuse, admit), early, first.Version)
	assert.False(t, none.Whole)
	assert.Empty(t, none.Rows)
	assert.Equal(t, first.Version, none.Version, "nothing changed")

	second := v.take(board(gap, admit), at(3), first.Version)
	assert.Equal(t, map[string]Cell{"a": gap}, shown(second))
	assert.Equal(t, first.Cells, second.Cells[:len(first.Cells)], "known cells stay where they are")

	late := v.take(board(refuse, admit), early, second.Version)
	assert.Empty(t, late.Rows, "what was made of less, and came later, is not told")
	assert.Equal(t, map[string]Cell{"a": gap, "b": admit}, shown(v.take(board(gap, admit), at(3), "")))

	third := v.take(board(gap, refuse), at(4), first.Version)
	assert.Equal(t, map[string]Cell{"a": gap, "b": refuse}, shown(third), "all since the version that is asked for")

	facts, n = snapshot.NewKnown(nil), 0
	anew := v.take(board(refuse, refuse), at(1), third.Version)
	assert.Equal(t, map[string]Cell{"a": refuse}, shown(anew), "another sweep is the later one")
	assert.Empty(t, v.take(board(gap, refuse), early, anew.Version).Rows, "what was before it is not told any more")

	more := v.take(board(gap, refuse, admit), at(5), third.Version)
	assert.True(t, more.Whole, "there are other rows")
	assert.Len(t, more.Rows, 3)
	other := board(gap)
	other.Target = "u"
	assert.True(t, v.take(other, at(1), more.Version).Whole, "it is another target's")
	assert.True(t, v.take(board(gap, refuse, admit), at(6), "made up.7").Whole)
}
