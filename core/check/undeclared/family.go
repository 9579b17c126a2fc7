// Package undeclared checks what the inventory does not have: methods of declared paths,
// addresses close to declared ones, and made-up paths.
//
// # What is sent
//
//   - GET to a made-up path at the root of each host and under each prefix;
//   - at each path template the methods that the inventory does not have there, as nobody
//     and as a caller whom one of the declared methods admits;
//   - descriptions of the API, on each host and below its first prefixes, as nobody, and where the
//     declaration says who may see them (`describes`) as one of those and as somebody else; what
//     a page of them names, and what they name and the inventory does not have, where that is safe;
//   - the target's ask_for; other versions of declared paths ("v1" beside "v2"), operational
//     paths that services often keep without meaning to publish them; and addresses that are
//     made from the inventory itself: the same below its prefixes, usual suffixes of its
//     collections, usual siblings, names that one collection has below the others. Of those as
//     many as the budget has room for, the likelier first.
//
// # What is concluded
//
// A 2xx is Undeclared: nobody said that it is served, so nobody said who may ask. An address
// counts only where a made-up path of its host is turned away, and one beside it: a service
// that answers any path says nothing by answering this one. A description of the API is named
// as such, with what it says otherwise than the declaration; where it may be seen it is no gap.
// What it names is there where it is answered otherwise than an address beside it. A service
// that answers any method is one finding. All else must be turned away with 4xx; a login page or
// a failure in place of that is a wrong refusal.
package undeclared

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/route"
)

// Family is that of what the inventory does not have.
type Family struct{ check.OnRecords }

// What is asked for. The words stand in ids.
const (
	Path    = "unknown-path" // that nobody serves
	Method  = "other-method" // of a declared path
	Address = "neighbour"    // close to declared ones
	ByName  = "named"        // by the service's own description
	Told    = "described"    // a declared route that may describe the API
)

// Detail is what is asked for.
type Detail struct {
	Method, Host, Path string
	// Of is the key of the route whose sample is sent, "" for one without any; with its body
	// where Body is set.
	Of     string
	Body   bool
	Params map[string]string // values for all parameters but the record's
}

// Name is that of its probes.
func (Family) Name() string { return "undeclared" }

func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Cell is the caller's at what is asked for.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	says := "an address that is not declared"
	switch p.Of {
	case Path:
		says = "unknown path " + of(p).Path
	case Method:
		says = "a method that is not declared"
	case ByName:
		says = "what the service's description names"
	case Told:
		says = "what it says of the API"
	}
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, says
}

// Who names the caller.
func (Family) Who(p *check.Probe) string {
	if p.Caller.Identity == "" {
		return "nobody (no credential)"
	}
	return p.Caller.Identity
}

// Expect is that it is not there. What describes the API may be there for who may see that.
func (Family) Expect(c *check.Context, p *check.Probe) access.Expectation {
	if p.Of == Told || p.Of == Address && maySee(c, p.Caller) {
		return access.Expectation{Outcome: access.Either}
	}
	return access.Expectation{Outcome: access.Hide, Decider: 1, Subject: "route"}
}

type planning struct {
	*check.Planning
	c      *check.Context
	drafts check.Drafts
}

// Plan plans methods, made-up paths and addresses.
func (Family) Plan(c *check.Context, p *check.Planning) {
	x := planning{p, c, check.NewDrafts(c.Doc, c.Target, p.Classes())}
	x.methods()
	x.paths()
	x.addresses()
}

// methods plans those that the inventory does not have for a template, as nobody and as a
// caller that one of the declared methods admits.
func (x planning) methods() {
	doc := x.c.Doc
	done := map[string]bool{}
	for i, rt := range doc.Routes {
		if done[rt.TemplateKey()] {
			continue
		}
		done[rt.TemplateKey()] = true
		siblings := doc.Inventory.Siblings(i)
		have := map[string]bool{}
		var ctl *check.Probe
		body := -1
		for _, j := range siblings {
			have[doc.Routes[j].Method()] = true
			if c, _ := x.ControlAt(j); c != nil && (ctl == nil || ctl.Caller.Identity == "") {
				ctl = c
			}
			if len(doc.Routes[j].Send.JSON) > 0 {
				body = j
			}
		}
		for _, m := range route.Common {
			if have[m] {
				continue
			}
			p, why := x.method(siblings[0], m)
			if why != "" {
				x.Leave(check.Omission{Route: p.Route, What: "a method that is not declared", Why: why,
					ByTarget: check.ByTarget(why)})
				continue
			}
			d := of(&p)
			if body >= 0 && m != "GET" && m != "DELETE" {
				d.Of, d.Body = doc.Routes[body].Key(), true
			}
			p.Detail = d
			x.Add(p)
			if ctl != nil && ctl.Caller.Identity != "" {
				p.Caller, p.Control = ctl.Caller, ctl.Key()
				x.Add(p)
			}
		}
	}
}

// method drafts a request with method m at the template of route i; why says that it cannot
// be sent.
func (x planning) method(i int, m string) (p check.Probe, why string) {
	rt := x.c.Doc.Routes[i]
	unsafe := declaration.UnsafeMethod(m)
	d := Detail{Method: m, Host: rt.Host, Path: rt.Path(), Of: rt.Key(), Params: map[string]string{}}
	p = check.Probe{ID: check.ID{Family: Family{}.Name(), Route: m + " " + route.Hosted(rt.Host, rt.Path()),
		Caller: check.Caller{State: access.Absent}, Of: Method}, Phase: check.SafeFirst, Unsafe: unsafe}
	if unsafe && x.c.Target.Unsafe == declaration.UnsafeRefused {
		return p, "the target does not allow unsafe methods"
	}
	if unsafe {
		p.Phase = check.ThenTurnedAway
	}
	for _, name := range rt.Parameters() {
		if v, ok := rt.Send.Path[name]; ok && !unsafe {
			d.Params[name] = v
			continue
		}
		if x.c.Doc.Sealed(i) == name {
			d.Params[name] = check.Nowhere
			continue
		}
		rec := x.drafts.Fills(i, name, x.c.Doc.Record(i))
		if rec == nil {
			if v, ok := rt.Send.Path[name]; ok && x.c.Target.Unsafe == declaration.UnsafeAllowed {
				d.Params[name] = v
				continue
			}
			return p, fmt.Sprintf("no sample for {%s}", name)
		}
		use, why := x.drafts.Record(i, rec, name, nil, access.NoRecord, unsafe, true)
		if why != "" {
			return p, why
		}
		if p.Record.Name != "" {
			d.Params[name] = use.Value
			continue
		}
		p.Record = use
	}
	if unsafe && x.c.Target.Unsafe == declaration.UnsafeMade && !p.Record.Lent() {
		return p, "the target allows unsafe methods on made records only, and this route has none"
	}
	p.Detail = d
	return p, ""
}

// stray is a GET of an address that the inventory does not have, as nobody.
func stray(what, host, path string) check.Probe {
	return check.Probe{ID: check.ID{Family: Family{}.Name(), Route: "GET " + route.Hosted(host, path),
		Caller: check.Caller{State: access.Absent}, Of: what}, Phase: check.SafeFirst,
		Detail: Detail{Method: "GET", Host: host, Path: path}}
}

// paths plans a path that nobody serves under each prefix, and one at the root of each host.
func (x planning) paths() {
	done := map[string]bool{}
	for _, rt := range x.c.Doc.Routes {
		for _, prefix := range []string{route.Hosted(rt.Host, "/"), rt.Prefix()} {
			if done[prefix] {
				continue
			}
			done[prefix] = true
			path := strings.TrimSuffix(strings.TrimPrefix(prefix, rt.Host+":"), "/") + madeUp
			if x.c.Doc.Inventory.Find("GET", rt.Host, path) < 0 {
				x.Add(stray(Path, rt.Host, path))
			}
		}
	}
}

// madeUp is a path that nobody serves.
const madeUp = "/" + check.Nowhere + "/at-all"

// Request is what is asked for.
func Request(c *check.Context, p *check.Probe) check.Request {
	d := of(p)
	q := check.Request{Path: d.Path}
	if i := c.Doc.RouteNamed(d.Of); i >= 0 {
		q = check.RequestOf(c, p, i, d.Path, d.Params)
		if d.Body {
			q = q.WithBody(c, i)
		}
	}
	q.Method, q.Host = d.Method, d.Host
	return q
}

// Script asks for it.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		call := check.Call{Name: check.TheRequest, Request: Request(c, p), Retry: true}
		if p.Caller.Scheme != "" {
			call.As = []check.Present{{Caller: p.Caller}}
		}
		if !p.Unsafe {
			call.Effect = check.Safe
		}
		if call.Request.Method == "POST" {
			call.Makes, call.Take = check.Made()
		}
		r, ok := t.On(c, p, call)
		if p.Of == ByName {
			beneath(t, call, r)
			return
		}
		if a := check.AnswerOf(r.Exchange); ok && served(a) && Describes(a) != "" {
			naming(t, call, r)
		}
		if ok && p.Of == Address && served(check.AnswerOf(r.Exchange)) {
			call.Name, call.Request.Path = beside, check.Beside(call.Request.Path)
			t.Keep(t.Send(call)...)
		}
	})
}

// beside names the report of a made-up address beside one that is served.
const beside = "a made-up address beside it"

func served(a check.Answer) bool { return a.Status >= 200 && a.Status < 300 }

// Judge says whether it is served.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	if len(fact.Reports) == 0 {
		return check.Unproven("nothing was sent")
	}
	whole := fact.Reports[0]
	v := f.judge(c, p, fact, e)
	if g, ok := check.CarriedOut(c, p, fact, f.Who(p), f.Expect(c, p)); ok {
		v.Gaps = slices.Insert(v.Gaps, 0, g)
	}
	v.Answers = []check.Report{whole}
	return v
}

func (f Family) judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	whole := fact.Reports[0]
	a, r := check.AnswerOf(whole.Exchange), check.Head(whole)
	class := check.Classify(a, c.Doc.Answers)
	switch {
	case a.Status == 0:
		return check.Unproven("no answer: %s", a.Error)
	case class == check.Throttled:
		return check.Unproven("throttled (429) each time it was sent")
	case p.Of == ByName:
		return f.isThere(c, p, fact)
	case p.Of == Told:
		return f.told(c, p, fact)
	case served(a):
		if p.Of == Address {
			switch made, any := anyPath(c, p, fact, e); {
			case any && check.Alike(a, made):
				return check.Verdict{Says: "answered " + a.Code() + ", like any made-up path here",
					Proof: check.Speaks(r)}
			case any:
				return check.Unproven("the service answers any path here, so this one may not exist")
			}
		}
		if what := Describes(a); what != "" && p.Of == Address {
			return f.described(c, p, fact, what)
		}
		what := "is served, and the inventory does not have it"
		if p.Of == Path {
			what = "is a made-up path, and it is served all the same"
		}
		return check.Verdict{Gaps: []check.Gap{{Cause: rows[0], Rung: 1, Proof: check.Shown(r),
			Says: fmt.Sprintf("%s %s: %s was answered %s.", p.Route, what, f.Who(p), a.Code())}}}
	case class == check.ToLogin || class == check.Failed:
		return check.Verdict{Gaps: []check.Gap{{Cause: finding.RowOf(rows, "stray "+string(class)), Rung: 1,
			Proof: check.Shown(r), Says: fmt.Sprintf("what the inventory does not have must be answered 404 or 405, "+
				"it was %s", check.Describe(class, a))}}}
	}
	return check.Verdict{Says: "not in the inventory, and turned away: " + a.Code(), Proof: check.Shown(r)}
}

// anyPath is how a made-up path is answered where an address is, if it is served: beside it, or
// at the root of its host.
func anyPath(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) (a check.Answer, is bool) {
	for _, r := range f.Reports {
		if a := check.AnswerOf(r.Exchange); r.Name == beside && served(a) {
			return a, true
		}
	}
	k := check.ControlOf(c, e, p.Control, "")
	if k == nil || !served(k.Answer) {
		return check.Answer{}, false
	}
	return k.Answer, true
}

// anyMethod is how many undeclared methods of a template are served where it is any of them.
const anyMethod = 3

// Gather says what belongs to no route: all of a made-up path, and how an address that nothing
// is served at is refused. A template that serves whatever method it is asked with is one fault.
func (Family) Gather(_ *check.Context, all []check.Judged) {
	methods := map[string]map[string]bool{} // served, by template
	at := func(p *check.Probe) string { return route.Hosted(of(p).Host, of(p).Path) }
	for _, x := range all {
		for k := range x.Gaps {
			what, kind := x.Probe.Of, x.Gaps[k].Row.Kind
			if what == Path || what == Address && kind == finding.WrongRefusal {
				x.Gaps[k].Scope = finding.NoRoute
			}
			if what == Method && kind == finding.Undeclared {
				if methods[at(x.Probe)] == nil {
					methods[at(x.Probe)] = map[string]bool{}
				}
				methods[at(x.Probe)][of(x.Probe).Method] = true
			}
		}
	}
	for _, x := range all {
		for k := range x.Gaps {
			if g := &x.Gaps[k]; x.Probe.Of == Method && g.Row.Kind == finding.Undeclared &&
				len(methods[at(x.Probe)]) >= anyMethod {
				g.Row, g.Scope = rows[2], finding.Scope{Of: finding.AtService, Name: "by any method"}
			}
		}
	}
}

// Causes are those of what the inventory does not have.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "undeclared", Title: "What the inventory does not have",
		Shown:   "An address, a method or a made-up path that no route has was answered 2xx without a credential.",
		Refuted: "A service that answers any made-up path there says nothing by answering this one.",
		Rows:    rows}
}

var rows = []*finding.Row{
	{Cause: "served", Kind: finding.Undeclared, Title: "Served, not in the inventory",
		Means:  "The service answers where nobody said that it does, so nobody said who may ask.",
		Advice: "Take it off the service, or add it to the inventory and say who may call it.", OWASP: finding.API9,
		CWE: 1059},
	{Cause: "described", Kind: finding.Undeclared, Title: "A description of the API is served, and not declared",
		Means:  "Whoever finds it reads which routes there are, and how they are called.",
		Advice: "Take it off, or add it to the inventory and say who may read it.", OWASP: finding.API9, CWE: 200,
		Severity: finding.Low},
	{Cause: "any method", Kind: finding.Undeclared, Title: "Any method is served",
		Means:  "The router looks at the path alone: what GET does is done for POST, PUT and DELETE as well.",
		Advice: "Register handlers for their methods, and answer 405 to the others.", OWASP: finding.API9, CWE: 1059},
	check.RefusalRow("stray "+string(check.ToLogin), "Sent to a login page, where nothing is served",
		"What does not exist is answered as if it did, to people and not to programs."),
	check.RefusalRow("stray "+string(check.Failed), "The service fails, where nothing is served",
		"What does not exist must be answered 404 or 405."),
}
