// Package byexample reads from requests that worked how a service is called: where it is, what proves who calls, what
// logs in, and what of a request is its route's.
//
// Each request is taken apart into parts: header fields, cookies, parameters of the query, members of the body. A part
// is what proves who calls where its place, its name or its form says so. Where several requests are brought, they are
// compared: what differs between callers and stays for each is the caller's; what differs for one caller is the
// session's; a secret that is the same for all callers proves nobody, and belongs to the target.
//
// What is read is proposed and nothing else: each proposal stands alone and says why. What was not understood is said,
// and secrets are in no text that is proposed.
package byexample

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/personal"
	"millgate/core/route"
	"millgate/core/token"
)

// Reading is what requests say.
type Reading struct {
	Origin    string // where most of them go: scheme://host[:port]
	Told      []Told // of each request
	Parts     []Part // of those that prove something or differ
	Proposals []Proposal
	Unread    []string // what was not understood, beside what each request says
}

// Told is what was read of one request.
type Told struct {
	Whose  string // "" where nothing says it
	Form   Form
	Line   int
	Method string
	Path   string
	Logs   bool   // it logs in
	Proves string // what proves who calls, in words; "" where nothing does
	Unread []string
}

// Kind of a proposal.
type Kind string

// The kinds of proposals, in the order in which they are written.
const (
	Target   Kind = "target"
	Host     Kind = "host"   // of a target, that logins or callers go to
	Header   Kind = "header" // that every request to a target carries
	Scheme   Kind = "scheme"
	Lifetime Kind = "lifetime" // of what a scheme's login gives
	Route    Kind = "route"
	Identity Kind = "identity"
	Record   Kind = "record" // whose what is
	Pages    Kind = "pages"  // of other origins, and what they may do
)

// Proposal is something to be written into a declaration, if somebody chooses it.
type Proposal struct {
	ID    string
	Kind  Kind
	Name  string // of the target, the scheme, the identity or the record; the route; of a host or header its target
	Text  string // as it stands in the declaration, without secrets
	Why   string
	Field string // of a host or header its name; of a scheme that is there "login"
	// Of a lifetime: the scheme. Of an identity: its credential. Secrets are for whoever keeps them, and are in no
	// text.
	Scheme         string
	Members        map[string]string
	Secrets        map[string]string
	Roles, Scopes  []string
	Secret         string // of a header
	Sample         declaration.Sample
	DeclaredBefore bool // it is there already, and this adds to it
}

// Read reads requests beside what is declared, for one of its targets; nil where there is none yet.
func Read(d *declaration.Document, t *declaration.Target, requests []*Request) Reading {
	r := begun(d, t, requests)
	r.compare()
	r.where()
	r.schemes()
	r.routes()
	r.identities()
	r.records()
	r.pages()
	slices.SortStableFunc(r.out.Proposals, func(a, b Proposal) int {
		return slices.Index(order, a.Kind) - slices.Index(order, b.Kind)
	})
	for _, c := range r.calls {
		told := Told{Whose: c.whose, Form: c.q.Form, Line: c.q.Line, Method: c.q.Method, Path: c.q.URL.EscapedPath(),
			Logs: c.login != nil, Unread: c.q.Unread}
		if p := c.proof(); p != nil {
			told.Proves = p.words()
		}
		r.out.Told = append(r.out.Told, told)
	}
	return r.out
}

// begun is a reader that knows who sent each request.
func begun(d *declaration.Document, t *declaration.Target, requests []*Request) *reader {
	r := &reader{d: d, target: t}
	for _, q := range requests {
		r.calls = append(r.calls, r.look(q))
	}
	r.link()
	r.name()
	return r
}

// Whose is who sent each request, as logins and tokens among them say it; what nobody is known of is left out.
func Whose(requests []*Request) map[*Request]string {
	out := map[*Request]string{}
	for _, c := range begun(&declaration.Document{}, nil, requests).calls {
		if c.whose != "" {
			out[c.q] = c.whose
		}
	}
	return out
}

var order = []Kind{Target, Host, Header, Scheme, Lifetime, Route, Identity, Record, Pages}

type reader struct {
	d         *declaration.Document
	target    *declaration.Target
	on        *declaration.Target // that it is, or would be
	calls     []*call
	out       Reading
	named     map[string]*found // schemes, by what they are
	templates []route.Selector  // of the requests
}

// call is a request with what it says.
type call struct {
	q      *Request
	whose  string
	login  *login  // nil where it does not log in
	by     *call   // the login that gave what it proves itself with; nil where that was not brought
	proofs []proof // what may prove who calls, the likeliest first
}

// proof is what a request may prove its caller with.
type proof struct {
	kind   declaration.Kind
	in     string // header, query or cookie
	field  string
	value  string
	shared bool // all callers have it, so that it proves nobody
}

// what is equal for proofs of one scheme.
func (p proof) what() string { return fmt.Sprint(p.kind, " ", p.in, " ", strings.ToLower(p.field)) }

func (p proof) words() string {
	switch {
	case p.kind == declaration.Bearer:
		return "the token of the Authorization header"
	case p.kind == declaration.Basic:
		return "the name and the password of the Authorization header"
	}
	return "the " + map[string]string{"header": "header", "query": "query parameter",
		"cookie": "cookie"}[p.in] + " " + p.field
}

// proof is the likeliest that proves somebody, nil without.
func (c *call) proof() *proof {
	for k := range c.proofs {
		if !c.proofs[k].shared {
			return &c.proofs[k]
		}
	}
	return nil
}

// guards are words of names of what keeps pages of others from sending a request, and proves nobody.
var guards = []string{"csrf", "xsrf", "antiforgery"}

func isGuard(name string) bool {
	return slices.ContainsFunc(personal.Words(name), func(w string) bool { return slices.Contains(guards, w) })
}

// look takes a request apart.
func (r *reader) look(q *Request) *call {
	c := &call{q: q, whose: slug(q.Whose)}
	add := func(kind declaration.Kind, in, field, value string) {
		c.proofs = append(c.proofs, proof{kind: kind, in: in, field: field, value: value})
	}
	for _, h := range q.Headers {
		scheme, rest, _ := strings.Cut(h[1], " ")
		switch {
		case !strings.EqualFold(h[0], "Authorization"):
		case strings.EqualFold(scheme, "Bearer"):
			add(declaration.Bearer, "header", "Authorization", strings.TrimSpace(rest))
		case strings.EqualFold(scheme, "Basic"):
			add(declaration.Basic, "header", "Authorization", strings.TrimSpace(rest))
		default:
			add(declaration.APIKey, "header", "Authorization", h[1])
		}
	}
	for _, h := range q.Headers {
		switch {
		case strings.EqualFold(h[0], "Authorization"), usual(h[0]):
		case isGuard(h[0]):
			q.Miss("the header " + h[0] + ", which keeps out requests of other pages and proves nobody")
		case secret(h[0], h[1]):
			add(declaration.APIKey, "header", h[0], h[1])
		}
	}
	cookies := []proof{}
	for _, k := range q.Cookies {
		switch {
		case isGuard(k[0]):
			q.Miss("the cookie " + k[0] + ", which keeps out requests of other pages and proves nobody")
		case secret(k[0], k[1]):
			cookies = append(cookies, proof{kind: declaration.Cookie, in: "cookie", field: k[0], value: k[1]})
		}
	}
	c.proofs = append(c.proofs, cookies...)
	for name, list := range q.URL.Query() {
		if len(list) == 1 && secret(name, list[0]) {
			add(declaration.APIKey, "query", name, list[0])
		}
	}
	c.login = loginOf(q)
	return c
}

// link finds which call uses what which login gave: that says whose it is, and where in the answer it stands.
func (r *reader) link() {
	for _, l := range r.calls {
		if l.login == nil {
			continue
		}
		for _, c := range r.calls {
			k := slices.IndexFunc(c.proofs, l.login.gives)
			if c == l || k < 0 || c.by != nil {
				continue
			}
			c.proofs[0], c.proofs[k] = c.proofs[k], c.proofs[0]
			c.by, c.login = l, nil
			l.login.used = append(l.login.used, c)
		}
	}
}

// name says whose each request is: as somebody said, by the name that logs in, by the holder of a token. Two requests
// with the same proof have the same caller.
func (r *reader) name() {
	for _, c := range r.calls {
		if c.login == nil {
			continue
		}
		for _, u := range c.login.used {
			c.whose = cmp.Or(c.whose, u.whose)
		}
		c.whose = cmp.Or(c.whose, c.holder())
	}
	of, n := map[string]string{}, 0
	for _, c := range r.calls {
		if c.by != nil {
			c.whose = cmp.Or(c.whose, c.by.whose)
		}
		c.whose = cmp.Or(c.whose, c.holder())
		if p := c.proof(); p != nil && c.whose != "" {
			of[p.what()+"\n"+p.value] = c.whose
		}
	}
	for _, c := range r.calls {
		p := c.proof()
		if p == nil || c.whose != "" {
			continue
		}
		at := p.what() + "\n" + p.value
		for of[at] == "" {
			n++
			if name := fmt.Sprint("caller-", n); r.d.IdentityNamed(name) == nil {
				of[at] = name
			}
		}
		c.whose = of[at]
	}
}

// holder is who a request says its caller is.
func (c *call) holder() string {
	if c.login != nil {
		return slug(c.login.name)
	}
	for _, p := range c.proofs {
		if p.kind == declaration.Basic {
			if user, _, ok := userAndPassword(p.value); ok {
				return slug(user)
			}
		}
		t := token.Decode(p.value)
		for _, claim := range []string{"preferred_username", "username", "email", "name", "sub"} {
			s, ok := t.Claims.String(claim)
			if ok && slug(s) != "" && len(s) <= 40 && strings.Count(s, "-") < 4 { // and no UUID
				return slug(s)
			}
		}
	}
	return ""
}

// slug is a name as a declaration has it: of an address what stands before the @.
func slug(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "@")
	s = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '_':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, s)
	return strings.Trim(s, "-_")
}

// hostOf says on which host of the target a request is, and its path there; ok is false where it goes elsewhere.
func (r *reader) hostOf(q *Request) (host, path string, ok bool) {
	return r.on.On(q.Address())
}
