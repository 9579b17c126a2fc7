package wire

import (
	"bufio"
	"context"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is no path is sent as it stands, so that it is seen what the service makes of it.
func TestAPathThatIsNoneIsSent(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	lines := make(chan string, 8)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			line, _ := bufio.NewReader(c).ReadString('\n')
			lines <- line
			_, _ = io.WriteString(c, "HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
			_ = c.Close()
		}
	}()
	defer func() { _ = l.Close() }()
	c := client(t, target("http://"+l.Addr().String()+"/base"))
	for _, o := range []struct {
		path, query, line, url string
	}{
		{"/things%", "", "GET /base/things% HTTP/1.1\r\n", "/base/things%"},
		{"/things%", "q=1", "GET /base/things%?q=1 HTTP/1.1\r\n", "/base/things%?q=1"},
		{"/th%69ngs", "", "GET /base/th%69ngs HTTP/1.1\r\n", "/base/th%69ngs"},
	} {
		x, err := c.Send(context.Background(), Outgoing{Method: "GET", Path: o.path, Query: o.query})
		require.NoError(t, err)
		assert.Equal(t, 400, x.Status, x.Error)
		assert.Equal(t, o.line, <-lines)
		assert.Equal(t, "http://"+l.Addr().String()+o.url, x.URL)
	}
}
