package view

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"millgate/app/fault"
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/field"
)

// Sending is one request that somebody asks for: a probe of the plan, or a route as somebody,
// with what is changed of it.
type Sending struct {
	Target  string
	Probe   string     // the key of a probe; or:
	Request string     // a method and a route of the inventory, or a path that one of them serves
	As      string     // an identity, or nobody; "" is the probe's caller
	Record  string     // the id behind the route's record parameter
	Broken  string     // a way in which the caller's credential is broken; "" is sound
	Headers field.List // put in the place of those of these names, or beside the others
	Body    *string    // in the place of the request's; nil leaves it
}

// Sent is what came of it.
type Sent struct {
	Explained access.Explained
	Report    check.Report
	Class     check.Class
	Agrees    bool            // the answer is what the declaration expects of this caller
	Silent    bool            // the answer says nothing about who may: it failed, was throttled or invalid
	Before    *check.Exchange // what the probe was answered when it was last sent; nil without
	Differs   []string        // in what the answer differs from that one, in words
}

// nobody is how people write that nobody calls.
const nobody = "nobody"

// Send sends it.
func (vw *View) Send(ctx context.Context, x Sending) (Sent, error) {
	call, out, err := vw.compose(ctx, x)
	if err != nil {
		return out, err
	}
	if out.Report, err = vw.sweeps.Send(ctx, x.Target, call); err != nil {
		return out, err
	}
	d := vw.ws.Present().Doc
	out.Class = out.Report.Class(d.Answers)
	out.Agrees = agrees(out.Explained.Expectation, out.Class, out.Report.Exchange.Status)
	out.Silent = slices.Contains([]check.Class{check.Failed, check.Throttled, check.Invalid}, out.Class)
	if out.Before != nil {
		out.Differs = differs(*out.Before, out.Report.Exchange)
	}
	return out, nil
}

// agrees says whether a class of answers is what is expected; ownership that depends is met by
// either.
func agrees(x access.Expectation, class check.Class, status int) bool {
	switch x.Outcome {
	case access.Admit:
		return class == check.Admitted || x.Depends && (class == check.Forbidden || class == check.Hidden ||
			class == check.Refused && len(x.Entry.Opens().On) > 0)
	case access.Refuse, access.Forbid, access.Hide:
		return check.AsDeclared(x, class, status)
	case access.Either:
		return class == check.Admitted || class == check.Refused
	default:
	}
	return class != check.Admitted
}

// differs says in what one answer differs from another, for people.
func differs(before, now check.Exchange) (out []string) {
	if before.Status != now.Status {
		out = append(out, fmt.Sprintf("the status: %d before, %d now", before.Status, now.Status))
	}
	if a, b := before.Answer.Get("Content-Type"), now.Answer.Get("Content-Type"); a != b {
		out = append(out, fmt.Sprintf("the type: %s before, %s now", cmp.Or(a, "none"), cmp.Or(b, "none")))
	}
	switch a, b := check.AnswerOf(before), check.AnswerOf(now); {
	case string(a.Body) == string(b.Body):
	case check.Alike(a, b):
		out = append(out, "values of the body, which has the same members")
	default:
		out = append(out, "the body")
	}
	return out
}

// compose makes the call.
func (vw *View) compose(ctx context.Context, x Sending) (call check.Call, out Sent, err error) {
	d, t, err := vw.ws.Present().Current(x.Target)
	if err != nil {
		return call, out, err
	}
	if x.Probe != "" {
		call, out, err = vw.ofProbe(ctx, d, t, &x)
	} else {
		call, out, err = ofRoute(d, t, x)
	}
	if err != nil {
		return call, out, err
	}
	for _, h := range x.Headers {
		call.Request.Headers = slices.DeleteFunc(slices.Clone(call.Request.Headers), func(o [2]string) bool {
			return strings.EqualFold(o[0], h[0])
		})
		call.Request.Headers = append(call.Request.Headers, h)
	}
	if x.Body != nil {
		call.Request.Body = []byte(*x.Body)
		call.Request.Needs = (&declaration.Request{JSON: call.Request.Body}).Placeholders()
	}
	return call, out, nil
}

// ofProbe is the call of a probe, as its caller or as somebody else.
func (vw *View) ofProbe(ctx context.Context, d *declaration.Document, t *declaration.Target,
	x *Sending) (call check.Call, out Sent, err error) {
	_, _, p, f, err := vw.Planned(ctx, x.Target, x.Probe)
	if err != nil {
		return call, out, err
	}
	first := vw.FirstCall(d, t, p, f)
	if first == nil {
		return call, out, fmt.Errorf("%w: this probe sends no request of its own", fault.ErrInput)
	}
	call = *first
	call.Counts = ""
	if p.Record.Lent() {
		id := x.Record
		if id == "" && f != nil {
			id = f.Record
		}
		if id == "" {
			return call, out, fmt.Errorf("%w: its record is made for it by a sweep; say which is asked for",
				fault.ErrInput)
		}
		call.Request, x.Record = call.Request.OnID(id), id
	}
	who, broken := p.Caller.Identity, p.Caller.State == access.Broken
	if x.As != "" {
		who, broken = x.As, x.Broken != ""
		if call.As, err = presenting(d, d.RouteNamed(p.Route), *x); err != nil {
			return call, out, err
		}
	}
	record := x.Record
	if record == "" {
		record = p.Record.Value
	}
	if d.Record(d.RouteNamed(p.Route)) == nil {
		record = ""
	}
	if d.RouteNamed(p.Route) >= 0 {
		out.Explained, err = access.Explain(d, p.Route, cmp.Or(who, nobody), record, broken)
	}
	if f != nil && f.Check != nil && len(f.Check.Reports) > 0 && f.Check.Reports[0].Fate == check.Answered {
		out.Before = &f.Check.Reports[0].Exchange
	}
	return call, out, wrong(err)
}

// wrong is an error of what was asked for.
func wrong(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: %w", fault.ErrInput, err)
}

// ofRoute is a request to a route as somebody, with what the declaration knows to send there.
func ofRoute(d *declaration.Document, t *declaration.Target, x Sending) (call check.Call, out Sent, err error) {
	who := cmp.Or(x.As, nobody)
	if out.Explained, err = access.Explain(d, x.Request, who, x.Record, x.Broken != ""); err != nil {
		return call, out, wrong(err)
	}
	i := d.RouteNamed(out.Explained.Route)
	id := d.IdentityNamed(who)
	rel := access.NoRecord
	if d.Record(i) != nil && id != nil {
		rel = access.Own
	}
	draft, why, ok := check.NewDrafts(d, t, access.Classes(d)).For(i, id, rel, true)
	if !ok && out.Explained.Record == "" {
		return call, out, wrong(fmt.Errorf("%s at %s: %s", who, out.Explained.Route, why))
	}
	p := &check.Probe{ID: check.ID{Family: crossing.Family{}.Name(), Route: d.Routes[i].Key()},
		Record: draft.Record, Detail: crossing.Detail{Params: draft.Params}}
	if id != nil {
		p.Caller.Identity = id.Name
	}
	if rec := d.Record(i); rec != nil && out.Explained.Record != "" {
		p.Record = check.Record{Name: rec.Name, Param: d.FillParam(i, rec), Value: out.Explained.Record}
	}
	if p.Record.Lent() {
		return call, out, wrong(fmt.Errorf("say which %s is asked for; throwaway ones are made by sweeps alone",
			p.Record.Name))
	}
	as, err := presenting(d, i, x)
	if err != nil {
		return call, out, err
	}
	if len(as) > 0 {
		p.Caller.Scheme = as[0].Scheme
	}
	call = crossing.Call(&check.Context{Doc: d, Target: t}, p)
	call.As = as
	return call, out, nil
}

// presenting is the credential of who is sent at route i, sound or broken in a way.
func presenting(d *declaration.Document, i int, x Sending) ([]check.Present, error) {
	id := d.IdentityNamed(x.As)
	if id == nil {
		if x.Broken != "" {
			return nil, wrong(fmt.Errorf("nobody has no credential that could be broken; say as whom"))
		}
		return nil, nil
	}
	if i < 0 || len(id.Credentials) == 0 {
		return nil, wrong(fmt.Errorf("%s has no credential", id.Name))
	}
	s := d.SchemeNamed(access.Credential(d, i, id).Scheme.Name)
	if s == nil {
		return nil, wrong(fmt.Errorf("the scheme of %s is not declared", id.Name))
	}
	as := check.Present{Caller: check.Caller{Identity: id.Name, Scheme: s.Name, State: access.Sound}}
	if x.Broken != "" {
		if ways := check.Ways(s); !slices.Contains(ways, x.Broken) {
			return nil, wrong(fmt.Errorf("a credential of %s cannot be broken as %q; the ways are %s", s.Name, x.Broken,
				strings.Join(ways, ", ")))
		}
		as.State, as.Way = access.Broken, x.Broken
		as.Role = check.HighestRole(d, id.Name)
	}
	return []check.Present{as}, nil
}
