// Package memnet is a network in memory, for tests that run in virtual time
// (testing/synctest): a goroutine that reads from one of its connections is
// blocked for good as far as the clock is concerned, which one that reads from a
// socket is not. So a sweep of an hour takes a second, and what is measured is
// exact.
//
//	n := memnet.New()
//	l, err := n.Listen("tcp", "127.0.0.1:0")   // as net.Listen
//	c, err := n.Dial(ctx, "tcp", l.Addr().String())
//
// A connection is a net.Pipe with addresses: what is written is read at once, and
// nothing is lost or delayed. Make one inside the bubble that uses it.
package memnet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"sync"
	"syscall"
)

// Net is a network. The zero Net has no listener; use New.
type Net struct {
	mu   sync.Mutex
	next int
	at   map[string]*listener
	from int
}

// New returns a network that nobody listens in yet.
func New() *Net { return &Net{next: 20000, at: map[string]*listener{}} }

// Listen listens at a HOST:PORT of the network; port 0 is a free one.
func (n *Net) Listen(network, address string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if port == "0" {
		n.next++
		port = strconv.Itoa(n.next)
	}
	address = net.JoinHostPort(host, port)
	if n.at[address] != nil {
		return nil, &net.OpError{Op: "listen", Net: network, Err: syscall.EADDRINUSE}
	}
	l := &listener{n: n, address: address, conns: make(chan net.Conn), done: make(chan struct{})}
	n.at[address] = l
	return l, nil
}

// Dial connects to a listener; without one the connection is refused. Its form is
// that of net.Dialer.DialContext.
func (n *Net) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	n.mu.Lock()
	l := n.at[address]
	n.from++
	from := n.from
	n.mu.Unlock()
	if l == nil {
		return nil, &net.OpError{Op: "dial", Net: network, Err: syscall.ECONNREFUSED}
	}
	mine, theirs := net.Pipe()
	client := &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 40000 + from%20000}
	select {
	case l.conns <- &conn{theirs, l.Addr(), client}: //nolint:contextcheck // an address is asked nobody
		return &conn{mine, client, l.Addr()}, nil //nolint:contextcheck // an address is asked nobody
	case <-l.done:
		return nil, &net.OpError{Op: "dial", Net: network, Err: syscall.ECONNREFUSED}
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Serve listens at a free port and serves a handler there until end is called.
func (n *Net) Serve(h http.Handler) (url string, end func()) {
	l, err := n.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err) // the port is free
	}
	s := &http.Server{Handler: h} //nolint:gosec // nobody is slow here
	served := make(chan struct{})
	go func() { defer close(served); _ = s.Serve(l) }() // ends with Close
	return "http://" + l.Addr().String(), func() { _ = s.Close(); <-served }
}

// Client is a client that reaches this network alone.
func (n *Net) Client() *http.Client {
	return &http.Client{Transport: &http.Transport{DialContext: n.Dial, MaxIdleConnsPerHost: 64}}
}

type listener struct {
	n       *Net
	address string
	conns   chan net.Conn
	once    sync.Once
	done    chan struct{}
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.conns:
		return c, nil
	case <-l.done:
		return nil, fmt.Errorf("accept %s: %w", l.address, net.ErrClosed)
	}
}

func (l *listener) Close() error {
	err := errors.New("closed already")
	l.once.Do(func() {
		close(l.done)
		l.n.mu.Lock()
		delete(l.n.at, l.address)
		l.n.mu.Unlock()
		err = nil
	})
	return err
}

func (l *listener) Addr() net.Addr {
	a, err := net.ResolveTCPAddr("tcp", l.address)
	if err != nil {
		panic(err) // it was split before
	}
	return a
}

type conn struct {
	net.Conn
	local, remote net.Addr
}

func (c *conn) LocalAddr() net.Addr  { return c.local }
func (c *conn) RemoteAddr() net.Addr { return c.remote }
