// Package order finds out what a service looks at first.
//
// # What is sent
//
// For each guard requests that fail two rungs at once, so that the answer is that of the first:
//
//   - nobody, with a body that cannot be read: credential or body;
//   - nobody, for a record that is not there: credential or record;
//   - somebody whose role does not do, for a record that is not there: role or record.
//
// The control of each is a crossing of its own: the same caller, with a body that can be read, for
// a record that there is. An id that nobody has is of the form of one that somebody has: a router
// may take no other.
//
// That a full quota refuses before a credential is looked at, and how preflights are answered, is
// seen by those who fill quotas and ask as pages do.
//
// # What is concluded
//
// Both are turned away alike: what comes later does not show. Another answer to the request that
// fails twice tells of what comes later, to somebody who has shown no credential: that is Leaking.
// Where it is a role that comes later it is no gap, and said.
package order

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Family is that of the order of steps.
type Family struct{ check.OnRecords }

// The pairs that are tried; they stand in ids.
const (
	bodyOfNobody   = "credential or body"
	recordOfNobody = "credential or record"
	recordOfRole   = "role or record"
)

// pair is two stages in the order of the ladder.
type pair struct {
	first, then check.Stage
	fails       string // how the request fails the second one
	cause       *finding.Row
}

var pairs = map[string]pair{
	bodyOfNobody:   {check.OfCredential, check.OfBody, "a body that cannot be read", rows[0]},
	recordOfNobody: {check.OfCredential, check.OfRecord, "a record that is not there", rows[1]},
	recordOfRole:   {check.OfRole, check.OfRecord, "a record that is not there", nil},
}

// Detail is what stands for the route's parameters, but for the record's.
type Detail struct{ Params map[string]string }

// Parameters are those values.
func (d Detail) Parameters() map[string]string { return d.Params }

// unreadable is the beginning of a JSON value and no more.
const unreadable = `{"name": `

// Name is that of its probes.
func (Family) Name() string { return "order" }

// Plan plans the pairs for each guard.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	drafts := check.NewDrafts(c.Doc, c.Target, p.Classes())
	for _, g := range check.Guards(c.Doc, p.ControlAt) {
		// The first route of each that will do.
		_ = slices.ContainsFunc(g.All, func(s check.Spot) bool { return f.body(c, p, drafts, s) })
		_ = slices.ContainsFunc(g.All, func(s check.Spot) bool { return f.record(c, p, s, recordOfNobody) })
		_ = slices.ContainsFunc(g.All, func(s check.Spot) bool { return f.record(c, p, s, recordOfRole) })
	}
}

// body plans an unreadable body at a route that takes JSON, and says whether that could be.
func (f Family) body(c *check.Context, p *check.Planning, drafts check.Drafts, s check.Spot) bool {
	rt := c.Doc.Routes[s.Route]
	if ct := (check.Request{}).WithBody(c, s.Route).Headers.Get("Content-Type"); !rt.Unsafe() ||
		!strings.Contains(ct, "json") {
		return false
	}
	control := nobody(p.At(s.Route))
	draft, _, ok := drafts.For(s.Route, nil, access.NoRecord, true)
	if control == nil || !ok || !refuses(c, control) {
		return false
	}
	return p.Add(check.Probe{ID: check.ID{Family: f.Name(), Route: rt.Key(), Caller: control.Caller, Of: bodyOfNobody},
		Phase: draft.Phase, Unsafe: true, Record: draft.Record, Control: control.Key(),
		Detail: Detail{draft.Params}}) != nil
}

// record plans the request of a control for an id that nobody has.
func (f Family) record(c *check.Context, p *check.Planning, s check.Spot, of string) bool {
	rt := c.Doc.Routes[s.Route]
	if rt.Unsafe() {
		return false
	}
	control := nobody(p.At(s.Route))
	if of == recordOfRole {
		control = unfit(c, p.At(s.Route))
	}
	if control == nil || control.Record.Value == "" || unlike(control.Record.Value, 0) == control.Record.Value ||
		!refuses(c, control) {
		return false
	}
	q := check.Probe{ID: check.ID{Family: f.Name(), Route: rt.Key(), Caller: control.Caller, Of: of},
		Phase: check.SafeFirst, Record: control.Record, Control: control.Key(),
		Detail: Detail{check.ParamsOf(control)}}
	return p.Add(q) != nil
}

// nobody is the crossing of a route without a credential, nil without.
func nobody(list []*check.Probe) *check.Probe {
	for _, q := range list {
		if q.Caller.Identity == "" && q.Caller.State == access.Absent {
			return q
		}
	}
	return nil
}

// unfit is a crossing of somebody whose role does not do at a route, nil without.
func unfit(c *check.Context, list []*check.Probe) *check.Probe {
	for _, q := range list {
		id := c.Doc.IdentityNamed(q.Caller.Identity)
		if id == nil || q.Caller.State != access.Sound {
			continue
		}
		if s := c.Doc.SchemeNamed(q.Caller.Scheme); s == nil || s.Kind == declaration.Link {
			continue // which is for one record
		}
		if x := check.ExpectAt(c, q); x.Outcome == access.Forbid && x.Decider == atRole {
			return q
		}
	}
	return nil
}

// atRole is the rung of the role.
const atRole = 4

// refuses says whether a crossing must be turned away.
func refuses(c *check.Context, p *check.Probe) bool {
	x := check.ExpectAt(c, p).Outcome
	return x == access.Refuse || x == access.Forbid
}

// Script sends the request. One for a record is sent with a second id as well: the first may be
// somebody's.
func (f Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		if p.Of == bodyOfNobody {
			t.On(c, p, f.call(c, p, check.TheRequest))
			return
		}
		for n, name := range []string{check.TheRequest, again} {
			q := *p
			q.Record.Value = unlike(p.Record.Value, n)
			t.One(f.call(c, &q, name))
		}
	})
}

// again names the report of the second id.
const again = "another id that nobody has"

// call is the request of a probe.
func (Family) call(c *check.Context, p *check.Probe, name string) check.Call {
	i := c.Doc.RouteNamed(p.Route)
	q := check.RequestOf(c, p, i, c.Doc.Routes[i].Path(), check.ParamsOf(p))
	out := check.Call{Name: name, Request: q, As: check.Bears(c, p), Retry: true}
	if p.Of != bodyOfNobody {
		out.Effect = check.Safe
		return out
	}
	out.Request = q.WithBody(c, i)
	out.Request.Body, out.Request.Needs = []byte(unreadable), nil
	out.Makes, out.Take = check.Creating(c.Doc, i)
	return out
}

// seen is what the answers tell of a pair.
type seen struct {
	pair
	known   bool
	later   bool   // the later stage answered first
	why     string // it is not known
	answer  string // to the request that fails both
	reports []check.Report
	control *check.Control
}

// look holds the answers against that of the control.
func look(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) (s seen) {
	s = seen{pair: pairs[p.Of], control: check.ControlOf(c, e, p.Control, check.WhoOf(p.Caller))}
	k := s.control
	switch {
	case len(f.Reports) == 0 || f.Reports[0].Fate != check.Answered:
		s.why = "the request was not answered"
		return s
	case k == nil || !turnedAway(k.Class):
		s.why = fmt.Sprintf("the same request without %s was not turned away either, so that the order does not show",
			s.fails)
		return s
	}
	first := check.Head(f.Reports[0])
	s.reports, s.answer = []check.Report{first}, check.AnswerOf(first.Exchange).Code()
	class := first.Class(c.Doc.Answers)
	if p.Of != bodyOfNobody {
		second, ok := f.Named(again)
		if !ok || second.Fate != check.Answered {
			s.why = "the second id was not asked for"
			return s
		}
		second = check.Head(second)
		if s.reports = append(s.reports, second); second.Class(c.Doc.Answers) != class {
			s.why = "two ids that nobody has are answered in two ways"
			return s
		}
	}
	switch {
	case class == k.Class:
		s.known = true
	case p.Of == bodyOfNobody && (class == check.Invalid || class == check.Failed),
		p.Of != bodyOfNobody && class == check.Hidden:
		s.known, s.later = true, true
	default:
		s.why = fmt.Sprintf("%s was answered %s, which is neither of the two", s.fails, s.answer)
	}
	return s
}

func turnedAway(class check.Class) bool {
	return class == check.Refused || class == check.ToLogin || class == check.Forbidden || class == check.Hidden
}

// Judge says what comes first.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	s := look(c, p, fact, e)
	who := check.WhoOf(p.Caller)
	switch {
	case !s.known:
		return check.Unproven("%s", s.why)
	case s.later && s.cause != nil:
		proof := check.Shown(s.reports...)
		if s.reports[0].Class(c.Doc.Answers) == check.Failed {
			proof = check.Speaks(s.reports...) // it may have failed at something else
		}
		return check.Verdict{Answers: fact.Reports, Gaps: []check.Gap{{Cause: s.cause, Rung: 2,
			Scope: check.GuardScope(c.Doc, p.Route), Proof: proof,
			Says: fmt.Sprintf("%s sent %s and was answered %s; without that it is answered %s. The %s is looked at "+
				"before the %s.", check.Sentence(who), s.fails, s.answer, s.control.Answer.Code(), s.then, s.first)}}}
	}
	return check.Verdict{Answers: fact.Reports, AnyShape: s.later, Proof: check.Shown(s.reports...), Says: s.says(who)}
}

// says is what shows in one sentence.
func (s seen) says(who string) string {
	if s.later {
		return fmt.Sprintf("%s is answered %s for %s and %s without: the %s is looked at before the %s", who, s.answer,
			s.fails, s.control.Answer.Code(), s.then, s.first)
	}
	return fmt.Sprintf("%s is answered %s for %s as well: the %s is looked at before the %s", who, s.answer, s.fails,
		s.first, s.then)
}

// Order is the order of the pair.
func (Family) Order(c *check.Context, p *check.Probe, f *check.Fact, e *check.Evidence) []check.Sequence {
	s := look(c, p, f, e)
	switch {
	case !s.known:
		return nil
	case s.later:
		s.first, s.then = s.then, s.first
	}
	out := check.Sequence{First: s.first, Then: s.then}
	out.Says = fmt.Sprintf("%s, %s: %s", check.WhoOf(p.Caller), s.fails, s.answer)
	return []check.Sequence{out}
}

// Cost is one request, or two.
func (Family) Cost(_ *check.Context, p *check.Probe) check.Cost {
	if p.Of == bodyOfNobody {
		return check.Cost{Requests: 1}
	}
	return check.Cost{Requests: 2}
}

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, pairs[p.Of].fails
}

// Who is the caller.
func (Family) Who(p *check.Probe) string { return check.WhoOf(p.Caller) }

// Expect is what is expected of the caller at the route.
func (Family) Expect(c *check.Context, p *check.Probe) access.Expectation {
	return check.ExpectAt(c, p)
}

// Causes are those of the order.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "order", Title: "The order of steps",
		Shown: "A request that fails two rungs at once was answered as by the later one, and the same request that " +
			"fails the earlier one alone as by that.",
		Refuted: "A control that is not turned away; two ids that nobody has and that are answered in two ways.",
		Rows:    rows}
}

var rows = []*finding.Row{
	{Cause: "body before credential", Kind: finding.Leaking, Title: "The body is read before the credential",
		Means: "Anybody is told what is wrong with a body, and can make the service read and parse what it likes, " +
			"before having shown who it is.",
		Advice: "Put the guard in front of whatever reads and validates the body.",
		OWASP:  finding.API8, CWE: 696, Severity: finding.Low}, // incorrect behavior order
	{Cause: "record before credential", Kind: finding.Leaking, Title: "The record is looked up before the credential",
		Means:  "Anybody can tell which records there are, by the answers alone.",
		Advice: "Put the guard in front of whatever looks for the record.",
		OWASP:  finding.API1, CWE: 204, Severity: finding.Low}, // observable response discrepancy
}
