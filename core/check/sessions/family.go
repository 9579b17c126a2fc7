package sessions

import (
	"fmt"
	"slices"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/session"
)

// Family drills a session of one identity of each class, for each of its schemes that has
// a login and something after it; and leaves one alone of each scheme whose unused sessions end
// soon enough to wait for it. At the end of a sweep what was ended is tried again.
type Family struct{}

// Detail is what a drill is about, beside its caller.
type Detail struct {
	Neighbour string        // whose refresh token is tried at the logout; "" leaves that out
	Use       check.Request // a safe one that admits the identity, without a credential
}

// How long a drill waits at most for an ended credential to be refused: beyond the time
// that the declaration gives it, and in all.
const (
	wait    = 2 * time.Second
	longest = 30 * time.Second
)

// requests of a drill, about; logins of one that leaves a session alone.
const (
	requests = 16
	logins   = 2
)

const version = 1 // of Measured

// Name is that of its probes.
func (Family) Name() string { return "session" }

// Plan plans the drills.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	told := map[string]bool{}
	for _, class := range p.Classes() {
		id, rest := check.Members(c.Doc, class)
		for _, cr := range id.Credentials {
			s := c.Doc.SchemeNamed(cr.Scheme.Name)
			if s == nil || s.Login == nil || s.Refresh == nil && s.Logout == nil && s.Introspect == nil {
				continue
			}
			key := check.KeyOf(c.Doc, s.Login)
			if c.Target.Unsafe == declaration.UnsafeRefused {
				if !told[s.Name] {
					told[s.Name] = true
					p.Leave(check.Omission{Route: key, What: "the session drill", ByTarget: true,
						Why: "the target does not allow unsafe methods, and a drill renews and ends sessions"})
				}
				continue
			}
			uses, ok := p.Works(id.Name, s.Name)
			if !ok {
				p.Leave(check.Omission{Route: key, Caller: id.Name, What: "the session drill",
					Why: "no safe route admits it with " +
						s.Name + ", so that nothing shows whether its session works"})
				continue
			}
			d := Detail{Use: uses.Request}
			if s.Refresh != nil && s.Logout != nil && access.Guarded(c.Doc, s.Logout) {
				d.Neighbour = neighbourOf(c.Doc, id, s)
			}
			who := check.Caller{Identity: id.Name, Scheme: s.Name, State: access.Sound}
			drill := check.Probe{ID: check.ID{Family: "session", Route: key, Caller: who}, Phase: check.ThenFollowing,
				StandsFor: rest, Detail: d}
			p.Add(drill)
			f.planBuried(c, p, s, drill)
		}
	}
	f.planIdle(c, p)
}

// neighbourOf is another identity with a credential of the scheme, "" without.
func neighbourOf(d *declaration.Document, id *declaration.Identity, s *declaration.Scheme) string {
	for o := range d.Ranked() {
		if o != id && o.Credential(s.Name) != nil {
			return o.Name
		}
	}
	return ""
}

// Script is that of the drill.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	s := c.Doc.SchemeNamed(p.Caller.Scheme)
	d, _ := p.Detail.(Detail)
	x := Drill{Identity: p.Caller.Identity, Neighbour: d.Neighbour, Scheme: s, Use: d.Use, Longest: wait}
	if l, _ := c.Target.LifetimeOf(c.Doc, s, "access"); l != nil {
		x.Longest, x.Idle = min(x.Longest+l.EndedWithin, longest), l.Idle
	}
	if p.Of == "" {
		return Script(c.Doc, c.Target, x)
	}
	l, _ := livesOf(c, s, p.Of)
	return check.Tell(func(t *check.Telling) {
		s := &script{Drill: x, doc: c.Doc, target: c.Target, Telling: t, m: &Measured{}}
		if t.Measured(s.m); p.Of == endedBefore {
			s.buried()
		} else if l.Lifetime != nil {
			s.idle(l, p.Of)
		}
	})
}

// Cost is about that of every drill, with the time that one takes which waits for an end.
func (Family) Cost(c *check.Context, p *check.Probe) check.Cost {
	if p.Of == endedBefore {
		return check.Cost{} // it asks little, and nothing of the login that it stands at
	}
	if s := c.Doc.SchemeNamed(p.Caller.Scheme); p.Of != "" && s != nil {
		if l, ok := livesOf(c, s, p.Of); ok {
			return check.Cost{Requests: logins, Waits: max(l.alone(), l.oldest(c.Target, p.Of))}
		}
	}
	return check.Cost{Requests: requests, Waits: wait}
}

// Judge holds what was measured against the lifetimes of the scheme. A drill whose session
// did not work when it was new says nothing: what never worked cannot outlive its end.
func (Family) Judge(c *check.Context, p *check.Probe, f *check.Fact, _ *check.Evidence) check.Verdict {
	m, _ := f.Data.(*Measured)
	s := c.Doc.SchemeNamed(p.Caller.Scheme)
	if m == nil || s == nil {
		return check.Unproven("the drill did not get as far as a session")
	}
	switch p.Of {
	case "":
	case endedBefore:
		return judgeBuried(p, f, m)
	default:
		return judgeIdle(c, p, s, f, m)
	}
	d := m.Of(f.Began)
	if use, ok := d.Step(session.Use); !ok || !use.Worked {
		return check.Unproven("the session did not work when it was new: answered %d", use.Status)
	}
	v := check.Verdict{Proof: check.Shown(f.Reports...)}
	minors := 0
	for _, j := range session.JudgeDrill(&d, c.Doc, s) {
		row := session.DrillRow(j.ID)
		if row == nil {
			minors++
			continue
		}
		v.Gaps = append(v.Gaps, check.Gap{Cause: row, Rung: 3, Scope: finding.Scope{Of: finding.AtScheme, Name: s.Name},
			Says:  fmt.Sprintf("The session of %s: %s. %s (%s)", p.Caller.Identity, j.Text, j.Why, j.Standard),
			Proof: check.Shown(reportsOf(f, j.Rests)...)})
	}
	if g, ok := onOneNode(p, f, m); ok {
		v.Gaps = append(v.Gaps, g)
	}
	v.Says = fmt.Sprintf("the session goes as declared, in %d steps", len(d.Steps))
	if minors > 0 {
		v.Says += fmt.Sprintf("; %d more are worth knowing", minors)
	}
	return v
}

// reportsOf are the reports of steps; all of them where none is named.
func reportsOf(f *check.Fact, steps []string) (out []check.Report) {
	for _, r := range f.Reports {
		for _, s := range steps {
			if r.Name == s {
				out = append(out, r)
			}
		}
	}
	return out
}

// Outcomes says which steps worked, and which of them should have.
func (Family) Outcomes(c *check.Context, p *check.Probe, f *check.Fact) (out []check.Outcome) {
	m, _ := f.Data.(*Measured)
	s := c.Doc.SchemeNamed(p.Caller.Scheme)
	if m == nil || s == nil {
		return nil
	}
	for _, st := range m.Steps {
		wanted := expectIdle(st.Name)
		if p.Of == "" {
			wanted = m.Expect(st.Name, c.Doc, s)
		}
		out = append(out, check.Outcome{Worked: st.Worked, Wanted: wanted})
	}
	return out
}

// Causes are those of a drill.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "session", Title: "Sessions",
		Shown: "A session was begun for this and followed over its renewal, its logout and the time after. Each step " +
			"counts only " +
			"where the one that it stands on went as it should: what never worked cannot outlive its end.",
		Refuted: "The declared time within which an ended session must be refused; a credential that did not work " +
			"when it was new.",
		Rows: append(slices.Clip(session.DrillCauses), idleIgnored, maxIgnored, revived,
			oneNode)}
}

// Cell is the identity's at the login.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	says := "session drill"
	switch p.Of {
	case "":
	case endedBefore:
		says = "sessions that were ended before"
	default:
		says = "session drill, left alone"
	}
	return check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}, says
}

// Version is that of Measured.
func (Family) Version() int { return version }

// Decode reads what a drill measured.
func (Family) Decode(v int, data []byte) (check.Data, error) {
	return check.DecodeAs[Measured](v, version, data, "a drill")
}

// Declared is how long the caller's credentials may live.
func (Family) Declared(c *check.Context, p *check.Probe) string {
	return check.LifetimesOf(c, p.Caller.Scheme)
}
