package sessions

import (
	"fmt"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/session"
)

// endedBefore is what is tried again at the end of a sweep: credentials whose session was ended, by
// it or by one before, and that were refused since. It stands in ids.
const endedBefore = "ended before"

// useEnded names the uses of such a credential.
const useEnded = "use, of a session that was ended"

// connections is over how many connections of their own an ended credential is tried, beside the
// first.
const connections = 3

// planBuried plans that for one who is drilled with a scheme.
func (f Family) planBuried(c *check.Context, p *check.Planning, s *declaration.Scheme, drill check.Probe) {
	if s.Logout == nil {
		return
	}
	drill.Of, drill.Phase = endedBefore, check.AtTheEnd
	p.Add(drill)
}

// nodes tries an ended credential that was refused over connections of their own, each of which may
// lead to another node. Nodes tell each other a moment later: what one admits counts where one still
// does after that.
func (s *script) nodes(slot string) {
	for n := range 2 {
		admitted := false
		for range connections {
			c := s.using(session.UseOnNodes, slot)
			c.Apart = true
			r := s.Send(c)[0]
			works := s.admitted(r)
			s.step(r, works)
			admitted = admitted || works
		}
		switch {
		case !admitted:
			return
		case n == 0:
			s.Wait(s.Longest)
		default:
			s.m.Split = true
		}
	}
}

// buried tries what was ended before. What is admitted is tried once more, when all nodes have long
// had the time to know that it was ended.
func (s *script) buried() {
	who := check.Caller{Identity: s.Identity, Scheme: s.Scheme.Name}
	for _, slot := range s.Recall(check.Recall{Caller: who, Slot: "buried "}) {
		works := false
		for n := 0; n == 0 || works && n < 2; n++ {
			if n > 0 {
				s.Wait(s.Longest)
			}
			r := s.Send(s.using(useEnded, slot))[0]
			works = s.admitted(r)
			s.step(r, works)
		}
		if s.m.Tried++; works {
			s.m.Revived++
		}
	}
}

// judgeBuried says whether any of them worked again.
func judgeBuried(p *check.Probe, f *check.Fact, m *Measured) check.Verdict {
	switch {
	case m.Tried == 0:
		return check.Unproven("no session was ended and refused since, that could be tried again")
	case m.Revived > 0:
		return check.Verdict{Gaps: []check.Gap{{Cause: revived, Rung: 3,
			Proof: check.Shown(reportsOf(f, []string{useEnded})...),
			Scope: finding.Scope{Of: finding.AtScheme, Name: p.Caller.Scheme},
			Says: fmt.Sprintf("%d of %d credentials of %s whose sessions were ended, and that were refused then, are "+
				"admitted again.", m.Revived, m.Tried, p.Caller.Identity)}}}
	default:
		return check.Verdict{Proof: check.Shown(f.Reports...),
			Says: fmt.Sprintf("what was ended before is refused still: %d tried", m.Tried)}
	}
}

// onOneNode is the gap of an ended credential that some nodes refuse; ok is false without.
func onOneNode(p *check.Probe, f *check.Fact, m *Measured) (g check.Gap, ok bool) {
	if !m.Split {
		return g, false
	}
	return check.Gap{Cause: oneNode, Rung: 3, Proof: check.Shown(reportsOf(f, []string{session.UseOnNodes})...),
		Scope: finding.Scope{Of: finding.AtScheme, Name: p.Caller.Scheme},
		Says: fmt.Sprintf("The ended session of %s was refused, and then admitted over a connection of its own: it is "+
			"ended on one node only.", p.Caller.Identity)}, true
}

var (
	revived = &finding.Row{Cause: "session revived", Kind: finding.Lifetime,
		Title:  "An ended session works again",
		Means:  "Whoever copied a credential before the logout has only to wait until the service forgets that it ended.",
		Advice: "Keep an ended credential on the list until it ends by itself, over purges and restarts.",
		OWASP:  finding.API2, CWE: 613, Severity: finding.High, Standard: "RFC 7009 section 2"}
	oneNode = &finding.Row{Cause: "session one-node", Kind: finding.Lifetime,
		Title:  "A session is ended on one node only",
		Means:  "The other nodes go on admitting whoever copied the credential.",
		Advice: "Keep the list of ended credentials where all nodes look.",
		OWASP:  finding.API2, CWE: 613, Severity: finding.High, Standard: "RFC 7009 section 2"}
)
