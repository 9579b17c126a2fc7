package app

import (
	"context"
	"fmt"
	"time"

	"millgate/core/check"
	"millgate/core/check/logins"
	"millgate/core/check/sessions"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/session"
	"millgate/wire"
)

// Declared is what the lifetimes of a scheme come to, where they stand, and
// what drills measured.
type Declared struct {
	session.Session
	Place  declaration.Place
	Drills []DrillView
}

// DrillView is one identity's session drill; Result is nil before it was run.
type DrillView struct {
	Identity string
	Route    string // of the login
	Inferred []string
	At       time.Time
	Verdict  finding.Verdict
	Result   *session.Drilled
	Steps    []ScriptStep // one for each step of the result
}

// sessionKind is the kind of the probes that drill sessions.

// Sessions computes what the declaration's lifetimes come to, at a rate of
// logouts in an hour, beside what drills measured at a target.
func (a *App) Sessions(ctx context.Context, target string, logouts float64) ([]Declared, error) {
	if !(logouts >= 0 && logouts <= 1e9) {
		return nil, fmt.Errorf("%w: the logouts in an hour are a number from 0 to a thousand million", ErrInput)
	}
	now := a.present()
	d := now.doc
	drills := map[string][]DrillView{}
	if t := now.pick(target); t != nil && !now.failed() {
		s, err := a.look(ctx, now, t)
		if err != nil {
			return nil, err
		}
		for _, p := range s.plan().Probes {
			if is(p, sessions.Family{}) {
				drills[p.Caller.Scheme] = append(drills[p.Caller.Scheme], drillView(s, p))
			}
		}
	}
	var out []Declared
	for _, s := range d.Schemes {
		x, ok := session.Of(d, s, logouts)
		if ok || len(drills[s.Name]) > 0 {
			x.Scheme, x.Kind = s.Name, s.Kind
			out = append(out, Declared{x, s.Place, drills[s.Name]})
		}
	}
	return out, nil
}

func drillView(s *snapshot, p *check.Probe) DrillView {
	v := DrillView{Identity: p.Caller.Identity, Route: p.Route, Inferred: p.StandsFor,
		Verdict: finding.Verdict{Kind: finding.Unprobed}}
	it, ok := s.items[p.Key()]
	f := s.facts.of(p.Key())
	if !ok || f == nil {
		return v
	}
	v.Verdict, v.At = it.Verdict, f.Exchange.At
	if f.Check == nil {
		return v
	}
	if m, ok := f.Check.Data.(*sessions.Measured); ok {
		d := m.Of(f.Check.Began)
		v.Result, v.Steps = &d, stepsOf(s.plan(), p, f)
	}
	return v
}

// timingPairs are the logins of each kind that are compared.
const timingPairs = 12

// CompareLogins compares how long a login with a wrong secret takes for a
// known and for an unknown name. Nothing of it is kept.
func (a *App) CompareLogins(ctx context.Context, target, identity, scheme string) (session.Timing, error) {
	d, t, err := a.present().current(target)
	if err != nil {
		return session.Timing{}, err
	}
	id, s := d.IdentityNamed(identity), d.SchemeNamed(scheme)
	switch {
	case a.busy():
		return session.Timing{}, fmt.Errorf("%w: its requests would be part of what is measured", ErrBusy)
	case id == nil || s == nil || s.Login == nil || id.Credential(scheme) == nil:
		return session.Timing{}, fmt.Errorf("%w: %s does not log in with %s", ErrInput, identity, scheme)
	case t.Unsafe != declaration.UnsafeAllowed:
		return session.Timing{}, fmt.Errorf("%w: target %s does not allow wrong logins; write  unsafe: allowed",
			ErrInput, t.Name)
	}
	c, err := wire.NewClient(ctx, t, "", wire.NewMasker(a.maskKey), a.dial)
	if err != nil {
		return session.Timing{}, err
	}
	defer c.Close()
	f, err := wire.Runner{Keys: wire.NewKeyring(d, t, c, a.secrets(ctx))}.Run(ctx,
		logins.Timing(&check.Context{Doc: d, Target: t}, identity, scheme, timingPairs))
	if err != nil {
		return session.Timing{}, err
	}
	m, _ := f.Data.(*logins.Timed)
	if m.Lost != "" {
		return session.Timing{}, fmt.Errorf("%w: %s", wire.ErrUnreachable, m.Lost)
	}
	return session.Compare(m.Known, m.Unknown), nil
}
