// Package pages checks what pages of other origins can do with a route: whether those that
// are declared can do what they may, and whether others are kept from it (Fetch standard,
// CORS protocol).
//
// # What is sent
//
// Every declared origin and an unrelated one ask at every route. Those that a careless
// comparison takes for a declared one ask at one route of each policy, which is the entry
// of the declaration that decides and the host that serves it; where one gets in there, it
// asks at the policy's other routes as well.
//
// A page asks as a browser does: with a preflight where the standard wants one, then with
// the request itself, as the caller that the route's control is. An unsafe request is not
// sent: its preflight says what a browser would let through. On the route that stands for
// its policy the request goes out once more without its credential, since a page must be
// able to read why it was refused.
//
// # What is concluded
//
// The answers go through the browser's own protocol (package origin). A page that can do
// more than declared is OverPermissive, one that can do less is OverRestrictive. Where an
// unsafe request was not sent, what its answer permits is assumed to be what its preflight
// does, and what follows is likely at most. Where the request itself was turned away,
// nothing is known of what its answer would permit.
package pages

import (
	"fmt"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
)

// Family is that of pages of other origins.
type Family struct{ check.Unmeasured }

// Detail is what a page asks, beside the caller that it asks as.
type Detail struct {
	Column  string         // a declared origin, or a kind of hostile page
	Page    string         // its origin
	Like    string         // the declared origin that it is like, where that is not the strongest
	Request *check.Request // what it asks for, the same for all pages at a route
	Asks    bool           // its preflight alone is sent: the request itself is unsafe
	Again   bool           // and once more without its credential
}

// The calls of a script.
const (
	preflight = "preflight"
	request   = "request"
	again     = "request without a credential"
)

// Name is that of its probes.
func (Family) Name() string { return "origin" }

// policy is what decides about pages at a route: the entry of the declaration, and the
// host that serves it.
type policy struct {
	entry int
	host  string
}

func policyAt(d *declaration.Document, i int) policy { return policy{d.OriginsAt[i], d.Routes[i].Host} }

type planning struct {
	*check.Planning
	d *declaration.Document
}

// Plan plans the pages.
func (Family) Plan(c *check.Context, p *check.Planning) {
	x, columns := planning{p, c.Doc}, Columns(c.Doc)
	best, all := map[policy]int{}, map[policy][]int{}
	score := map[policy]int{}
	var order []policy
	for i := range c.Doc.Routes {
		k, n := policyAt(c.Doc, i), x.shows(i)
		if len(all[k]) == 0 {
			order = append(order, k)
		}
		if all[k] = append(all[k], i); len(all[k]) == 1 || n > score[k] {
			best[k], score[k] = i, n
		}
	}
	for _, k := range order {
		for _, i := range all[k] {
			var list []origin.Page
			for _, col := range columns {
				if col.Hostile && col.ID != origin.Unrelated && i != best[k] {
					p.Spared++
				} else if page, ok := At(c.Doc, i, col.ID); ok {
					list = append(list, page)
				}
			}
			x.add(i, "", list, i == best[k])
		}
		x.likeOthers(best[k])
	}
}

// shows says how much a route shows of a page's permission: it can be sent, and somebody
// is admitted.
func (x planning) shows(i int) (n int) {
	if x.d.Routes[i].Unsafe() {
		return 0
	}
	if s, ok := x.Control(i); ok {
		n = 1
		if s.Caller.Identity != "" {
			n = 2
		}
	}
	return n
}

// likeOthers plans the pages at route i that are like one of its declared origins that is
// not the strongest: a comparison may be careless with that one alone.
func (x planning) likeOthers(i int) {
	first := strongest(x.d, x.d.OriginEntry(i))
	if first == nil || access.IsUndecided(x.d, i) {
		return
	}
	tried := map[string]bool{first.Origin: true}
	for _, h := range origin.Hostile(first.Origin) {
		tried[h.Origin] = true
	}
	for _, a := range Allowed(x.d, i) {
		if a.Origin == "any" || a.Origin == origin.Null || a.Origin == first.Origin {
			continue
		}
		var list []origin.Page
		for _, h := range origin.Hostile(a.Origin) {
			if !tried[h.Origin] {
				tried[h.Origin] = true
				list = append(list, h)
			}
		}
		x.add(i, a.Origin, list, false)
	}
}

// add plans pages at route i. stands says that the route stands for its policy.
func (x planning) add(i int, like string, list []origin.Page, stands bool) {
	if len(list) == 0 {
		return
	}
	rt := x.d.Routes[i]
	d := Detail{Like: like, Asks: rt.Unsafe()}
	s, ok := x.Control(i)
	who := s.Caller
	switch {
	case !ok && !d.Asks && len(rt.Parameters()) > 0:
		return // nothing is known that its path could name; the crossings say so
	case !ok || d.Asks:
		who, s.Request = check.Caller{State: access.Absent}, x.Address(i)
	}
	d.Request = &s.Request
	for _, page := range list {
		d.Column, d.Page = page.ID, page.Origin
		d.Again = stands && !page.Hostile && who.Scheme != ""
		if d.Asks {
			if _, asks := asks(x.d, i, d.Page, d.Request); !asks {
				continue // a page sends it without asking, and it is not sent here
			}
		}
		of := d.Column
		if like != "" {
			of += "|" + d.Page
		}
		x.Add(check.Probe{ID: check.ID{Family: "origin", Route: rt.Key(), Caller: who, Of: of}, Phase: check.SafeFirst,
			Control: s.Key, Detail: d})
	}
}

// More tries a hostile page that got in on the policy's other routes; not where a page
// that has nothing to do with the declared ones is let in anyway.
func (f Family) More(c *check.Context, p *check.Probe, e *check.Evidence, pl *check.Planning) {
	d, i := of(p), c.Doc.RouteNamed(p.Route)
	if origin.Says(d.Column) == "" || d.Column == origin.Unrelated || i < 0 {
		return
	}
	if page, ok := At(c.Doc, i, origin.Unrelated); ok {
		u, other := *p, d
		other.Column, other.Page, other.Like = page.ID, page.Origin, ""
		u.Of, u.Detail = origin.Unrelated, other
		if fact := e.Of(u.Key()); fact != nil && f.Judge(c, &u, fact, e).IsGap() {
			return
		}
	}
	x := planning{pl, c.Doc}
	for j := range c.Doc.Routes {
		if j != i && policyAt(c.Doc, j) == policyAt(c.Doc, i) {
			x.add(j, d.Like, []origin.Page{{ID: d.Column, Origin: d.Page, Hostile: true}}, false)
		}
	}
}

func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Script asks as a browser does. The report of the request comes first: it is what the
// probe is about.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	d, i := of(p), c.Doc.RouteNamed(p.Route)
	return check.Tell(func(t *check.Telling) {
		var asked []check.Report
		if q, ok := asks(c.Doc, i, d.Page, d.Request); ok {
			asked = t.Send(check.Call{Name: preflight, Request: q, Retry: true, Effect: check.Safe})
		}
		if d.Asks {
			t.Keep(asked...)
			return
		}
		call := check.Call{Name: request, Request: *d.Request, Retry: true, Effect: check.Safe}
		call.Request.Headers = append(call.Request.Headers[:len(call.Request.Headers):len(call.Request.Headers)],
			[2]string{"Origin", d.Page})
		bare := call
		bare.Name = again
		if p.Caller.Scheme != "" {
			call.As = []check.Present{{Caller: p.Caller}}
		}
		if t.One(call).Fate == check.Unsent {
			return
		}
		t.Keep(asked...)
		if d.Again {
			t.One(bare)
		}
	})
}

// Cost is a preflight, and the request where that is sent.
func (Family) Cost(_ *check.Context, p *check.Probe) check.Cost {
	if of(p).Asks {
		return check.Cost{Requests: 1}
	}
	return check.Cost{Requests: 2}
}

// Order tells whether a preflight is answered before a credential is looked at.
func (Family) Order(c *check.Context, p *check.Probe, f *check.Fact, _ *check.Evidence) []check.Sequence {
	i := c.Doc.RouteNamed(p.Route)
	r, ok := f.Named(preflight)
	if !ok || r.Fate != check.Answered || i < 0 || access.Open(c.Doc, i) {
		return nil
	}
	s := check.Sequence{First: check.OfPage, Then: check.OfCredential,
		Says: fmt.Sprintf("the preflight of a page of %s: %d", of(p).Page, r.Exchange.Status)}
	switch check.Head(r).Class(c.Doc.Answers) {
	case check.Admitted:
	case check.Refused:
		s.First, s.Then = s.Then, s.First
	default:
		return nil
	}
	return []check.Sequence{s}
}

// Causes are those of pages.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "page", Title: "Pages of other origins",
		Shown: "The answers to a preflight and to the request itself were run through the browser's own protocol " +
			"(Fetch standard, CORS protocol). Unsafe requests are not sent: there it is likely, by the " +
			"preflight alone.",
		Refuted: "What a browser does otherwise than the standard's text; an answer without a permission.",
		Rows:    rows}
}

// Cell is the page's in the Origins lens.
func (f Family) Cell(p *check.Probe) (check.Cell, string) {
	says := f.Who(p)
	if of(p).Asks {
		says = "the preflight of " + says
	}
	return check.Cell{Route: p.Route, Lens: check.Origins, Key: of(p).Column}, says
}

// Who is the page.
func (Family) Who(p *check.Probe) string { return "a page of " + of(p).Page }

// Declared is which pages may call the route.
func (Family) Declared(c *check.Context, p *check.Probe) string {
	if i := c.Doc.RouteNamed(p.Route); i >= 0 {
		return c.Doc.PagesAt(i)
	}
	return ""
}
