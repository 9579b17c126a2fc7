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
// next.
type Running struct {
	Service   *Service
	Base      string
	IssuerURL string
	servers   []*http.Server
}

// Listen starts a stand-in. addr is HOST:PORT of the API; the issuer takes the
// port above, or a free one when PORT is 0.
func Listen(addr string, opt Options) (*Running, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("the stand-in's address %q: %w", addr, err)
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("the stand-in's port %q is not a number", port)
	}
	api, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("the stand-in cannot listen on %s: %w", addr, err)
	}
	next := 0
	if n != 0 {
		next = n + 1
	}
	iss, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(next)))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the stand-in's issuer cannot listen on port %d: %w", next, err), api.Close())
	}
	r := &Running{Base: "http://" + api.Addr().String(), IssuerURL: "http://" + iss.Addr().String()}
	if opt.Issuer == "" {
		opt.Issuer = r.IssuerURL
	}
	if r.Service, err = New(opt); err != nil {
		return nil, errors.Join(err, api.Close(), iss.Close())
	}
	for l, h := range map[net.Listener]http.Handler{api: r.Service.Handler(), iss: r.Service.IssuerHandler()} {
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
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
