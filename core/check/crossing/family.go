// Package crossing checks callers at routes: rungs 2 to 6 of the ladder.
//
// # What is planned
//
// For every route:
//
//   - a control: a caller that must be admitted. Without it a refusal means nothing, since
//     the request itself may be wrong;
//   - nobody, without a credential and with a broken one: different callers, because a
//     guard may refuse the one and let the other through;
//   - one identity of each class that the declaration cannot tell apart. The others of the
//     class are inferred, never observed;
//   - where the record decides, one of each relation: of each group, of the caller's own kind,
//     its own, and one of none of these;
//   - where another parameter names what the record stands in, one that it does not stand in;
//   - every guarded GET, asked for as a page by nobody: what shows a page is often registered
//     route by route, and the guard before the data alone;
//   - on one route behind each guard, how a refusal looks to who asks for a page, or for
//     nothing.
//
// # What is concluded
//
// Expectation and class of the answer give the verdict:
//
//	expected            admitted refused forbidden hidden throttled to-login invalid  wrong-method failed
//	admit               agrees   R       R         R      again     R        unproven unproven     unproven
//	refuse (401)        U        agrees  W         W      again     W        W or ?   W            unproven
//	forbid (403)        P        W       agrees    W      again     W        W or ?   unproven     unproven
//	hide (404)          P        W       W         agrees again     W        W or ?   unproven     unproven
//
// "W or ?": a wrong class of refusal when the admitted control sent the same bytes, otherwise
// unproven. An admission proves itself. A refusal counts only beside an admitted control: the same
// request by a caller who must get in. A record of somebody else is proven to be shown
// where two values of the owner's answer are in it that the caller's own records do not
// have. Where a caller must be turned away, the record's owner reads it before and after,
// so that a refusal that was carried out all the same shows. What a route's follow-ups are
// answered shows whether an admitted request had its effect.
//
// What is shown in another form than the control's answer (a page, a table) counts by its
// values: two that stand in the control's, and neither in what was sent nor in the page of an
// address that nobody has.
//
// A failure (5xx) is no refusal, and one alone is chance: a safe request that fails is sent
// once more a moment later. Twice without a credential, beside an admitted control, the guard
// breaks in place of refusing. Twice for who must get in, while other routes work, the route
// serves no one.
package crossing

import (
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/finding"
)

// Family is that of callers at routes.
type Family struct{ check.OnRecords }

// Detail is what a crossing is sent with, and what it is held against.
type Detail struct {
	Params    map[string]string // values for all parameters but the record's
	ControlBy string            // the control's caller, in words
	Owner     []Shown           // the probes of its owner, or else of others who may see the record
	Own       []string          // those of the caller at its own records
	Near      []string          // the controls of routes beside this one, for whom must be admitted
	Apart     string            // its parameters name what does not belong together: anothersRecord or anothersPlace
}

// Shown is a probe by its key, and who was sent.
type Shown struct{ Key, Who string }

// How parameters do not belong together; they stand in ids.
const (
	anothersRecord = "in its own place, another's record"
	anothersPlace  = "in another's place, its own record"
)

// Parameters are the values of its route's parameters, but for the record's.
func (d Detail) Parameters() map[string]string { return d.Params }

// What a refusal is asked for as; they stand in ids.
const (
	AcceptHTML = "asking for HTML"
	AcceptNone = "without Accept"
)

// Name is that of its probes.
func (Family) Name() string { return "crossing" }

// Causes are those of callers at routes.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "crossing", Title: "Callers at routes",
		Shown: "A caller's request was admitted where the declaration turns it away, or turned away where it must be " +
			"admitted. An admission proves itself. A refusal counts only beside an admitted control: the same " +
			"request by a caller who must get in.",
		Refuted: "A control that is not admitted either; an answer that never came, a 429 or a failure; 400, 409, " +
			"410, 412 or 422 after a control that made or used something up. Then it is unproven.",
		Rows: rows}
}

// of is the detail of a probe.
func of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request; those that make, read and remove records are counted for all.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, says(p)
}

func says(p *check.Probe) string {
	switch {
	case of(p).Apart != "":
		return p.Record.Name + ", " + p.Of
	case p.Of != "":
		return "no credential, " + p.Of
	case p.Relation != access.NoRecord && p.Caller.Identity != "":
		return p.Relation.Text(p.Record.Name)
	case p.Relation != access.NoRecord:
		return map[access.State]string{access.Absent: "no", access.Broken: "broken"}[p.Caller.State] + " credential, " +
			p.Relation.Text(p.Record.Name)
	case p.Caller.Identity == "" && p.Caller.State == access.Broken:
		return "broken credential"
	case p.Caller.Identity == "":
		return "no credential"
	}
	return "sound credential"
}

// Who names the caller.
func (Family) Who(p *check.Probe) string {
	if p.Of != "" && of(p).Apart == "" {
		return "nobody (" + p.Of + ")"
	}
	return check.WhoOf(p.Caller)
}

// Expect is what the declaration expects of the caller, without its ladder. What does not belong
// together is nobody's that the caller may see.
func (Family) Expect(c *check.Context, p *check.Probe) access.Expectation {
	x := check.ExpectAt(c, p)
	if of(p).Apart == anothersPlace && x.Outcome == access.Admit {
		who := p.CallerIn(c.Doc)
		who.Record = access.Foreign
		x = access.Decide(c.Doc, c.Doc.RouteNamed(p.Route), who).Because("the " + p.Record.Name +
			" does not stand in what the path says")
	}
	return x
}

// Script sends the request on its record and looks for its effect.
func (f Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		call := Call(c, p)
		call.Must = f.Expect(c, p).Outcome == access.Admit
		call.Makes, call.Take = check.Creating(c.Doc, c.Doc.RouteNamed(p.Route))
		then := follows(c, p)
		for _, u := range then {
			call.Take = append(call.Take, u.take...)
		}
		r, ok := t.On(c, p, call)
		if !ok || r.Fate != check.Answered {
			return
		}
		f.refute(t, c, p, call, r)
		if !call.Must || r.Class(c.Doc.Answers) != check.Admitted {
			return
		}
		for _, u := range then {
			t.Keep(u.send(t, r))
		}
	})
}

// The reports of what refutes a claim about a safe request.
const (
	onceMore  = "the request, once more"
	elsewhere = "an address that nobody has"
)

// soon is how long after a failure a request is sent once more: what was chance is over then.
const soon = time.Second

// refute looks for what would explain the answer to a safe request otherwise.
func (f Family) refute(t *check.Telling, c *check.Context, p *check.Probe, call check.Call, r check.Report) {
	out := f.Expect(c, p).Outcome
	away := out != access.Admit && out != access.Either
	switch a := check.AnswerOf(r.Exchange); {
	case call.Effect != check.Safe:
	case check.Classify(a, c.Doc.Answers) == check.Failed && (!away || out == access.Refuse):
		t.Wait(soon)
		call.Name, call.Must, call.Makes, call.Take = onceMore, false, nil, nil
		t.One(call)
	case away && len(a.Body) > 0 && a.Status < 300 && !a.Parts():
		call.Name, call.Take = elsewhere, nil
		call.Request.Path, call.Request.Query = check.Beside(call.Request.Path), ""
		t.One(call)
	}
}

// Call is the request of a crossing, with its credential. What it takes is left to whoever
// sends it.
func Call(c *check.Context, p *check.Probe) check.Call {
	call := check.Call{Name: check.TheRequest, Request: Request(c, p), As: check.Bears(c, p), Retry: true}
	rt := c.Doc.Routes[c.Doc.RouteNamed(p.Route)]
	if !rt.Unsafe() {
		call.Effect = check.Safe
	}
	if x := access.Decide(c.Doc, c.Doc.RouteNamed(p.Route), access.Caller{Identity: c.Doc.IdentityNamed(
		p.Caller.Identity), State: access.Broken}); x.Decider > 0 {
		call.Unsound = x.Status()
	}
	return call
}

// Request is the request of a crossing, without its credential.
func Request(c *check.Context, p *check.Probe) check.Request {
	i := c.Doc.RouteNamed(p.Route)
	q := check.RequestOf(c, p, i, c.Doc.Routes[i].Path(), of(p).Params).WithBody(c, i)
	switch p.Of {
	case AcceptHTML:
		q.Headers = append(q.Headers, [2]string{"Accept", "text/html,application/xhtml+xml"})
	case AcceptNone:
		q.Headers = append(q.Headers, [2]string{"Accept", ""})
	}
	return q
}
