package wire

import (
	"context"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
)

// counter is a runner for a service that answers /slow late, and all else at once with what
// it was sent in the field X-Pass.
func counter(t *testing.T) Runner {
	t.Helper()
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/slow" {
			select {
			case <-r.Context().Done():
			case <-time.After(time.Minute):
			}
			return
		}
		w.Header().Set("X-Saw", r.Header.Get("X-Pass"))
		w.WriteHeader(http.StatusTooManyRequests)
	})
	tg := &declaration.Target{Name: "t", Base: s.URL, Pace: declaration.Pace{Count: 10000, Per: time.Second}}
	c := client(t, tg)
	c.pass = [2]string{"X-Pass", "let-me"}
	return Runner{Keys: NewKeyring(&declaration.Document{}, tg, c, nil)}
}

func ask(path, counts string) check.Call {
	return check.Call{Name: path, Effect: check.Safe, Counts: counts, Request: check.Request{Method: "GET", Path: path}}
}

// What fills a quota goes without the pass, takes no room in the quota that it fills, and
// what it is answered is an answer.
func TestFillingAQuota(t *testing.T) {
	r := counter(t)
	var room, beside []string
	crowded := false
	r.Room = func(_ context.Context, o Outgoing, _ check.Caller) error { room = append(room, o.Path); return nil }
	r.Beside = func(_ context.Context, c check.Call) (time.Duration, error) {
		if beside = append(beside, c.Request.Path+" "+c.Counts); crowded {
			return 0, ErrCrowded
		}
		return time.Second, nil
	}
	var got []check.Report
	script := func() check.Script {
		return check.Tell(func(t *check.Telling) {
			got = append(t.Send(ask("/a", "")), t.Send(ask("/b", "login"))...)
			t.Keep(got...)
		})
	}
	_, err := r.Run(t.Context(), script())
	require.NoError(t, err)
	assert.Equal(t, []string{"/a"}, room)
	assert.Equal(t, []string{"/b login"}, beside)
	assert.Equal(t, "let-me", got[0].Exchange.Answer.Get("X-Saw"))
	assert.Empty(t, got[1].Exchange.Answer.Get("X-Saw"))
	assert.Equal(t, []any{429, 0, time.Second}, []any{got[1].Exchange.Status, got[1].Repeats, got[1].Room})

	crowded = true
	_, err = r.Run(t.Context(), script())
	require.NoError(t, err)
	assert.Equal(t, []any{check.Unsent, check.Crowded}, []any{got[1].Fate, got[1].Why})
}

// A call has its time from when it left; one that begins after the others waits for that.
func TestWithinAndAfter(t *testing.T) {
	r := counter(t)
	var got []check.Report
	_, err := r.Run(t.Context(), check.Tell(func(t *check.Telling) {
		slow, late := ask("/slow", "login"), ask("/a", "login")
		slow.Within, late.After = 60*time.Millisecond, 40*time.Millisecond
		got = t.Send(slow, late)
		t.Keep(got...)
	}))
	require.NoError(t, err)
	assert.Equal(t, []check.Fate{check.Late, check.Answered}, []check.Fate{got[0].Fate, got[1].Fate})
	assert.GreaterOrEqual(t, got[0].End-got[0].Begin, 60*time.Millisecond)
	assert.GreaterOrEqual(t, got[1].Begin, 40*time.Millisecond)
}

// A wait that people are told of ends at once when the sweep is stopped.
func TestAStopEndsWaits(t *testing.T) {
	for name, step := range map[string]func(t *check.Telling){
		"a step":  func(t *check.Telling) { t.WaitFor(time.Hour, "for ever") },
		"a later": func(t *check.Telling) { c := ask("/a", ""); c.After = time.Hour; t.Send(c) },
	} {
		r := counter(t)
		stopping, stop := context.WithCancel(t.Context())
		var told []string
		r.Stopping = stopping.Done()
		r.Waits = func(why string, d time.Duration) {
			told = append(told, why)
			assert.InDelta(t, time.Hour, d, float64(time.Minute))
			stop()
		}
		if name == "a later" {
			stop()
		}
		f, err := r.Run(t.Context(), check.Tell(step))
		require.ErrorIs(t, err, context.Canceled, name)
		assert.NotEmpty(t, f.Cut, name)
		assert.Equal(t, name == "a step", len(told) == 1, name)
	}
}

// How the sender fares is told from the first look on.
func TestThePulseOfTheSender(t *testing.T) {
	r := counter(t)
	var first, second check.Report
	_, err := r.Run(t.Context(), check.Tell(func(t *check.Telling) {
		l := check.Look{Name: "the sender", Sender: true}
		first = t.Look(l)
		t.Wait(20 * time.Millisecond)
		second = t.Look(l)
		t.Keep(first)
	}))
	require.NoError(t, err)
	assert.Positive(t, first.Pulse.Trip)
	assert.False(t, first.Exchange.At.IsZero())
	assert.Empty(t, first.Pulse.Still)
	assert.Zero(t, second.Pulse.Trip, "it is measured once")
	p := check.Pulse{Beat: 5, Still: [][2]time.Duration{{100, 200}}}
	assert.True(t, p.Broke(0, 100))
	assert.True(t, p.Broke(204, 300), "a beat later")
	assert.False(t, p.Broke(0, 300), "both ends are exact")
	assert.True(t, p.During(0, 300))
	assert.False(t, p.During(200, 300))
	assert.False(t, (*check.Pulse)(nil).Broke(0, 1) || (*check.Pulse)(nil).During(0, 1))
}
