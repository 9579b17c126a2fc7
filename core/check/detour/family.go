// Package detour checks ways around a guard: addresses and methods that lead to a protected
// route although they are written otherwise, and the service itself behind its gateway.
//
// # What is sent
//
// At each route that turns away who has no credential, as nobody, and at one route behind each
// guard and rule as a caller with too small a role: the path with a trailing or a doubled slash,
// in other letter case, with dot segments (RFC 3986 section 5.2.4), with a letter
// percent-encoded (section 6.2.2.2); a method that a header field overrides; HEAD and OPTIONS
// (RFC 9110 sections 9.3.2 and 9.3.7); and the target's direct address. What a way would lead to
// by the inventory itself is left out. Where another address is admitted, one that no route has
// is asked for as well; where an overridden method is, the method that carried it by itself.
//
// # What is concluded
//
// A 2xx is Unprotected, or Over-permissive for who has too small a role. It is proven where it
// has the type of the control's answer, for another address also something of its content, and
// what refutes it was tried; likely otherwise. What an address of no route or the carrying
// method gives the same caller as well is no way around. OPTIONS counts only where it shows what
// the control's answer shows. A redirect leads to the guard.
package detour

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/route"
)

// Family is that of ways around a guard.
type Family struct{ check.OnRecords }

// The ways. They stand in ids.
const (
	TrailingSlash  = "trailing slash"
	DoubledSlash   = "doubled slash"
	LetterCase     = "letter case"
	MethodOverride = "method override"
	DotSegments    = "dot segments"
	PercentEncoded = "percent-encoding"
	HeadMethod     = "HEAD"
	OptionsMethod  = "OPTIONS"
	PastGateway    = "past the gateway"
)

// All are the ways, in the order in which they are planned.
var All = []string{TrailingSlash, DoubledSlash, LetterCase, DotSegments, PercentEncoded, MethodOverride, HeadMethod,
	OptionsMethod, PastGateway}

// Detail is the request of a way.
type Detail struct {
	Method, Host, Path string
	Params             map[string]string // values for all parameters but the record's
	Plain              string            // the probe of the same caller at the route itself; "" without
	ControlBy          string            // the control's caller, in words
}

// Name is that of its probes.
func (Family) Name() string { return "around" }

func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, "around the guard: " + p.Of
}

// Who is the caller, by that way.
func (Family) Who(p *check.Probe) string {
	return cmp.Or(p.Caller.Identity, "nobody") + " (" + p.Of + ")"
}

// Expect is that nobody gets in, nor who has too small a role.
func (Family) Expect(_ *check.Context, p *check.Probe) access.Expectation {
	if p.Caller.Identity != "" {
		return access.Expectation{Outcome: access.Closed, Decider: 4, Subject: "role"}
	}
	return access.Expectation{Outcome: access.Closed, Decider: 2, Subject: "credential"}
}

type planning struct {
	*check.Planning
	c      *check.Context
	drafts check.Drafts
}

// Plan plans the ways around the guard of each protected route.
func (Family) Plan(c *check.Context, p *check.Planning) {
	x := planning{p, c, check.NewDrafts(c.Doc, c.Target, p.Classes())}
	told := map[string]bool{} // guards and rules that somebody was sent to
	for i := range c.Doc.Routes {
		e := access.Decide(c.Doc, i, access.Nobody(c.Doc, i))
		if e.Outcome == access.Admit || e.Outcome == access.Either || len(p.At(i)) == 0 {
			continue
		}
		x.around(i, nil)
		if low := x.tooLow(i); low != nil && e.Entry != nil {
			rule := check.SchemesAt(c.Doc, c.Doc.Routes[i].Key()) + " " + c.Doc.Routes[i].Method() + " " +
				access.WhoText(e.Entry)
			if !told[rule] {
				told[rule] = true
				x.around(i, low)
			}
		}
	}
}

// tooLow is the crossing at a route of somebody who signs in and whose role is too small; nil
// where everybody's is enough.
func (x planning) tooLow(i int) *check.Probe {
	for _, p := range x.At(i) {
		id := x.c.Doc.IdentityNamed(p.Caller.Identity)
		if id == nil || p.Caller.State != access.Sound || p.Of != "" {
			continue
		}
		e := access.Decide(x.c.Doc, i, access.Caller{Identity: id, State: access.Sound, Record: p.Relation})
		if e.Outcome == access.Forbid && e.Subject == "role" {
			return p
		}
	}
	return nil
}

// overrideUnsafe is why a method is not overridden.
const overrideUnsafe = "it needs an unsafe method, which the target does not allow here"

// around plans the ways at a route, as nobody or as the caller of a crossing.
func (x planning) around(i int, low *check.Probe) {
	caller := check.Caller{State: access.Absent}
	if low != nil {
		caller = low.Caller
	}
	rt := x.c.Doc.Routes[i]
	leave := func(way, why string) {
		if low != nil {
			return // said of nobody
		}
		x.Leave(check.Omission{Route: rt.Key(), What: way, Why: why,
			ByTarget: check.ByTarget(why) || why == overrideUnsafe})
	}
	for _, way := range All {
		draft, why, ok := x.drafts.For(i, nil, access.NoRecord, true)
		if !ok {
			leave(way, why)
			continue
		}
		d := Detail{Method: rt.Method(), Host: rt.Host, Path: rt.Path(), Params: draft.Params}
		if ok, why := x.turn(&d, rt, way, draft.Record.Lent()); !ok {
			if why != "" {
				leave(way, why)
			}
			continue
		}
		p := check.Probe{ID: check.ID{Family: Family{}.Name(), Route: rt.Key(),
			Caller: caller, Of: way}, Phase: draft.Phase,
			Unsafe: declaration.UnsafeMethod(d.Method) || way == MethodOverride,
			Record: draft.Record}
		if way == MethodOverride && d.Method == "POST" && p.Phase == check.SafeFirst {
			p.Phase = check.ThenTurnedAway
		}
		if k, who := x.ControlAt(i); k != nil {
			p.Control, d.ControlBy = k.Key(), who
		}
		for _, o := range x.At(i) {
			if o.Caller == caller && o.Of == "" {
				d.Plain = o.Key()
			}
		}
		p.Detail = d
		x.Add(p)
	}
}

// turn makes a request one that steps around the guard; ok is false when the way does not
// exist here, with the reason where somebody might expect it.
func (x planning) turn(d *Detail, rt *declaration.Route, way string, lent bool) (ok bool, why string) {
	switch way {
	case TrailingSlash:
		d.Path = strings.TrimSuffix(rt.Path(), "/") + "/"
		if strings.HasSuffix(rt.Path(), "/") {
			d.Path = strings.TrimSuffix(rt.Path(), "/")
		}
		return d.Path != "" && !x.declaresPath(rt, d.Path), ""
	case DoubledSlash:
		d.Path = "/" + rt.Path()
	case LetterCase:
		d.Path = swapCase(rt)
		return d.Path != rt.Path() && !x.declaresPath(rt, d.Path), ""
	case DotSegments:
		cut := strings.LastIndexByte(rt.Path(), '/')
		d.Path = rt.Path()[:cut] + "/" + check.Nowhere + "/../." + rt.Path()[cut:]
	case PercentEncoded:
		d.Path = encodeLetter(rt)
		return d.Path != rt.Path(), ""
	case HeadMethod, OptionsMethod:
		d.Method = way
		return rt.Method() == "GET" && !x.declares(rt, way), ""
	case PastGateway:
		d.Host = check.DirectHost
		return x.c.Target.Direct != "" && rt.Host == "", ""
	case MethodOverride:
		d.Method = "POST"
		if rt.Method() == "POST" {
			d.Method = "GET"
		}
		if x.openTo(d.Method, rt) && declaration.UnsafeMethod(d.Method) && rt.Unsafe() {
			return false, "" // what changes then may be its own work
		}
		if rt.Method() == "HEAD" || rt.Method() == "OPTIONS" {
			return false, ""
		}
		if declaration.UnsafeMethod(d.Method) && x.c.Target.Unsafe != declaration.UnsafeAllowed && !lent {
			return false, overrideUnsafe
		}
	}
	return true, ""
}

// siblings are the routes of the same template.
func (x planning) siblings(rt *declaration.Route) []int {
	return x.c.Doc.Inventory.Siblings(x.c.Doc.RouteNamed(rt.Key()))
}

func (x planning) declares(rt *declaration.Route, method string) bool {
	return slices.ContainsFunc(x.siblings(rt), func(j int) bool { return x.c.Doc.Routes[j].Method() == method })
}

func (x planning) declaresPath(rt *declaration.Route, path string) bool {
	s, err := route.ParseTemplate(rt.Method() + " " + route.Hosted(rt.Host, path))
	return err != nil || len(x.c.Doc.Inventory.Named(s)) > 0
}

// openTo says whether nobody may call the template with another method.
func (x planning) openTo(method string, rt *declaration.Route) bool {
	for _, j := range x.siblings(rt) {
		if x.c.Doc.Routes[j].Method() == method {
			return access.Open(x.c.Doc, j)
		}
	}
	return false
}

// encodeLetter writes the first letter of the last fixed segment as %XX, which names the
// same resource.
func encodeLetter(rt *declaration.Route) string {
	for k := len(rt.Segments) - 1; k >= 0; k-- {
		if g := rt.Segments[k]; !g.Any && g.Literal != "" && g.Literal[0] != '%' {
			parts := strings.Split(rt.Path()[1:], "/")
			parts[k] = fmt.Sprintf("%%%02X%s", g.Literal[0], g.Literal[1:])
			return "/" + strings.Join(parts, "/")
		}
	}
	return rt.Path()
}

func swapCase(rt *declaration.Route) string {
	var b strings.Builder
	for _, g := range rt.Segments {
		b.WriteByte('/')
		if g.Any {
			b.WriteString("{" + g.Name + "}")
			continue
		}
		for _, c := range g.Literal {
			if u := strings.ToUpper(string(c)); u != string(c) {
				b.WriteString(u)
			} else {
				b.WriteString(strings.ToLower(string(c)))
			}
		}
	}
	return b.String()
}

// overrides are the header fields that services take a method from.
var overrides = []string{"X-HTTP-Method-Override", "X-HTTP-Method", "X-Method-Override"}

// Request is what a way sends.
func Request(c *check.Context, p *check.Probe) check.Request {
	i, d := c.Doc.RouteNamed(p.Route), of(p)
	q := check.RequestOf(c, p, i, d.Path, d.Params).WithBody(c, i)
	q.Method, q.Host = d.Method, d.Host
	if p.Of == MethodOverride {
		for _, h := range overrides {
			q.Headers = append(q.Headers, [2]string{h, c.Doc.Routes[i].Method()})
		}
	}
	return q
}

// Script sends it, and what carried a method that was overridden once more by itself.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		call := check.Call{Name: check.TheRequest, Request: Request(c, p), Retry: true}
		if p.Caller.Identity != "" {
			call.As = check.Bears(c, p)
		}
		if !p.Unsafe {
			call.Effect = check.Safe
		}
		if p.Of == MethodOverride {
			rt := c.Doc.Routes[c.Doc.RouteNamed(p.Route)]
			call.Makes, call.Take = check.Creating(c.Doc, c.Doc.RouteNamed("POST "+route.Hosted(rt.Host, rt.Path())))
		}
		r, ok := t.On(c, p, call)
		switch {
		case !ok || !through(c, r):
			return
		case p.Of == MethodOverride:
			call.Name, call.Request.Headers = alone, call.Request.Headers[:len(call.Request.Headers)-len(overrides)]
		case readdresses(p.Of):
			call.Name, call.Request.Path = elsewhere, check.Beside(call.Request.Path)
		default:
			return
		}
		t.Keep(t.Send(call)...)
	})
}

// What is sent where a way was admitted, to refute it.
const (
	alone     = "without the override"   // what carried an overridden method, by itself
	elsewhere = "an address of no route" // beside the route
)

// readdresses says whether a way asks at another address than the route's.
func readdresses(way string) bool {
	return slices.Contains([]string{TrailingSlash, DoubledSlash, LetterCase, DotSegments, PercentEncoded}, way)
}

// through says whether an answer admits; a redirect leads to the guard.
func through(c *check.Context, r check.Report) bool {
	return r.Class(c.Doc.Answers) == check.Admitted && r.Exchange.Status < 300
}

// Judge says whether the way led around the guard.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	if len(fact.Reports) == 0 {
		return check.Unproven("nothing was sent")
	}
	whole := fact.Reports[0]
	k := check.ControlOf(c, e, p.Control, of(p).ControlBy)
	v := f.judge(c, p, fact, k, e)
	if g, ok := check.CarriedOut(c, p, fact, f.Who(p), f.Expect(c, p)); ok {
		v.Gaps = slices.Insert(v.Gaps, 0, g)
	}
	v.Answers = []check.Report{whole}
	return v
}

// anyway says of a way that was admitted whether what has nothing to do with the route gives the
// same to the same caller: the carrying method by itself, an address that no route has. known is
// false where that was not tried.
func anyway(c *check.Context, fact *check.Fact, k *check.Control) (same, known bool) {
	i := slices.IndexFunc(fact.Reports, func(r check.Report) bool { return r.Name == alone || r.Name == elsewhere })
	if i < 0 || fact.Reports[i].Fate != check.Answered {
		return false, false
	}
	with, without := check.AnswerOf(fact.Reports[0].Exchange), check.AnswerOf(fact.Reports[i].Exchange)
	if !through(c, fact.Reports[i]) {
		return false, true
	}
	if _, how := check.ReadBack(fact); how == check.Altered || how == check.Gone {
		return declaration.UnsafeMethod(fact.Reports[i].Exchange.Method), true // a safe one changes nothing
	}
	return k.Unfair() != "" || !check.SameContent(with, k.Answer) || check.SameContent(without, k.Answer), true
}

// asGet says whether GET of the same caller is answered with the status of its HEAD: then HEAD
// is no way around, and the body of GET tells what that status means.
func asGet(head check.Report, get *check.Fact) bool {
	return get != nil && len(get.Reports) > 0 && get.Reports[0].Exchange.Status == head.Exchange.Status
}

// leads says whether the answer to a way is that of its route, as far as its control tells.
func leads(way string, a check.Answer, k *check.Control) bool {
	if !check.SameType(a, k.Answer) {
		return false
	}
	return !readdresses(way) || len(k.Answer.Values()) == 0 || check.SameContent(a, k.Answer)
}

func (f Family) judge(c *check.Context, p *check.Probe, fact *check.Fact, k *check.Control,
	e *check.Evidence) check.Verdict {
	whole := fact.Reports[0]
	a, r := check.AnswerOf(whole.Exchange), check.Head(whole)
	class := check.Classify(a, c.Doc.Answers)
	unfair := k.Unfair()
	in, known := through(c, whole), true
	switch {
	case in && p.Of == HeadMethod && of(p).Plain != "" && asGet(whole, e.Of(of(p).Plain)):
		return check.Verdict{Says: fmt.Sprintf("answered %s, as GET is without it", a.Code()), Proof: check.Speaks(r)}
	case in && p.Of == OptionsMethod:
		// That a method is answered is no gap; that it shows the record is.
		in = unfair == "" && check.SameContent(a, k.Answer)
	case in && (p.Of == MethodOverride || readdresses(p.Of)):
		var same bool
		if same, known = anyway(c, fact, k); same && unfair != "" {
			return check.Unproven("answered %s, as what has nothing to do with the route, and %s", a.Code(), unfair)
		} else if same {
			return check.Verdict{Says: fmt.Sprintf("answered %s, as what has nothing to do with the route is",
				a.Code()),
				Proof: check.Speaks(r)}
		}
	}
	switch {
	case in:
		proof := check.Speaks(r)
		if unfair == "" && leads(p.Of, a, k) && known {
			proof = check.Shown(r)
		}
		row, what := rowOf(p)
		stepped := "guard"
		if p.Caller.Identity != "" {
			stepped = "role check"
		}
		g := check.Gap{Cause: row, Rung: f.Expect(c, p).Decider, Proof: proof,
			Says: fmt.Sprintf("The %s was stepped around %s: %s was answered %s.", stepped, what,
				cmp.Or(p.Caller.Identity, "nobody"), a.Code())}
		if p.Of == PastGateway {
			g.Wide = PastAll // one mend: nothing but the gateway reaches the service
		}
		return check.Verdict{Gaps: []check.Gap{g}}
	case a.Status == 0 && p.Of == PastGateway:
		return check.Verdict{Says: "the direct address does not answer from here: " + a.Error, Proof: check.Silent(r)}
	case a.Status == 0:
		return check.Unproven("no answer: %s", a.Error)
	case class == check.Failed || class == check.Throttled:
		return check.Unproven("the service answered %s", a.Code())
	case unfair != "":
		return check.Unproven("answered %s, but %s", a.Code(), unfair)
	}
	return check.Verdict{Says: fmt.Sprintf("%s leads nowhere: %s", p.Of, a.Code()),
		Proof: check.TurnedAway(r, *k.Report, k.Class)}
}

// PastAll is where a service has no guards of its own.
var PastAll = finding.Scope{Of: finding.AtService, Name: "past the gateway"}

// Gather says of refusals at addresses that no route has that they are those of no route: how
// a service answers what it does not serve is one cause, whichever address was asked for.
func (Family) Gather(_ *check.Context, all []check.Judged) {
	for _, x := range all {
		for k := range x.Gaps {
			if x.Gaps[k].Row.Kind == finding.WrongRefusal && x.Probe.Of != MethodOverride {
				x.Gaps[k].Scope = finding.NoRoute
			}
		}
	}
}

// Causes are those of ways around a guard.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "detour", Title: "Ways around a guard",
		Shown: "Nobody, without a credential, or a caller with too small a role, was answered 2xx at an address " +
			"that leads to the same route in another way. It is proven where the answer has the type of the control's.",
		Refuted: "A redirect; an answer of another type than the control's; for OPTIONS one that shows nothing of " +
			"the control's answer; for an overridden method what the same caller is given without the header field.",
		Rows: slices.Concat(rows, forRoles)}
}
