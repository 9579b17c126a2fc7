package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// history is sweeps of a target, the oldest first, each a day after the one before, with
// two exchanges each. A letter is one: w a whole one that was done, s one that was
// stopped, f one that failed, p one of some probes.
func history(t *testing.T, s *Store, target, letters string) (ids []uint) {
	t.Helper()
	r := Revision{At: time.Now()}
	require.NoError(t, s.AddRevision(t.Context(), &r, nil, nil))
	for i, l := range letters {
		w := Sweep{RevisionID: r.ID, Target: target, State: map[rune]string{'w': Done, 's': Stopped, 'f': Failed,
			'p': Done}[l], Partial: l == 'p',
			StartedAt: time.Date(2026, 1, 1+i, 0, 0, 0, 0, time.UTC), Result: []byte(`{"findings":[]}`)}
		require.NoError(t, s.AddSweep(t.Context(), &w))
		for k := range 2 {
			id := fmt.Sprint("p", k)
			require.NoError(t, s.Record(t.Context(),
				[]Probe{{SweepID: w.ID, ProbeID: id, Sent: w.StartedAt, Answered: true,
					Fact: []byte("{}")}}))
		}
		require.NoError(t, s.AddMade(t.Context(), &Made{SweepID: w.ID, Record: "thing"}))
		ids = append(ids, w.ID)
	}
	return ids
}

func TestRetention(t *testing.T) {
	at := func(day int) time.Time { return time.Date(2026, 1, day, 12, 0, 0, 0, time.UTC) }
	for _, c := range []struct {
		letters string
		keep    Retention
		now     time.Time
		stays   string // of each sweep: + its exchanges stay
	}{
		{"wwwp", Retention{}, at(300), "++++"},
		{"wwww", Retention{Sweeps: 2}, at(4), "--++"},
		{"wwww", Retention{Sweeps: 1}, at(4), "---+"},
		{"wwww", Retention{For: 48 * time.Hour}, at(4), "--++"},
		{"wwww", Retention{For: time.Hour}, at(300), "---+"}, // the latest whole one stands, whatever its age
		{"wwpp", Retention{Sweeps: 1}, at(300), "-+++"},      // and what was sent again since
		// one that was stopped does not take the last done one away
		{"wwpsp", Retention{Sweeps: 1}, at(300), "-+-++"},
		{"wfff", Retention{Sweeps: 1}, at(300), "++++"},           // nor do those that failed
		{"ppp", Retention{Sweeps: 1}, at(300), "+++"},             // there is no whole one
		{"wwwww", Retention{4, 24 * time.Hour}, at(5), "----+"},   // either of them is enough
		{"wwwww", Retention{2, 1000 * time.Hour}, at(5), "---++"}, // whichever
	} {
		s := open(t, "")
		ids := history(t, s, "t", c.letters)
		other := history(t, s, "other", "w")
		standing, err := s.Standing(t.Context(), "t")
		require.NoError(t, err)
		done, err := s.Prune(t.Context(), c.keep, c.now)
		require.NoError(t, err)
		got, gone := "", 0
		for _, id := range ids {
			list := probesOf(t, s, id)
			w, err := s.SweepByID(t.Context(), id)
			require.NoError(t, err)
			assert.Equal(t, len(list) == 0, w.Pruned)
			assert.NotEmpty(t, w.Result, "the history of findings stays")
			made, err := s.MadeOf(t.Context(), id)
			require.NoError(t, err)
			assert.Len(t, made, 1, "what was left behind stays")
			if len(list) > 0 {
				got += "+"
			} else {
				got += "-"
				gone++
			}
		}
		assert.Equal(t, c.stays, got, "%s %v", c.letters, c.keep)
		assert.Equal(t, Pruned{gone, int64(2 * gone)}, done)
		again, err := s.Standing(t.Context(), "t")
		require.NoError(t, err)
		assert.Equal(t, standing, again)
		list := probesOf(t, s, other[0])
		assert.Len(t, list, 2, "each target by itself")
		done, err = s.Prune(t.Context(), c.keep, c.now)
		require.NoError(t, err)
		assert.Zero(t, done, "once is enough")
		require.NoError(t, s.Shrink(t.Context()))
		require.NoError(t, s.Close())
	}
}

// However often probes were sent again, the whole sweep before them is found.
func TestManyPartialSweepsHideNothing(t *testing.T) {
	s := open(t, "")
	defer func() { assert.NoError(t, s.Close()) }()
	letters := "fww"
	for range 305 {
		letters += "p"
	}
	ids := history(t, s, "t", letters)
	list, err := s.Standing(t.Context(), "t")
	require.NoError(t, err)
	require.Len(t, list, 306)
	assert.Equal(t, ids[2], list[0].ID, "the newest whole one first")
	assert.Empty(t, list[0].Result, "results are not read for it")
}
