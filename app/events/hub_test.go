package events

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func texts(list []Event) (out []string) {
	for _, e := range list {
		out = append(out, e.Text)
	}
	return out
}

// Who was away hears what came meanwhile, or that it is not known any more.
func TestGoingOn(t *testing.T) {
	h := NewHub()
	c, end := h.Listen()
	h.Send(Event{Type: Waiting, Text: "1"})
	first := <-c
	end()
	h.Send(Event{Type: Waiting, Text: "2"})
	h.Send(Event{Type: Declared, Text: "3"})
	heard, c, end := h.Resume(first.ID)
	require.True(t, heard.Known)
	assert.Equal(t, []string{"2", "3"}, texts(heard.Missed))
	assert.Equal(t, heard.Missed[1].ID, heard.At, "who goes on from there misses nothing")
	h.Send(Event{Type: Waiting, Text: "4"})
	last := <-c
	assert.Equal(t, "4", last.Text, "and what comes next, once")
	end()

	heard, _, end = h.Resume(first.ID, Declared)
	require.True(t, heard.Known)
	assert.Equal(t, []string{"3"}, texts(heard.Missed), "of the types that are wanted")
	end()
	heard, _, end = h.Resume(last.ID)
	assert.True(t, heard.Known)
	assert.Empty(t, heard.Missed)
	end()
	for _, id := range []string{"", "nonsense", NewHub().began + "x-1", fmt.Sprintf("%s-%d", h.began, 99)} {
		heard, _, end := h.Resume(id)
		assert.False(t, heard.Known, id)
		end()
	}

	assert.False(t, h.Wanted(Landed))
	heard, _, end = h.Resume(last.ID)
	assert.False(t, heard.Known, "a verdict was not worked out meanwhile")
	end()

	for i := range 3 * remembered {
		h.Send(Event{Type: Waiting, Text: fmt.Sprint(i)})
	}
	heard, _, end = h.Resume(last.ID)
	assert.False(t, heard.Known, "it is too long ago")
	end()
	heard, _, end = h.Resume(fmt.Sprintf("%s-%d", h.began, h.n-remembered))
	assert.True(t, heard.Known)
	assert.Len(t, heard.Missed, remembered)
	end()
}

// Who does not keep up is told so, and nobody waits.
func TestWhoDoesNotKeepUp(t *testing.T) {
	h := NewHub()
	c, end := h.Listen()
	defer end()
	for range remembered + 1 {
		h.Send(Event{Type: Waiting})
	}
	n := 0
	for range c {
		n++
	}
	assert.Equal(t, remembered, n)
}
