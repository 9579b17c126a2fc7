package origin

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"millgate/core/declaration"
)

// Page is one column of the Origins lens: a declared origin, or a hostile one
// that a careless comparison takes for it.
type Page struct {
	ID      string // the origin itself when it is declared, else the kind of likeness
	Origin  string // as it would stand in the Origin header
	Hostile bool
	Says    string // what it is, in words
}

// Kinds of likeness, in the order of the columns.
const (
	Unrelated = "unrelated"
	Beginning = "beginning"  // the declared name, then another domain
	Ending    = "ending"     // another name that ends like the declared one
	Subdomain = "sibling"    // another name under the same domain
	PlainHTTP = "plain http" // http in place of https
	OtherPort = "other port"
	NullPage  = "null"
	UpperCase = "capitals"
	FinalDot  = "final dot" // the same name as DNS writes it in full
)

// Kinds lists the kinds of likeness, in the order of the columns.
var Kinds = []string{Unrelated, Beginning, Ending, Subdomain, PlainHTTP, OtherPort, NullPage, UpperCase, FinalDot}

// says what each kind is.
var says = map[string]string{
	Unrelated: "a page that has nothing to do with a declared one",
	Beginning: "a name that begins like the declared one",
	Ending:    "a name that ends like the declared one",
	Subdomain: "another name under the same domain",
	PlainHTTP: "the declared name over plain http",
	OtherPort: "the declared name on another port",
	NullPage:  "a sandboxed frame of any page",
	UpperCase: "the declared name in upper case, which no browser sends",
	FinalDot:  "the declared name with a final dot",
}

// Says is what a kind of hostile page is, in words; "" for a declared origin.
func Says(id string) string { return says[id] }

// unrelatedOrigin is under a domain that nobody can have (RFC 6761 section 6.2).
const unrelatedOrigin = "https://page.evil.test"

// Declared are the origins that the declaration permits anywhere, in the order
// of the text.
func Declared(d *declaration.Document) (out []string) {
	for _, e := range d.Origins {
		for _, p := range e.Allow {
			if p.Origin != "any" && p.Origin != Null && !slices.Contains(out, p.Origin) {
				out = append(out, p.Origin)
			}
		}
	}
	return out
}

// Strongest is the permission that opens most, nil without: the one that
// hostile pages would like to be taken for.
func Strongest(allow []declaration.Permission) *declaration.Permission {
	var best *declaration.Permission
	for i := range allow {
		p := &allow[i]
		if p.Origin == "any" || p.Origin == Null {
			continue
		}
		if best == nil || p.Credentials && !best.Credentials || p.Credentials == best.Credentials &&
			len(p.Methods) > len(best.Methods) {
			best = p
		}
	}
	return best
}

// Hostile derives the hostile pages from a declared origin; with "" there are
// those that need none.
func Hostile(like string) []Page {
	list := map[string]string{Unrelated: unrelatedOrigin, NullPage: Null}
	if u, err := url.Parse(like); err == nil && u.Host != "" {
		host, port := u.Hostname(), u.Port()
		at := func(scheme, host, port string) string {
			if strings.Contains(host, ":") {
				host = "[" + host + "]"
			}
			if port != "" {
				port = ":" + port
			}
			return scheme + "://" + host + port
		}
		other := "8443"
		if port == other {
			other = "9443"
		}
		list[OtherPort] = at(u.Scheme, host, other)
		if u.Scheme == "https" {
			list[PlainHTTP] = at("http", host, port)
		}
		if _, err := netip.ParseAddr(host); err != nil {
			list[Beginning] = at(u.Scheme, host+".evil.test", port)
			parent := parentOf(host)
			list[Ending] = at(u.Scheme, "evil"+parent, port)
			list[Subdomain] = at(u.Scheme, "evil."+parent, port)
			list[UpperCase] = strings.ToUpper(at(u.Scheme, host, port))
			list[FinalDot] = at(u.Scheme, host+".", port)
		}
	}
	var out []Page
	for _, k := range Kinds {
		if o := list[k]; o != "" {
			out = append(out, Page{ID: k, Origin: o, Hostile: true, Says: says[k]})
		}
	}
	return out
}

// parentOf is the domain that a name is under: the name without its first
// label, and the name itself where only one label would be left.
func parentOf(host string) string {
	if _, rest, ok := strings.Cut(host, "."); ok && strings.Contains(rest, ".") {
		return rest
	}
	return host
}
