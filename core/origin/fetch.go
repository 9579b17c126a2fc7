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
	"net/url"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/field"
)

// Credentials says whether cookies go with a request (section 2.2.5).
type Credentials string

const (
	Omit       Credentials = "omit"
	SameOrigin Credentials = "same-origin" // what fetch() does when nothing is said
	Include    Credentials = "include"
)

// Mode of a request (section 2.2.5).
type Mode string

const (
	CORS   Mode = "" // the default of fetch()
	NoCORS Mode = "no-cors"
)

// Redirect mode of a request.
type Redirect string

const (
	Follow       Redirect = "" // the default of fetch()
	RefuseAll    Redirect = "error"
	ManualFollow Redirect = "manual"
)

// Null is the origin of a sandboxed frame, and of a request that a redirect
// carried across origins (section 2.2.5, serializing a request origin).
const Null = "null"

// Request is what a script of a page asks for with fetch(). The zero value is
// refused: it has no URL.
type Request struct {
	Page        string      // the page's origin as a browser serialises it, or Null
	Method      string      // as the script writes it; "" is GET
	URL         string      // absolute
	Headers     field.List  // as the script sets them
	Body        bool        // whether there is one
	Credentials Credentials // "" is SameOrigin
	Mode        Mode
	Redirect    Redirect
}

// Sent is one request that the browser sends.
type Sent struct {
	Method    string
	URL       string
	Preflight bool
	Origin    string     // the Origin header, "" when none is sent
	Headers   field.List // those of the script, and of the protocol
	AsUser    bool       // the user's cookies go with it
}

// Answer is the head of what a service answered.
type Answer struct {
	Status  int
	Headers field.List
}

// Ask gives the answer to a request that the browser sends; ok is false when
// there is none to look at.
type Ask func(Sent) (a Answer, ok bool)

// Step is one decision of the browser, in the order it takes them.
type Step struct {
	Name    string `json:"name"`
	Text    string `json:"text"`
	Header  string `json:"header,omitempty"` // the header field that decided, "" without
	Failed  bool   `json:"failed"`
	Section string `json:"section"` // of the Fetch standard
}

// Outcome is what comes of a request.
type Outcome struct {
	Resolved   bool          // the script has its answer
	Opaque     bool          // and cannot read anything of it
	Status     int           // as the script sees it
	Readable   []string      // names of the header fields that the script can read, sorted
	Sent       []Sent        // what went out, preflights among it
	Steps      []Step        // every decision; a failed one is the last
	Unknown    bool          // an answer was missing, so nothing is known from there on
	CachedFor  time.Duration // how long the browser remembers the last preflight; 0 without
	Preflights int
}

// Blocked is the step that stopped the request, nil when nothing did.
func (o *Outcome) Blocked() *Step {
	if n := len(o.Steps); n > 0 && o.Steps[n-1].Failed {
		return &o.Steps[n-1]
	}
	return nil
}

// Executed says whether the request itself went out, so that the service
// carried it out, whatever the page may read.
func (o *Outcome) Executed() bool {
	return slices.ContainsFunc(o.Sent, func(s Sent) bool { return !s.Preflight })
}

// Browser says where a browser departs from the standard's text. The zero
// value is the standard.
type Browser struct {
	Name         string
	Departs      []*Departure
	LongestCache time.Duration // the most that a preflight is remembered; 0 is no limit
}

// Departure is one rule that a browser runs otherwise than the standard's text.
type Departure struct {
	ID       string
	Section  string // of the Fetch standard
	Standard string // what the text says
	Browser  string // what the browser does in its place
}

// Departures of Chromium, each with a case in the test that runs beside it.
var (
	StarCoversAuth = &Departure{"star-covers-authorization", "4.8",
		"* in Access-Control-Allow-Headers does not cover Authorization", "* covers Authorization too"}
	HintsSafelisted = &Departure{"client-hints", "2.2.2", "DPR, Downlink, Save-Data and other client hints need a " +
		"preflight", "client hints with a plain value need none"}
	RefusedMaxAge = &Departure{"negative-max-age", "4.8", "an Access-Control-Max-Age that is no number of " +
		"seconds is as none: 5 seconds", "a negative one is 0: nothing is remembered"}
	KeptAfterRefusal = &Departure{"cache-outlives-refusal", "4.1", "a failed request clears what its preflight " +
		"allowed", "what was allowed is remembered all the same"}
	RedirectNowhere = &Departure{"redirect-without-location", "4.3",
		"a redirect status is refused where redirects are, with or without Location",
		"without Location it is an answer like any other"}
	chromiumDepartures = []*Departure{StarCoversAuth, HintsSafelisted, RefusedMaxAge, KeptAfterRefusal, RedirectNowhere}
)

// Chromium is the browser that the evaluator is held against.
var Chromium = Browser{Name: "Chromium", Departs: chromiumDepartures, LongestCache: 2 * time.Hour}

func (b Browser) does(d *Departure) bool { return slices.Contains(b.Departs, d) }

// Standard is the text of the Fetch standard. Its cache has no limit of its
// own.
var Standard = Browser{Name: "the Fetch standard"}

// defaultMaxAge is how long a preflight holds that says nothing (section 4.8).
const defaultMaxAge = 5 * time.Second

const maxRedirects = 20 // section 4.4

// redirectStatus is a redirect status (section 2.2.3).
func redirectStatus(n int) bool { return n == 301 || n == 302 || n == 303 || n == 307 || n == 308 }

// Of is the origin of a URL as a browser serialises it (HTML standard, RFC
// 6454 section 6.2): "" when it is not an absolute http or https URL.
func Of(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return ""
	}
	return originOf(u)
}

func originOf(u *url.URL) string {
	s := strings.ToLower(u.Scheme)
	if s != "http" && s != "https" || u.Host == "" {
		return ""
	}
	host, port := strings.ToLower(u.Hostname()), u.Port()
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	if port == "" || s == "http" && port == "80" || s == "https" && port == "443" {
		return s + "://" + host
	}
	return s + "://" + host + ":" + port
}

type run struct {
	q         Request
	b         Browser
	cache     *Cache
	now       time.Time
	ask       Ask
	urls      []*url.URL
	method    string
	headers   field.List
	body      bool
	tainted   bool // the response tainting is "cors"
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
	u, err := url.Parse(r.q.URL)
	if err != nil || originOf(u) == "" {
		r.block("request", "", fmt.Sprintf("%q is no absolute http or https URL", r.q.URL), "5.4")
		return false
	}
	if u.User != nil {
		r.block("request", "", "a URL with a name or password in it is refused", "5.4")
		return false
	}
	r.urls = []*url.URL{u}
	m := r.q.Method
	if m == "" {
		m = "GET"
	}
	if !token(m) {
		r.block("request", "", fmt.Sprintf("%q is no method", m), "5.4")
		return false
	}
	if slices.Contains([]string{"CONNECT", "TRACE", "TRACK"}, strings.ToUpper(m)) {
		r.block("request", "", "a page may not use "+strings.ToUpper(m), "2.2.1")
		return false
	}
	if u := strings.ToUpper(m); slices.Contains([]string{"DELETE", "GET", "HEAD", "OPTIONS", "POST", "PUT"}, u) {
		m = u // others keep their letter case: patch is not PATCH
	}
	r.method = m
	if r.body && (m == "GET" || m == "HEAD") {
		r.block("request", "", m+" cannot have a body", "5.4")
		return false
	}
	if r.q.Mode == NoCORS && !safeMethod(m) {
		r.block("request", "", "without CORS a page sends GET, HEAD and POST alone", "5.4")
		return false
	}
	for _, h := range r.q.Headers {
		v := strings.Trim(h[1], "\t\n\r ")
		if !token(h[0]) || strings.ContainsAny(v, "\x00\r\n") {
			r.block("request", h[0], fmt.Sprintf("%q is no header field", h[0]), "5.1")
			return false
		}
		if forbiddenHeader(h[0], v) {
			r.ok("request", h[0], "a page cannot set "+h[0]+"; the browser leaves it out", "2.2.2")
			continue
		}
		if r.q.Mode == NoCORS && !noCORSSafe(h[0], v) {
			r.ok("request", h[0], "without CORS a page cannot set "+h[0]+"; the browser leaves it out", "5.1")
			continue
		}
		r.headers = appendHeader(r.headers, h[0], v)
	}
	return true
}

// appendHeader adds a value, combined with one that is there (section 2.2.2).
func appendHeader(list field.List, name, value string) field.List {
	for i := range list {
		if strings.EqualFold(list[i][0], name) {
			list[i][1] += ", " + value
			return list
		}
	}
	return append(list, [2]string{name, value})
}

func (r *run) current() *url.URL { return r.urls[len(r.urls)-1] }

// serialised is the request's origin as it is sent (section 2.2.5): null once
// a redirect went from one foreign origin to another.
func (r *run) serialised() string {
	for i := 1; i < len(r.urls); i++ {
		from := originOf(r.urls[i-1])
		if originOf(r.urls[i]) != from && from != r.q.Page {
			return Null
		}
	}
	return r.q.Page
}

func (r *run) same() bool { return r.q.Page != Null && originOf(r.current()) == r.q.Page }

// fetch is main fetch (section 4.1).
func (r *run) fetch() {
	switch {
	case r.same() && !r.tainted:
		r.ok("origin", "", "page and service have one origin, so no permission is needed", "4.1")
		r.http(false)
		return
	case r.q.Mode == NoCORS:
		if r.q.Redirect != Follow {
			r.block("origin", "", "without CORS redirects must be followed", "4.1")
			return
		}
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
}

// unsafeNames are the CORS-unsafe request-header names (section 2.2.2).
func (r *run) unsafeNames() []string { return UnsafeNames(r.headers, r.b) }

// cookies says whether the user's cookies go with the request.
func (r *run) cookies() bool {
	return r.q.Credentials == Include || r.q.Credentials == SameOrigin && !r.tainted && r.same()
}

// http is HTTP fetch (section 4.3).
func (r *run) http(ask bool) {
	if ask {
		if missing := r.cache.misses(r, r.unsafeNames()); missing != "" {
			if !r.preflight() {
				return
			}
		} else {
			r.ok("preflight", "", "an earlier one still allows it", "4.9")
		}
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
		if !r.b.does(KeptAfterRefusal) {
			r.cache.clear(r)
		}
		return
	}
	loc, there := get(a.Headers, "Location")
	if redirectStatus(a.Status) && (there || r.q.Redirect != RefuseAll || !r.b.does(RedirectNowhere)) {
		switch r.q.Redirect {
		case RefuseAll:
			r.block("redirect", "Location", fmt.Sprintf("answered %d, and the page follows no redirect", a.Status),
				"4.3")
			return
		case ManualFollow:
			r.ok("redirect", "", "the page sees that there is a redirect, and nothing else", "4.3")
			r.out.Resolved, r.out.Opaque, r.out.Readable = true, true, []string{}
			return
		default:
		}
		if there {
			r.redirect(a, loc)
			return
		}
	}
	r.out.Resolved = true
	if r.q.Mode == NoCORS && !r.same() {
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

// preflight is CORS-preflight fetch (section 4.8).
func (r *run) preflight() bool {
	const section = "4.8"
	names := r.unsafeNames()
	s := Sent{Method: "OPTIONS", URL: r.current().String(), Preflight: true, Origin: r.serialised()}
	s.Headers = field.List{{"Origin", s.Origin}, {"Access-Control-Request-Method", r.method}}
	if len(names) > 0 {
		s.Headers = append(s.Headers, [2]string{"Access-Control-Request-Headers", strings.Join(names, ",")})
	}
	r.out.Sent = append(r.out.Sent, s)
	r.out.Preflights++
	a, known := r.ask(s)
	if !known {
		r.out.Unknown = true
		return false
	}
	if !r.check("preflight", a) {
		return false
	}
	if a.Status < 200 || a.Status > 299 {
		text := fmt.Sprintf("the preflight was answered %d in place of 2xx", a.Status)
		switch {
		case a.Status == 401 || a.Status == 403:
			text += "; it has no credential, and never will"
		case redirectStatus(a.Status):
			text += "; a preflight follows no redirect"
		}
		r.block("preflight", "status", text, section)
		return false
	}
	const am, ah = "Access-Control-Allow-Methods", "Access-Control-Allow-Headers"
	methods, fine := list(a.Headers, am)
	if !fine {
		v, _ := get(a.Headers, am)
		r.block("method", am, fmt.Sprintf("%s cannot be read: %q", am, v), section)
		return false
	}
	allowed, fine := list(a.Headers, ah)
	if !fine {
		v, _ := get(a.Headers, ah)
		r.block("header", ah, fmt.Sprintf("%s cannot be read: %q", ah, v), section)
		return false
	}
	if !r.permitsMethod(methods) || !r.permitsHeaders(allowed, names) {
		return false
	}
	r.out.CachedFor = r.maxAge(a)
	r.cache.add(r, methods, allowed, names)
	r.ok("cache", "Access-Control-Max-Age", "the browser does not ask again for "+r.out.CachedFor.String(), section)
	return true
}

// permitsMethod says whether the methods that a preflight allows have the request's.
func (r *run) permitsMethod(methods []string) bool {
	const section, am = "4.8", "Access-Control-Allow-Methods"
	star := r.q.Credentials != Include
	switch {
	case slices.Contains(methods, r.method):
		r.ok("method", am, am+" has "+r.method, section)
	case safeMethod(r.method):
		r.ok("method", am, r.method+" needs no permission", section)
	case star && slices.Contains(methods, "*"):
		r.ok("method", am, am+" is *", section)
	default:
		text := am + " does not have " + r.method
		switch {
		case slices.Contains(methods, "*"):
			text += ", and * does not do for a request with the user's cookies"
		case slices.ContainsFunc(methods, func(m string) bool { return strings.EqualFold(m, r.method) }):
			text += "; letter case counts"
		}
		r.block("method", am, text, section)
		return false
	}
	return true
}

// permitsHeaders says whether the fields that a preflight allows have the request's unsafe
// ones.
func (r *run) permitsHeaders(allowed, names []string) bool {
	const section, ah = "4.8", "Access-Control-Allow-Headers"
	star := r.q.Credentials != Include
	for _, n := range names {
		named := slices.ContainsFunc(allowed, func(h string) bool { return strings.EqualFold(h, n) })
		wild := star && slices.Contains(allowed, "*")
		auth := n == "authorization" && !r.b.does(StarCoversAuth)
		switch {
		case named || wild && !auth:
			continue
		case wild:
			r.block("header", ah, ah+" is *, which does not cover authorization: it must be named", section)
		case slices.Contains(allowed, "*"):
			r.block("header", ah, fmt.Sprintf("%s does not have %s, and * does not do for a request with the user's "+
				"cookies", ah, n), section)
		default:
			r.block("header", ah, fmt.Sprintf("%s does not have %s", ah, n), section)
		}
		return false
	}
	if len(names) > 0 {
		r.ok("header", ah, ah+" covers "+strings.Join(names, ", "), section)
	}
	return true
}

// maxAge is how long a preflight holds.
func (r *run) maxAge(a Answer) time.Duration {
	ages := values(a.Headers, "Access-Control-Max-Age")
	d := defaultMaxAge
	if len(ages) == 1 {
		if n, ok := deltaSeconds(ages[0]); ok {
			d = time.Duration(n) * time.Second
		} else if r.b.does(RefusedMaxAge) && strings.HasPrefix(ages[0], "-") {
			d = 0
		}
	}
	if r.b.LongestCache > 0 {
		d = min(d, r.b.LongestCache)
	}
	return d
}

// deltaSeconds reads 1*DIGIT; what does not fit is as much as does (RFC 9111
// section 1.2.2).
func deltaSeconds(s string) (int64, bool) {
	if s == "" {
		return 0, false
	}
	var n int64
	for _, c := range []byte(s) {
		if c < '0' || c > '9' {
			return 0, false
		}
		if n < 1<<31 {
			n = n*10 + int64(c-'0')
		}
	}
	return min(n, 1<<31), true
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

// redirect is HTTP-redirect fetch (section 4.4).
func (r *run) redirect(a Answer, loc string) {
	const section = "4.4"
	next, err := r.current().Parse(loc)
	if err != nil || originOf(next) == "" {
		r.block("redirect", "Location", fmt.Sprintf("%q leads to no http or https URL", loc), section)
		return
	}
	if r.redirects++; r.redirects > maxRedirects {
		r.block("redirect", "Location", fmt.Sprintf("more than %d redirects", maxRedirects), section)
		return
	}
	if next.User != nil && (r.tainted || r.q.Mode == CORS && originOf(next) != r.q.Page) {
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
	if originOf(next) != originOf(r.current()) {
		r.headers = slices.DeleteFunc(r.headers,
			func(h [2]string) bool { return strings.EqualFold(h[0], "Authorization") })
	}
	if next.Fragment == "" {
		next.Fragment = r.current().Fragment
	}
	r.urls = append(r.urls, next)
	text := fmt.Sprintf("%d leads to %s", a.Status, originOf(next))
	if r.serialised() != r.q.Page {
		text += "; from one foreign origin to another the page counts as null"
	}
	r.ok("redirect", "Location", text, section)
	r.fetch()
}
