package undeclared

// Rule: Descriptions are asked for below each prefix, as who may see them and as who may not.

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/route"
	"millgate/core/weburl"
)

// Descriptions are addresses at which services describe their API (the last one: RFC 9727).
var Descriptions = []string{
	"/openapi.json", "/openapi.yaml", "/openapi.yml", "/openapi", "/swagger.json", "/swagger.yaml",
	"/swagger/v1/swagger.json", "/swagger-ui/index.html", "/swagger-ui.html", "/swagger", "/api-docs", "/v3/api-docs",
	"/v2/api-docs", "/asyncapi.json", "/docs", "/redoc", "/documentation", "/schema", "/.well-known/api-catalog",
}

// descriptions plans them on a host: as nobody, and where the declaration says who may see them,
// as somebody of those and somebody else.
func (x planning) descriptions(host string, ask func(host, path string, as ...check.Caller) bool) {
	var as []check.Caller
	if e := x.c.Target.Describes; e != nil && !e.Open() {
		as = x.callersOf(e)
	}
	places := []place{{host: host}}
	for _, p := range collectionsOf(x.c.Doc).prefixes {
		if p.host == host && len(places) <= mostPrefixes {
			places = append(places, p)
		}
	}
	for _, at := range places {
		for _, p := range Descriptions {
			ask(host, at.path+p, as...)
		}
	}
	for i, rt := range x.c.Doc.Routes {
		if rt.Method() != "GET" || rt.Host != host || len(rt.Parameters()) > 0 || !isDescription(rt.Path()) {
			continue
		}
		if s, ok := x.Control(i); ok {
			x.Add(check.Probe{ID: check.ID{Family: Family{}.Name(), Route: rt.Key(), Caller: s.Caller, Of: Told},
				Phase: check.SafeFirst, Control: s.Key, Detail: Detail{Method: "GET", Host: host, Path: rt.Path(),
					Of: rt.Key()}})
		}
	}
}

// mostPrefixes of a host are those below which descriptions are asked for.
const mostPrefixes = 3

func isDescription(path string) bool {
	return slices.ContainsFunc(Descriptions, func(d string) bool { return strings.HasSuffix(path, d) })
}

// callersOf are the first identity that an entry admits and the first that it does not, as far as
// there are such.
func (x planning) callersOf(e *declaration.Entry) (list []check.Caller) {
	var in, out []check.Caller
	for id := range x.c.Doc.Ranked() {
		if len(id.Credentials) == 0 {
			continue
		}
		if s := x.c.Doc.SchemeNamed(id.Credentials[0].Scheme.Name); s == nil || !check.HasValue(s) {
			continue
		}
		who := check.Caller{Identity: id.Name, Scheme: id.Credentials[0].Scheme.Name, State: access.Sound}
		if pass := x.c.Doc.Admits(e, id).All; pass && in == nil {
			in = []check.Caller{who}
		} else if !pass && out == nil {
			out = []check.Caller{who}
		}
	}
	return append(in, out...)
}

// maySee says whether a caller may see descriptions of the API.
func maySee(c *check.Context, who check.Caller) bool {
	e := c.Target.Describes
	if e == nil {
		return false
	}
	id := c.Doc.IdentityNamed(who.Identity)
	if id == nil {
		return e.Open()
	}
	return c.Doc.Admits(e, id).All
}

// Describes says in words what an answer is where it describes the API, "" where it does not: a
// description file (OpenAPI, AsyncAPI), or a page that shows or names one.
func Describes(a check.Answer) string {
	body := string(a.Body)
	switch {
	case startsWith.MatchString(body):
		return "a description file of the API"
	case strings.Contains(a.Header("Content-Type"), "html") && !json.Valid(a.Body):
		if pageOfOne.MatchString(body) {
			return "a documentation page of the API"
		}
		return ""
	}
	if _, ok := Read(body, false); ok {
		return "a description file of the API"
	}
	return ""
}

var (
	// A file that was cut is no JSON any more.
	startsWith = regexp.MustCompile(`\A\s*(\{\s*"(openapi|swagger|asyncapi)"\s*:|(---\s*)?(openapi|swagger|asyncapi):)`)
	pageOfOne  = regexp.MustCompile(`(?i)openapi|swagger|redoc|asyncapi|api (reference|documentation|docs)`)
)

// naming asks for what a page names: whether that describes the API is seen there.
func naming(t *check.Telling, call check.Call, page check.Report) {
	for _, path := range namedBy(check.AnswerOf(page.Exchange), call.Request.Path) {
		call.Name, call.Request.Path, call.Request.Query = named, path, ""
		r := t.Send(call)[0]
		if t.Keep(r); r.Fate == check.Answered && Describes(check.AnswerOf(r.Exchange)) != "" {
			return
		}
	}
}

// named names the report of an address that a page names.
const named = "what the page names"

// descriptionIn is the description that a fact holds, itself or behind its page.
func descriptionIn(f *check.Fact) (d Description, page, ok bool) {
	for _, r := range f.Reports {
		if r.Name != check.TheRequest && r.Name != named || !served(check.AnswerOf(r.Exchange)) {
			continue
		}
		if d, ok = Read(r.Exchange.Content, r.Exchange.Truncated); ok {
			return d, r.Name == named, true
		}
	}
	return d, false, false
}

// More asks for what a description names and the inventory does not have.
func (f Family) More(c *check.Context, p *check.Probe, e *check.Evidence, pl *check.Planning) {
	fact := e.Of(p.Key())
	if fact == nil || p.Of != Address && p.Of != Told {
		return
	}
	d, _, ok := descriptionIn(fact)
	if !ok {
		return
	}
	as := p.Caller
	for i := 0; i < len(c.Doc.Routes) && as.Identity == ""; i++ {
		if ctl, _ := pl.ControlAt(i); ctl != nil {
			as = ctl.Caller
		}
	}
	asked := 0
	for _, o := range operationsOf(c, of(p).Host, d) {
		if !o.askable() {
			continue
		}
		if asked++; asked > mostAsked {
			break
		}
		q, root := stray(ByName, o.host, o.path), stray(Path, o.host, madeUp)
		q.Route = o.key()
		q.Detail = Detail{Method: o.Method, Host: o.host, Path: filled(c, o.path)}
		q.Control = root.Key()
		pl.Add(q)
		if q.Caller = as; as.Identity != "" {
			pl.Add(q)
		}
	}
}

// Pursues says that a description is read whoever may see it.
func (Family) Pursues(p *check.Probe) bool { return p.Of == Address || p.Of == Told }

// operation is one that a description names, as the inventory would.
type operation struct {
	Operation
	host, path string // path is from the root of the host's routes
	route      int    // of the inventory, -1 where it has none
}

// key is that of its route, if the inventory had it.
func (o operation) key() string { return o.Method + " " + route.Hosted(o.host, o.path) }

// askable says whether it changes nothing, and the inventory does not have it.
func (o operation) askable() bool { return o.route < 0 && !declaration.UnsafeMethod(o.Method) }

// operationsOf are those of a description that was found on a host. What a server has that the
// target does not name is none of them.
func operationsOf(c *check.Context, host string, d Description) (out []operation) {
	for _, n := range d.Routes {
		path, server := d.At(n)
		o := operation{Operation: n, host: host, route: -1}
		if server != "" {
			var known bool
			if o.host, known = hostOf(c.Target, server); !known {
				continue
			}
		}
		o.path = strings.TrimPrefix(path, rootOf(c.Target, o.host))
		sel, err := route.ParseTemplate(o.key())
		if err != nil {
			continue
		}
		if list := c.Doc.Inventory.Named(sel); len(list) > 0 {
			o.route = list[0]
		}
		out = append(out, o)
	}
	return out
}

// mostAsked of what a description names are asked for.
const mostAsked = 100

// hostOf is the name of a host of the target by its address.
func hostOf(t *declaration.Target, server string) (name string, ok bool) {
	server = weburl.Origin(server)
	if weburl.Origin(t.Base) == server {
		return "", true
	}
	for n, at := range t.Hosts {
		if weburl.Origin(at) == server {
			return n, true
		}
	}
	return "", false
}

// rootOf is the path that a host of the target has before those of the inventory.
func rootOf(t *declaration.Target, host string) string {
	at := t.Base
	if host != "" {
		at = t.Hosts[host]
	}
	u, err := url.Parse(at)
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(u.Path, "/")
}

// filled is a template with values for its parameters: an id of a record that is named so, or 1.
func filled(c *check.Context, path string) string {
	var b strings.Builder
	for before, name := range check.Names(path) {
		if b.WriteString(before); name != "" {
			b.WriteString(route.EscapeSegment(idFor(c.Doc, name)))
		}
	}
	return b.String()
}

func idFor(d *declaration.Document, name string) string {
	for _, rec := range d.Records {
		for i := range d.Routes {
			if d.FillParam(i, rec) != name {
				continue
			}
			for _, id := range d.Identities {
				if ids := rec.OwnedBy[id.Name]; len(ids) > 0 {
					return ids[0]
				}
			}
		}
	}
	return "1"
}

// described judges an answer that describes the API.
func (f Family) described(c *check.Context, p *check.Probe, fact *check.Fact, what string) check.Verdict {
	r := check.Head(fact.Reports[0])
	more := f.remarks(c, p, fact)
	if maySee(c, p.Caller) {
		return check.Verdict{Proof: check.Shown(r), Says: fmt.Sprintf("%s is %s, and %s may see it.%s", p.Route, what,
			f.Who(p), more)}
	}
	says := "and the inventory does not have it"
	if c.Target.Describes != nil {
		says = "and " + access.WhoText(c.Target.Describes) + " may see it"
	}
	return check.Verdict{Gaps: []check.Gap{{Cause: rows[1], Rung: 1, Proof: check.Shown(r),
		Wide: finding.Scope{Of: finding.AtService, Name: "that describes it"},
		Says: fmt.Sprintf("%s is %s, %s: %s was answered %s.%s", p.Route, what, says, f.Who(p),
			check.AnswerOf(r.Exchange).Code(), more)}}}
}

// mostRemarks are told of one kind.
const mostRemarks = 3

// remarks are what a description says that is not what is declared, and what it would have people
// do.
func (f Family) remarks(c *check.Context, p *check.Probe, fact *check.Fact) (says string) {
	d, page, ok := descriptionIn(fact)
	if !ok {
		return ""
	}
	var unsafe, looser, stricter []string
	asked := 0
	for _, o := range operationsOf(c, of(p).Host, d) {
		key := o.key()
		switch {
		case o.askable():
			asked++
		case o.route < 0:
			unsafe = append(unsafe, key)
		case !o.Says:
		case o.Asks && access.Open(c.Doc, o.route):
			stricter = append(stricter, key)
		case !o.Asks && !access.Open(c.Doc, o.route):
			looser = append(looser, key)
		}
	}
	say := func(list []string, format string) {
		if len(list) == 0 {
			return
		}
		text := strings.Join(list[:min(len(list), mostRemarks)], ", ")
		if n := len(list) - mostRemarks; n > 0 {
			text += fmt.Sprintf(" and %d more", n)
		}
		says += " " + fmt.Sprintf(format, text)
	}
	if asked > mostAsked {
		says += fmt.Sprintf(" It names %d operations that the inventory does not have; %d of them are asked for.",
			asked, mostAsked)
	}
	say(unsafe, "It names %s, which the inventory does not have; what may change something was not asked for.")
	say(looser, "It says that %s asks for no credential, which is declared otherwise.")
	say(stricter, "It says that %s asks for a credential, where anyone is admitted.")
	if page && d.Asks {
		_, server := d.At(Operation{})
		if server == "" {
			server = "the host that shows it"
		}
		says += " A page of this kind takes a token by hand; it would send it to " + server + "."
	}
	if d.Cut {
		says += " It is longer than what is kept of an answer, and was read up to there."
	}
	return says
}

// told judges the description that a declared route gives to who may see it.
func (f Family) told(c *check.Context, p *check.Probe, fact *check.Fact) check.Verdict {
	if fact.Reports[0].Class(c.Doc.Answers) != check.Admitted {
		return check.Unproven("it was not shown: %s", check.AnswerOf(fact.Reports[0].Exchange).Code())
	}
	return check.Verdict{Proof: check.Shown(check.Head(fact.Reports[0])), Says: "declared." + f.remarks(c, p, fact)}
}

// beneath asks for an address beside one that a description names, where something is there.
func beneath(t *check.Telling, call check.Call, r check.Report) {
	if r.Fate == check.Answered && !hidden(r) {
		call.Name, call.Request.Path = beside, check.Beside(call.Request.Path)
		t.Keep(t.Send(call)...)
	}
}

// hidden says whether an answer is that of an address where nothing is, or not with that method.
func hidden(r check.Report) bool {
	s := r.Exchange.Status
	return s == 404 || s == 405 || s == 410 || s == 501
}

// isThere judges an operation that a description names.
func (f Family) isThere(c *check.Context, p *check.Probe, fact *check.Fact) check.Verdict {
	first := fact.Reports[0]
	a := check.AnswerOf(first.Exchange)
	other, ok := fact.Named(beside)
	switch {
	case first.Fate != check.Answered:
		return check.Unproven("no answer: %s", a.Error)
	case hidden(first):
		return check.Verdict{Says: "the description names it, and nothing is there: " + a.Code(),
			Proof: check.Shown(check.Head(first))}
	case !ok || other.Fate != check.Answered:
		return check.Unproven("how an address beside it is answered was not seen")
	}
	gap := func(proof check.Proof) check.Verdict {
		return check.Verdict{Gaps: []check.Gap{{Cause: rows[0], Rung: 1, Proof: proof,
			Says: fmt.Sprintf("%s is named by the service's own description, and the inventory does not have it: %s "+
				"was answered %s.", p.Route, f.Who(p), a.Code())}}}
	}
	switch b := check.AnswerOf(other.Exchange); {
	case served(a) && !(served(b) && check.Alike(a, b)):
		return gap(check.Shown(check.Head(first)))
	case first.Class(c.Doc.Answers) != check.Failed && hidden(other):
		return gap(check.Speaks(check.Head(first)))
	}
	return check.Unproven("answered %s, as an address beside it is: whether something is there does not show", a.Code())
}
