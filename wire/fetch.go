package wire

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
)

// Fetch reads a public document of the target, such as its JWK set. host is a
// name of the target, path may have a query. Only an answer 200 counts.
func (c *Client) Fetch(ctx context.Context, host, path string) ([]byte, error) {
	path, query, _ := strings.Cut(path, "?")
	r, err := c.send(ctx, Outgoing{Method: "GET", Host: host, Path: path, Query: query})
	switch {
	case err != nil:
		return nil, err
	case r.Status == 0:
		return nil, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
	case r.Status != 200:
		return nil, fmt.Errorf("%s answered %d", r.URL, r.Status)
	}
	if why := r.tooLong(); why != "" {
		return nil, fmt.Errorf("%s is %s", r.URL, why)
	}
	return r.content, nil
}

// tooLong says that an answer was not read to its end; "" where it was.
func (r raw) tooLong() string {
	if len(r.content) < BodyLimit+maskMargin {
		return ""
	}
	return fmt.Sprintf("longer than %d KiB", BodyLimit>>10)
}

// HostOf says which host of the target an absolute address is at, and the rest
// of the address; ok is false when it is none of them. Of several it is the one with the longest
// base, and the target's own base before others.
func (c *Client) HostOf(address string) (host, path string, ok bool) {
	u, err := url.Parse(address)
	if err != nil {
		return "", "", false
	}
	for _, n := range slices.SortedFunc(maps.Keys(c.bases), func(x, y string) int {
		return cmp.Or(cmp.Compare(len(c.bases[y].Path), len(c.bases[x].Path)), cmp.Compare(x, y))
	}) {
		b := c.bases[n]
		at := u.Host
		if u.Port() == "" {
			at += map[string]string{"http": ":80", "https": ":443"}[u.Scheme]
		}
		if n != check.DirectHost && b.Host == at && b.Scheme == u.Scheme &&
			strings.HasPrefix(u.Path, strings.TrimRight(b.Path, "/")) {
			return n, strings.TrimPrefix(u.RequestURI(), strings.TrimRight(b.EscapedPath(), "/")), true
		}
	}
	return "", "", false
}

// Ask fills a request of the declaration and sends it; what comes back is not
// masked and must not leave the server.
func (k *Keyring) Ask(ctx context.Context, q *declaration.Request, values map[string]string) (status int,
	content []byte, err error) {
	r, err := k.client.send(ctx, FillRequest(q, k.values(values)))
	if err != nil {
		return 0, nil, err
	}
	if r.Status == 0 {
		return 0, nil, fmt.Errorf("%w: %s", ErrUnreachable, r.Error)
	}
	return r.Status, r.content, nil
}
