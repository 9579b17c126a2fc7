// Package wire sends requests to a declared target and to nothing else.
//
// Every connection is checked at the address that is dialled: the names of the
// target's hosts are resolved once, and only those addresses and ports are
// ever contacted, whatever a later answer of the resolver, a redirect or a
// proxy variable in the environment says. Redirects are recorded, not
// followed. Requests keep the target's pace.
//
// What comes back is masked before it is returned: tokens, keys and passwords
// that Mill Gate used or was given never leave this package.
//
// Rule: Nothing is sent but to the declared target.
package wire

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/mask"
)

// Errors that callers branch on.
var (
	ErrOutside     = errors.New("the address does not belong to the target")
	ErrUnreachable = errors.New("the target cannot be reached")
	// ErrLate is a request that was not answered within its time.
	ErrLate = errors.New("not answered within its time")
)

// BodyLimit is how much of a body is kept, in bytes.
const BodyLimit = 64 << 10

// headerLimit is how many bytes of header fields an answer may have.
const headerLimit = 1 << 20

// maskMargin is read beyond BodyLimit, so that a secret on the limit is still
// seen whole and masked before the body is cut.
const maskMargin = 8 << 10

// Client talks to one target.
type Client struct {
	target  *declaration.Target
	bases   map[string]*url.URL // by host name, "" is the base
	allowed map[string][]string // authority → pinned addresses
	http    *http.Transport     // each request is sent by itself: nothing follows a redirect
	apart   *http.Transport     // each over a connection of its own
	limit   *rate.Limiter
	mask    *Masker
	reach   Dial
	headers field.List    // of every request
	flight  chan struct{} // one for each exchange that may be under way; nil is any number
	pass    [2]string     // header field and value that keep a request out of the target's counts
	passErr error         // why there is none although one is declared
	marks   marking
	asked   atomic.Bool // a host asked for a certificate, and there was none to show
	// never are texts that no answer may show: they are looked for before it is masked.
	never []string
	// byRoute is where the route of a request is looked up, where what its answer means depends on that.
	byRoute *declaration.Document
}

// Dial connects to an address that was checked before; nil is the network of this
// machine.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Options say how a target is reached. The zero Options are its address, the network of this
// machine and the certificates of the system.
type Options struct {
	Base    string            // replaces the target's base
	Dial    Dial              // replaces the network of this machine
	Roots   *x509.CertPool    // whose certificates are trusted; nil is whom the system trusts
	Shows   []tls.Certificate // what Mill Gate proves itself with
	Headers field.List        // fields of every request, with their secrets in place
	Secrets []string          // what of Headers must never be shown
}

// NewClient resolves the target's hosts and prepares to send.
func NewClient(ctx context.Context, t *declaration.Target, m *Masker, o Options) (*Client, error) {
	c := &Client{target: t, bases: map[string]*url.URL{}, allowed: map[string][]string{}, mask: m, reach: o.Dial,
		headers: o.Headers, marks: newMarking(t.Mark)}
	for _, s := range o.Secrets {
		m.Learn(mask.Secret, s)
	}
	all := map[string]string{"": t.Base}
	if o.Base != "" {
		all[""] = strings.TrimRight(o.Base, "/")
	}
	for n, u := range t.Hosts {
		all[n] = u
	}
	if t.Direct != "" {
		all[check.DirectHost] = t.Direct
	}
	for n, raw := range all {
		u, err := url.Parse(raw)
		if err != nil || u.Host == "" {
			return nil, fmt.Errorf("the address %q of target %s cannot be read", raw, t.Name)
		}
		if u.Port() == "" {
			u.Host = net.JoinHostPort(u.Hostname(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
		}
		c.bases[n] = u
		if _, done := c.allowed[u.Host]; done {
			continue
		}
		rctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		ips, err := net.DefaultResolver.LookupIP(rctx, "ip", u.Hostname())
		cancel()
		if err != nil {
			return nil, fmt.Errorf("%w: the name %s is not known (%v)", ErrUnreachable, u.Hostname(), err)
		}
		for _, ip := range ips {
			c.allowed[u.Host] = append(c.allowed[u.Host], net.JoinHostPort(ip.String(), u.Port()))
		}
	}
	pace := t.Pace
	if pace.Count < 1 {
		pace = declaration.DefaultPace
	}
	c.limit = rate.NewLimiter(rate.Limit(pace.PerSecond()), 1)
	c.http = &http.Transport{
		Proxy:       nil, // a proxy would be another address
		DialContext: c.dial,
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: o.Roots,
			GetClientCertificate: c.shows(o.Shows)},
		ForceAttemptHTTP2:   true, // where the service speaks it (RFC 9113); a dialler of one's own would rule it out
		MaxIdleConnsPerHost: 16,
		IdleConnTimeout:     30 * time.Second,
		DisableCompression:  true,
		TLSHandshakeTimeout: 5 * time.Second,
		// Beyond it the answer is an error that says so.
		MaxResponseHeaderBytes: headerLimit,
	}
	c.apart = c.http.Clone()
	c.apart.DisableKeepAlives = true
	return c, nil
}

// shows is the certificate that is shown to a host that asks for one: the first that it takes.
// That there was none is kept. A host ends the connection after the handshake then (RFC 8446
// section 4.4.2.4), and what is seen of that may be a write that fails before its alert is read.
func (c *Client) shows(list []tls.Certificate) func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
	return func(q *tls.CertificateRequestInfo) (*tls.Certificate, error) {
		for i := range list {
			if q.SupportsCertificate(&list[i]) == nil {
				return &list[i], nil
			}
		}
		c.asked.Store(true)
		return &tls.Certificate{}, nil
	}
}

func (c *Client) dial(ctx context.Context, network, addr string) (net.Conn, error) {
	pinned, ok := c.allowed[addr]
	if !ok {
		return nil, fmt.Errorf("%w: %s", ErrOutside, addr)
	}
	d := net.Dialer{Timeout: 3 * time.Second, ControlContext: func(_ context.Context, _, address string,
		_ syscall.RawConn) error {
		if !slices.Contains(pinned, address) {
			return fmt.Errorf("%w: %s", ErrOutside, address)
		}
		return nil
	}}
	reach := c.reach
	if reach == nil {
		reach = d.DialContext
	}
	var last error
	for _, p := range pinned {
		conn, err := reach(ctx, network, p)
		if err == nil {
			return conn, nil
		}
		last = err
	}
	return nil, last
}

// AtOnce bounds how many exchanges are under way at the same time. It is called before the
// first is sent.
func (c *Client) AtOnce(n int) { c.flight = make(chan struct{}, n) }

// Close drops idle connections.
func (c *Client) Close() { (&http.Client{Transport: c.http}).CloseIdleConnections() }

// Outgoing is a request with its secrets in place.
type Outgoing struct {
	Method  string
	Host    string // name of a host of the target
	Path    string // percent-encoded, sent as it stands
	Query   string
	Headers field.List
	Body    []byte
	Params  map[string]string // the route's parameters, for what issues links
	Apart   bool              // over a connection of its own
	Counted bool              // sent without the target's pass, to see its quotas
	Within  time.Duration     // how long its answer may take once it is sent; 0 is as long as any
	Before  func() error      // called when its turn has come, right before it is sent; an error keeps it back
}

// raw is an answer before masking; it stays inside the package.
type raw struct {
	check.Exchange
	content []byte
}

// Send sends one request at the target's pace. The error is that of a
// cancelled context or of Before, or ErrLate; anything else that goes wrong is in
// the Exchange.
func (c *Client) Send(ctx context.Context, o Outgoing) (check.Exchange, error) {
	r, err := c.send(ctx, o)
	return c.masked(r), err
}

func (c *Client) masked(r raw) check.Exchange { return c.mask.exchange(r, c.never, c.mask.begin()) }

// Hear says by which declaration answers are read: what is looked for in them, and what they mean. It is called before
// anything is sent.
func (c *Client) Hear(d *declaration.Document) {
	c.never = d.Answers.NeverText
	if d.Answers.ByRoute() {
		c.byRoute = d
	}
}

func (c *Client) send(ctx context.Context, o Outgoing) (raw, error) {
	var r raw
	base, ok := c.bases[o.Host]
	if !ok {
		r.Error = fmt.Sprintf("the target has no host called %q", o.Host)
		return r, nil
	}
	u := *base
	full := strings.TrimRight(base.EscapedPath(), "/") + o.Path
	if p, err := url.PathUnescape(full); err == nil {
		u.Path, u.RawPath = p, full
	} else { // what is no path is sent as it stands
		u.Opaque = full
	}
	u.RawQuery = o.Query
	r.Method, r.URL, r.Headers, r.Body = o.Method, u.String(), o.Headers, string(o.Body)
	if u.Opaque != "" {
		r.URL = u.Scheme + "://" + u.Host + u.RequestURI()
	}
	if d := c.byRoute; d != nil {
		if i := d.Inventory.Find(o.Method, o.Host, o.Path); i >= 0 {
			r.Route = d.Routes[i].Key()
		}
	}
	if c.flight != nil && !o.Counted { // what fills a quota runs as it must
		select {
		case c.flight <- struct{}{}:
			defer func() { <-c.flight }()
		case <-ctx.Done():
			return r, ctx.Err()
		}
	}
	if err := c.limit.Wait(ctx); err != nil {
		return r, ctx.Err()
	}
	if o.Before != nil {
		if err := o.Before(); err != nil {
			return r, err
		}
	}
	return c.exchange(ctx, o, &u, r)
}

// longestAnswer is how long an answer may take, to its end.
const longestAnswer = 20 * time.Second

// exchange sends the request at once and reads its answer.
func (c *Client) exchange(ctx context.Context, o Outgoing, u *url.URL, r raw) (raw, error) {
	r.At = time.Now()
	given, late := ctx, o.Within != 0 && o.Within < longestAnswer
	within := longestAnswer
	if late {
		within = o.Within
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	// failed is an answer that never came, or not to its end.
	failed := func(what string, err error) (raw, error) {
		r.Took = time.Since(r.At)
		switch {
		case given.Err() != nil:
			return r, given.Err()
		case ctx.Err() != nil && late:
			return r, ErrLate
		case ctx.Err() != nil:
			r.Error = fmt.Sprintf("%sit took longer than %s", what, longestAnswer)
		case what == "" && c.asked.Load():
			r.Error = plainError(err) + "; the service asked for a certificate, and there was none that it takes: " +
				"`client` of the target names it"
		default:
			r.Error = what + plainError(err)
		}
		return r, nil
	}
	req, err := c.request(ctx, o, u)
	if err != nil {
		r.Error = err.Error()
		return r, nil
	}
	mark := c.marks.put(req, &r)
	by := c.http
	if o.Apart {
		by = c.apart
	}
	resp, err := by.RoundTrip(req) //nolint:contextcheck // the request has it
	if err != nil {
		return failed("", err)
	}
	defer resp.Body.Close()                               //nolint:errcheck // reading is over
	if resp.StatusCode != http.StatusSwitchingProtocols { // what follows then is no body, and has no end
		r.content, err = content(resp)
	}
	if err != nil {
		return failed("the answer broke off: ", err)
	}
	r.Took = time.Since(r.At)
	r.Status = resp.StatusCode
	for k, vs := range resp.Header {
		for _, v := range vs {
			r.Answer = append(r.Answer, [2]string{k, v})
		}
	}
	slices.SortFunc(r.Answer, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
	c.marks.out(mark, &r)
	return r, nil
}

// content is the body of an answer, as much of it as is looked at.
func content(resp *http.Response) ([]byte, error) {
	const most = BodyLimit + maskMargin
	if resp.Body == http.NoBody { // whatever length a HEAD is answered with
		return nil, nil
	}
	if n := resp.ContentLength; n >= 0 && n <= most { // it says how long it is
		b := make([]byte, n)
		read, err := io.ReadFull(resp.Body, b)
		return b[:read], err
	}
	return io.ReadAll(io.LimitReader(resp.Body, most))
}

// request is what goes out, with the target's pass.
func (c *Client) request(ctx context.Context, o Outgoing, u *url.URL) (*http.Request, error) {
	var body io.Reader
	if len(o.Body) > 0 {
		body = bytes.NewReader(o.Body)
	}
	req, err := http.NewRequestWithContext(ctx, o.Method, "", body) // its address is there already
	if err != nil {
		return nil, err
	}
	req.URL, req.Host = u, u.Host
	req.Header.Set("User-Agent", "millgate")
	req.Header.Set("Accept", "application/json, */*;q=0.5")
	for _, h := range o.Headers {
		if strings.EqualFold(h[0], "Host") { // who is called stays the declared one
			req.Host = h[1]
			continue
		}
		if h[0] == "Accept" { // asked for by the probe; empty sends none
			if req.Header.Del("Accept"); h[1] == "" {
				continue
			}
		}
		req.Header.Add(h[0], h[1])
	}
	for _, h := range c.headers {
		if !o.Headers.Has(h[0]) { // a probe that says it itself means that
			req.Header.Set(h[0], h[1])
		}
	}
	if u.User != nil && req.Header.Get("Authorization") == "" {
		p, _ := u.User.Password()
		req.SetBasicAuth(u.User.Username(), p)
	}
	if c.pass[0] != "" && !o.Counted {
		req.Header.Set(c.pass[0], c.pass[1])
	}
	return req, nil
}

// plainError drops the address that the client puts in front of its errors, and says what
// the declaration can say about them.
func plainError(err error) string {
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	text := err.Error()
	var unknown x509.UnknownAuthorityError
	if errors.As(err, &unknown) {
		text += "; `ca` of the target names whose certificates count"
	}
	return text
}

// Reach checks that every host of the target takes connections.
func (c *Client) Reach(ctx context.Context) error {
	if c.passErr != nil {
		return c.passErr
	}
	for n, u := range c.bases {
		if n == check.DirectHost {
			continue // that it cannot be reached is what one hopes for
		}
		dctx, cancel := context.WithTimeout(ctx, 4*time.Second)
		conn, err := c.dial(dctx, "tcp", u.Host)
		cancel()
		if err != nil {
			what := "its base"
			if n != "" {
				what = "its host " + n
			}
			return fmt.Errorf("%w: %s at %s: %v", ErrUnreachable, what, u.Host, plainError(err))
		}
		if err := conn.Close(); err != nil {
			return fmt.Errorf("%w: %v", ErrUnreachable, err)
		}
	}
	return nil
}

// Trip is how long a round trip to a host of the target takes, by the time that
// a connection is made in.
func (c *Client) Trip(ctx context.Context, host string) (time.Duration, error) {
	base, ok := c.bases[host]
	if !ok {
		return 0, fmt.Errorf("%w: the target has no host called %q", ErrOutside, host)
	}
	from := time.Now()
	conn, err := c.dial(ctx, "tcp", base.Host)
	if err != nil {
		return 0, fmt.Errorf("%w: %v", ErrUnreachable, plainError(err))
	}
	took := time.Since(from)
	return took, conn.Close()
}
