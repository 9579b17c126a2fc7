// Package requests asks for what cannot be read: requests that are no good in one way each, sent by a
// caller whose request is a fair one.
//
// # What is sent
//
// For each route that takes JSON, the request of its control with a body that is cut off, that is of
// another type, that is empty, and that is nested deeply. For each prefix of the inventory, the request
// of one read with a lone % behind its path, and with a very long query.
//
// # What is concluded
//
// A 4xx that speaks of the request agrees. A failure (5xx) is WrongRefusal, and proven where the same
// request fails a second time and the control was admitted. That it is taken (2xx) is said, and is no
// gap: what an answer means nobody has declared. What answers must never show is looked for in all that
// comes back; the shape of refusals only where the service has read the address, since a server may
// refuse that before it.
package requests

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/finding"
)

// Family is that of requests that cannot be read.
type Family struct{ check.OnRecords }

// Detail is what stands for the route's parameters, but for the record's, and who sends the control.
type Detail struct {
	Params    map[string]string
	ControlBy string
}

// Parameters are those values.
func (d Detail) Parameters() map[string]string { return d.Params }

// The ways in which a request is no good; they stand in ids.
const (
	CutOff    = "a body that is cut off"
	OtherType = "a body of another type"
	Empty     = "an empty body"
	Nested    = "a deeply nested body"
	Percent   = "a lone % in the path"
	Long      = "a very long query"
)

// ofBody and ofAddress are the ways at routes that take JSON, and at reads.
var ofBody, ofAddress = []string{CutOff, OtherType, Empty, Nested}, []string{Percent, Long}

// deep is how many arrays stand in each other, long how many bytes a query has.
const deep, long = 5000, 16 << 10

// Name is that of its probes.
func (Family) Name() string { return "bad-request" }

func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, p.Of
}

// Who is the control's caller.
func (Family) Who(p *check.Probe) string { return check.WhoOf(p.Caller) }

// Expect is that the request is turned away for what it is.
func (Family) Expect(*check.Context, *check.Probe) access.Expectation {
	return access.Expectation{Outcome: access.Closed}
}

// Plan plans the ways: those of bodies at each route that takes JSON, but for logins and deletions, and those of
// addresses at one read of each prefix.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	prefixes := map[string]bool{}
	for i, rt := range c.Doc.Routes {
		ctl, by := p.ControlAt(i)
		if ctl == nil || check.UsesSession(c.Doc, i) || c.Doc.Sealed(i) != "" || len(rt.Changes) > 0 {
			continue
		}
		ways := []string(nil)
		switch at := rt.Host + " " + rt.Prefix(); {
		case rt.Method() == "GET" && !prefixes[at]:
			prefixes[at] = true
			ways = ofAddress
		case rt.Method() == "GET":
			p.Spared += len(ofAddress)
		case rt.Effect != declaration.Delete && json.Valid(rt.Send.JSON):
			ways = ofBody
		}
		for _, w := range ways {
			x := check.Probe{ID: ctl.ID, Phase: check.SafeFirst, Unsafe: rt.Unsafe(), Record: ctl.Record,
				Control: ctl.Key(), Detail: Detail{check.ParamsOf(ctl), by}}
			if x.Family, x.Of = f.Name(), w; x.Unsafe {
				x.Phase = check.ThenRaising // what is taken all the same may change what others are sent on
			}
			x.Record.Shared = x.Record.Lent()
			p.Add(x)
		}
	}
}

// Request is that of the control, no good in one way.
func Request(c *check.Context, p *check.Probe) check.Request {
	i := c.Doc.RouteNamed(p.Route)
	q := check.RequestOf(c, p, i, c.Doc.Routes[i].Path(), of(p).Params).WithBody(c, i)
	body := bytes.TrimSpace(q.Body)
	bare := func(text string) { q.Body, q.Needs = []byte(text), nil }
	switch p.Of {
	case CutOff:
		bare(string(body[:max(1, len(body)/2)]))
	case OtherType:
		q.Headers = with(q.Headers, "Content-Type", "text/plain; charset=utf-8")
	case Empty:
		bare("")
	case Nested:
		bare(strings.Repeat("[", deep) + strings.Repeat("]", deep))
	case Percent:
		q.Path += "%"
	case Long:
		q.Query = strings.TrimPrefix(q.Query+"&x="+strings.Repeat("a", long), "&")
	}
	return q
}

// with are fields with one of another value.
func with(list field.List, name, value string) (out field.List) {
	for _, h := range list {
		if !strings.EqualFold(h[0], name) {
			out = append(out, h)
		}
	}
	return append(out, [2]string{name, value})
}

// again names the request that was sent once more, since it failed.
const again = "the same once more"

// Script sends it, and once more where it fails.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		m := &check.Recorded{}
		t.Measured(m)
		var ok bool
		if m.Record, ok = t.Borrow(c, p); !ok {
			return
		}
		call := check.Call{Name: check.TheRequest, Request: Request(c, p), As: check.Bears(c, p), Retry: true}
		if !p.Unsafe {
			call.Effect = check.Safe
		}
		call.Makes, call.Take = check.Creating(c.Doc, c.Doc.RouteNamed(p.Route))
		r := t.One(call)
		class := r.Class(c.Doc.Answers)
		if r.Fate == check.Answered && class == check.Failed {
			call.Name = again
			t.Keep(t.Send(call)...)
		}
		if class == check.Admitted || class == check.Failed {
			t.Return(p, false)
		}
	})
}

// speaks are the statuses that speak of a request (RFC 9110 section 15.5, RFC 6585 section 5).
var speaks = map[int]bool{400: true, 404: true, 405: true, 411: true, 413: true, 414: true, 415: true, 422: true,
	431: true}

// Judge says how it was turned away.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	if len(fact.Reports) == 0 {
		return check.Unproven("nothing was sent")
	}
	r := fact.Reports[0]
	a, class := check.AnswerOf(r.Exchange), r.Class(c.Doc.Answers)
	v := check.Verdict{Answers: []check.Report{r}, AnyShape: p.Of == Percent || p.Of == Long,
		Says: fmt.Sprintf("%s was answered %s", p.Of, a.Code())}
	k := check.ControlOf(c, e, p.Control, of(p).ControlBy)
	switch {
	case r.Fate != check.Answered:
		return check.Unproven("%s was not answered", p.Of)
	case class == check.Failed && k.Unfair() != "":
		v.Says += ", and " + k.Unfair()
	case class == check.Failed:
		proof := check.Speaks(check.Head(r))
		if second, ok := fact.Named(again); ok && second.Class(c.Doc.Answers) == check.Failed {
			proof = check.Shown(check.Head(r), check.Head(second))
		}
		v.Gaps = []check.Gap{{Cause: fails, What: p.Of, Proof: proof,
			Wide: finding.Scope{Of: finding.AtService, Name: "that is sent " + p.Of},
			Says: fmt.Sprintf("%s was answered %s, as if the service had failed; it must be turned away for what "+
				"it is (400 and the like).", check.Sentence(p.Of), a.Code())}}
	case speaks[a.Status]:
		v.Proof = check.Shown(check.Head(r))
	case class == check.Admitted && a.Status < 300:
		v.Says, v.Proof = fmt.Sprintf("%s is taken (%s)", p.Of, a.Code()), check.Speaks(check.Head(r))
	}
	return v
}

var fails = &finding.Row{Cause: "fails on ", Kind: finding.WrongRefusal, Title: "Fails on {what}",
	Means: "What cannot be read breaks the service where it should be turned away: callers take it for an outage, " +
		"and " +
		"whoever sends it often is seen in no statistics of refusals.",
	Advice: "Catch what reading a request can throw, and answer 400.",
	OWASP:  finding.API8, CWE: 755}

// Causes are failures.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "bad request", Title: "Requests that cannot be read",
		Shown: "The request of an admitted control, no good in one way, was answered 5xx twice. Once is likely.",
		Refuted: "The control's own answer: a service that fails for everybody shows nothing here; and the same " +
			"request, " +
			"sent once more.",
		Rows: []*finding.Row{fails}}
}
