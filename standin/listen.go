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
// next, and the API without its gateway ten ports above.
type Running struct {
	Service   *Service
	Base      string
	IssuerURL string
	Direct    string // "" without a gateway
	Control   string // for tests: restart and clock; "" without one
	servers   []*http.Server
}

// Listen starts a stand-in. addr is HOST:PORT of the API; the issuer takes the
// port above, and where there is a gateway the service behind it the port ten
// above; or free ones when PORT is 0.
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
	api, err := open("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("the stand-in cannot listen on %s: %w", addr, err)
	}
	next := 0
	if n != 0 {
		next = n + 1
	}
	iss, err := open("tcp", net.JoinHostPort(host, strconv.Itoa(next)))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the stand-in's issuer cannot listen on port %d: %w", next, err),
			api.Close())
	}
	handlers := map[net.Listener]func(*Service) http.Handler{api: (*Service).Handler, iss: (*Service).IssuerHandler}
	r := &Running{Base: "http://" + api.Addr().String(), IssuerURL: "http://" + iss.Addr().String()}
	if opt.Gateway {
		behind := 0
		if n != 0 {
			behind = n + 10
		}
		direct, err := open("tcp", net.JoinHostPort(host, strconv.Itoa(behind)))
		if err != nil {
			return nil, errors.Join(fmt.Errorf("the service behind the gateway cannot listen on port %d: %w", behind,
				err), api.Close(), iss.Close())
		}
		handlers[direct], r.Direct = (*Service).DirectHandler, "http://"+direct.Addr().String()
	}
	if opt.Control {
		at := 0
		if n != 0 {
			at = n + 20
		}
		ctl, err := open("tcp", net.JoinHostPort(host, strconv.Itoa(at)))
		if err != nil {
			for l := range handlers {
				err = errors.Join(err, l.Close())
			}
			return nil, fmt.Errorf("the stand-in's control address cannot listen on port %d: %w", at, err)
		}
		handlers[ctl], r.Control = (*Service).ControlHandler, "http://"+ctl.Addr().String()
	}
	if opt.Issuer == "" {
		opt.Issuer = r.IssuerURL
	}
	if r.Service, err = New(opt); err != nil {
		for l := range handlers {
			err = errors.Join(err, l.Close())
		}
		return nil, err
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
