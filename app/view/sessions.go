package view

import (
	"context"
	"fmt"
	"time"

	"millgate/app/fault"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/check/clocks"
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
	Clocks []ClockView
	Alone  []AloneView
	Lives  []Life
}

// Life is a lifetime that a scheme names, with the members that a form edits as they stand in a declaration.
type Life struct {
	Of   string // access or refresh
	Name string
	Text map[string]string
}

func livesOf(d *declaration.Document, s *declaration.Scheme) (out []Life) {
	for _, of := range []string{"access", "refresh"} {
		l := d.LifetimeNamed(s.Lifetime[of].Name)
		if l == nil {
			continue
		}
		text := map[string]string{}
		for n, v := range map[string]time.Duration{"max": l.Max, "idle": l.Idle, "skew": l.Skew} {
			if v > 0 {
				text[n] = declaration.ShortDuration(v)
			}
		}
		if l.EndedSaid {
			text["ended_within"] = declaration.ShortDuration(l.EndedWithin)
		}
		out = append(out, Life{of, l.Name, text})
	}
	return out
}

// ClockView is by how much the clock of a service was seen to be off on one side.
type ClockView struct {
	Side    clocks.Side
	Leeway  clocks.Leeway
	Verdict finding.Verdict
}

// AloneView is a session that was left alone for some time.
type AloneView struct {
	sessions.Alone
	Identity string
	Verdict  finding.Verdict
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

// Sessions computes what the lifetimes of a text come to, "" is the kept one, at a rate of
// logouts in an hour, beside what drills measured at a target.
func (vw *View) Sessions(ctx context.Context, target, text string, logouts float64) ([]Declared, error) {
	if !(logouts >= 0 && logouts <= 1e9) {
		return nil, fmt.Errorf("%w: the logouts in an hour are a number from 0 to a thousand million", fault.ErrInput)
	}
	now := vw.ws.Present()
	d, err := vw.beside(text)
	if err != nil {
		return nil, err
	}
	seen := map[string]*Declared{}
	of := func(scheme string) *Declared {
		if seen[scheme] == nil {
			seen[scheme] = &Declared{}
		}
		return seen[scheme]
	}
	if t := now.Pick(target); t != nil && !now.Failed() {
		s, err := vw.targets.Look(ctx, now, t)
		if err != nil {
			return nil, err
		}
		for _, p := range s.Plan().Probes {
			x := of(p.Caller.Scheme)
			switch f := s.Facts.Of(p.Key()).Seen(); {
			case p.Is(sessions.Family{}) && p.Of == "":
				x.Drills = append(x.Drills, drillView(s, p))
			case f == nil:
			case p.Is(sessions.Family{}):
				if a, ok := sessions.AloneOf(s.Plan().Context, p, f); ok {
					x.Alone = append(x.Alone, AloneView{a, p.Caller.Identity, s.Items[p.Key()].Verdict})
				}
			case p.Is(clocks.Family{}):
				if l, _, ok := clocks.Seen(s.Plan().Context, p, f); ok {
					x.Clocks = append(x.Clocks, ClockView{clocks.Side(p.Of), l, s.Items[p.Key()].Verdict})
				}
			}
		}
	}
	var out []Declared
	for _, s := range d.Schemes {
		x, ok := session.Of(d, s, logouts)
		v := of(s.Name)
		if ok || len(v.Drills)+len(v.Clocks)+len(v.Alone) > 0 {
			x.Scheme, x.Kind = s.Name, s.Kind
			v.Session, v.Place, v.Lives = x, s.Place, livesOf(d, s)
			out = append(out, *v)
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
