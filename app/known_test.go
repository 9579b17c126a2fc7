package app

import (
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/view"
	"millgate/core/check"
	"millgate/core/finding"
)

// held is a made-up family whose judging takes as long as somebody wants.
type held struct {
	traces
	judging chan struct{} // a judgement has begun
	goOn    chan struct{} // closed: it may go on
	waits   *atomic.Bool
}

func (h held) Judge(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) check.Verdict {
	if h.waits.Load() {
		select {
		case h.judging <- struct{}{}:
		default:
		}
		<-h.goOn
	}
	return h.traces.Judge(c, p, f, e)
}

// While one looks at what takes long to judge, others read what the declaration says and what
// another target shows, it is changed, and sweeps of others begin and end.
func TestNobodyWaitsForALook(t *testing.T) {
	t.Setenv("ANN_SECRET", "ann-secret-1")
	s := newFake(t, tellsItsMachine)
	a := openText(t, strings.Replace(fmt.Sprintf(small, s.URL, "refused"), "targets: {",
		fmt.Sprintf("targets: { other: { base: %q, pace: 5000 per 1s },", s.URL), 1), "")
	h := held{judging: make(chan struct{}, 1), goOn: make(chan struct{}), waits: &atomic.Bool{}}
	a.Targets.Families = append(check.Families{}, append(a.Targets.Families, h)...)
	swept := func(target string) {
		t.Helper()
		i, err := a.Sweeps.Start(t.Context(), target, "")
		require.NoError(t, err)
		a.Sweeps.Wait(i.ID)
	}
	swept("stand-in")
	h.waits.Store(true)
	looked := make(chan view.Board)
	go func() {
		b, err := a.View.Board(t.Context(), "stand-in", "")
		assert.NoError(t, err)
		looked <- b
	}()
	<-h.judging
	h.waits.Store(false) // of what is judged from now on

	done := make(chan struct{})
	go func() {
		defer close(done)
		before := a.Workspace.Declaration()
		_, err := a.Workspace.Keep(t.Context(), before.Text+"# more\n", "", before.Revision)
		assert.NoError(t, err)
		swept("other")
		list, err := found(t, a, "other")
		assert.NoError(t, err)
		assert.Contains(t, fmt.Sprint(list), "The machine loom is told")
		_, err = a.Sweeps.List(t.Context(), 0, 100)
		assert.NoError(t, err)
		b, err := a.View.Board(t.Context(), "stand-in", "") // by what the declaration says now
		assert.NoError(t, err)
		assert.NotZero(t, b.Counts.Findings[finding.Leaking])
	}()
	select {
	case <-done:
	case <-time.After(5 * time.Minute):
		t.Fatal("somebody waits for a look")
	}
	select {
	case <-looked:
		t.Fatal("it was not held")
	default:
	}
	close(h.goOn)
	b := <-looked
	assert.NotZero(t, b.Counts.Findings[finding.Leaking])
}
