// Package weburl reads addresses as browsers read them: by the URL standard
// (https://url.spec.whatwg.org), which is laxer than RFC 3986. `HTTP:\\0x7f.1` is
// `http://127.0.0.1/` there, `ä.example` is `xn--4ca.example`, and `http://a b` is nothing.
package weburl

import (
	"net/netip"
	"strings"

	"github.com/nlnwa/whatwg-url/url"
)

// URL is an address that was read; as text it is what the standard's serialiser writes (section
// 4.5).
type URL = url.Url

// prefix begins a label that is IDNA (RFC 5890 section 2.3.1).
const prefix = "xn--"

var (
	// The library takes a label that is nothing but the prefix for an empty one; the standard
	// refuses it (UTS 46 section 4), as it does a space.
	standard = url.NewParser(url.WithPreParseHostFunc(func(_ *url.Url, host string) string {
		for _, label := range strings.Split(strings.ToLower(host), ".") {
			if label == prefix {
				return " "
			}
		}
		return host
	}))
	// unread hides the prefix while a name is read, so that nobody decodes what is behind it.
	unread = url.NewParser(
		url.WithPreParseHostFunc(func(_ *url.Url, host string) string {
			if strings.IndexFunc(host, func(c rune) bool { return c > 0x7f }) >= 0 {
				return host
			}
			return strings.ReplaceAll(strings.ToLower(host), prefix, hidden)
		}),
		url.WithPostParseHostFunc(func(_ *url.Url, host string) string {
			return strings.ReplaceAll(host, hidden,
				prefix)
		}))
)

const hidden = "q9n--"

// Parse reads an address. base, where it is not nil, is what a relative one is relative to. The
// error says what is wrong in the standard's words.
func Parse(raw string, base *URL) (*URL, error) { return parse(standard, raw, base) }

// ParseLabels is Parse that takes the labels of a name of ASCII alone as they are, whether they
// are IDNA or only look like it.
func ParseLabels(raw string, base *URL) (*URL, error) { return parse(unread, raw, base) }

func parse(p url.Parser, raw string, base *URL) (*URL, error) {
	if base == nil {
		return p.Parse(raw)
	}
	return p.ParseRef(base.String(), raw)
}

// Origin is the origin of an address as browsers write it (section 4.7 and HTML standard,
// serialization of an origin): "" for one that is no http or https address. Port and path may be
// there or not; the default port is left out.
func Origin(raw string) string {
	u, err := Parse(raw, nil)
	if err != nil {
		return ""
	}
	return OriginOf(u)
}

// OriginOf is the origin of an address that was read, "" as for Origin.
func OriginOf(u *URL) string {
	if s := u.Scheme(); s != "http" && s != "https" {
		return ""
	}
	return u.Protocol() + "//" + u.Host()
}

// Local says whether an address names this machine or one of a local network (RFC 1918, RFC 3927,
// RFC 4193, RFC 6761 section 6.3), as far as the name tells.
func Local(u *URL) bool {
	host := strings.TrimSuffix(strings.Trim(u.Hostname(), "[]"), ".")
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	a, err := netip.ParseAddr(host)
	return err == nil && (a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast())
}
