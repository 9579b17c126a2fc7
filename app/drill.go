package app

import (
	"cmp"
	"time"

	"millgate/core/check"
	"millgate/core/check/sessions"
	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/session"
)

// drillWait is how long a drill waits at most for an ended credential to be
// refused, beyond the time that the declaration gives it.
const (
	drillWait    = 2 * time.Second
	drillLongest = 30 * time.Second
)

// Drill is what a session drill measured, with the exchanges beside its steps.
type Drill struct {
	session.Drilled
	Exchanges []check.Exchange `json:"exchanges"`
}

// drill runs the session drill of a probe.
func (r *run) drill(p *probe.Probe, f *Fact) error {
	if err := r.intend(p); err != nil {
		return err
	}
	uses := r.plan.Find(p.Uses)
	s := r.doc.SchemeNamed(p.Scheme)
	x := sessions.Drill{Identity: p.Identity, Neighbour: p.Donor, Scheme: s, Use: r.template(uses, uses.Record.ID), Longest: drillWait}
	if l := r.doc.LifetimeNamed(s.Lifetime["access"].Name); l != nil {
		x.Longest = min(x.Longest+l.EndedWithin, drillLongest)
	}
	fact, err := r.keys.Run(r.ctx, sessions.Script(r.doc, r.target, x))
	if r.ctx.Err() != nil {
		return nil // stopped: it is run again as a whole
	}
	m, _ := fact.Data.(*sessions.Measured)
	if err != nil || m == nil || len(m.Steps) == 0 {
		return r.withoutCredential(p, f, cmp.Or(err, errLost))
	}
	f.Drill = &Drill{Drilled: m.Of(fact.Began)}
	for _, report := range fact.Reports {
		f.Drill.Exchanges = append(f.Drill.Exchanges, report.Exchange)
	}
	f.Exchange = f.Drill.Exchanges[0]
	return r.keep(p, f)
}

// template is a probe's request as a call's, without a credential. Names in its body
// stand for values of the identity as which it is sent, or of the target.
func (r *run) template(p *probe.Probe, recordID string) check.Request {
	q := probe.Build(r.doc, p, recordID)
	out := check.Request{Method: q.Method, Host: q.Host, Path: q.Path, Query: q.Query, Headers: q.Headers, Body: q.Body, Fill: map[string]check.Fill{}}
	for _, n := range (&declaration.Request{JSON: q.Body}).Placeholders() {
		if _, ok := r.target.Values[n]; ok {
			out.Fill[n] = check.Fill{Name: n}
		}
		id := r.doc.IdentityNamed(q.As)
		if id == nil {
			continue
		}
		for _, c := range id.Credentials {
			if _, ok := c.Fill[n]; ok {
				out.Fill[n] = check.Fill{Identity: id.Name, Scheme: c.Scheme.Name, Name: n}
			}
		}
	}
	return out
}
