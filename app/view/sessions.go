package view

import (
	"context"
	"fmt"
	"time"

	"millgate/app/fault"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/check/sessions"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/session"
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
func (vw *View) Sessions(ctx context.Context, target string, logouts float64) ([]Declared, error) {
	if !(logouts >= 0 && logouts <= 1e9) {
		return nil, fmt.Errorf("%w: the logouts in an hour are a number from 0 to a thousand million", fault.ErrInput)
	}
	now := vw.ws.Present()
	d := now.Doc
	drills := map[string][]DrillView{}
	if t := now.Pick(target); t != nil && !now.Failed() {
		s, err := vw.targets.Look(ctx, now, t)
		if err != nil {
			return nil, err
		}
		for _, p := range s.Plan().Probes {
			if p.Is(sessions.Family{}) {
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

func drillView(s *snapshot.Snapshot, p *check.Probe) DrillView {
	v := DrillView{Identity: p.Caller.Identity, Route: p.Route, Inferred: p.StandsFor,
		Verdict: finding.Verdict{Kind: finding.Unprobed}}
	it, ok := s.Items[p.Key()]
	f := s.Facts.Of(p.Key())
	if !ok || f == nil {
		return v
	}
	v.Verdict, v.At = it.Verdict, f.Exchange.At
	if f.Check == nil {
		return v
	}
	if m, ok := f.Check.Data.(*sessions.Measured); ok {
		d := m.Of(f.Check.Began)
		v.Result, v.Steps = &d, stepsOf(s.Plan(), p, f)
	}
	return v
}
