package byexample

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/inventory"
	"millgate/core/madeup"
	"millgate/core/route"
	"millgate/core/token"
)

// where proposes the target that requests go to, and what each request to it carries.
func (r *reader) where() {
	count := map[string]int{}
	for _, c := range r.calls {
		o := c.q.Origin()
		if count[o]++; count[o] > count[r.out.Origin] {
			r.out.Origin = o
		}
	}
	r.on = &declaration.Target{}
	if r.target != nil {
		*r.on = *r.target
	} else if len(r.calls) > 0 {
		r.on.Name, r.on.Base = targetName(r.out.Origin), r.out.Origin
	}
	had := r.on.Hosts
	r.on.Hosts = map[string]string{}
	maps.Copy(r.on.Hosts, had)
	name := r.on.Name
	hosts := r.hosts()
	if text := "{ base: " + declaration.Scalar(r.out.Origin); r.target == nil && len(r.calls) > 0 {
		why := "the requests go there"
		if len(hosts) > 0 {
			text += ", hosts: { " + strings.Join(hosts, ", ") + " }"
			why += ", and logins or callers to its other hosts"
		}
		r.propose(Proposal{Kind: Target, Name: name, Text: text + " }", Why: why})
	}
	elsewhere := map[string]bool{}
	for _, c := range r.calls {
		if _, _, ok := r.hostOf(c.q); !ok {
			elsewhere[c.q.Origin()] = true
		}
	}
	for _, o := range slices.Sorted(maps.Keys(elsewhere)) {
		r.out.Unread = append(r.out.Unread,
			"what goes to "+o+", which is no host of the target "+name+": say so there (hosts)")
	}
	for _, c := range r.calls {
		for _, p := range c.proofs {
			has := func(h declaration.Header) bool { return strings.EqualFold(h.Name, p.field) }
			if !p.shared || p.in != "header" || r.target != nil && slices.ContainsFunc(r.target.Headers, has) {
				continue
			}
			r.propose(Proposal{Kind: Header, Name: name, Field: p.field, Secret: p.value, Text: "kept:" + name + "-" +
				slug(p.field),
				Why: "it is the same for all callers, so that it proves nobody and belongs to the service"})
		}
	}
}

// hosts are further hosts of the target, as a declaration has them: where callers log in, or prove themselves with what
// they have. What else goes elsewhere may be anybody's. To a target that is there each is proposed.
func (r *reader) hosts() (list []string) {
	for _, c := range r.calls {
		if _, _, ok := r.hostOf(c.q); ok || c.login == nil && c.by == nil {
			continue
		}
		first := targetName(c.q.Origin())
		if first == "local" || first == r.on.Name {
			first = "id"
		}
		name := first
		for n := 2; r.on.Hosts[name] != ""; n++ {
			name = fmt.Sprint(first, n)
		}
		r.on.Hosts[name] = c.q.Origin()
		list = append(list, declaration.Scalar(name)+": "+declaration.Scalar(c.q.Origin()))
		if r.target != nil {
			r.propose(Proposal{Kind: Host, Name: r.target.Name, Field: name, Text: c.q.Origin(),
				Why: "callers log in or prove themselves there", DeclaredBefore: true})
		}
	}
	return list
}

// targetName is a name for an origin: what is on this machine is local.
func targetName(origin string) string {
	u, err := url.Parse(origin)
	if err != nil {
		return "service"
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil || u.Hostname() == "localhost" {
		return "local"
	}
	first, _, _ := strings.Cut(u.Hostname(), ".")
	return cmp.Or(slug(first), "service")
}

// propose adds a proposal, each once.
func (r *reader) propose(p Proposal) {
	p.ID = strings.TrimSpace(string(p.Kind) + " " + p.Name + " " + p.Field)
	if !slices.ContainsFunc(r.out.Proposals, func(x Proposal) bool { return x.ID == p.ID }) {
		r.out.Proposals = append(r.out.Proposals, p)
	}
}

// found is a scheme that requests show.
type found struct {
	name  string
	proof proof
	login *call               // that gives it; nil without
	is    *declaration.Scheme // where it is declared
}

// schemes proposes what proves who calls.
func (r *reader) schemes() {
	r.named = map[string]*found{}
	var list []*found
	for _, c := range r.calls {
		if p := c.proof(); p != nil && c.login == nil && r.named[p.what()] == nil {
			f := &found{proof: *p}
			r.named[p.what()] = f
			list = append(list, f)
		}
	}
	for _, c := range r.calls {
		if c.login == nil {
			continue
		}
		p := c.login.proof(list)
		f := r.named[p.what()]
		if f == nil {
			f = &found{proof: p}
			r.named[p.what()] = f
			list = append(list, f)
		}
		if f.login == nil {
			f.login = c
		}
	}
	for _, f := range list {
		r.scheme(f)
		r.lifetime(f)
	}
}

// proof is what a login gives: a token of its answer, a cookie, or what the requests beside it carry.
func (l *login) proof(beside []*found) proof {
	bearer := proof{kind: declaration.Bearer, in: "header", field: "Authorization"}
	switch name := l.cookie(); {
	case len(l.used) > 0:
		p := *l.used[0].proof()
		return p
	case l.access() != "":
		return bearer
	case name != "":
		return proof{kind: declaration.Cookie, in: "cookie", field: name}
	}
	for _, f := range beside {
		if f.login == nil && (f.proof.kind == declaration.Bearer || f.proof.kind == declaration.Cookie) {
			return f.proof
		}
	}
	return bearer
}

// scheme proposes one.
func (r *reader) scheme(f *found) {
	for _, s := range r.d.Schemes {
		same := s.Kind == f.proof.kind && (s.Kind == declaration.Bearer || s.Kind == declaration.Basic ||
			strings.EqualFold(s.Field, f.proof.field) && (s.Kind == declaration.Cookie || s.In == f.proof.in))
		if same {
			f.is, f.name = s, s.Name
			break
		}
	}
	text, why := f.login.text(f.proof, r)
	switch {
	case f.is != nil && (f.login == nil || f.is.Login != nil):
		return
	case f.is != nil:
		r.propose(Proposal{Kind: Scheme, Name: f.name, Field: "login", Text: text, Why: why, DeclaredBefore: true})
		return
	}
	base := map[declaration.Kind]string{declaration.Bearer: "token", declaration.Basic: "basic",
		declaration.Cookie: "session"}[f.proof.kind]
	if base == "" {
		base = cmp.Or(strings.TrimPrefix(slug(f.proof.field), "x-"), "key")
	}
	f.name = base
	taken := func(n string) bool {
		return r.d.SchemeNamed(n) != nil ||
			slices.ContainsFunc(r.out.Proposals, func(p Proposal) bool { return p.Kind == Scheme && p.Name == n })
	}
	for n := 2; taken(f.name); n++ {
		f.name = fmt.Sprint(base, "-", n)
	}
	parts := []string{"kind: " + string(f.proof.kind)}
	switch f.proof.kind {
	case declaration.APIKey:
		parts = append(parts, "in: "+f.proof.in, "name: "+declaration.Scalar(f.proof.field))
	case declaration.Cookie:
		parts = append(parts, "name: "+declaration.Scalar(f.proof.field))
	case declaration.Bearer:
		if token.Decode(f.proof.value).Kind == token.Signed {
			parts = append(parts, "token: jwt")
		}
	default:
	}
	if text != "" {
		parts = append(parts, "login: "+text)
	}
	r.propose(Proposal{Kind: Scheme, Name: f.name, Text: "{ " + strings.Join(parts, ", ") + " }", Why: cmp.Or(why,
		"requests prove themselves with "+f.proof.words())})
}

// text is a login as a declaration has it, and why; "" without.
func (c *call) text(p proof, r *reader) (text, why string) {
	if c == nil {
		return "", ""
	}
	host, path, ok := r.hostOf(c.q)
	if !ok {
		r.out.Unread = append(r.out.Unread, "the login at "+c.q.URL.Host+", which is no host of the target")
		return "", ""
	}
	l := c.login
	send := declaration.Scalar(c.q.Method + " " + route.Hosted(host, path))
	how := "json: "
	if l.form {
		how = "form: "
	}
	text = "send: " + send + ", " + how + l.text
	why = "it sends what only its caller knows"
	switch at := l.access(); {
	case p.kind == declaration.Cookie:
		if l.cookies[p.field] == "" {
			why += "; that it sets the cookie is a guess, since its answer was not brought"
		}
	case at != "":
		take := "access: " + declaration.Scalar(string(at))
		if ref := l.refresh(); ref != "" {
			take += ", refresh: " + declaration.Scalar(string(ref))
		}
		text += ", take: { " + take + " }"
		why += ", and its answer has the token at " + string(at)
	default:
		text += ", take: { access: /access_token }"
		why += "; where its answer has the token is a guess: Try it shows the answer, and a click says where"
	}
	return "{ " + text + " }", why
}

// routes proposes those that requests go to.
func (r *reader) routes() {
	var seen []inventory.Observed
	logins := map[string]bool{}
	for _, c := range r.calls {
		host, path, ok := r.hostOf(c.q)
		if !ok || c.q.Method == "OPTIONS" || c.q.Method == "HEAD" {
			continue
		}
		o := inventory.Observed{Method: c.q.Method, Host: host, Path: path, Status: 200, Body: c.q.Body,
			Type: c.q.Headers.Get("Content-Type"), Line: c.q.Line, By: c.whose}
		if c.q.Answer != nil {
			o.Status = c.q.Answer.Status
		}
		for k, v := range c.q.URL.Query() {
			if o.Query == nil {
				o.Query = map[string]string{}
			}
			o.Query[k] = v[0]
		}
		if c.login != nil {
			o.Body = nil
			logins[o.Method+" "+route.Hosted(host, path)] = true
		}
		seen = append(seen, o)
	}
	known := make([]route.Selector, len(r.d.Routes))
	for k, rt := range r.d.Routes {
		known[k] = rt.Selector
	}
	for _, f := range inventory.Fold(seen, known, nil) {
		if sel, err := route.ParseTemplate(f.Template); err == nil {
			r.templates = append(r.templates, sel)
		}
		if f.Known {
			continue
		}
		var made madeup.Maker
		p := Proposal{Kind: Route, Name: f.Template, Why: cmp.Or(f.Unclear, "it was sent, and worked")}
		if !logins[f.Template] {
			p.Sample = made.Sample(f)
		}
		if f.Answered == 0 {
			p.Why = "it was sent, and not answered with success"
		}
		if list := made.Changed(); len(list) > 0 {
			p.Why += "; values of " + strings.Join(list, ", ") + " are made up, in the same form"
		}
		r.propose(p)
	}
}

// identities proposes who called.
func (r *reader) identities() {
	var names []string
	for _, c := range r.calls {
		if c.whose != "" && !slices.Contains(names, c.whose) {
			names = append(names, c.whose)
		}
	}
	for _, name := range names {
		var p Proposal
		var roles, scopes []string // that its token claims
		said := ""
		for _, c := range r.calls {
			if c.whose != name {
				continue
			}
			said = cmp.Or(slug(c.q.Role), said)
			if f := c.proof(); f != nil {
				roles, scopes = claimed(f.value)
			}
			if q := r.credential(c); q.Scheme != "" && (p.Scheme == "" || len(q.Members)+len(q.Secrets) >
				len(p.Members)+len(p.Secrets)) {
				p = q
			}
		}
		p.Roles, p.Scopes = roles, scopes
		if said != "" {
			p.Roles = []string{said}
		} else if len(p.Roles)+len(p.Scopes) > 0 {
			p.Why += "; its token says what roles and scopes it has, which the service may not look at"
		}
		if p.Scheme == "" || r.d.IdentityNamed(name) != nil && r.d.IdentityNamed(name).Credential(p.Scheme) != nil {
			continue
		}
		p.Kind, p.Name = Identity, name
		if p.Text = p.identity(); r.d.IdentityNamed(name) != nil {
			p.DeclaredBefore, p.Text = true, "credentials: { "+p.Scheme+": "+p.credential()+" }"
		}
		r.propose(p)
	}
}

// credential is what a request says its caller holds.
func (r *reader) credential(c *call) (p Proposal) {
	if c.login != nil {
		for _, f := range r.named {
			if f.login == nil || f.login.q.Method != c.q.Method || f.login.q.URL.Path != c.q.URL.Path {
				continue
			}
			p.Scheme, p.Why = f.name, "it logged in"
			p.Members, p.Secrets = map[string]string{}, map[string]string{}
			for n, v := range c.login.values {
				if slices.Contains(c.login.secrets, n) {
					p.Secrets[n] = v
				} else {
					p.Members[n] = v
				}
			}
		}
		return p
	}
	proof := c.proof()
	if proof == nil || r.named[proof.what()] == nil {
		return p
	}
	f := r.named[proof.what()]
	if f.login != nil || f.is != nil && f.is.Login != nil {
		if slices.ContainsFunc(r.calls, func(x *call) bool { return x.login != nil && x.whose == c.whose }) {
			return p
		}
		r.miss("how " + c.whose + " logs in: bring that request too, or add it by hand")
		return p
	}
	p.Scheme, p.Why = f.name, "it proved itself so"
	switch proof.kind {
	case declaration.Basic:
		user, password, _ := userAndPassword(proof.value)
		p.Members, p.Secrets = map[string]string{"username": user}, map[string]string{"password": password}
	case declaration.APIKey:
		p.Secrets = map[string]string{"key": proof.value}
	default:
		p.Secrets = map[string]string{"token": proof.value}
		p.Why += "; a token that was copied ends"
		if at, ok := token.Decode(proof.value).Date("exp"); ok {
			p.Why += " (" + at.UTC().Format(time.RFC3339) + ")"
		}
		p.Why += ": bring the request that logs in for one that stays"
	}
	return p
}

func (r *reader) miss(what string) {
	if !slices.Contains(r.out.Unread, what) {
		r.out.Unread = append(r.out.Unread, what)
	}
}
