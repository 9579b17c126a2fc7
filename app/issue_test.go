package app

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/fault"
	"millgate/app/sweep"
	"millgate/standin"
	"millgate/store"
	"millgate/testkit/memnet"
)

// What logins give out is kept as it was seen: another declaration judges it anew,
// without a request.
func TestIssuedTokensAreJudgedAnew(t *testing.T) {
	if testing.Short() {
		t.Skip("whole sweeps of the stand-in, of which TestBoardOfTheDemo has one; make test has it")
	}
	virtually(t, func(t *testing.T, n *memnet.Net) {
		data := t.TempDir()
		s := listen(t, standin.Options{Nodes: 3, Flaws: []standin.Flaw{standin.LongLife, standin.LooseCookie},
			Listen: n.Listen})
		a := opened(t, s, nil, data)
		a.Workspace.Dial = n.Dial
		swept(t, a)
		issued := func() (out []string) {
			list, err := found(t, a, "")
			require.NoError(t, err)
			for _, f := range list {
				if strings.HasPrefix(f.Cause, "token ") && f.Kind != "U" {
					out = append(out, strings.TrimPrefix(f.Cause, "token ")+" of "+
						strings.TrimPrefix(f.Where(), "everything behind "))
				}
			}
			return out
		}
		assert.ElementsMatch(t, []string{"too-long of access", "too-long of service", "cookie-script of console",
			"cookie-insecure of console", "cookie-same-site of console"}, issued())
		now := a.Workspace.Declaration()
		change := func(from, to string) {
			text := a.Workspace.Declaration()
			require.Contains(t, text.Text, from)
			_, err := a.Workspace.Keep(t.Context(), strings.Replace(text.Text, from, to, 1), "", text.Revision)
			require.NoError(t, err)
		}
		change("access: { max: 15m,", "access: { max: 2d,")
		assert.NotContains(t, issued(), "too-long of access", "the longer life is declared")
		assert.Contains(t, issued(), "too-long of service")
		change("http_only: true", "http_only: false")
		assert.NotContains(t, issued(), "cookie-script of console")
		change("access: { max: 2d,", "access: { max: 10m,")
		assert.Contains(t, issued(), "too-long of access")
		_, err := a.Workspace.Keep(t.Context(), now.Text, "", a.Workspace.Declaration().Revision)
		require.NoError(t, err)

		// Nothing of a token can be used: not its signature, nor whom it names.
		raw := ""
		files, err := filepath.Glob(filepath.Join(data, "*.db*"))
		require.NoError(t, err)
		for _, f := range files {
			b, err := os.ReadFile(f)
			require.NoError(t, err)
			raw += string(b)
		}
		assert.Contains(t, raw, `"shown":`)
		assert.NotRegexp(t, `eyJ[A-Za-z0-9_-]{8,}\.eyJ`, raw)
	})
}

// What a retention takes away is gone from the history alone: the board stays, and a
// sweep whose exchanges are gone says why it cannot go on.
func TestRetentionLeavesTheBoard(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		v := &villager{count: map[string]int{}, signsUp: map[string]string{"ann": "right-ann", "bob": "right-bob"}}
		base, end := n.Serve(v)
		defer end()
		a := openIn(t, n, fmt.Sprintf(village, base))
		run := func() uint {
			r, err := a.Sweeps.Start(t.Context(), "t", "")
			require.NoError(t, err)
			a.Sweeps.Wait(r.ID)
			return r.ID
		}
		past := func() int {
			x, err := a.View.Crossing(t.Context(), "t", "GET /a", "ann")
			require.NoError(t, err)
			return len(x.History)
		}
		first := run()
		sent := past() // by one sweep
		require.Positive(t, sent)
		run()
		assert.Equal(t, 2*sent, past())
		before, err := found(t, a, "t")
		require.NoError(t, err)
		a.Sweeps.Retention = sweep.Retention{Sweeps: 1}
		done, err := a.Sweeps.Prune(t.Context())
		require.NoError(t, err)
		assert.Equal(t, 1, done.Sweeps)
		assert.Equal(t, sent, past())
		after, err := found(t, a, "t")
		require.NoError(t, err)
		assert.Equal(t, before, after)
		require.NoError(t, a.store.SaveSweep(t.Context(),
			&store.Sweep{ID: first, RevisionID: 1, Target: "t", State: store.Stopped,
				Pruned: true}))
		_, err = a.Sweeps.Resume(t.Context(), first)
		require.ErrorIs(t, err, fault.ErrInput)
		require.ErrorContains(t, err, "pruned")
		run() // and by itself, once another one has ended
		assert.Equal(t, sent, past())
	})
}
