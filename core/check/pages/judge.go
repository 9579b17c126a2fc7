package pages

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
)

// View is what a browser makes of the answers that a page was given.
type View struct {
	Page      origin.Page
	Want, Got origin.Ability
	Said      []origin.Judgement
	Body      string // that its script would send

	call origin.Call
	seen origin.Seen
}

// Ways are all ways in which the page's script could ask, and what comes of each.
func (v View) Ways() []origin.Ability {
	return origin.Ways(v.call, v.Page.Origin, v.seen, origin.Standard)
}

// Mends are what must be sent for a declared page that cannot do what it may; empty where it can,
// and where no field would do.
func (v View) Mends() []origin.Mend {
	if v.Got.Does >= v.Want.Does || v.Want.Does < origin.Read {
		return nil
	}
	list, ok := origin.Mends(v.Want.Request, v.seen)
	if !ok {
		return nil
	}
	return list
}

// Of is the page of a probe, and what is declared for it.
func Of(c *check.Context, p *check.Probe) View {
	d, i := of(p), c.Doc.RouteNamed(p.Route)
	says := origin.Says(d.Column)
	v := View{Page: origin.Page{ID: d.Column, Origin: d.Page, Hostile: says != "", Says: says}}
	if i >= 0 {
		v.Want = origin.Expect(CallOf(c.Doc, i, ""), d.Page, Allowed(c.Doc, i))
	}
	return v
}

// Look runs the answers that a page was given through the browser's protocol. control is
// the fact of the route's control, nil without.
func Look(c *check.Context, p *check.Probe, f, control *check.Fact) View {
	v, i := Of(c, p), c.Doc.RouteNamed(p.Route)
	if i < 0 {
		return v
	}
	seen := origin.Seen{Preflight: head(Preflight(f)), Answer: head(named(f, request)), Refusal: head(Refusal(f))}
	var other *origin.Answer
	if control != nil && len(control.Reports) > 0 {
		other = head(&control.Reports[0])
	}
	call := CallOf(c.Doc, i, "")
	for _, r := range f.Reports {
		call.URL, v.Body = cmp.Or(r.Exchange.URL, call.URL), cmp.Or(v.Body, r.Exchange.Body)
	}
	if d := of(p); v.Body == "" && d.Request != nil {
		v.Body = string(d.Request.Body)
	}
	v.call, v.seen = call, seen
	v.Want, v.Got, v.Said = origin.Judge(call, v.Page, Allowed(c.Doc, i), seen, other)
	if r := named(f, request); r != nil {
		if j, ok := origin.SameSite(v.Page.Origin, r.SameSite, v.Got.Does); ok {
			v.Said = append(v.Said, j)
		}
	}
	return v
}

// Preflight is the report of the preflight, nil where none was sent.
func Preflight(f *check.Fact) *check.Report { return named(f, preflight) }

// Refusal is the report of the request without its credential, nil where none was sent.
func Refusal(f *check.Fact) *check.Report { return named(f, again) }

func named(f *check.Fact, name string) *check.Report {
	if i := slices.IndexFunc(f.Reports, func(r check.Report) bool { return r.Name == name }); i >= 0 {
		return &f.Reports[i]
	}
	return nil
}

// head is an answer as browsers look at it; nil where none was seen.
func head(r *check.Report) *origin.Answer {
	if r == nil || r.Exchange.Status == 0 {
		return nil
	}
	return &origin.Answer{Status: r.Exchange.Status, Headers: r.Exchange.Answer}
}

// Judge judges what a page can do with a route.
func (Family) Judge(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) check.Verdict {
	d, main := of(p), named(f, preflight)
	if !d.Asks {
		main = named(f, request)
	}
	if main == nil {
		return check.Unproven("no preflight was sent")
	}
	class := main.Class(c.Doc.Answers)
	switch {
	case main.Exchange.Status == 0:
		return check.Unproven("no answer: %s", cmp.Or(main.Exchange.Error, main.Why))
	case !d.Asks && (class == check.Throttled || class == check.Failed):
		return check.Unproven("the service answered %d", main.Exchange.Status)
	}
	r := Look(c, p, f, e.Of(p.Control))
	var heads []check.Report
	for _, x := range f.Reports {
		heads = append(heads, check.Head(x))
	}
	proof := check.Shown(heads...)
	if r.Got.Assumed {
		proof = check.Speaks(heads...)
	}
	v := check.Verdict{Proof: proof, Does: r.Got.Does.String(),
		Says: fmt.Sprintf("a page of %s can %s, as declared", d.Page, r.Got.Does.Verb())}
	fair := d.Asks || class == check.Admitted
	if !fair && r.Want.Does < origin.Read {
		v.Proof = check.Speaks(heads...)
	}
	minors := 0
	for _, j := range r.Said {
		g := check.Gap{Says: j.Text, Proof: proof}
		switch {
		case j.Sort == origin.Note:
			minors++
			continue
		case j.Sort == origin.Narrower && !fair:
			g.Proof = check.Proof{}
			g.Says = fmt.Sprintf("the request itself was answered %d, so nothing is known about the permission of "+
				"an answer", main.Exchange.Status)
		case j.Sort == origin.Broader && r.Page.Hostile:
			g.Cause = finding.RowOf(rows, cause+d.Column)
		default:
			g.Cause, g.What = finding.RowOf(rows, cause+j.ID+" "), d.Column
		}
		v.Gaps = append(v.Gaps, g)
	}
	if minors > 0 {
		v.Says += fmt.Sprintf("; %d more are worth knowing", minors)
	}
	return v
}

// Gather puts gaps together: hostile pages that one careless comparison lets pass are one
// finding, and what parts on several routes of one policy in the same way is one.
func (Family) Gather(c *check.Context, all []check.Judged) {
	passed := map[policy]map[string]bool{} // the kinds of hostile pages
	type fault struct {
		policy
		cause string
	}
	routes := map[fault]map[string]bool{}
	each := func(f func(at policy, x check.Judged, g *finding.Gap)) {
		for _, x := range all {
			i := c.Doc.RouteNamed(x.Probe.Route)
			for k := range x.Gaps {
				f(policyAt(c.Doc, i), x, &x.Gaps[k])
			}
		}
	}
	each(func(at policy, x check.Judged, g *finding.Gap) {
		d := of(x.Probe)
		if g.Row.Kind == finding.OverPermissive && origin.Says(d.Column) != "" {
			if passed[at] == nil {
				passed[at] = map[string]bool{}
			}
			passed[at][d.Column] = true
		}
		k := fault{at, g.Cause()}
		if routes[k] == nil {
			routes[k] = map[string]bool{}
		}
		routes[k][x.Probe.Route] = true
	})
	each(func(at policy, x check.Judged, g *finding.Gap) {
		d, kinds := of(x.Probe), passed[at]
		everywhere := finding.Scope{Of: finding.AtPages, Name: label(c.Doc, at)}
		is := func(kind string) {
			g.Row, g.What, g.Scope = finding.RowOf(rows, cause+kind), "", everywhere
		}
		switch {
		case origin.Says(d.Column) != "" && g.Row.Cause == cause+d.Column:
			is(origin.Confusion(kinds, d.Column))
		// What lets a hostile page pass lets declared ones pass where they may not.
		case g.Row.Kind == finding.OverPermissive && (kinds[origin.Unrelated] ||
			kinds[origin.Ending] && g.Row.Cause == cause+origin.JOrigin+" "):
			is(origin.Confusion(kinds, origin.Ending))
		case len(routes[fault{at, g.Cause()}]) > 1:
			g.Scope = everywhere
		}
	})
}

// label names the routes of a policy.
func label(d *declaration.Document, at policy) string {
	if at.entry >= 0 {
		var list []string
		for _, s := range d.Origins[at.entry].At {
			list = append(list, s.String())
		}
		return "pages at " + strings.Join(list, ", ")
	}
	l := "pages at routes without an origins entry"
	if at.host != "" {
		l += " of " + at.host
	}
	return l
}

// Before is the fact of a page as versions before kept it: its request, preflight and
// refusal, nil where they were not sent.
func Before(main, asked, refusal *check.Exchange) *check.Fact {
	f := &check.Fact{Family: Family{}.Name(), Version: Family{}.Version()}
	for _, r := range []struct {
		name string
		*check.Exchange
	}{{request, main}, {preflight, asked}, {again, refusal}} {
		if r.Exchange == nil {
			continue
		}
		fate := check.Answered
		if r.Status == 0 {
			fate = check.Lost
		}
		f.Reports = append(f.Reports, check.Report{Name: r.name, Fate: fate, Why: r.Error, End: r.Took,
			Exchange: *r.Exchange})
		if f.Began.IsZero() {
			f.Began = r.At
		}
	}
	return f
}
