package origin

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/field"
)

// Does is what a page can do with a route.
type Does int

const (
	Nothing    Does = iota // the browser sends nothing but its question
	Send                   // the request is carried out, and nothing of the answer can be read
	Read                   // the page reads the answer that anybody gets
	ReadAsUser             // the page reads what the user may, with the user's cookies
)

var doesWords = []string{"nothing", "send blindly", "read", "read as the user"}

func (d Does) String() string { return doesWords[d] }

// Word is one word for a cell: nothing, send, read or read-as-user.
func (d Does) Word() string { return []string{"nothing", "send", "read", "read-as-user"}[d] }

// DoesOf reads what String writes.
func DoesOf(s string) (Does, bool) {
	i := slices.Index(doesWords, s)
	return Does(max(i, 0)), i >= 0
}

// Call is a route as a page's script would call it.
type Call struct {
	Method      string
	URL         string
	ContentType string // of its body, "" without one
	Credential  string // the header field that its guard reads, lower case; "" for none or a cookie
}

// Seen is what a service answered to a page.
type Seen struct {
	Preflight *Answer // nil when none was sent
	Answer    *Answer // to the request itself; nil when it was not sent
	Refusal   *Answer // to the request without its credential; nil when it was not sent
}

// Ability is the most that a page can do, and how.
type Ability struct {
	Does    Does
	Request Request // as the page's script would write it
	Outcome Outcome
	Assumed bool // the request itself was not sent: its answer is taken to permit what the preflight does
}

// requests are the ways in which a page's script could call a route, those
// that ask for least first.
func requests(c Call, page string) (out []Request) {
	q := Request{Page: page, Method: c.Method, URL: c.URL, Body: c.ContentType != ""}
	simple, typed := q, q
	if c.ContentType != "" {
		simple.Headers = field.List{{"Content-Type", "text/plain"}}
		typed.Headers = field.List{{"Content-Type", c.ContentType}}
	}
	list := []Request{simple}
	if c.ContentType != "" && !Safelisted("Content-Type", c.ContentType) {
		list = append(list, typed)
	}
	if c.Credential != "" {
		full := typed
		full.Headers = append(slices.Clone(typed.Headers), [2]string{c.Credential, "..."})
		list = append(list, full)
	}
	for _, r := range list {
		for _, cr := range []Credentials{Omit, Include} {
			r.Credentials = cr
			out = append(out, r)
		}
	}
	return out
}

// Full is the request with everything that the route needs: what a preflight
// is asked for.
func Full(c Call, page string) Request {
	l := requests(c, page)
	return l[len(l)-1]
}

// browserCan says whether a browser can have a page of this origin: they are
// serialised in lower case.
func browserCan(page string) bool { return page == Null || page == strings.ToLower(page) }

// doesOf is what an outcome comes to.
func doesOf(q Request, o Outcome) Does {
	switch {
	case o.Resolved && !o.Opaque && q.Credentials == Include:
		return ReadAsUser
	case o.Resolved && !o.Opaque:
		return Read
	case o.Executed():
		return Send
	}
	return Nothing
}

// Look says what a page can do with a route whose answers are known, over all
// ways in which its script could ask.
func Look(c Call, page string, s Seen, b Browser) Ability {
	ways := Ways(c, page, s, b)
	best := ways[0]
	for _, a := range ways[1:] {
		if a.Does > best.Does || a.Does == best.Does && a.Does == Nothing {
			best = a
		}
	}
	return best
}

// PermissionFor is the permission that a declaration gives a page, nil without.
func PermissionFor(allow []declaration.Permission, page string) *declaration.Permission {
	var wide *declaration.Permission
	for i := range allow {
		switch allow[i].Origin {
		case page:
			return &allow[i]
		case "any":
			wide = &allow[i]
		}
	}
	return wide
}

// methodsOf are the methods of a permission: GET where none are said, and HEAD
// wherever GET is.
func methodsOf(p *declaration.Permission) []string {
	m := p.Methods
	if len(m) == 0 {
		m = []string{"GET"}
	}
	if slices.Contains(m, "GET") && !slices.Contains(m, "HEAD") {
		m = append(slices.Clone(m), "HEAD")
	}
	return m
}

// asDeclared are the answers of a service that permits what is declared.
func asDeclared(c Call, page string, allow []declaration.Permission) Seen {
	pre, ans := Answer{Status: 204}, Answer{Status: 200}
	p := PermissionFor(allow, page)
	if p == nil || !slices.Contains(methodsOf(p), c.Method) {
		return Seen{Preflight: &pre, Answer: &ans}
	}
	grant := field.List{{"Access-Control-Allow-Origin", page}}
	if p.Credentials {
		grant = append(grant, [2]string{"Access-Control-Allow-Credentials", "true"})
	}
	pre.Headers = append(slices.Clone(grant), [2]string{"Access-Control-Allow-Methods",
		strings.Join(methodsOf(p), ", ")}, [2]string{"Access-Control-Allow-Headers", strings.Join(p.Headers, ", ")})
	if p.MaxAge > 0 {
		pre.Headers = append(pre.Headers, [2]string{"Access-Control-Max-Age",
			strconv.Itoa(int(p.MaxAge / time.Second))})
	}
	ans.Headers = append(grant, [2]string{"Access-Control-Expose-Headers", strings.Join(p.Expose, ", ")})
	for _, e := range p.Expose {
		ans.Headers = append(ans.Headers, [2]string{e, "x"})
	}
	return Seen{Preflight: &pre, Answer: &ans}
}

// Expect says what the declaration lets a page do with a route.
func Expect(c Call, page string, allow []declaration.Permission) Ability {
	return Look(c, page, asDeclared(c, page, allow), Standard)
}

// Sort of a judgement.
type Sort string

const (
	Broader  Sort = "broader"  // more is permitted than declared
	Narrower Sort = "narrower" // less
	Note     Sort = "note"     // worth knowing
)

// Judgement is one thing that is said about a service's permissions.
type Judgement struct {
	ID     string `json:"id"`
	Sort   Sort   `json:"sort"`
	Minor  bool   `json:"minor,omitempty"` // it counts, a little
	Header string `json:"header,omitempty"`
	Text   string `json:"text"` // one sentence
}

// Judgements about a service's permissions.
const (
	JOrigin      = "origin"
	JMethod      = "method"
	JCredentials = "credentials"
	JHeaders     = "headers"
	JMissing     = "missing"
	JGuarded     = "preflight-guarded"
	JExpose      = "expose"
	JVary        = "vary"
	JRefusal     = "refusal"
	JListed      = "methods-listed"
	JMaxAge      = "max-age"
	JStar        = "star-credentials"
	JMany        = "many-origins"
	JUpperCase   = "upper-case"
	JSameSite    = "same-site"
	JBrowser     = "browser"
)

// Row is one judgement that can be said.
type Row struct {
	ID      string
	Sort    Sort
	Minor   bool   // it counts, a little
	Section string // of the Fetch standard, where no other is named
	Says    string // what it says, of no page in particular
}

// Judgements are all of them, in the order in which they are thought of.
var Judgements = []Row{
	{JOrigin, Broader, false, "4.10", "a page can do more than the declaration lets it"},
	{JMethod, Broader, false, "4.8", "a declared page may use a method that is not declared for it"},
	{JCredentials, Broader, false, "4.10", "a declared page may call with the user's cookies, which is not declared"},
	{JHeaders, Broader, true, "4.8", "a declared page may send fields that are not declared"},
	{JMissing, Narrower, false, "4.10", "a declared page is stopped, and by what"},
	{JGuarded, Narrower, false, "4.8", "the preflight asks for a credential: it has none, and never will"},
	{JExpose, Narrower, true, "2.2.2", "a declared page cannot read a declared field of the answer"},
	{JVary, Narrower, true, "3.3.5",
		"the answer names the page and has no Vary: Origin, so that a cache gives it to others"},
	{JRefusal, Narrower, true, "4.10", "a declared page cannot read why it was refused"},
	{JListed, Note, false, "4.8",
		"a preflight lists methods that are not declared; it counts where such a route permits it"},
	{JMaxAge, Note, false, "4.8", "a permission is remembered for longer than declared"},
	{JStar, Note, false, "4.10", "* stands beside Access-Control-Allow-Credentials, which no browser combines"},
	{JMany, Note, false, "4.10", "Access-Control-Allow-Origin has several values, which no page matches"},
	{JUpperCase, Note, false, "HTML, serialization of an origin",
		"the comparison ignores letter case; no browser sends " +
			"such an origin"},
	{JSameSite, Note, false, "RFC 6265bis section 5.6.7",
		"the cookie that opens the route goes along from pages of the " +
			"service's own site alone"},
	{JBrowser, Note, false, "see the departures", "the browser lets a page do something else than the standard's text"},
}

func rowOf(id string) Row {
	return Judgements[slices.IndexFunc(Judgements, func(r Row) bool { return r.ID == id })]
}

// SameSite says of a page that can call with the user's cookies what the cookie itself keeps from
// it: said is how the cookie was set, "" where it says nothing.
func SameSite(page, said string, got Does) (j Judgement, ok bool) {
	if got != ReadAsUser || said != "lax" && said != "strict" {
		return j, false
	}
	r := rowOf(JSameSite)
	return Judgement{ID: r.ID, Sort: r.Sort, Header: "Set-Cookie",
		Text: fmt.Sprintf("The cookie is SameSite=%s: a browser "+
			"sends it with what a page fetches only where the page is of the service's own site. If %s is not, it reads what "+
			"anybody gets.", said, page)}, true
}

// Judge holds what a page can do against what is declared. other is an answer
// of the same route to a request without an Origin, nil when it is not known.
func Judge(c Call, page Page, allow []declaration.Permission, s Seen, other *Answer) (want, got Ability,
	out []Judgement) {
	want, got = Expect(c, page.Origin, allow), Look(c, page.Origin, s, Standard)
	p := PermissionFor(allow, page.Origin)
	say := func(id, header, text string) {
		r := rowOf(id)
		out = append(out, Judgement{ID: id, Sort: r.Sort, Minor: r.Minor, Header: header, Text: text})
	}
	able := func(b Browser) Ability { return Look(c, page.Origin, s, b) }
	// A declared page is looked at with everything that the route needs: that
	// it could read a refusal without its credential is no use to it.
	full := Full(c, page.Origin)
	if p != nil && !p.Credentials {
		full.Credentials = Omit
	}
	if p != nil && got.Does <= want.Does &&
		doesOf(full, runSeen(full, asDeclared(c, page.Origin, allow), Standard)) >= Read {
		able = func(b Browser) Ability {
			o := runSeen(full, s, b)
			return Ability{Does: doesOf(full, o), Request: full, Outcome: o, Assumed: s.Answer == nil && o.Executed()}
		}
		got, want.Request = able(Standard), full
	}
	const ao, ac = "Access-Control-Allow-Origin", "Access-Control-Allow-Credentials"
	switch {
	case got.Does > want.Does:
		id, header := JOrigin, ao
		switch {
		case p != nil && want.Does == Read && got.Does == ReadAsUser:
			id, header = JCredentials, ac
		case p != nil && !slices.Contains(methodsOf(p), c.Method):
			id, header = JMethod, "Access-Control-Allow-Methods"
		}
		say(id, header, fmt.Sprintf("A page of %s can %s; the declaration lets it %s.", page.Origin, got.Does,
			want.Does.Verb()))
	case got.Does < want.Does && (s.Preflight != nil || got.Outcome.Preflights == 0):
		id, why, header := JMissing, "nothing permits it", ao
		o := runSeen(want.Request, s, Standard)
		if b := o.Blocked(); b != nil {
			why, header = b.Text, b.Header
			if b.Header == "status" && s.Preflight != nil && (s.Preflight.Status == 401 || s.Preflight.Status == 403) {
				id = JGuarded
			}
		}
		say(id, header, fmt.Sprintf("A page of %s must be able to %s, and can %s: %s.", page.Origin,
			want.Does, got.Does.Verb(), why))
	}
	if page.ID == UpperCase && s.Answer != nil {
		if v, ok := get(s.Answer.Headers, ao); ok && v != "*" {
			say(JUpperCase, ao, "The comparison ignores letter case. No browser sends such an origin, so "+
				"nothing follows.")
		}
	}
	if p != nil && !page.Hostile && got.Does >= want.Does && want.Does >= Read {
		judgeFields(c, p, page, s, got, say)
	}
	if s.Answer != nil {
		judgeNaming(page, s.Answer, other, say)
	}
	if does := able(Chromium).Does; does != got.Does {
		say(JBrowser, "", fmt.Sprintf("By the standard's text a page here can %s; %s lets it %s (%s).",
			got.Does.Verb(), Chromium.Name, does.Verb(), departing(able)))
	}
	return want, got, out
}

// judgeNaming judges how an answer names the pages that it permits.
func judgeNaming(page Page, a, other *Answer, say func(id, header, text string)) {
	const ao, ac = "Access-Control-Allow-Origin", "Access-Control-Allow-Credentials"
	v, there := get(a.Headers, ao)
	if !there {
		return
	}
	vary, _ := list(a.Headers, "Vary")
	named := slices.ContainsFunc(vary, func(x string) bool { return strings.EqualFold(x, "Origin") || x == "*" })
	constant := other != nil && hasValue(other.Headers, ao, v)
	if v == page.Origin && !named && !constant && !page.Hostile {
		say(JVary, "Vary", "The answer names the page and has no Vary: Origin, so that a cache gives it to "+
			"other pages, and theirs to this one (Fetch standard, CORS protocol and HTTP caches).")
	}
	cred, _ := get(a.Headers, ac)
	if v == "*" && cred == "true" {
		say(JStar, ac, "Access-Control-Allow-Origin is * beside Access-Control-Allow-Credentials: a browser "+
			"never combines them.")
	}
	if strings.Contains(v, ",") {
		say(JMany, ao, "Access-Control-Allow-Origin has several values, which no page matches.")
	}
}

// Verb is what a page can, behind "can".
func (d Does) Verb() string {
	if d == Nothing {
		return "do nothing"
	}
	return d.String()
}

// judgeFields compares the details of a permission that works.
func judgeFields(c Call, p *declaration.Permission, page Page, s Seen, got Ability,
	say func(id, header, text string)) {
	if s.Answer != nil {
		var missing []string
		exposed, fine := list(s.Answer.Headers, "Access-Control-Expose-Headers")
		star := fine && slices.Contains(exposed, "*") && !p.Credentials
		for _, e := range p.Expose {
			if !star && !slices.ContainsFunc(exposed, func(x string) bool { return strings.EqualFold(x, e) }) &&
				!slices.Contains(safelistedAnswer, e) {
				missing = append(missing, e)
			}
		}
		if len(missing) > 0 {
			say(JExpose, "Access-Control-Expose-Headers", fmt.Sprintf("A page of %s cannot read %s: "+
				"Access-Control-Expose-Headers does not have it.", page.Origin,
				strings.Join(missing, ", ")))
		}
	}
	if s.Refusal != nil && s.Refusal.Status >= 400 {
		if v, ok := get(s.Refusal.Headers, "Access-Control-Allow-Origin"); !ok || v != page.Origin && v != "*" {
			say(JRefusal, "Access-Control-Allow-Origin", fmt.Sprintf("A page of %s cannot read why it was "+
				"refused: the answer %d has no permission, so that the page sees a network error.", page.Origin,
				s.Refusal.Status))
		}
	}
	if s.Preflight == nil {
		return
	}
	var more []string
	allowed, fine := list(s.Preflight.Headers, "Access-Control-Allow-Headers")
	for _, h := range allowed {
		if fine && !slices.Contains(p.Headers, strings.ToLower(h)) && !(h == "*" && p.Credentials) &&
			!Safelisted(h, "") {
			more = append(more, h)
		}
	}
	if len(more) > 0 {
		say(JHeaders, "Access-Control-Allow-Headers", fmt.Sprintf("A page of %s may send %s, which is not "+
			"declared.", page.Origin, strings.Join(more, ", ")))
	}
	methods, fine := list(s.Preflight.Headers, "Access-Control-Allow-Methods")
	more = nil
	for _, m := range methods {
		if fine && !slices.Contains(methodsOf(p), m) && m != "OPTIONS" && !(m == "*" && p.Credentials) {
			more = append(more, m)
		}
	}
	if len(more) > 0 {
		say(JListed, "Access-Control-Allow-Methods", fmt.Sprintf("The preflight lists %s, which is not "+
			"declared for %s. It counts where such a route permits it.", strings.Join(more, ", "), page.Origin))
	}
	if p.MaxAge > 0 && got.Outcome.CachedFor > p.MaxAge {
		say(JMaxAge, "Access-Control-Max-Age", fmt.Sprintf("A browser remembers the permission for %s, "+
			"declared is %s: what is taken back goes on that long.", declaration.ShortDuration(got.Outcome.CachedFor),
			declaration.ShortDuration(p.MaxAge)))
	}
}

func hasValue(h field.List, name, value string) bool {
	v, ok := get(h, name)
	return ok && v == value
}

// runSeen runs one request against what was answered.
func runSeen(q Request, s Seen, b Browser) Outcome {
	if s.Answer == nil && s.Preflight != nil {
		a := *s.Preflight
		a.Status = 200
		s.Answer = &a
	}
	return Run(q, nil, time.Time{}, b, func(x Sent) (Answer, bool) {
		a := s.Answer
		if x.Preflight {
			a = s.Preflight
		}
		if a == nil {
			return Answer{}, false
		}
		return *a, true
	})
}

// departing names what makes a browser decide otherwise than the standard.
func departing(able func(Browser) Ability) string {
	base := able(Chromium).Does
	var out []string
	for _, d := range Chromium.Departs {
		if able(Chromium.Without(d)).Does != base {
			out = append(out, d.Browser)
		}
	}
	if len(out) == 0 {
		return "several rules together"
	}
	return strings.Join(out, "; ")
}

// Confusion names the careless comparison that lets a set of hostile kinds
// pass, and whether a kind belongs to it.
func Confusion(passed map[string]bool, kind string) string {
	switch {
	case passed[Unrelated]:
		return Unrelated
	case passed[Beginning] && passed[Ending]:
		if kind != NullPage && kind != PlainHTTP {
			return "containing"
		}
	case passed[Beginning] && (kind == OtherPort || kind == FinalDot):
		return Beginning
	case passed[Ending] && kind == Subdomain:
		return Ending
	}
	return kind
}

// URLOf is a URL for a route's template, good enough for the evaluator, which
// compares origins only.
func URLOf(base, path string) string {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" {
		return "https://service.invalid" + path
	}
	return u.Scheme + "://" + u.Host + path
}
