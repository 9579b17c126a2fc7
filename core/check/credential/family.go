// Package credential checks that broken credentials are refused.
//
// # What is sent
//
// On one route behind each guard, as nobody, the very request of the control with its
// credential broken in every way that its scheme has (check.Ways): malformed, unsigned,
// signed by somebody else, expired, of another scheme, sent twice, beside a sound one of
// somebody who may not enter. Routes of one collection are taken to share their guard; a
// way that gets in at the one is then tried on all of them.
//
// # What is concluded
//
// What is admitted is Unprotected, or Lifetime where the credential had ended. Only that says
// something about the soundness check: how a refusal looks is judged by the crossing with a
// broken credential. A way that has nothing wrong in what counts must be admitted. Where two
// are presented and the sound one's caller gets in alone, or the cookie is SameSite, so that
// no browser sends it there, an admission is likely to be right.
package credential

import (
	"fmt"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/token"
)

// Family is that of broken credentials.
type Family struct{ check.OnRecords }

// Detail is how a credential is broken, and what it is held against.
type Detail struct {
	Way, Donor string            // whose sound credential is broken
	Beside     check.Caller      // whose sound one stands beside it; the zero one without
	Other      string            // the scheme of a broken one beside it, or of a sound one that does not count
	Params     map[string]string // values for all parameters but the record's
	Param      string            // with OtherID: the parameter behind which a link is for another record
	OtherID    string
	Relation   access.Relation // of the record to the donor
	ControlBy  string          // the control's caller, in words
	Alone      []string        // the probes of the caller beside it, at the route
}

// Name is that of its probes.
func (Family) Name() string { return "credential" }

// Of is the detail of a probe.
func Of(p *check.Probe) Detail {
	d, _ := p.Detail.(Detail)
	return d
}

// Cost is one request, and those that begin and end a session or are repeated.
func (Family) Cost(_ *check.Context, p *check.Probe) check.Cost {
	switch Of(p).Way {
	case check.Ended, check.OtherKind:
		return check.Cost{Requests: 3}
	case check.Repeated:
		return check.Cost{Requests: 2}
	}
	return check.Cost{Requests: 1}
}

// Cell is nobody's at the route; what an ended session opens is no question of who may
// enter, and stands among credentials alone.
func (Family) Cell(p *check.Probe) (check.Cell, string) {
	c := check.Cell{Route: p.Route, Lens: check.Access, Key: p.Caller.Identity}
	if Of(p).Way == check.Ended {
		c.Lens, c.Key = check.Tokens, check.Ended
	}
	return c, "credential " + Of(p).Way
}

// Who is nobody, with what of whom.
func (Family) Who(p *check.Probe) string {
	if p.Caller.Identity != "" {
		return p.Caller.Identity + " (" + p.Caller.Scheme + ")"
	}
	return "nobody (" + Of(p).Way + ", made of " + Of(p).Donor + "'s " + p.Caller.Scheme + ")"
}

// Expect is what is expected of a broken credential, or of a sound one where the way has
// nothing wrong in it.
func (Family) Expect(c *check.Context, p *check.Probe) access.Expectation {
	i, d := c.Doc.RouteNamed(p.Route), Of(p)
	if i < 0 {
		return access.Expectation{Outcome: access.Closed}
	}
	if d.Way == check.OtherOwn {
		return access.Expectation{Outcome: access.Refuse, Decider: 2, Subject: "credential"}
	}
	who := access.Caller{State: access.Broken, Record: check.Standing(c.Doc, i, p.Record, nil)}
	if check.MustEnter(d.Way) {
		who = access.Caller{Identity: c.Doc.IdentityNamed(d.Donor), State: access.Sound, Record: d.Relation}
	}
	return access.Decide(c.Doc, i, who)
}

// Request is the control's, without its credential.
func Request(c *check.Context, p *check.Probe) check.Request {
	i, d := c.Doc.RouteNamed(p.Route), Of(p)
	q := check.RequestOf(c, p, i, c.Doc.Routes[i].Path(), d.Params).WithBody(c, i)
	if d.OtherID != "" {
		q.Params[d.Param], q.Params["id"] = d.OtherID, d.OtherID
	}
	return q
}

// Script sends it.
func (Family) Script(c *check.Context, p *check.Probe) check.Script {
	return check.Tell(func(t *check.Telling) {
		d := Of(p)
		call := check.Call{Name: check.TheRequest, Request: Request(c, p), Retry: true, Must: check.MustEnter(d.Way),
			As: []check.Present{{Caller: check.Caller{Identity: d.Donor, Scheme: p.Caller.Scheme, State: access.Broken},
				Way: d.Way, Beside: d.Beside, Other: d.Other}}}
		if d.Way == string(token.Raised) {
			call.As[0].Role = check.HighestRole(c.Doc, d.Donor)
		}
		if d.Way == check.OtherOwn {
			call.As = []check.Present{{Caller: p.Caller}}
		}
		if !p.Unsafe {
			call.Effect = check.Safe
		}
		call.Makes, call.Take = check.Creating(c.Doc, c.Doc.RouteNamed(p.Route))
		r, ok := t.On(c, p, call)
		if ok && check.Besides(d.Way) && r.Fate == check.Answered && r.Class(c.Doc.Answers) == check.Admitted {
			call.Name, call.As = alone, []check.Present{{Caller: d.Beside}}
			t.Keep(t.Send(call)...)
		}
	})
}

// alone names the report of the sound one of two credentials, by itself.
const alone = "the sound one alone"

// Causes are those of broken credentials.
func (Family) Causes() finding.Family {
	return finding.Family{Name: "credential", Title: "Broken credentials",
		Shown: "A credential that is broken in one way, sent with the very request of the control, was admitted. " +
			"Where two are sent, the caller of the sound one is turned away alone. A way that gets in is then tried " +
			"on the other routes of the guard.",
		Refuted: "The sound one is not admitted either; the route is open to whoever asks.",
		Rows:    rows}
}

// Judge says whether it was refused.
func (f Family) Judge(c *check.Context, p *check.Probe, fact *check.Fact, e *check.Evidence) check.Verdict {
	if len(fact.Reports) == 0 {
		return check.Unproven("nothing was sent")
	}
	whole := fact.Reports[0]
	j := judging{c: c, p: p, d: Of(p), whole: whole, r: check.Head(whole), reports: fact.Reports,
		a: check.AnswerOf(whole.Exchange), e: e,
		k: check.ControlOf(c, e, p.Control, Of(p).ControlBy)}
	j.class = check.Classify(j.a, c.Doc.Answers)
	v := j.verdict()
	if g, ok := check.CarriedOut(c, p, fact, f.Who(p), f.Expect(c, p)); ok {
		v.Gaps = append([]check.Gap{g}, v.Gaps...)
	}
	if j.class != check.Throttled || j.d.Way != check.Repeated { // that is lost, and no answer
		v.Answers = []check.Report{whole}
	}
	return v
}

type judging struct {
	c     *check.Context
	p     *check.Probe
	d     Detail
	whole check.Report
	r     check.Report // of which status and header fields are looked at
	a     check.Answer
	class check.Class
	k     *check.Control
	e     *check.Evidence

	reports []check.Report // all of the fact
}

// soundness is the rung that should have stopped it.
const soundness = 3

func (j judging) gap(row *finding.Row, rung int, format string, args ...any) check.Verdict {
	g := check.Gap{Cause: row, Rung: rung, Proof: check.Shown(j.r), Says: fmt.Sprintf(format, args...)}
	if row.Kind != finding.OverRestrictive && j.k.Strange(j.a) {
		g.Proof, g.Says = check.Speaks(j.r), g.Says+check.StrangeText
	}
	if j.d.Way == check.OtherOwn {
		g.Wide = check.GuardScope(j.c.Doc, j.p.Route)
		return check.Verdict{Gaps: []check.Gap{g}}
	}
	// A soundness check is one piece of code: what it lets pass on several routes has one cause.
	scheme := finding.Scope{Of: finding.AtScheme, Name: j.p.Caller.Scheme}
	if g.Wide = scheme; row.Kind == finding.OverRestrictive || row == afterlife {
		g.Scope = scheme
	}
	return check.Verdict{Gaps: []check.Gap{g}}
}

// scheme is that of the credential that is broken.
func (j judging) scheme() *declaration.Scheme { return j.c.Doc.SchemeNamed(j.p.Caller.Scheme) }

// spent says whether the answer may speak of what the control did.
func (j judging) spent() bool {
	return j.k != nil && j.k.Class == check.Admitted && j.c.Doc.Routes[j.c.Doc.RouteNamed(j.p.Route)].Unsafe() &&
		check.Spent(j.k.Answer, j.a)
}

func (j judging) verdict() check.Verdict {
	a, way := j.a, j.d.Way
	unfair := j.k.Unfair()
	switch {
	case j.class == check.Unreachable:
		return check.Unproven("no answer: %s", a.Error)
	case check.MustEnter(way):
		return j.mustEnter(unfair)
	case j.class == check.Admitted && way == check.Ended:
		return j.gap(afterlife, Family{}.Expect(j.c, j.p).Decider,
			"A credential of %s worked "+
				"after its session was logged out: answered %s.", j.d.Donor, a.Code())
	case j.class == check.Admitted && way == check.CrossSite:
		return j.crossSite()
	case j.class == check.Admitted && j.d.Way == check.OtherOwn:
		return j.gap(rowOf(j.scheme(), way), 2, "%s got in with its sound %s, which does not count there: answered %s.",
			j.p.Caller.Identity, j.d.Other, a.Code())
	case j.class == check.Admitted && check.Besides(way):
		switch in, known := j.entersAlone(); {
		case in:
			return check.Verdict{Says: fmt.Sprintf("admitted, as %s is without the broken credential",
				j.d.Beside.Identity), Proof: check.Speaks(j.r)}
		case !known:
			return check.Unproven("admitted, and whether %s gets in without the broken credential is not known",
				j.d.Beside.Identity)
		}
		fallthrough
	case j.class == check.Admitted:
		return j.gap(rowOf(j.scheme(), way), soundness, "%s: answered %s. It must be refused: it is not sound.",
			j.accepted(), a.Code())
	case j.class == check.Throttled && way == check.Repeated:
		return check.Unproven("sent twice on purpose, the pair was throttled (429) each of %d times", j.whole.Repeats+1)
	case j.class == check.Throttled || j.class == check.Failed:
		return check.Unproven("the service answered %s", a.Code())
	case unfair != "":
		return check.Unproven("answered %s, but %s", a.Code(), unfair)
	case j.spent():
		return check.Unproven("%s", check.SpentText(a))
	}
	return check.Verdict{Says: fmt.Sprintf("%s: turned away with %s, and %s was admitted with the same request", way,
		a.Code(), j.k.Who), Proof: check.TurnedAway(j.r, *j.k.Report, j.k.Class)}
}

// entersAlone says whether the sound credential beside it gets in by itself: as it was sent
// then, or as the crossings of its caller with it were answered. known is false where neither is.
func (j judging) entersAlone() (in, known bool) {
	class := func(r check.Report) {
		c := r.Class(j.c.Doc.Answers)
		in = in || c == check.Admitted
		known = known || r.Fate == check.Answered && c != check.Throttled && c != check.Failed
	}
	for _, r := range j.reports {
		if r.Name == alone {
			class(r)
		}
	}
	for _, key := range j.d.Alone {
		if f := j.e.Of(key); f != nil && len(f.Reports) > 0 {
			class(f.Reports[0])
		}
	}
	return in, known
}

// accepted says what was accepted, as the beginning of a sentence.
func (j judging) accepted() string {
	switch j.d.Way {
	case check.Repeated:
		if s := j.scheme(); s != nil && s.Kind == declaration.Link {
			return "A link that should work once worked twice"
		}
		return "The same signed request was accepted twice"
	case check.OldTime:
		return "A request that was signed longer ago than is tolerated was accepted"
	case check.TestsOnly:
		return "A token that only a developer's machine may issue was accepted"
	case check.OtherBody:
		return "A signature over another body was accepted"
	case check.OtherRecord:
		return "A link that was given out for " + j.d.OtherID + " opened another record"
	case check.ChangedEnd:
		return "A link with a changed end was accepted"
	case check.InQuery:
		return "A token in the query was accepted, where it is written into logs and histories (RFC 6750 section 2.3)"
	case check.BesideFirst, check.BesideLast, check.BesideOther:
		return fmt.Sprintf("A broken credential beside the sound one of %s, who may not enter, was accepted",
			j.d.Beside.Identity)
	}
	if s := j.scheme(); unsigned[j.d.Way] && s != nil && s.Kind == declaration.Signature {
		return "An unsigned event was accepted"
	}
	return "A credential that is broken (" + j.d.Way + ") was accepted"
}

// mustEnter judges what must be admitted although it looks unusual.
func (j judging) mustEnter(unfair string) check.Verdict {
	row, what, why := finding.RowOf(rows, "scheme letters"), `A sound token behind "bEARER"`,
		"the scheme's word has no letter case (RFC 9110 section 11.1)"
	if j.d.Way == check.OtherBroken {
		row, what, why = finding.RowOf(rows, "stale beside"), "A sound credential beside a broken one of "+j.d.Other,
			"which does not count here"
	}
	switch j.class {
	case check.Admitted:
		return check.Verdict{Says: fmt.Sprintf("%s is admitted: %s", what, why), Proof: check.Shown(j.r)}
	case check.Refused, check.Forbidden, check.Hidden, check.ToLogin, check.Invalid:
		if unfair != "" {
			return check.Unproven("answered %s, but %s", j.a.Code(), unfair)
		}
		if j.spent() {
			return check.Unproven("%s", check.SpentText(j.a))
		}
		v := j.gap(row, 0, "%s was %s; %s.", what, turned(j.class, j.a), why)
		v.Gaps[0].Proof = check.TurnedAway(j.r, *j.k.Report, j.k.Class)
		return v
	default:
	}
	return check.Unproven("the service answered %s", j.a.Code())
}

// turned says how a caller was turned away, behind "was".
func turned(c check.Class, a check.Answer) string {
	if c == check.ToLogin || c == check.Invalid {
		return check.Describe(c, a)
	}
	return "answered " + check.Describe(c, a)
}

// crossSite judges a write that a page of another site sent with the cookie. A browser does
// not send a SameSite cookie there, so then nothing is open.
func (j judging) crossSite() check.Verdict {
	if s := j.whole.SameSite; s == "strict" || s == "lax" {
		return check.Verdict{Proof: check.Speaks(j.r),
			Says: fmt.Sprintf("accepted with a foreign Origin, but the cookie "+
				"is SameSite=%s, so that a browser does not send it there", s)}
	}
	return j.gap(rowOf(j.scheme(), j.d.Way), soundness, "A page of another site can act as %s: a write with its "+
		"cookie and a foreign Origin was answered %s, and the cookie is not SameSite.", j.d.Donor, j.a.Code())
}
