package app

import (
	"time"

	"millgate/core/check"
	"millgate/core/probe"
	"millgate/core/session"
	"millgate/wire"
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
	use, err := r.outgoing(uses, uses.Record.ID)
	if err != nil {
		return r.withoutCredential(p, f, err)
	}
	s := r.doc.SchemeNamed(p.Scheme)
	x := wire.Drill{Identity: p.Identity, Neighbour: p.Donor, Scheme: s, Use: use, Wait: drillWait, Admitted: func(e check.Exchange) bool { return r.class(e) == check.Admitted }}
	if l := r.doc.LifetimeNamed(s.Lifetime["access"].Name); l != nil {
		x.Wait = min(x.Wait+l.EndedWithin, drillLongest)
	}
	d, exchanges, err := r.keys.Drill(r.ctx, x)
	if r.ctx.Err() != nil {
		return nil // stopped: it is run again as a whole
	}
	f.Drill = &Drill{Drilled: d, Exchanges: exchanges}
	if len(exchanges) > 0 {
		f.Exchange = exchanges[0]
	}
	if err != nil && len(d.Steps) == 0 {
		f.Drill = nil
		return r.withoutCredential(p, f, err)
	}
	return r.keep(p, f)
}
