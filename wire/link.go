package wire

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/core/pointer"
	"millgate/core/route"
)

// address is a link: everything that it says of the request that it is.
type address struct {
	Host, Path, Query string
	Elsewhere         string // the host that it names, where that is none of the target's
}

// address reads a link of a scheme, which may be without a host: then it is at the one that
// gave it out. What signs it is masked from now on.
func (k *Keyring) address(s *declaration.Scheme, text, from string) (a address, err error) {
	if a, err = k.client.address(text, from); err != nil {
		return a, err
	}
	sig := k.seal(s, a)
	if sig == "" {
		return a, fmt.Errorf("%w: the link has no %s in its query, and no route has its path with that", ErrCredential,
			s.Field)
	}
	k.client.mask.Learn(mask.Signature, sig)
	return a, nil
}

// seal is what signs a link: a parameter of its query, or of the path that a route has.
func (k *Keyring) seal(s *declaration.Scheme, a address) string {
	q, _ := url.ParseQuery(a.Query) // it was read before
	if v := q.Get(s.Field); v != "" {
		return v
	}
	at, segments := k.sealedSegment(s, a), strings.Split(a.Path, "/")
	if at < 0 {
		return ""
	}
	v, _ := url.PathUnescape(segments[at])
	return v
}

// sealedSegment is which segment of a link's path signs it, -1 where none does.
func (k *Keyring) sealedSegment(s *declaration.Scheme, a address) int {
	for i, rt := range k.doc.Routes {
		if k.doc.Sealed(i) == s.Field && k.doc.Inventory.Find(rt.Method(), a.Host, a.Path) == i {
			return slices.Index(strings.Split(rt.Path(), "/"), "{"+s.Field+"}")
		}
	}
	return -1
}

// sealed is a link with another signature; "" takes it away, which a path cannot do without.
func (k *Keyring) sealed(s *declaration.Scheme, a address, sig string) address {
	if at := k.sealedSegment(s, a); at >= 0 {
		segments := strings.Split(a.Path, "/")
		segments[at] = route.EscapeSegment(sig)
		a.Path = strings.Join(segments, "/")
		return a
	}
	return a.with(func(q url.Values) {
		if q.Set(s.Field, sig); sig == "" {
			q.Del(s.Field)
		}
	})
}

// address is where a text leads that is a link.
func (c *Client) address(text, from string) (a address, err error) {
	u, err := url.Parse(strings.TrimSpace(text))
	if err != nil {
		return a, fmt.Errorf("%w: the link cannot be read as an address", ErrCredential)
	}
	a = address{Host: from, Path: u.EscapedPath(), Query: u.RawQuery}
	if u.Host == "" {
		return a, nil
	}
	host, path, ok := c.HostOf(text)
	if !ok {
		a.Elsewhere = u.Host
		return a, nil
	}
	a.Host = host
	a.Path, _, _ = strings.Cut(path, "?")
	return a, nil
}

// outside is the error of a link to a host that is not the target's.
func (a address) outside() error {
	return fmt.Errorf("%w: the link leads to %s, which does not belong to the target", ErrCredential, a.Elsewhere)
}

// follow makes a request that of a link. It is an error where that is another route's. A service
// that is tried at another address than its public one writes that into its links: they are
// followed at the target where they lead to the route that is asked for. It is an error as well
// where it leads to another record than it was asked for. A request to another path than a link is
// asked for is meant so: it bears the link's query where it goes.
func (k *Keyring) follow(o *Outgoing, s *declaration.Scheme, a address) error {
	if a.Elsewhere != "" {
		a.Host = o.Host
	}
	asked, leads := k.doc.Inventory.Find(o.Method, o.Host, o.Path), k.doc.Inventory.Find(o.Method, a.Host, a.Path)
	if a.Elsewhere != "" && (asked < 0 || leads != asked) {
		return a.outside()
	}
	if asked >= 0 && leads != asked {
		return fmt.Errorf("%w: the link leads to %s, which is not %s", ErrCredential, a.Path,
			k.doc.Routes[asked].Path())
	}
	if s.Issue != nil {
		for _, n := range s.Issue.Placeholders() {
			switch v := o.Params[n]; {
			case v == "":
			case !hasSegment(o.Path, v):
				addQuery(o, a.Query)
				return nil
			case !hasSegment(a.Path, v):
				return fmt.Errorf("%w: the link leads to %s, asked for was %s", ErrCredential, a.Path, o.Path)
			}
		}
	}
	o.Host, o.Path = a.Host, a.Path
	addQuery(o, a.Query)
	return nil
}

// hasSegment says whether a value is a segment of a path.
func hasSegment(path, value string) bool {
	return slices.Contains(strings.Split(path, "/"), route.EscapeSegment(value))
}

// link gets a link for the route's parameters: out of the credential when it was pasted,
// from what issues links otherwise, as the identity with its own other credential.
func (k *Keyring) link(ctx context.Context, s *declaration.Scheme, identity string, fill,
	params map[string]string) (a address, err error) {
	if text := fill["link"]; text != "" {
		return k.address(s, text, "")
	}
	for _, n := range s.Issue.Placeholders() {
		if _, given := fill[n]; !given && params[n] == "" && k.target.Values[n] == "" {
			return a, fmt.Errorf("%w: what issues links needs {%s}, and this route has none", ErrCredential, n)
		}
	}
	values := k.values(fill)
	for n, v := range params {
		values[n] = v
	}
	id := k.doc.IdentityNamed(identity)
	o := FillRequest(s.Issue, values)
	for _, c := range id.Credentials {
		if other := k.doc.SchemeNamed(c.Scheme.Name); other != nil && other.Kind != declaration.Link {
			if _, err := k.Present(ctx, &o, identity, other.Name); err != nil {
				return a, err
			}
			break
		}
	}
	if s.Arrives != nil {
		if values, err = k.withCaller(values, id); err != nil {
			return a, err
		}
		return k.arrives(ctx, s, o, values)
	}
	r, err := k.issued(ctx, s, o)
	if err != nil {
		return a, err
	}
	text, ok := check.Points(r.content, s.Issue.Take["link"])
	if !ok {
		return a, fmt.Errorf("%w: %s %s answered %d, with no link at %s", ErrCredential, s.Issue.Method, o.Path,
			r.Status, s.Issue.Take["link"])
	}
	return k.address(s, text, o.Host)
}

// issued sends what gives out a link.
func (k *Keyring) issued(ctx context.Context, s *declaration.Scheme, o Outgoing) (raw, error) {
	r, err := k.patient(ctx, o)
	switch {
	case err != nil:
		return r, err
	case r.Status == 0:
		return r, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
	case r.Status >= 300:
		return r, fmt.Errorf("%w: %s %s answered %d", ErrCredential, s.Issue.Method, o.Path, r.Status)
	}
	return r, nil
}

// withCaller adds what stands for who is sent: {caller.email} is an attribute, or a part of a
// credential.
func (k *Keyring) withCaller(values map[string]string, id *declaration.Identity) (map[string]string, error) {
	for n, v := range id.Attributes {
		values[declaration.CallerPrefix+n] = fmt.Sprint(v)
	}
	for _, c := range id.Credentials {
		for n, v := range c.Fill {
			text, err := k.secret(v)
			if err != nil {
				return nil, fmt.Errorf("%w: %s of %s: %v", ErrCredential, n, id.Name, err)
			}
			if name := declaration.CallerPrefix + n; values[name] == "" {
				values[name] = text
			}
		}
	}
	return values, nil
}

// pollMailbox is how long to wait between two looks into a mailbox.
const pollMailbox = 250 * time.Millisecond

// arrives sends what mails a link, and waits for a message that was not there before. Callers
// whose messages one look cannot tell apart come one after the other.
func (k *Keyring) arrives(ctx context.Context, s *declaration.Scheme, send Outgoing,
	values map[string]string) (a address, err error) {
	query := url.Values{}
	for _, kv := range s.Arrives.Query {
		query.Add(kv[0], fillText(kv[1], values, same))
	}
	box := FillRequest(&s.Arrives.Read, values)
	box.Query = query.Encode()
	turn := k.slot("mailbox "+box.Host+box.Path+"?"+box.Query, "")
	if err := turn.lock(ctx); err != nil {
		return a, err
	}
	defer turn.unlock()
	before, err := k.newest(ctx, s, box)
	if err != nil {
		return a, err
	}
	if _, err := k.issued(ctx, s, send); err != nil {
		return a, err
	}
	for until := k.now().Add(s.Arrives.Within); ; {
		text, err := k.newest(ctx, s, box)
		switch {
		case err != nil:
			return a, err
		case text != "" && text != before:
			return k.address(s, text, send.Host)
		case !k.now().Before(until):
			return a, fmt.Errorf("%w: no message with a link of the target came to %s within %s", ErrCredential,
				box.Path, s.Arrives.Within)
		}
		select {
		case <-ctx.Done():
			return a, ctx.Err()
		case <-time.After(min(pollMailbox, max(until.Sub(k.now()), time.Millisecond))):
		}
	}
}

// newest is the link in the newest message of a mailbox, "" without one.
func (k *Keyring) newest(ctx context.Context, s *declaration.Scheme, box Outgoing) (string, error) {
	r, err := k.patient(ctx, box)
	switch {
	case err != nil:
		return "", err
	case r.Status == 0:
		return "", fmt.Errorf("%w: the mailbox: %s", ErrUnreachable, r.Error)
	case r.Status >= 300 && r.Status != 404:
		return "", fmt.Errorf("%w: the mailbox at %s answered %d", ErrCredential, box.Path, r.Status)
	}
	link := k.client.linkIn(r.content, s.Arrives.Find)
	if why := r.tooLong(); link == "" && why != "" {
		return "", fmt.Errorf("%w: the mailbox at %s is %s, so that no message is found in it; empty it, or ask for "+
			"the "+
			"newest alone in its query", ErrCredential, box.Path, why)
	}
	return link, nil
}

// anAddress is an absolute address in a text; what closes a sentence or a tag is none of it.
var anAddress = regexp.MustCompile(`https?://[^\s<>"'\x60]+`)

// linkIn is the first address of the target in the text that a pointer shows; where there is
// none, the text itself where it is a path; "" without.
func (c *Client) linkIn(body []byte, at pointer.JSON) string {
	text, _ := check.Points(body, at)
	for _, found := range anAddress.FindAllString(text, -1) {
		found = strings.TrimRight(found, ".,;:!?)]}")
		if _, _, ok := c.HostOf(found); ok {
			return found
		}
	}
	if strings.HasPrefix(text, "/") && !strings.ContainsAny(text, " \n\t") {
		return text
	}
	return ""
}

// LinkGiven is where a link that was given out for the parameters leads, and when it ends: the
// query parameter as Unix seconds or RFC 3339, zero when it says neither.
func (k *Keyring) LinkGiven(ctx context.Context, s *declaration.Scheme, identity string,
	params map[string]string) (g check.GivenLink, err error) {
	fill, err := k.fill(identity, s.Name)
	if err != nil {
		return g, err
	}
	a, err := k.link(ctx, s, identity, fill, params)
	if err != nil {
		return g, err
	}
	q, _ := url.ParseQuery(a.Query) // it was read before
	g.Path, g.Said = k.client.mask.Text(cmp.Or(a.Path, "/")), q.Get(s.Expires)
	if n, err := strconv.ParseInt(g.Said, 10, 64); err == nil {
		g.Ends = time.Unix(n, 0)
	} else if t, err := time.Parse(time.RFC3339, g.Said); err == nil {
		g.Ends = t
	}
	return g, nil
}

// with is a link with another query.
func (a address) with(change func(q url.Values)) address {
	q, _ := url.ParseQuery(a.Query) // it was read before
	change(q)
	a.Query = q.Encode()
	return a
}

// presentBrokenLink presents the holder's link with its signature altered, or one that is made
// up where none can be had.
func (k *Keyring) presentBrokenLink(ctx context.Context, o *Outgoing, s *declaration.Scheme, holder,
	madeUp string) error {
	if fill, err := k.fill(holder, s.Name); err == nil {
		a, err := k.link(ctx, s, holder, fill, o.Params)
		if err == nil {
			return k.follow(o, s, k.sealed(s, a, alter(k.seal(s, a))))
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if made := (address{Host: o.Host, Path: o.Path}); k.sealedSegment(s, made) >= 0 {
		o.Path = k.sealed(s, made, madeUp).Path
		return nil
	}
	q := url.Values{s.Field: {madeUp}}
	if s.Expires != "" {
		q.Set(s.Expires, strconv.FormatInt(k.now().Add(5*time.Minute).Unix(), 10))
	}
	addQuery(o, q.Encode())
	return nil
}
