package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"time"
)

func nopBody(b []byte) io.ReadCloser { return io.NopCloser(bytes.NewReader(b)) }

// Running is a stand-in that listens: the API on one port, its issuer on the
// next, its mailbox behind that, and the API without its gateway ten ports above.
type Running struct {
	Service   *Service
	Base      string
	IssuerURL string
	Mail      string // the mailbox of what it would send
	Direct    string // "" without a gateway
	Control   string // for tests: restart and clock; "" without one
	servers   []*http.Server
}

// Listen starts a stand-in. addr is HOST:PORT of the API; the issuer takes the
// port above, the mailbox the next, and where there is a gateway the service behind it the port
// ten above; or free ones when PORT is 0.
func Listen(addr string, opt Options) (*Running, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("the stand-in's address %q: %w", addr, err)
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("the stand-in's port %q is not a number", port)
	}
	open := opt.Listen
	if open == nil {
		open = net.Listen
	}
	r := &Running{}
	type door struct {
		what    string
		ahead   int // of the API's port
		handler func(*Service) http.Handler
		at      *string
	}
	doors := []door{{"the API", 0, (*Service).Handler, &r.Base}, {"its issuer", 1, (*Service).IssuerHandler,
		&r.IssuerURL},
		{"its mailbox", 2, (*Service).MailHandler, &r.Mail}}
	if opt.Gateway {
		doors = append(doors, door{"the service behind the gateway", 10, (*Service).DirectHandler, &r.Direct})
	}
	if opt.Control {
		doors = append(doors, door{"the control address", 20, (*Service).ControlHandler, &r.Control})
	}
	handlers := map[net.Listener]func(*Service) http.Handler{}
	shut := func(err error) error {
		for l := range handlers {
			err = errors.Join(err, l.Close())
		}
		return err
	}
	for _, d := range doors {
		at := 0
		if n != 0 {
			at = n + d.ahead
		}
		l, err := open("tcp", net.JoinHostPort(host, strconv.Itoa(at)))
		if err != nil {
			return nil, shut(fmt.Errorf("the stand-in cannot listen on port %d for %s: %w", at, d.what, err))
		}
		handlers[l], *d.at = d.handler, "http://"+l.Addr().String()
	}
	if opt.Issuer == "" {
		opt.Issuer = r.IssuerURL
	}
	if r.Service, err = New(opt); err != nil {
		return nil, shut(err)
	}
	for l, h := range handlers {
		srv := &http.Server{Handler: h(r.Service), ReadHeaderTimeout: 10 * time.Second}
		r.servers = append(r.servers, srv)
		go func() { _ = srv.Serve(l) }() // ends with Close
	}
	return r, nil
}

// Close stops listening.
func (r *Running) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	var errs []error
	for _, s := range r.servers {
		if err := s.Shutdown(ctx); err != nil {
			errs = append(errs, s.Close())
		}
	}
	return errors.Join(errs...)
}
