package credential

import (
	"fmt"
	"slices"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/token"
)

type planning struct {
	*check.Planning
	c      *check.Context
	drafts check.Drafts
	guards []*check.Guard
}

func newPlanning(c *check.Context, p *check.Planning) planning {
	return planning{p, c, check.NewDrafts(c.Doc, c.Target, p.Classes()), check.Guards(c.Doc, p.ControlAt)}
}

// Plan plans broken credentials: on one route of each guard, with the request of a caller
// who must be admitted with the sound one.
func (Family) Plan(c *check.Context, p *check.Planning) {
	x := newPlanning(c, p)
	told := map[string]bool{}
	leave := func(s *declaration.Scheme, way, why string) {
		if !told[s.Name+way] {
			told[s.Name+way] = true
			x.Leave(check.Omission{Route: "every route behind " + s.Name, What: "a credential: " + way, Why: why,
				ByTarget: check.ByTarget(why)})
		}
	}
	for _, g := range x.guards {
		ways := check.Ways(g.Best.Scheme)
		x.Spared += (len(g.All) - 1) * len(ways)
		if g.Best.Control.Phase >= check.ThenDeleting {
			x.Leave(check.Omission{Route: g.Best.Control.Route, What: "broken credentials",
				Why: "the only route of its guard deletes; a sound control would be needed each time"})
			continue
		}
		for _, way := range ways {
			at := g.Best
			if way == check.CrossSite {
				if at = g.Unsafe; at.Control == nil {
					continue // reading across sites is the browser's to refuse
				}
			}
			if way == check.OtherOwn {
				x.owns(at)
				continue
			}
			if why := x.cannot(at.Scheme, way); why != "" {
				leave(at.Scheme, way, why)
				continue
			}
			q, why := x.breaking(at, way)
			if why != "" {
				leave(at.Scheme, way, why)
				continue
			}
			if check.MustEnter(way) || (Family{}).Expect(c, &q).Outcome == access.Refuse {
				x.Add(q)
			}
		}
	}
}

// More tries a way that got in on the other routes of its guard.
func (f Family) More(c *check.Context, p *check.Probe, _ *check.Evidence, pl *check.Planning) {
	x := newPlanning(c, pl)
	g := check.GuardAt(x.guards, c.Doc.RouteNamed(p.Route))
	if g == nil {
		return
	}
	for _, at := range g.All {
		if at.Control.Route == p.Route || at.Control.Phase >= check.ThenDeleting {
			continue
		}
		if q, why := x.breaking(at, Of(p).Way); why == "" && f.Expect(c, &q).Outcome == f.Expect(c, p).Outcome {
			x.Add(q)
		}
	}
}

// cannot says why a way is left out for a scheme, "" when it can be tried.
func (x planning) cannot(s *declaration.Scheme, way string) string {
	switch way {
	case check.TestsOnly:
		switch {
		case !x.c.Target.RefusesTests:
			return "the target does not say that it turns away what only tests may use (refuses: tests)"
		case s.TestsOnly.SigningKey == (declaration.Value{}) && s.SigningKey == (declaration.Value{}):
			return "there is no key to sign such a token with; give tests_only a signing_key"
		}
	case check.Expired, check.NotYet, check.OtherAud, check.OtherIss, check.OtherTyp, check.LacksClaim:
		switch {
		case s.Kind == declaration.Link:
			if s.ExpiredLink == (declaration.Value{}) {
				return "no expired link is at hand; paste one that was given out before as the scheme's expired_link"
			}
		case s.SigningKey == (declaration.Value{}):
			return "such a token has to be signed; give the scheme a signing_key where the target is a test environment"
		case way == check.OtherAud && s.Audience == "":
			return "the scheme declares no audience"
		case way == check.OtherIss && s.Issuer == "":
			return "the scheme declares no issuer"
		}
	case string(token.PublicAsSecret):
		if s.Keys.JWKS == "" && s.Keys.File == "" {
			return "the public key is not known; say keys for the scheme"
		}
	case string(token.Raised):
		if s.Claims["roles"] == "" {
			return "the scheme does not say which claim holds roles"
		}
	case check.OtherKind:
		if s.Login == nil || s.Login.Take["refresh"] == "" {
			return "the scheme's login gives no refresh token"
		}
	case check.Ended:
		if s.Logout == nil || s.Login == nil {
			return "the scheme has no logout"
		}
	case check.OtherScheme:
		if x.otherDonor(s) == "" {
			return "there is no credential of another scheme"
		}
	}
	return ""
}

// breaking drafts one way of breaking the control's credential; why says that it cannot be.
func (x planning) breaking(at check.Spot, way string) (p check.Probe, why string) {
	draft, why, ok := x.drafts.For(at.Route, nil, access.NoRecord, true)
	if !ok {
		return p, why
	}
	if name := x.c.Doc.Sealed(at.Route); name != "" && way == string(token.SignatureRemoved) {
		return p, fmt.Sprintf("{%s} signs the link, and its path cannot be without that", name)
	}
	ctl := at.Control
	if way == string(token.Raised) && check.HighestRole(x.c.Doc, ctl.Caller.Identity) == "" {
		if ctl = x.lower(at); ctl == nil {
			return p, "only the highest role is admitted there, so that there is none to raise one to"
		}
		at.Who = ctl.Caller.Identity
	}
	d := Detail{Way: way, Donor: ctl.Caller.Identity, Params: check.ParamsOf(ctl), Relation: ctl.Relation,
		ControlBy: at.Who}
	p = check.Probe{Phase: draft.Phase, Unsafe: ctl.Unsafe, Record: ctl.Record, Control: ctl.Key()}
	switch {
	case way == check.OtherScheme:
		d.Donor = x.otherDonor(at.Scheme)
	case check.MustEnter(way):
		if way == check.OtherBroken {
			if d.Other = x.uncounted(at.Route, at.Scheme); d.Other == "" {
				return p, "there is no scheme beside those accepted there"
			}
		}
		p.Phase = ctl.Phase
	case check.Besides(way):
		if d.Beside, why = x.beside(at.Route, at.Scheme, way != check.BesideOther); why != "" {
			return p, why
		}
		for _, q := range x.At(at.Route) {
			if q.Caller.Identity == d.Beside.Identity && q.Caller.Scheme == d.Beside.Scheme {
				d.Alone = append(d.Alone, q.Key())
			}
		}
	case way == check.Ended:
		p.Phase = check.ThenEnding
	case way == check.OtherRecord:
		if d.Param, d.OtherID = x.anotherRecord(at.Route, d.Donor, d.Params, p.Record); d.OtherID == "" {
			return p, "no second record is known that a link could be for"
		}
	}
	p.Record.Shared = p.Phase == check.ThenTurnedAway
	p.ID = check.ID{Family: Family{}.Name(), Route: ctl.Route, Caller: check.Caller{Scheme: at.Scheme.Name,
		State: access.Broken}, Of: way + "|" + d.Donor}
	p.Detail = d
	return p, ""
}

// lower is an admitted crossing of a guard's route whose caller lacks a role; nil without.
func (x planning) lower(at check.Spot) *check.Probe {
	for _, q := range x.At(at.Route) {
		who := q.CallerIn(x.c.Doc)
		if who.Identity == nil || q.Caller.Scheme != at.Scheme.Name {
			continue
		}
		if check.HighestRole(x.c.Doc, who.Identity.Name) != "" &&
			access.Decide(x.c.Doc, at.Route, who).Outcome == access.Admit {
			return q
		}
	}
	return nil
}

// owns plans the sound credentials of schemes that a guard does not accept, where they belong:
// one of each scheme that no crossing presents there, of somebody who would be admitted with
// another if there is one.
func (x planning) owns(at check.Spot) {
	doc := x.c.Doc
	acc := doc.Accepted(doc.Entry(at.Route))
	for _, s := range doc.Schemes {
		if slices.ContainsFunc(acc, s.SameLock) || s.Kind == declaration.Link ||
			slices.ContainsFunc(x.At(at.Route), func(p *check.Probe) bool {
				return p.Caller.Scheme == s.Name && p.Caller.Identity != "" && p.Caller.State == access.Sound
			}) {
			continue
		}
		who := ""
		for id := range doc.Ranked() {
			if id.Credential(s.Name) == nil {
				continue
			}
			admitted := access.Decide(doc, at.Route, access.Caller{Identity: id, State: access.Sound,
				Record: at.Control.Relation}).Outcome == access.Admit
			if who == "" || admitted {
				if who = id.Name; admitted {
					break
				}
			}
		}
		if who == "" {
			continue
		}
		q, why := x.breaking(at, check.OtherOwn)
		if why != "" {
			continue
		}
		d := Of(&q)
		d.Donor, d.Other = who, s.Name
		q.Detail = d
		q.ID.Caller, q.Of = check.Caller{Identity: who, Scheme: s.Name, State: access.Sound}, check.OtherOwn
		x.Add(q)
	}
}

// beside chooses a sound credential to stand beside a broken one on route i: one that does
// not open it. With sameLock it is presented in the same place.
func (x planning) beside(i int, s *declaration.Scheme, sameLock bool) (who check.Caller, why string) {
	doc := x.c.Doc
	acc := doc.Accepted(doc.Entry(i))
	for _, class := range x.Classes() { // whoever is sent: what it may do alone is then seen
		id, _ := check.Members(doc, class)
		for _, c := range id.Credentials {
			o := doc.SchemeNamed(c.Scheme.Name)
			if o == nil || !check.HasValue(o) && o.Kind != declaration.Basic || o.SameLock(s) != sameLock {
				continue
			}
			with := *id
			with.Credentials = []declaration.Credential{c}
			if access.Decide(doc, i, access.Caller{Identity: &with, State: access.Sound}).Outcome == access.Admit ||
				slices.Contains(acc, o) && !sameLock {
				continue
			}
			return check.Caller{Identity: id.Name, Scheme: o.Name, State: access.Sound}, ""
		}
	}
	return who, "everyone whose credential could stand beside it may enter there"
}

// uncounted is a scheme that route i does not accept, and that is presented in another
// place than s.
func (x planning) uncounted(i int, s *declaration.Scheme) string {
	acc := x.c.Doc.Accepted(x.c.Doc.Entry(i))
	for _, o := range x.c.Doc.Schemes {
		if check.HasValue(o) && !slices.ContainsFunc(acc, func(a *declaration.Scheme) bool { return a.SameLock(o) }) &&
			!o.SameLock(s) {
			return o.Name
		}
	}
	return ""
}

// otherDonor is an identity with a credential behind another lock.
func (x planning) otherDonor(s *declaration.Scheme) string {
	for id := range x.c.Doc.Ranked() {
		for _, c := range id.Credentials {
			if o := x.c.Doc.SchemeNamed(c.Scheme.Name); o != nil && check.HasValue(o) && !o.SameLock(s) {
				return id.Name
			}
		}
	}
	return ""
}

// anotherRecord is a record that could stand behind a parameter of route i in place of what
// is sent: one of the donor's own first, for which a link is given to it.
func (x planning) anotherRecord(i int, donor string, params map[string]string, r check.Record) (param, id string) {
	for _, name := range x.c.Doc.Routes[i].Parameters() {
		rec := x.drafts.Fills(i, name, x.c.Doc.Record(i))
		if rec == nil {
			continue
		}
		here := params[name]
		if name == r.Param {
			here = r.Value
		}
		for _, o := range append([]string{donor}, x.drafts.OwnersOf(rec)...) {
			for _, id := range rec.OwnedBy[o] {
				if id != here {
					return name, id
				}
			}
		}
	}
	return "", ""
}
