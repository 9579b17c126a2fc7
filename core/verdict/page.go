package verdict

import (
	"fmt"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/core/probe"
)

// asSeen is what a service answered to a page, for the evaluator.
func asSeen(in Input) origin.Seen {
	head := func(a *check.Answer) *origin.Answer {
		if a == nil || a.Status == 0 {
			return nil
		}
		return &origin.Answer{Status: a.Status, Headers: a.Headers}
	}
	s := origin.Seen{Preflight: head(in.Preflight), Refusal: head(in.Refusal)}
	if !in.Probe.PreflightOnly {
		s.Answer = head(&in.Answer)
	}
	return s
}

// PageView is what a browser makes of the answers that a page was given.
type PageView struct {
	Page      origin.Page
	Want, Got origin.Ability
	Said      []origin.Judgement
}

// Page runs the answers of a page through the browser's protocol.
func Page(in Input) PageView {
	p := in.Probe
	page := probe.PageOf(p)
	var other *origin.Answer
	if in.Control != nil && in.Control.Answer.Status != 0 {
		other = &origin.Answer{Status: in.Control.Answer.Status, Headers: in.Control.Answer.Headers}
	}
	v := PageView{Page: page}
	v.Want, v.Got, v.Said = origin.Judge(probe.CallOf(in.Doc, p.Route, ""), page, probe.Allowed(in.Doc, p.Route),
		asSeen(in), other)
	return v
}

// page judges what a page of an origin can do with a route.
func (v *Verdict) page(in Input) {
	p, a := in.Probe, in.Answer
	switch {
	case p.PreflightOnly && in.Preflight == nil:
		v.unproven("no preflight was sent")
		return
	case p.PreflightOnly && in.Preflight.Status == 0:
		v.unproven("no answer: " + in.Preflight.Error)
		return
	case !p.PreflightOnly && v.Class == check.Unreachable:
		v.unproven("no answer: " + a.Error)
		return
	case !p.PreflightOnly && (v.Class == check.Throttled || v.Class == check.Failed):
		v.unproven("the service answered " + status(a))
		return
	}
	r := Page(in)
	v.Does = r.Got.Does.String()
	conf := finding.Proven
	if r.Got.Assumed {
		conf = finding.Likely
	}
	fair := p.PreflightOnly || v.Class == check.Admitted
	minors := 0
	for _, j := range r.Said {
		x := access.Expectation{Outcome: access.Admit, Subject: "origin"}
		switch {
		case j.Sort == origin.Note:
			minors++
		case j.Sort == origin.Narrower && !fair:
			v.unproven(fmt.Sprintf("the request itself was answered %s, so nothing is known about the permission of "+
				"an answer", status(a)))
		case j.Sort == origin.Broader && r.Page.Hostile:
			v.gap(finding.OverPermissive, x, pageCause+p.Way, j.Text, conf)
		case j.Sort == origin.Broader:
			v.gap(finding.OverPermissive, x, pageCause+j.ID+" "+p.Way, j.Text, conf)
		default:
			v.gap(finding.OverRestrictive, x, pageCause+j.ID+" "+p.Way, j.Text, conf)
		}
	}
	if v.Kind == finding.Unproven {
		return
	}
	v.agrees(conf, fmt.Sprintf("a page of %s can %s, as declared", p.Page, r.Got.Does.Verb()))
	if !fair && r.Want.Does < origin.Read {
		v.Confidence = finding.Likely
	}
	if minors > 0 {
		v.Reason += fmt.Sprintf("; %d more are worth knowing", minors)
	}
}

// passed says which pages got more than declared, and how many routes part in
// each way, by what decides about pages there.
type passed struct {
	kinds  map[string]map[string]bool   // entry and host → kinds of hostile pages
	routes map[string]map[string]string // entry, host and cause → routes
}

// policy names what decides about pages where a probe was sent: the origins
// entry, and the host that serves it.
func policy(d *declaration.Document, p *probe.Probe) string {
	return fmt.Sprint(d.OriginsAt[p.Route], " ", p.Host)
}

func pagesPassed(d *declaration.Document, items []Item) passed {
	out := passed{map[string]map[string]bool{}, map[string]map[string]string{}}
	for _, it := range items {
		if it.Probe.Kind != probe.Origin {
			continue
		}
		k := policy(d, it.Probe)
		for _, g := range it.Verdict.Gaps {
			if g.Kind == finding.OverPermissive && origin.Says(it.Probe.Way) != "" {
				if out.kinds[k] == nil {
					out.kinds[k] = map[string]bool{}
				}
				out.kinds[k][it.Probe.Way] = true
			}
			c := k + "\x00" + g.Cause
			if out.routes[c] == nil {
				out.routes[c] = map[string]string{}
			}
			out.routes[c][it.Probe.RouteKey] = it.Probe.RouteKey
		}
	}
	return out
}

// bundle is the route and the cause of a gap's finding: hostile pages that one
// careless comparison lets pass are one finding, and what parts on several
// routes of one policy in the same way is one.
func (ps passed) bundle(d *declaration.Document, p *probe.Probe, kind finding.Kind, cause string) (route,
	bundled string) {
	if origin.Says(p.Way) != "" && cause == pageCause+p.Way {
		return EverywhereLabel(d, p), pageCause + origin.Confusion(ps.kinds[policy(d, p)], p.Way)
	}
	// What lets a hostile page pass lets declared ones pass where they may not.
	if kinds := ps.kinds[policy(d, p)]; kind == finding.OverPermissive {
		switch how := origin.Confusion(kinds, origin.Ending); {
		case kinds[origin.Unrelated], kinds[origin.Ending] && strings.HasPrefix(cause, pageCause+origin.JOrigin+" "):
			return EverywhereLabel(d, p), pageCause + how
		}
	}
	if len(ps.routes[policy(d, p)+"\x00"+cause]) == 1 {
		return p.RouteKey, cause
	}
	return EverywhereLabel(d, p), cause
}

// EverywhereLabel names the routes that share what decides about pages where a
// probe was sent.
func EverywhereLabel(d *declaration.Document, p *probe.Probe) string {
	l := probe.EntryLabel(d, p.Route)
	if p.Host != "" && d.OriginsAt[p.Route] < 0 {
		l += " of " + p.Host
	}
	return l
}

func pageRoutes(items []Item) int {
	seen := map[string]bool{}
	for _, it := range items {
		seen[it.Probe.RouteKey] = true
	}
	return len(seen)
}
