// Package origin answers what a page of one origin can do with a service of
// another: the CORS protocol of the Fetch standard (https://fetch.spec.whatwg.org,
// section 3.3 and the fetching algorithms of section 4) as a browser runs it.
//
// # The protocol
//
// A service executes whatever it is sent; the browser decides what a page may
// send and what it may read. For a request to another origin it
//
//   - asks first, with a preflight, when the method is none of GET, HEAD and
//     POST or a header is not on the safelist (section 2.2.2);
//   - sends the request when the preflight allows it, or none was needed;
//   - hands the answer to the page when Access-Control-Allow-Origin names the
//     page or is *, and, where the user's cookies went with it,
//     Access-Control-Allow-Credentials is true. Of the answer's header fields
//     the page reads a few, and those that the service exposes.
//
// So a page can do one of four things with a route: Nothing, Send blindly, Read,
// and ReadAsUser, which is with the user's cookies.
//
// # Example
//
//	q := Request{Page: "https://app.example", Method: "GET", URL: "https://api.example/v1/sky", Credentials: Omit}
//	o := Run(q, nil, now, Standard, func(s Sent) (Answer, bool) { return answer, true })
//	o.Resolved, o.Blocked() // and every step with the header that decided it
//
// Nothing is sent here: the answers come from whoever asks. Time is an argument.
package origin

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/field"
	"millgate/core/weburl"
)

const maxRedirects = 20 // section 4.5

// redirectStatus is a redirect status (section 2.2.3).
func redirectStatus(n int) bool { return n == 301 || n == 302 || n == 303 || n == 307 || n == 308 }

// Of is the origin of an address as browsers write it, "" when it is no absolute http or https
// one (URL standard, section 4.7).
func Of(raw string) string { return weburl.Origin(raw) }

type run struct {
	q         Request
	b         Browser
	cache     *Cache
	now       time.Time
	ask       Ask
	urls      []*weburl.URL
	method    string
	headers   field.List
	body      bool
	tainted   bool // the response tainting is "cors"
	opaque    bool // it is "opaque"
	redirects int
	out       Outcome
}

// Run runs a request of a script through the protocol. cache may be nil; it
// holds what earlier preflights allowed and is brought up to date.
func Run(q Request, cache *Cache, now time.Time, b Browser, ask Ask) Outcome {
	if cache == nil {
		cache = &Cache{}
	}
	if q.Credentials == "" {
		q.Credentials = SameOrigin
	}
	r := &run{q: q, b: b, cache: cache, now: now, ask: ask, body: q.Body}
	if r.construct() {
		r.fetch()
	}
	return r.out
}

func (r *run) ok(name, header, text, section string) {
	r.out.Steps = append(r.out.Steps, Step{Name: name, Header: header, Text: text, Section: section})
}

// block is a network error, for which the script's promise is rejected.
func (r *run) block(name, header, text, section string) {
	r.out.Steps = append(r.out.Steps, Step{Name: name, Header: header, Text: text, Section: section, Failed: true})
}

// construct is the constructor of a Request (section 5.4); what it refuses
// never leaves the page.
func (r *run) construct() bool {
	refuse := func(section, text string) bool {
		r.block("request", "", text, section)
		return false
	}
	var base *weburl.URL
	if r.q.Page != Null {
		base, _ = weburl.Parse(r.q.Page, nil) // nil without one, and then a relative address is none
	}
	u, err := r.parse(r.q.URL, base)
	if err != nil || weburl.OriginOf(u) == "" {
		return refuse("5.4", fmt.Sprintf("%q is no absolute http or https URL", r.q.URL))
	}
	if named(u) {
		return refuse("5.4", "a URL with a name or password in it is refused")
	}
	r.urls = []*weburl.URL{u}
	if r.q.Cache == OnlyIfCached && r.q.Mode != SameOriginOnly {
		return refuse("5.4",
			"what is only to come from the cache must be of the page's own origin, with mode same-origin")
	}
	m := r.q.Method
	if m == "" {
		m = "GET"
	}
	if !token(m) {
		return refuse("5.4", fmt.Sprintf("%q is no method", m))
	}
	if slices.Contains([]string{"CONNECT", "TRACE", "TRACK"}, strings.ToUpper(m)) {
		return refuse("2.2.1", "a page may not use "+strings.ToUpper(m))
	}
	if u := strings.ToUpper(m); slices.Contains([]string{"DELETE", "GET", "HEAD", "OPTIONS", "POST", "PUT"}, u) {
		m = u // others keep their letter case: patch is not PATCH
	}
	r.method = m
	if r.body && (m == "GET" || m == "HEAD") {
		return refuse("5.4", m+" cannot have a body")
	}
	if r.q.Mode == NoCORS && !safeMethod(m) {
		return refuse("5.4", "without CORS a page sends GET, HEAD and POST alone")
	}
	return r.fill()
}

// parse reads an address as the browser does.
func (r *run) parse(raw string, base *weburl.URL) (*weburl.URL, error) {
	if r.b.does(HostsAsTheyAre) {
		return weburl.ParseLabels(raw, base)
	}
	return weburl.Parse(raw, base)
}

// fill sets the header fields of a script (section 5.1, fill and append).
func (r *run) fill() bool {
	for _, h := range r.q.Headers {
		name, value, ok := byteStrings(h)
		if !ok {
			r.block("request", h[0],
				fmt.Sprintf("%q has a sign that no header field can hold: they are of one byte each",
					h[0]), "5.1")
			return false
		}
		value = strings.Trim(value, "\t\n\r ")
		if !token(name) || strings.ContainsAny(value, "\x00\r\n") {
			r.block("request", h[0], fmt.Sprintf("%q is no header field", h[0]), "5.1")
			return false
		}
		if forbiddenHeader(name, value) {
			r.ok("request", name, "a page cannot set "+name+"; the browser leaves it out", "2.2.2")
			continue
		}
		if r.b.does(OwnUserAgent) && strings.EqualFold(name, "User-Agent") {
			r.ok("request", name, "the browser keeps its own "+name, "2.2.2")
			continue
		}
		if r.b.does(NoDictionary) && r.q.Mode != NoCORS && strings.EqualFold(name, "Available-Dictionary") {
			r.block("request", name, "the browser sends no request that sets "+name, "2.2.2")
			return false
		}
		if r.q.Mode == NoCORS && !noCORSSafe(name, joined(r.headers, name, value)) {
			r.ok("request", name, "without CORS a page cannot set "+name+"; the browser leaves it out", "5.1")
			continue
		}
		r.add(name, value)
	}
	return true
}

// byteStrings are name and value of a field as bytes: a script's text can hold more than fields
// can (Web IDL, ByteString).
func byteStrings(h [2]string) (name, value string, ok bool) {
	for i, s := range h {
		b := make([]byte, 0, len(s))
		for _, c := range s {
			if c > 0xff {
				return "", "", false
			}
			b = append(b, byte(c))
		}
		h[i] = string(b)
	}
	return h[0], h[1], true
}

// joined is a value behind those that are there under its name (section 2.2.2, get).
func joined(list field.List, name, value string) string {
	return strings.Join(append(list.All(name), value), ", ")
}

// add sets one more field of a script (section 2.2.2, append).
func (r *run) add(name, value string) {
	if r.b.does(RepeatedJoined) {
		for i := range r.headers {
			if strings.EqualFold(r.headers[i][0], name) {
				r.headers[i][1] += ", " + value
				return
			}
		}
	}
	r.headers = append(r.headers, [2]string{name, value})
}

// named says whether an address bears a name or password (URL standard, section 4.4, includes
// credentials).
func named(u *weburl.URL) bool { return u.Username() != "" || u.Password() != "" }

func (r *run) current() *weburl.URL { return r.urls[len(r.urls)-1] }

// serialised is the request's origin as it is sent (section 2.2.5): null once
// a redirect went from one foreign origin to another.
func (r *run) serialised() string {
	for i := 1; i < len(r.urls); i++ {
		from := weburl.OriginOf(r.urls[i-1])
		if weburl.OriginOf(r.urls[i]) != from && from != r.q.Page {
			return Null
		}
	}
	return r.q.Page
}

// basic says whether page and service are of one origin, and always were (section 4.1).
func (r *run) basic() bool { return r.same() && !r.tainted && !r.opaque }

func (r *run) same() bool { return r.q.Page != Null && weburl.OriginOf(r.current()) == r.q.Page }

// fetch is main fetch (section 4.1).
func (r *run) fetch() {
	if r.q.Public && r.b.does(LocalAsked) && !r.same() && weburl.Local(r.current()) {
		r.block("origin", "",
			"the address is of the local network, and the user is asked whether pages of the public one "+
				"may reach it", "4.1")
		return
	}
	switch {
	case r.basic():
		r.ok("origin", "", "page and service have one origin, so no permission is needed", "4.1")
		r.http(false)
		return
	case r.q.Mode == SameOriginOnly:
		r.block("origin", "", "the page asks only its own origin", "4.1")
		return
	case r.q.Mode == NoCORS:
		if r.q.Redirect != Follow {
			r.block("origin", "", "without CORS redirects must be followed", "4.1")
			return
		}
		r.opaque = true
		r.ok("origin", "", "the request goes out without asking, and nothing of the answer can be read", "4.1")
		r.http(false)
		return
	}
	r.tainted = true
	names := r.unsafeNames()
	if safeMethod(r.method) && len(names) == 0 {
		r.ok("preflight", "", fmt.Sprintf("none is needed: %s with safelisted headers", r.method), "4.1")
		r.http(false)
		return
	}
	why := []string{}
	if !safeMethod(r.method) {
		why = append(why, r.method+" is none of GET, HEAD and POST")
	}
	if len(names) > 0 {
		why = append(why, strings.Join(names, ", ")+" is not safelisted")
	}
	r.ok("preflight", "", "needed: "+strings.Join(why, ", and "), "4.1")
	r.http(true)
	if r.out.Blocked() != nil && !r.b.does(KeptAfterRefusal) {
		r.cache.clear(r)
	}
}

// cookies says whether the user's cookies go with the request.
func (r *run) cookies() bool {
	return r.q.Credentials == Include || r.q.Credentials == SameOrigin && r.basic()
}

// http is HTTP fetch (section 4.4).
func (r *run) http(ask bool) {
	if ask {
		if missing := r.cache.misses(r, r.unsafeNames()); missing != "" {
			if r.b.does(LastRemembered) && !r.asksAlways() {
				r.cache.clear(r)
			}
			if !r.preflight() {
				return
			}
		} else {
			r.ok("preflight", "", "an earlier one still allows it", "4.9")
		}
	}
	if r.q.Cache == OnlyIfCached {
		r.block("cache", "", "it is only to come from the browser's cache, which is taken to be empty", "4.6")
		return
	}
	s := Sent{Method: r.method, URL: r.current().String(), AsUser: r.cookies(), Headers: slices.Clone(r.headers)}
	if r.tainted || r.method != "GET" && r.method != "HEAD" {
		s.Origin = r.serialised()
		s.Headers = append(field.List{{"Origin", s.Origin}}, s.Headers...)
	}
	r.out.Sent = append(r.out.Sent, s)
	a, known := r.ask(s)
	if !known {
		r.out.Unknown = true
		return
	}
	if r.tainted && !r.check("answer", a) {
		return
	}
	loc, there, fine := r.location(a)
	if redirectStatus(a.Status) && (there || r.q.Redirect != RefuseAll || !r.b.does(RedirectNowhere)) {
		switch r.q.Redirect {
		case RefuseAll:
			r.block("redirect", "Location", fmt.Sprintf("answered %d, and the page follows no redirect", a.Status),
				"4.4")
			return
		case ManualFollow:
			r.ok("redirect", "", "the page sees that there is a redirect, and nothing else", "4.4")
			r.out.Resolved, r.out.Opaque, r.out.Readable = true, true, []string{}
			return
		default:
		}
		if !fine {
			r.block("redirect", "Location", "there is more than one Location", "2.2.6")
			return
		}
		if there {
			r.redirect(a, loc)
			return
		}
	}
	r.out.Resolved = true
	if r.opaque {
		r.out.Opaque, r.out.Readable = true, []string{}
		return
	}
	r.out.Status = a.Status
	r.out.Readable = r.readable(a)
	if r.tainted {
		r.ok("reading", "Access-Control-Expose-Headers", "the page reads status, body, and "+orNone(r.out.Readable),
			"4.1")
	}
}

func orNone(l []string) string {
	if len(l) == 0 {
		return "no header field"
	}
	return strings.Join(l, ", ")
}

// check is the CORS check (section 4.10).
func (r *run) check(of string, a Answer) bool {
	const name, section = "Access-Control-Allow-Origin", "4.10"
	v, there := get(a.Headers, name)
	page := r.serialised()
	switch {
	case !there:
		r.block(of, name, fmt.Sprintf("the %s has no %s", of, name), section)
		return false
	case v == "*" && r.q.Credentials != Include:
		r.ok(of, name, name+" is *", section)
		return true
	case v == "*":
		r.block(of, name, name+" is *, which does not do for a request with the user's cookies", section)
		return false
	case v != page:
		why := fmt.Sprintf("%s is %q, the page is %q", name, v, page)
		switch {
		case strings.Contains(v, ","):
			why += "; it must be one value"
		case strings.EqualFold(v, page):
			why += "; letter case counts"
		}
		r.block(of, name, why, section)
		return false
	case r.q.Credentials != Include:
		r.ok(of, name, name+" names the page", section)
		return true
	}
	const cred = "Access-Control-Allow-Credentials"
	c, there := get(a.Headers, cred)
	if c == "true" {
		r.ok(of, cred, name+" names the page, and "+cred+" is true", section)
		return true
	}
	if !there {
		r.block(of, cred, fmt.Sprintf("the %s has no %s, and the user's cookies went with the request", of, cred),
			section)
	} else {
		r.block(of, cred, fmt.Sprintf("%s is %q, and only \"true\" does", cred, c), section)
	}
	return false
}

// safelistedAnswer are the header fields of an answer that every page reads
// (section 2.2.2, CORS-safelisted response-header name).
var safelistedAnswer = []string{"cache-control", "content-language", "content-length", "content-type", "expires",
	"last-modified", "pragma"}

// readable are the header fields of an answer that the script can read.
func (r *run) readable(a Answer) []string {
	exposed, fine := list(a.Headers, "Access-Control-Expose-Headers")
	all := fine && slices.Contains(exposed, "*") && r.q.Credentials != Include || !r.tainted
	seen := map[string]bool{}
	out := []string{}
	for _, h := range a.Headers {
		n := strings.ToLower(h[0])
		if seen[n] || n == "set-cookie" || n == "set-cookie2" {
			continue
		}
		named := fine && slices.ContainsFunc(exposed, func(e string) bool { return strings.EqualFold(e, n) })
		if all || named || slices.Contains(safelistedAnswer, n) {
			seen[n] = true
			out = append(out, n)
		}
	}
	sort.Strings(out)
	return out
}

// location is where a redirect leads (section 2.2.6, location URL); there is false where it says
// no place, and ok where it says several.
func (r *run) location(a Answer) (loc string, there, ok bool) {
	list := values(a.Headers, "Location")
	if r.b.does(EqualLocations) {
		list = slices.Compact(list)
	}
	switch {
	case len(list) == 0 || len(list) == 1 && list[0] == "" && r.b.does(EmptyLocation):
		return "", false, true
	case len(list) > 1:
		return "", true, false
	}
	return list[0], true, true
}

// redirect is HTTP-redirect fetch (section 4.5).
func (r *run) redirect(a Answer, loc string) {
	const section = "4.5"
	next, err := r.parse(loc, r.current())
	if err != nil || weburl.OriginOf(next) == "" {
		r.block("redirect", "Location", fmt.Sprintf("%q leads to no http or https URL", loc), section)
		return
	}
	if r.redirects++; r.redirects > maxRedirects {
		r.block("redirect", "Location", fmt.Sprintf("more than %d redirects", maxRedirects), section)
		return
	}
	if named(next) && (r.b.does(NamedRedirects) || r.tainted || r.q.Mode == CORS && weburl.OriginOf(next) != r.q.Page) {
		r.block("redirect", "Location", "it leads to a URL with a name or password in it", section)
		return
	}
	if (a.Status == 301 || a.Status == 302) && r.method == "POST" || a.Status == 303 && r.method != "GET" &&
		r.method != "HEAD" {
		r.method, r.body = "GET", false
		r.headers = slices.DeleteFunc(r.headers, func(h [2]string) bool {
			return slices.Contains([]string{"content-encoding", "content-language", "content-location", "content-type"},
				strings.ToLower(h[0]))
		})
	}
	if weburl.OriginOf(next) != weburl.OriginOf(r.current()) {
		r.headers = slices.DeleteFunc(r.headers,
			func(h [2]string) bool { return strings.EqualFold(h[0], "Authorization") })
	}
	if next.Hash() == "" {
		next.SetHash(r.current().Hash())
	}
	r.urls = append(r.urls, next)
	text := fmt.Sprintf("%d leads to %s", a.Status, weburl.OriginOf(next))
	if r.serialised() != r.q.Page {
		text += "; from one foreign origin to another the page counts as null"
	}
	r.ok("redirect", "Location", text, section)
	r.fetch()
}
