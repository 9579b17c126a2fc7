// Package raised checks that nobody gives itself a role by writing it into a body.
//
// # What is sent
//
// Where a route takes a body that creates or updates, the least of the callers that it admits
// sends the sample with one member more: the claim that holds roles in the scheme's tokens,
// with the highest role that the caller does not have. The record's owner reads the member
// before and after, and what was created is read by who may; what was raised is put back. Where a role is
// seen in what was created, another is made without the claim, and read.
//
// # What is concluded
//
// The role in the answer, or in the record read again, is OverPermissive. That it is in neither
// speaks for a body that is not taken over as it comes; where nothing was read that could show
// it, nothing is known.
package raised

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Family is that of raised roles.
type Family struct{}

// Detail is what is claimed.
type Detail struct {
	Role   string            // the role claimed; the member that claims it is Of
	Params map[string]string // values for all parameters but the record's
	// Read is the route that reads what is created, and By who may whatever it is; "" without.
	Read string
	By   check.Caller
}

// Measured is what stays beside the reports.
type Measured struct {
	check.Recorded
	// Raised is where the role was seen, where the reports do not show it: versions before
	// kept that alone.
	Raised string `json:"raised,omitempty"`
}

const version = 1 // of Measured

// Name is that of its probes.
func (Family) Name() string { return "raised-role" }

// Of is the detail of a probe.
func Of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request; those that make and remove a record are counted for all.
func (Family) Cost(*check.Context, *check.Probe) check.Cost { return check.Cost{Requests: 1} }

// Cell is the caller's at the route.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity},
		fmt.Sprintf("a body that claims %s: %s", p.Of, Of(p).Role)
}

// Who names the caller.
func (Family) Who(p *check.Probe) string { return check.WhoOf(p.Caller) }

// Expect is what is expected of the request itself.
func (Family) Expect(c *check.Context, p *check.Probe) access.Expectation {
	return check.ExpectAt(c, p)
}

// Plan plans a claim at each route that takes one.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	claim := ""
	for _, s := range c.Doc.Schemes {
		if at := s.Claims["roles"]; at != "" {
			claim = at.Last()
			break
		}
	}
	for i, rt := range c.Doc.Routes {
		if rt.Effect != declaration.Create && rt.Effect != declaration.Update || check.UsesSession(c.Doc, i) {
			continue
		}
		least, role := f.least(c, p.At(i)), ""
		if least != nil {
			role = check.HighestRole(c.Doc, least.Caller.Identity)
		}
		if why := cannot(rt, claim, least != nil, role); why != "" {
			p.Leave(check.Omission{Route: rt.Key(), What: "a role in the body", Why: why})
			continue
		}
		if role == "" {
			continue
		}
		x := check.Probe{ID: least.ID, Phase: check.ThenRaising, Unsafe: rt.Unsafe(), Record: least.Record,
			Control: least.Key(), Detail: Detail{Role: role, Params: check.ParamsOf(least)}}
		x.Family, x.Of = f.Name(), claim
		d := Of(&x)
		d.Read, d.By = reads(c, p, i)
		x.Detail = d
		p.Add(x)
	}
}

// reads is the route that reads what route i creates or changes, with who may read whatever it is.
func reads(c *check.Context, p *check.Planning, i int) (key string, by check.Caller) {
	rt := c.Doc.Routes[i]
	for k, o := range c.Doc.Routes {
		at := rt.Path()
		if rt.Method() == "POST" {
			at += "/{" + last(o.Parameters()) + "}"
		}
		if o.Method() != "GET" || o.Host != rt.Host || o.Path() != at {
			continue
		}
		for _, x := range p.At(k) {
			if x.Of == "" && x.Relation == access.NoRecord && x.Caller.Identity != "" &&
				(Family{}).Expect(c, x).Outcome == access.Admit {
				return o.Key(), x.Caller
			}
		}
	}
	return "", by
}

func last(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[len(list)-1]
}

// cannot says why no role can be claimed at a route, "" where it can, or where there is none to
// claim: role is one that the caller does not have.
func cannot(rt *declaration.Route, claim string, admitted bool, role string) string {
	var body map[string]json.RawMessage
	switch {
	case json.Unmarshal(rt.Send.JSON, &body) != nil || len(body) == 0:
		if rt.Send.HasBody() {
			return "its body is no JSON object"
		}
		return "no body is known for it; say a sample with send"
	case claim == "":
		return "no scheme says which claim holds roles (claims: { roles: … })"
	case body[claim] != nil:
		return fmt.Sprintf("its body sets %s itself", claim)
	case !admitted:
		return "no caller who must be admitted can be sent"
	case role == "":
		return "who is admitted with the fewest roles has the highest"
	}
	return ""
}

// least is the caller with the fewest roles of those that must be admitted.
func (f Family) least(c *check.Context, at []*check.Probe) (least *check.Probe) {
	size := 0
	for _, p := range at {
		if p.Of != "" || p.Caller.State == access.Broken || f.Expect(c, p).Outcome != access.Admit {
			continue
		}
		n := 0
		if id := c.Doc.IdentityNamed(p.Caller.Identity); id != nil {
			n = 1 + len(c.Doc.RolesOf(id))
		}
		if least == nil || n < size {
			least, size = p, n
		}
	}
	return least
}

// The calls of a script beside the request.
const (
	before  = "the record before"
	after   = "the record afterwards"
	putBack = "put it back"
	again   = "the record in the end"
	without = "the same without the claim"
	theirs  = "what that made, read"
)

// Script claims the role, looks for it, and puts back what was there.
func (f Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		m := &Measured{}
		t.Measured(m)
		var ok bool
		if m.Record, ok = t.Borrow(c, p); !ok {
			return
		}
		read := func(name string) check.Report {
			call, ok := check.Reading(c, p, name)
			if !ok {
				return check.Report{}
			}
			return t.Send(call)[0]
		}
		i := c.Doc.RouteNamed(p.Route)
		q := check.RequestOf(c, p, i, c.Doc.Routes[i].Path(), Of(p).Params).WithBody(c, i)
		call := check.Call{Name: check.TheRequest, Request: q, As: check.Bears(c, p), Retry: true}
		call.Request.Body = withMember(q.Body, p.Of, []string{Of(p).Role})
		call.Makes, call.Take = check.Creating(c.Doc, i)
		was := read(before)
		r := t.One(call)
		if was.Name != "" && r.Fate != check.Unsent {
			t.Keep(was)
		}
		if r.Fate == check.Answered && r.Exchange.Status < 300 && r.Class(c.Doc.Answers) == check.Admitted {
			now := read(after)
			if slot := slotOf(call); now.Name == "" && (slot == "" || r.Took[slot] != "") {
				now = readBack(t, c, p, after, slot)
			}
			if now.Name != "" {
				t.Keep(now)
			}
			if slot := slotOf(call); slot != "" && where(p, r, was, now) != "" {
				unclaimed(t, c, p, call, q.Body)
			}
			if claimed := member(was, p.Of); where(p, r, was, now) != "" && claimed != "" {
				back := check.Call{Name: putBack, Request: q, As: check.Bears(c, p)}
				back.Request.Body = withMember(q.Body, p.Of, json.RawMessage(claimed))
				t.Send(back)
				if holds(member(read(again), p.Of), Of(p).Role) {
					t.Left(check.Left{What: p.Record.Name, Name: m.Record,
						Why: fmt.Sprintf("%s was raised to %s and could "+
							"not be put back to %s", p.Of, Of(p).Role, claimed)})
				}
			}
		}
		t.Return(p, false)
	})
}

// unclaimed makes another one without the claim, and reads it: who has the role without asking did not
// raise it.
func unclaimed(t *check.Telling, c *check.Context, p *check.Probe, call check.Call, body []byte) {
	made := *call.Makes
	made.Slot += " without"
	take := slices.Clone(call.Take)
	for i := range take {
		if take[i].Slot == call.Makes.Slot {
			take[i].Slot = made.Slot
		}
	}
	call.Name, call.Request.Body, call.Makes, call.Take = without, body, &made, take
	r := t.Send(call)[0]
	t.Keep(r)
	if r.Took[made.Slot] == "" {
		return
	}
	if read := readBack(t, c, p, theirs, made.Slot); read.Name != "" {
		t.Keep(read)
	}
}

// slotOf is the slot with the id of what a call makes, "" without.
func slotOf(c check.Call) string {
	if c.Makes == nil {
		return ""
	}
	return c.Makes.Slot
}

// readBack reads what was created; the zero report where nobody is known who may.
func readBack(t *check.Telling, c *check.Context, p *check.Probe, name, slot string) check.Report {
	d := Of(p)
	i := c.Doc.RouteNamed(d.Read)
	if i < 0 {
		return check.Report{}
	}
	rt := c.Doc.Routes[i]
	q := check.RequestOf(c, p, i, rt.Path(), d.Params)
	if slot != "" {
		q.Fill = map[string]check.Fill{last(rt.Parameters()): {Slot: slot}}
	}
	return t.Send(check.Call{Name: name, Request: q, As: []check.Present{{Caller: d.By}}, Effect: check.Safe,
		Retry: true})[0]
}

// withMember sets a member of a JSON object, before the others, which stay as they stand.
func withMember(body []byte, name string, value any) []byte {
	trimmed := bytes.TrimSpace(body)
	if len(trimmed) < 2 || trimmed[0] != '{' {
		return body
	}
	k, _ := json.Marshal(name) // a string always encodes
	v, err := json.Marshal(value)
	if err != nil {
		return body
	}
	rest := bytes.TrimSpace(trimmed[1:])
	out := append([]byte("{"), k...)
	out = append(append(out, ':'), v...)
	if len(rest) > 1 {
		out = append(out, ',')
	}
	return append(out, rest...)
}

// member is a member of the JSON object that an answer has, as JSON text.
func member(r check.Report, name string) string {
	var m map[string]json.RawMessage
	if json.Unmarshal([]byte(r.Exchange.Content), &m) != nil {
		return ""
	}
	return string(m[name])
}

// holds says whether a claim has a role: a list, or words.
func holds(claim, role string) bool {
	var list []string
	if json.Unmarshal([]byte(claim), &list) == nil {
		return slices.Contains(list, role)
	}
	var one string
	return json.Unmarshal([]byte(claim), &one) == nil && slices.Contains(strings.Fields(one), role)
}

const inTheAnswer = "the answer"

// where says where a role was seen that was not there before, "" where it was not.
func where(p *check.Probe, r, was, now check.Report) string {
	role := Of(p).Role
	ok := func(r check.Report) bool { return r.Exchange.Status == 200 }
	switch {
	case ok(was) && holds(member(was, p.Of), role):
		return ""
	case ok(now) && holds(member(now, p.Of), role):
		return "the record, read again"
	case holds(member(r, p.Of), role):
		return inTheAnswer
	}
	return ""
}

// othersSeen says whether what is made without the claim was seen where the role was.
func othersSeen(seen string, made, read check.Report) bool {
	if seen == inTheAnswer {
		return made.Fate == check.Answered && made.Exchange.Status < 300
	}
	return read.Fate == check.Answered && read.Exchange.Status == 200
}

// Judge says whether the role was taken over.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	if len(fact.Reports) == 0 {
		return check.Unproven("nothing was sent")
	}
	named := func(name string) check.Report { r, _ := fact.Named(name); return r }
	r := fact.Reports[0]
	class, a := r.Class(c.Doc.Answers), check.AnswerOf(r.Exchange)
	seen, proof := "", check.Shown(check.Head(r))
	if class == check.Admitted && a.Status < 300 {
		seen = where(p, r, named(before), named(after))
	}
	everybody := seen != "" && (holds(member(named(without), p.Of), Of(p).Role) ||
		holds(member(named(theirs), p.Of), Of(p).Role))
	if everybody {
		seen = ""
	}
	if seen != "" && named(before).Name == "" && !othersSeen(seen, named(without), named(theirs)) {
		proof = check.Speaks(check.Head(r)) // whether others have it without asking is not known
	}
	if m, ok := fact.Data.(*Measured); ok && m.Raised != "" {
		seen, proof = m.Raised, check.Speaks(check.Head(r)) // what was read is not kept
	}
	k := check.ControlOf(c, e, p.Control, "")
	v := check.Verdict{Answers: []check.Report{r}}
	switch {
	case seen != "":
		v.Gaps = []check.Gap{{Cause: rows[0], What: p.Of, Rung: 4, Proof: proof, Says: fmt.Sprintf("%s raised a role "+
			"through the body: %q with %s was taken over, as seen in %s.", f.Who(p), p.Of, Of(p).Role, seen)}}
	case class == check.Failed || class == check.Unreachable || class == check.Throttled:
		v.Says = "a body that claims a role was answered " + a.Code()
	case class == check.Admitted && k != nil && k.Class != check.Admitted:
		v.Says = "the request without the claim was not admitted: " + k.Answer.Code()
	case class == check.Admitted && member(r, p.Of) == "" && named(after).Exchange.Status != 200:
		v.Says = fmt.Sprintf("a body that claims %q was answered %s, and %s was not seen in the answer or read "+
			"back", p.Of,
			a.Code(), p.Of)
	case everybody:
		v.Says = fmt.Sprintf("whoever is made there has %s, without a body that claims it too", Of(p).Role)
		v.Proof = check.Speaks(check.Head(r))
	default:
		v.Says = fmt.Sprintf("a body that claims %q changed nothing that shows: %s", p.Of, a.Code())
		v.Proof = check.Speaks(check.Head(r))
	}
	return v
}

// Version is that of Measured.
func (Family) Version() int { return version }

// Decode reads Measured.
func (Family) Decode(v int, data []byte) (check.Data, error) {
	return check.DecodeAs[Measured](v, version, data, "a raised role")
}

// Before is the fact of a claim as versions before kept it.
func Before(x check.Exchange, repeats int, record, raised string) *check.Fact {
	f := check.OnRecords{}.Before(Family{}.Name(), x, repeats, check.Recorded{}, nil)
	f.Version, f.Data = version, &Measured{Recorded: check.Recorded{Record: record}, Raised: raised}
	return f
}

// Causes are those of raised roles.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "raised", Title: "Roles in bodies",
		Shown: "The role was seen in the answer, or in the record read again; the old value is put back.",
		Refuted: "The same request without the claim is not admitted; the role was there before; what is made without " +
			"the claim has it too.",
		Rows: rows}
}

var rows = []*finding.Row{
	{Cause: "body ", Kind: finding.OverPermissive, Title: "A role raised through the body",
		Means:  "A caller gave itself a role by writing the member into a body.",
		Advice: "Take only the members that a caller may set, and leave roles to the route that manages them.",
		OWASP:  finding.API3, CWE: 915},
}
