package sessions

import (
	"fmt"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// The credentials of a session that may be left alone; they stand in ids.
const (
	idleAccess  = "idle access"
	idleRefresh = "idle refresh"
)

// The steps of a session that is left alone, beside one that is kept in use.
const (
	logInAlone = "log in, to leave it alone"
	logInKept  = "log in, to keep it in use"
	useAlone   = "use, before it is left alone"
	keepInUse  = "use, while the other is left alone"
	afterIdle  = "use, after it was left alone"
	keptInUse  = "use, of the one that was kept in use"
	afterMax   = "use, of the one that was kept in use, after its longest life"
)

// lives is a lifetime as a target has it.
type lives struct {
	*declaration.Lifetime
	shorter bool
}

// livesOf is the lifetime of a credential of a scheme on a target; ok is false without one.
func livesOf(c *check.Context, s *declaration.Scheme, of string) (l lives, ok bool) {
	slot := "access"
	if of == idleRefresh {
		slot = "refresh"
	}
	l.Lifetime, l.shorter = c.Target.LifetimeOf(c.Doc, s, slot)
	return l, l.Lifetime != nil
}

// alone is how long a session is left alone: a service that counts seconds may add one.
func (l lives) alone() time.Duration { return l.Idle + max(time.Second, l.Idle/8) }

// oldest is how old the session grows that is kept in use, 0 where that would take too long.
func (l lives) oldest(t *declaration.Target, of string) time.Duration {
	if of == idleAccess && l.Max > l.Idle && l.Max <= t.Drill {
		return l.Max + time.Second
	}
	return 0
}

// planIdle plans a drill for each lifetime that says when an unused session ends, as far as that can
// be waited for.
func (f Family) planIdle(c *check.Context, p *check.Planning) {
	for _, s := range c.Doc.Schemes {
		for _, of := range []string{idleAccess, idleRefresh} {
			l, ok := livesOf(c, s, of)
			if !ok || l.Idle <= 0 || s.Login == nil || of == idleRefresh && s.Refresh == nil {
				continue
			}
			key := check.KeyOf(c.Doc, s.Login)
			leave := func(why string) {
				p.Leave(check.Omission{Route: key, What: fmt.Sprintf("that a session of %s ends when it is unused "+
					"for %s",
					s.Name, declaration.ShortDuration(l.Idle)), Why: why, ByTarget: check.ByTarget(why)})
			}
			if l.Idle > c.Target.Drill {
				leave(fmt.Sprintf("a drill of the target waits at most %s; where it is configured shorter, say so:  "+
					"drill: { "+
					"lifetimes: { %s: { idle: 2s } } }", declaration.ShortDuration(c.Target.Drill), l.Name))
				continue
			}
			if of == idleRefresh && c.Target.Unsafe == declaration.UnsafeRefused {
				leave("the target does not allow unsafe methods, and a drill renews sessions")
				continue
			}
			who, uses, ok := f.user(c, p, s)
			if !ok {
				leave("no safe route admits anybody with " + s.Name + ", so that nothing shows whether a session works")
				continue
			}
			p.Add(check.Probe{ID: check.ID{Family: f.Name(), Route: key, Caller: who, Of: of},
				Phase:  check.ThenFollowing,
				Detail: Detail{Use: uses.Request}})
		}
	}
}

// user is the first identity for which a request shows whether its session of a scheme works.
func (Family) user(c *check.Context, p *check.Planning, s *declaration.Scheme) (who check.Caller, uses check.Sample,
	ok bool) {
	for id := range c.Doc.Ranked() {
		if id.Credential(s.Name) == nil {
			continue
		}
		if uses, ok = p.Works(id.Name, s.Name); ok {
			return check.Caller{Identity: id.Name, Scheme: s.Name, State: access.Sound}, uses, true
		}
	}
	return who, uses, false
}

// idle leaves a session alone for its time, while another is kept in use.
func (s *script) idle(l lives, of string) {
	_, a := s.grant(logInAlone, s.Scheme.Login, "")
	if a.access == "" || of == idleRefresh && a.refresh == "" {
		s.m.Failed = true
		return
	}
	_, b := s.grant(logInKept, s.Scheme.Login, "")
	began := s.Now()
	if a = s.keep(useAlone, a, of); a.access == "" {
		return
	}
	left := s.Now()
	for b.access != "" && s.Now() < left+l.alone() {
		s.Wait(min(l.Idle/3, left+l.alone()-s.Now()))
		b = s.keep(keepInUse, b, of)
	}
	if rest := left + l.alone() - s.Now(); rest > 0 {
		s.Wait(rest)
	}
	if of == idleRefresh {
		s.grant(afterIdle, s.Scheme.Refresh, a.refresh)
	} else {
		s.use(afterIdle, a.access)
	}
	if b.access == "" {
		return
	}
	if b = s.keep(keptInUse, b, of); b.access == "" {
		return
	}
	oldest := l.oldest(s.target, of)
	if oldest == 0 {
		return
	}
	for step := l.Idle / 3; s.Now()+step < began+l.Max; {
		if s.Wait(step); s.keep(keepInUse, b, of).access == "" {
			return
		}
	}
	s.Wait(began + oldest - s.Now())
	s.keep(afterMax, b, of)
}

// keep uses a session, or renews it; what it gives has no access credential where that did not work.
// Of uses that work only the last are told.
func (s *script) keep(name string, g granted, of string) granted {
	if of == idleRefresh {
		_, next := s.grant(name, s.Scheme.Refresh, g.refresh)
		if next.access != "" && next.refresh == "" {
			next.refresh = g.refresh
		}
		return next
	}
	r := s.Send(s.using(name, g.access))[0]
	works := s.admitted(r)
	if name != keepInUse || !works {
		s.step(r, works)
	}
	if !works {
		return granted{}
	}
	return g
}

// judgeIdle holds what became of the session that was left alone against that of the other.
func judgeIdle(c *check.Context, p *check.Probe, s *declaration.Scheme, f *check.Fact, m *Measured) check.Verdict {
	l, ok := livesOf(c, s, p.Of)
	after, tried := m.Step(afterIdle)
	before, used := m.Step(useAlone)
	switch {
	case used && !before.Worked:
		return check.Unproven("the session did not work before it was left alone, beside another of its caller: "+
			"answered %d", before.Status)
	case !ok || m.Failed || !tried:
		return check.Unproven("the drill did not get as far as a session that was left alone")
	}
	where := ""
	if l.shorter {
		where = " on this target"
	}
	idle, alone := declaration.ShortDuration(l.Idle), declaration.ShortDuration(l.alone())
	var v check.Verdict
	gap := func(row *finding.Row, step, says string) {
		v.Gaps = append(v.Gaps, check.Gap{Cause: row, Rung: 3, Says: says,
			Scope: finding.Scope{Of: finding.AtScheme, Name: s.Name}, Proof: check.Shown(reportsOf(f,
				[]string{step})...)})
	}
	kept, also := m.Step(keptInUse)
	if last, ok := m.Step(afterMax); ok && last.Worked {
		gap(maxIgnored, afterMax, fmt.Sprintf("A session of %s is admitted after %s; it is to end after %s%s, "+
			"however much "+
			"it is used.", p.Caller.Identity, declaration.ShortDuration(l.oldest(c.Target, p.Of)),
			declaration.ShortDuration(l.Max), where))
	}
	switch {
	case after.Worked:
		gap(idleIgnored, afterIdle, fmt.Sprintf("A session of %s that was unused for %s works on; it is to end "+
			"after %s%s.",
			p.Caller.Identity, alone, idle, where))
	case len(v.Gaps) > 0:
	case !also || !kept.Worked:
		return check.Unproven("a session that was left alone for %s was refused, and so was one that was kept in use: "+
			"whether it is the time without a use does not show", alone)
	default:
		v.Says = fmt.Sprintf("a session that was left alone for %s was refused, and one that was kept in use was not",
			alone)
		if v.Proof = check.Shown(reportsOf(f, []string{afterIdle, keptInUse})...); l.shorter {
			v.Proof = check.Speaks(reportsOf(f, []string{afterIdle, keptInUse})...)
			v.Says += fmt.Sprintf("; tried with the %s that the target is configured for", idle)
		}
	}
	return v
}

var (
	idleIgnored = &finding.Row{Cause: "session idle-ignored", Kind: finding.Lifetime,
		Title:  "An unused session does not end",
		Means:  "A session that somebody forgot stays open to whoever comes to that machine, or has its credential.",
		Advice: "Keep when a session was used last, and refuse it once its time without a use is over.",
		OWASP:  finding.API2, CWE: 613, Severity: finding.Medium, Standard: "RFC 9700 section 4.14"}
	maxIgnored = &finding.Row{Cause: "session max-ignored", Kind: finding.Lifetime,
		Title:  "A session that is used does not end",
		Means:  "Whoever has its credential keeps it for as long as it is used.",
		Advice: "Keep when a session began, and refuse it once its longest life is over, however much it is used.",
		OWASP:  finding.API2, CWE: 613, Severity: finding.Medium}
)

// expectIdle says whether a step of such a drill should have worked, as Outcome.Wanted.
func expectIdle(step string) string {
	switch step {
	case afterIdle, afterMax, useEnded:
		return "refused"
	}
	return "works"
}

// Alone is a session that was left alone.
type Alone struct {
	For   time.Duration
	Idle  time.Duration // after which it is to end on the target
	Works bool          // it works on
}

// AloneOf is what a probe saw of one; ok is false where it is of no such drill, or did not get there.
func AloneOf(c *check.Context, p *check.Probe, f *check.Fact) (a Alone, ok bool) {
	s := c.Doc.SchemeNamed(p.Caller.Scheme)
	if p.Of == "" || p.Of == endedBefore || s == nil || f == nil {
		return a, false
	}
	m, _ := f.Data.(*Measured)
	l, declared := livesOf(c, s, p.Of)
	if m == nil || !declared {
		return a, false
	}
	st, tried := m.Step(afterIdle)
	return Alone{l.alone(), l.Idle, st.Worked}, tried
}
