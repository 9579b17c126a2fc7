package memnet

import (
	"context"
	"io"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAServiceOfAnHourTakesNone(t *testing.T) {
	began := time.Now()
	synctest.Test(t, func(t *testing.T) {
		n := New()
		url, end := n.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			time.Sleep(time.Hour)
			_, _ = io.Copy(w, r.Body)
		}))
		defer end()
		c := n.Client()
		defer c.CloseIdleConnections()
		from := time.Now()
		body := strings.Repeat("x", 1<<20)
		res, err := c.Post(url, "text/plain", strings.NewReader(body))
		require.NoError(t, err)
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		assert.Equal(t, len(body), len(b))
		assert.Equal(t, time.Hour, time.Since(from), "exactly")
		time.Sleep(time.Second) // net/http lingers for half a second
	})
	assert.Less(t, time.Since(began), time.Minute)
}

func TestListening(t *testing.T) {
	n := New()
	l, err := n.Listen("tcp", "127.0.0.1:7401")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:7401", l.Addr().String())
	_, err = n.Listen("tcp", "127.0.0.1:7401")
	require.ErrorIs(t, err, syscall.EADDRINUSE)
	_, err = n.Listen("tcp", "7401")
	require.Error(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = n.Dial(ctx, "tcp", "127.0.0.1:7401")
	require.ErrorIs(t, err, context.Canceled, "nobody accepts")
	require.NoError(t, l.Close())
	require.Error(t, l.Close())
	_, err = l.Accept()
	require.Error(t, err)
	_, err = n.Dial(t.Context(), "tcp", "127.0.0.1:7401")
	require.ErrorIs(t, err, syscall.ECONNREFUSED)
}
