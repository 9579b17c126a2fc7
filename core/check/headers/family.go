// Package headers checks what answers say to browsers and caches beside the CORS protocol: what
// a page of somebody else, a cache on the way or the next page could make of them. It is off
// unless the declaration asks for it (answers.protects).
//
// # What is sent
//
// The request of each safe route's control, once more, as its caller: what it is answered is what
// a person in that place gets. Nothing is sent that the sweep does not send anyway.
//
// # What is concluded
//
// Each protection that is asked for is held against the fields of that answer as the standards
// read them, and only where it applies: what is no page cannot be framed, and an answer that
// anybody gets may be kept by anybody. A protection that applies nowhere on a target is left out
// by name. Fields are shown by the answer itself, so that what is missing is proven; what of it
// is declared to a browser beside the answer (a preload list, a meta element) is not looked at.
package headers

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Family is that of what answers say to browsers and caches.
type Family struct{ check.Unmeasured }

// Detail is what is asked for: the control's request.
type Detail struct{ Request check.Request }

// Name is that of its probes.
func (Family) Name() string { return "headers" }

func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Plan plans one for each safe route with a control.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	if len(c.Doc.Answers.Protects) == 0 {
		return
	}
	for _, a := range c.Doc.Answers.Protects {
		if why := nowhere(c, a); why != "" {
			p.Leave(check.Omission{Route: "every route", What: "protection from " + string(a), Why: why})
		}
	}
	for i, rt := range c.Doc.Routes {
		if s, ok := p.Control(i); ok && !rt.Unsafe() {
			p.Add(check.Probe{ID: check.ID{Family: f.Name(), Route: rt.Key(), Caller: s.Caller}, Phase: check.SafeFirst,
				Control: s.Key, Detail: Detail{s.Request}})
		}
	}
}

// nowhere says why a protection cannot be looked at on a target at all, "" where it can.
func nowhere(c *check.Context, a declaration.Protection) string {
	any := func(f func(*declaration.Scheme) bool) bool { return slices.ContainsFunc(c.Doc.Schemes, f) }
	switch a {
	case declaration.Transport:
		u, err := url.Parse(c.Target.Base)
		if err != nil || u.Scheme != "https" {
			return "the target is spoken to over plain http, where browsers ignore it (RFC 6797, section 8.1)"
		}
		if _, err := netip.ParseAddr(u.Hostname()); err == nil {
			return "the target is an address, and browsers keep it for names alone (RFC 6797, section 8.1)"
		}
	case declaration.Referrer:
		if !any(inAddress) {
			return "no credential stands in an address"
		}
	case declaration.Resources:
		if !any(ambient) {
			return "no credential is one that browsers send by themselves: there is no cookie and no basic scheme"
		}
	default:
	}
	return ""
}

// inAddress says whether the credentials of a scheme stand in addresses.
func inAddress(s *declaration.Scheme) bool {
	return s.Kind == declaration.Link || s.Kind == declaration.APIKey && s.In == "query"
}

// ambient says whether browsers send the credentials of a scheme by themselves.
func ambient(s *declaration.Scheme) bool {
	return s.Kind == declaration.Cookie || s.Kind == declaration.Basic
}

// Script sends it.
func (Family) Script(_ *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		call := check.Call{Name: check.TheRequest, Request: of(p).Request, Retry: true, Effect: check.Safe}
		if p.Caller.Scheme != "" {
			call.As = []check.Present{{Caller: p.Caller}}
		}
		t.One(call)
	})
}

// Cost is one request.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, "what the answer protects from"
}

// Who is the control's caller.
func (Family) Who(p *check.Probe) string { return check.WhoOf(p.Caller) }

// Expect is that it is admitted.
func (Family) Expect(*check.Context, *check.Probe) access.Expectation {
	return access.Expectation{Outcome: access.Admit}
}

// Judge holds the fields of the answer against what is asked for.
func (Family) Judge(c *check.Context, p *check.Probe, f *check.Fact, _ *check.Evidence) check.Verdict {
	if len(f.Reports) == 0 || f.Reports[0].Exchange.Status == 0 {
		return check.Unproven("no answer was seen")
	}
	r := f.Reports[0]
	if class := r.Class(c.Doc.Answers); class != check.Admitted {
		return check.Unproven("the request of the control was answered %d, so that the answer says nothing of what is "+
			"shown", r.Exchange.Status)
	}
	v := check.Verdict{Proof: check.Shown(check.Head(r))}
	a := answer{check.AnswerOf(r.Exchange), r.Exchange.Answer, whose(c, p)}
	var fine, idle []string
	for _, what := range c.Doc.Answers.Protects {
		slip, applies := checks[what](a)
		switch {
		case nowhere(c, what) != "":
			continue // the plan says so
		case !applies:
			idle = append(idle, string(what))
		case slip.row == "":
			fine = append(fine, string(what))
		default:
			v.Gaps = append(v.Gaps, check.Gap{Cause: finding.RowOf(rows, cause+slip.row), Says: slip.says,
				Proof: check.Shown(check.Head(r)), Wide: finding.Scope{Of: finding.AtService,
					Name: "not protected from " + string(what)}})
		}
	}
	var says []string
	if len(fine) > 0 {
		says = append(says, "it is protected from "+strings.Join(fine, ", "))
	}
	if len(idle) > 0 {
		says = append(says, strings.Join(idle, ", ")+": nothing to protect here")
	}
	v.Says = strings.Join(says, "; ")
	return v
}

// whose says how somebody's the answer to a caller is.
func whose(c *check.Context, p *check.Probe) (w data) {
	i := c.Doc.RouteNamed(p.Route)
	s := c.Doc.SchemeNamed(p.Caller.Scheme)
	if i < 0 || s == nil || access.Open(c.Doc, i) {
		return w
	}
	return data{somebodys: true, scheme: s}
}
