package wire

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"
)

// resolves answers all names with the address that at says, for as long as the test runs.
func resolves(t *testing.T, at func() [4]byte) {
	t.Helper()
	server, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for b := make([]byte, 512); ; {
			n, from, err := server.ReadFrom(b)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(b[:n]) != nil || len(m.Questions) != 1 {
				continue
			}
			q := m.Questions[0]
			m.Response, m.Additionals = true, nil
			if q.Type == dnsmessage.TypeA {
				m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type,
					Class: q.Class}, Body: &dnsmessage.AResource{A: at()}}}
			}
			if answer, err := m.Pack(); err == nil {
				_, _ = server.WriteTo(answer, from)
			}
		}
	}()
	before := net.DefaultResolver
	net.DefaultResolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", server.LocalAddr().String())
	}}
	t.Cleanup(func() {
		net.DefaultResolver = before
		_ = server.Close()
		<-done
	})
}

// A name whose address becomes another one leads nowhere else: it was looked up once.
func TestAnAddressThatChangesItsAnswer(t *testing.T) {
	var asked, elsewhere atomic.Int32
	resolves(t, func() [4]byte {
		if asked.Add(1) == 1 {
			return [4]byte{127, 0, 0, 1}
		}
		return [4]byte{127, 0, 0, 2}
	})
	first := server(t, func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Connection", "close") })
	_, port, _ := strings.Cut(strings.TrimPrefix(first.URL, "http://"), ":")
	l, err := net.Listen("tcp", "127.0.0.2:"+port)
	require.NoError(t, err)
	second := httptest.NewUnstartedServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		elsewhere.Add(1)
	}))
	second.Listener = l
	second.Start()
	t.Cleanup(second.Close)

	c := client(t, target("http://village.example:"+port))
	for range 5 {
		x, err := c.Send(t.Context(), Outgoing{Method: "GET", Path: "/"})
		require.NoError(t, err)
		assert.Equal(t, []any{200, ""}, []any{x.Status, x.Error})
	}
	first.Close()
	x, err := c.Send(t.Context(), Outgoing{Method: "GET", Path: "/"})
	require.NoError(t, err)
	assert.NotEmpty(t, x.Error)
	assert.Equal(t, []int32{1, 0}, []int32{asked.Load(), elsewhere.Load()})
	// The resolver of the test does change its answer.
	ips, err := net.DefaultResolver.LookupIP(t.Context(), "ip4", "village.example")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.2", ips[0].String())
}
