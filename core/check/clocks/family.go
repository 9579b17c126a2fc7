// Package clocks measures by how much the clock of a service may be off.
//
// # What is sent
//
// Where test tokens can be signed (`signing_key`), the control of one safe route of each scheme
// is sent with tokens that have nothing wrong but their time: ended a second ago, just inside
// and just outside the declared skew, five minutes and an hour ago; and the same ahead, for
// tokens that are not valid yet.
//
// # What is concluded
//
// What is still admitted and what is turned away bound the leeway on each side: "between 28 s
// and 33 s". More than the declared skew is Lifetime. Where an hour is admitted no leeway was
// measured: nothing is compared then, which the broken credentials say. Turned away within the
// skew is no gap: it says how far a clock may be off, and not how far it has to be.
package clocks

import (
	"fmt"
	"slices"
	"time"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/token"
)

// Family is that of clocks.
type Family struct{ check.Unmeasured }

// Detail is the request that is sent.
type Detail struct {
	Request   check.Request
	ControlBy string // the control's caller, in words
}

// Name is that of its probes.
func (Family) Name() string { return "clock" }

// Of is the detail of a probe.
func Of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Margin is by how much a token is moved off an edge: a second is what dates are counted in, and
// a request may take one.
const Margin = 3 * time.Second

// Offs are the times that are tried for a declared skew, the shortest first.
func Offs(skew time.Duration) []time.Duration {
	list := []time.Duration{time.Second, skew + Margin, 5 * time.Minute, time.Hour}
	if skew > 2*Margin {
		list = append(list, skew-Margin)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// Side is where the clock is off.
type Side string

// The sides; they stand in ids.
const (
	Behind Side = "ended"
	Ahead  Side = "not yet valid"
)

func (s Side) way() string {
	if s == Ahead {
		return check.NotYet
	}
	return check.Expired
}

// Plan plans both sides for each scheme whose tokens can be signed.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	done := map[string]bool{}
	for _, g := range check.Guards(c.Doc, p.ControlAt) {
		s := g.Best.Scheme
		if s.Kind != declaration.Bearer || s.Token != "jwt" || s.SigningKey == (declaration.Value{}) || done[s.Name] {
			continue // the broken credentials say what a key is missing for
		}
		sample, ok := p.Control(g.Best.Route)
		if !ok || c.Doc.Routes[g.Best.Route].Unsafe() {
			continue
		}
		done[s.Name] = true
		for _, side := range []Side{Behind, Ahead} {
			p.Add(check.Probe{ID: check.ID{Family: f.Name(), Route: g.Best.Control.Route, Caller: sample.Caller,
				Of: string(side)}, Phase: check.SafeFirst, Control: sample.Key,
				Detail: Detail{Request: sample.Request, ControlBy: g.Best.Who}})
		}
	}
	for _, s := range c.Doc.Schemes {
		if s.SigningKey != (declaration.Value{}) && s.Token == "jwt" && !done[s.Name] {
			p.Leave(check.Omission{Route: "everything behind " + s.Name, What: "the leeway of its clock",
				Why: "no safe request with it must be admitted"})
		}
	}
}

// skew is what a scheme declares.
func skew(c *check.Context, scheme string) time.Duration {
	if s := c.Doc.SchemeNamed(scheme); s != nil {
		if l := c.Doc.LifetimeNamed(s.Lifetime["access"].Name); l != nil {
			return l.Skew
		}
	}
	return 0
}

// name is that of a report.
func name(side Side, off time.Duration) string {
	if side == Ahead {
		return "begins in " + token.Say(off)
	}
	return "ended " + token.Say(off) + " ago"
}

// Script sends the tokens, the one that is least off first.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		side := Side(p.Of)
		for _, off := range Offs(skew(c, p.Caller.Scheme)) {
			as := p.Caller
			as.State = access.Broken
			r := t.One(check.Call{Name: name(side, off), Request: Of(p).Request, Effect: check.Safe, Retry: true,
				As: []check.Present{{Caller: as, Way: side.way(), Off: off}}})
			if r.Fate == check.Unsent {
				return // there is no such token
			}
		}
	})
}

// Leeway is what was seen of one side: tokens that are off by Least are admitted, and by Most
// are not. Least is 0 where none was admitted, Most where all were.
type Leeway struct{ Least, Most time.Duration }

// String says it in words.
func (l Leeway) String() string {
	switch {
	case l.Most == 0:
		return "any"
	case l.Least == 0:
		return "less than " + token.Say(l.Most)
	}
	return "between " + token.Say(l.Least) + " and " + token.Say(l.Most)
}

// Seen is the leeway that a fact shows; ok is false where the answers do not bound it.
func Seen(c *check.Context, p *check.Probe, f *check.Fact) (l Leeway, at []check.Report, ok bool) {
	for _, off := range Offs(skew(c, p.Caller.Scheme)) {
		r, sent := f.Named(name(Side(p.Of), off))
		if !sent || r.Fate != check.Answered {
			continue
		}
		r = check.Head(r)
		switch r.Class(c.Doc.Answers) {
		case check.Admitted:
			if l.Most != 0 {
				return l, at, false // one that is more off was let in
			}
			l.Least, at = off, append(at, r)
		case check.Refused, check.Forbidden, check.Hidden, check.ToLogin, check.Invalid:
			if l.Most == 0 {
				l.Most, at = off, append(at, r)
			}
		default:
			return l, at, false
		}
	}
	return l, at, len(at) > 0
}

// Judge holds the leeway against the declared skew.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	l, at, ok := Seen(c, p, fact)
	declared, k := skew(c, p.Caller.Scheme), check.ControlOf(c, e, p.Control, Of(p).ControlBy)
	side := "behind"
	if Side(p.Of) == Ahead {
		side = "ahead"
	}
	switch unfair := k.Unfair(); {
	case !ok:
		return check.Unproven("what is admitted does not bound a leeway: the answers are not of one clock")
	case unfair != "":
		return check.Unproven("%s", unfair)
	case l.Most == 0:
		return check.Unproven("a token that %s is admitted, so that no leeway was measured", name(Side(p.Of),
			time.Hour))
	case l.Least > declared+Margin/2:
		return check.Verdict{Does: l.String(), Gaps: []check.Gap{{Cause: rows[0], What: side, Rung: 3,
			Scope: finding.Scope{Of: finding.AtScheme, Name: p.Caller.Scheme}, Proof: check.Shown(at...),
			Says: fmt.Sprintf("A token that %s is admitted; declared is a skew of %s. The leeway is %s.",
				name(Side(p.Of), l.Least), token.Say(declared), l)}}}
	}
	return check.Verdict{Does: l.String(), Proof: check.Shown(at...),
		Says: fmt.Sprintf("the leeway is %s, declared is %s", l, token.Say(declared))}
}

// Cost is a request for each time.
func (Family) Cost(c *check.Context, p *check.Probe) check.Cost {
	return check.Cost{Requests: len(Offs(skew(c, p.Caller.Scheme)))}
}

// Cell is the column of the way at the route, in the Tokens lens.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	says := "tokens that ended a while ago"
	if Side(p.Of) == Ahead {
		says = "tokens that begin in a while"
	}
	return check.Cell{Route: p.Route, Lens: check.Tokens, Key: Side(p.Of).way()}, says
}

// Who is a token of the control's caller.
func (Family) Who(p *check.Probe) string {
	_, says := Family{}.Cell(p)
	return p.Caller.Identity + " (" + says + ")"
}

// Expect is that what is off by more than the skew is turned away.
func (Family) Expect(*check.Context, *check.Probe) access.Expectation {
	return access.Expectation{Outcome: access.Refuse, Decider: 3, Subject: "soundness"}
}

// Causes are those of clocks.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "clock", Title: "Clocks",
		Shown: "Tokens that have nothing wrong but their time were sent, the least off first; what was admitted and " +
			"what was not bound the leeway.",
		Refuted: "A control that is not admitted; a token that is admitted although one that is less off was not.",
		Rows:    rows}
}

var rows = []*finding.Row{
	{Cause: "leeway ", Kind: finding.Lifetime, Title: "Clocks may be off by more than declared ({what})",
		Means: "Tokens work for longer than they say, or before they begin, by more than clocks that are kept are " +
			"off.",
		Advice: "Lower the leeway of the verifier to what clocks need: seconds, where all machines keep the time.",
		OWASP:  finding.API2, CWE: 613, Standard: "RFC 7519 section 4.1.4", Severity: finding.Medium},
}

// Declared is how long the caller's credentials may live.
func (Family) Declared(c *check.Context, p *check.Probe) string {
	return check.LifetimesOf(c, p.Caller.Scheme)
}
