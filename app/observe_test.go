package app

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/observe"
	"millgate/standin"
	"millgate/store"
	"millgate/testkit/memnet"
)

// What the sound stand-in does, observed and confirmed, is what the demo declares of it: at every read that was
// sent each
// identity is admitted, turned away or dependent on the record alike.
func TestObservedIsWhatTheDemoDeclares(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		a, _ := observatory(t, n, standin.Options{}, nil)
		declared := a.Workspace.Present()
		head, rest, _ := strings.Cut(declared.Text, "\naccess:\n")
		_, tail, _ := strings.Cut(rest, "\norigins:\n")
		open := head + "\naccess:\n  - { at: [\"/**\", \"id:/**\"], who: undecided }\n\norigins:\n" + tail
		_, err := a.Workspace.Keep(t.Context(), open, "Nothing is decided", declared.Revision.ID)
		require.NoError(t, err)

		err = a.Observing.Start(t.Context(), "stand-in", observe.Choice{})
		require.NoError(t, err)
		_, err = a.Sweeps.Start(t.Context(), "stand-in", "")
		require.ErrorContains(t, err, "stop it first", "a sweep would be part of what is seen")
		_, _, err = a.Observing.Confirm(t.Context(), "stand-in", open, []string{"all"}, nil, time.Now())
		require.ErrorContains(t, err, "still being asked", "what comes may say otherwise")
		a.Observing.Wait(t.Context(), "stand-in")
		l, err := a.Observing.Look(t.Context(), "stand-in", "")
		require.NoError(t, err)
		require.Equal(t, store.Done, l.State, l.Note)
		assert.Equal(t, []string{"relay: it opened nothing that was asked"}, l.Lost,
			"there is nothing that it may read")
		assert.Zero(t, l.Decided)

		out, wrote, err := a.Observing.Confirm(t.Context(), "stand-in", open, []string{"all"}, nil, time.Now())
		require.NoError(t, err)
		assert.NotEmpty(t, wrote)
		after, msgs := a.Workspace.Parse(out)
		require.False(t, declaration.Failed(msgs), "%v", msgs)
		sent, same := map[string]bool{}, 0
		for _, s := range l.Seen {
			sent[s.Route] = true
		}
		for i, rt := range after.Routes {
			if !sent[rt.Key()] || access.IsUndecided(after, i) {
				continue
			}
			for _, id := range append([]*declaration.Identity{nil}, after.Identities...) {
				if id != nil && id.Name == "relay" {
					continue
				}
				c := access.Caller{Identity: id, State: access.Sound}
				if id == nil {
					c.State = access.Absent
				}
				is, was := access.Decide(after, i, c), access.Decide(declared.Doc, i, c)
				assert.Equal(t, was.Outcome == access.Admit, is.Outcome == access.Admit, "%s %v: %s", rt.Key(), id,
					is.Reason())
				assert.Equal(t, was.Depends, is.Depends, "%s %v", rt.Key(), id)
				assert.Equal(t, declaration.OnNames(was.On), declaration.OnNames(is.On), "%s %v", rt.Key(), id)
				same++
			}
		}
		assert.Greater(t, same, 150)
		for key := range sent {
			if i := after.RouteNamed(key); access.IsUndecided(after, i) {
				assert.Contains(t, key, "downloads", "a link opens it, and none is tried")
			}
		}
	})
}

// It can be stopped, is kept until it is asked again, and says what it could not see.
func TestObservationsEnd(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		base, end := n.Serve(&villager{count: map[string]int{}})
		text := strings.Replace(fmt.Sprintf(village, base), "millgate: 1", "millgate: 1.1", 1)
		text = text[:strings.Index(text, "access:\n")] + "access:\n  - { at: /**, who: undecided }\n"
		a := openIn(t, n, strings.Replace(text, "pace: 5000 per 1s", "pace: 1 per 1s", 1))
		err := a.Observing.Start(t.Context(), "t", observe.Choice{Callers: []string{"nobody"}})
		require.ErrorContains(t, err, `there is no identity "nobody"`)
		err = a.Observing.Start(t.Context(), "t", observe.Choice{})
		require.NoError(t, err)
		time.Sleep(3 * time.Second)
		a.Observing.Stop("t")
		o, err := a.Observing.Of(t.Context(), "t")
		require.NoError(t, err)
		assert.Equal(t, store.Stopped, o.State)
		assert.Less(t, o.Done, o.Planned)
		assert.Contains(t, o.Note, "stopped after")
		kept, err := a.store.Observed(t.Context(), "t")
		require.NoError(t, err)
		assert.Contains(t, string(kept), "stopped after")

		_, _, err = a.Observing.Confirm(t.Context(), "t", "", []string{"ob-none"}, nil, time.Now())
		require.ErrorContains(t, err, `there is no group "ob-none"`)

		end() // nobody is there any more
		err = a.Observing.Start(t.Context(), "t", observe.Choice{})
		require.NoError(t, err)
		a.Observing.Wait(t.Context(), "t")
		o, err = a.Observing.Of(t.Context(), "t")
		require.NoError(t, err)
		assert.Equal(t, store.Failed, o.State)
		assert.NotEmpty(t, o.Note)
	})
}
