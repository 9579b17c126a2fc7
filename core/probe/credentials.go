package probe

import (
	"slices"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/crossing"
	"millgate/core/declaration"
	"millgate/core/token"
)

// Ways in which a credential is broken, beside the variants of core/token.
const (
	NoToken     = "malformed"      // no token at all in its place
	Empty       = "empty"          // the scheme's word and nothing behind it
	Expired     = "expired"        // ended before: re-signed so, or a link kept from then
	NotYet      = "not yet valid"  // re-signed, begins in an hour
	OtherAud    = "wrong audience" // re-signed for another service
	OtherIss    = "wrong issuer"   // re-signed as another issuer
	OtherKind   = "refresh token"  // the scheme's refresh token
	Ended       = "ended"          // its session was logged out
	OtherScheme = "another scheme" // the value of another scheme's credential
	KeyCase     = "letter case"    // a key in other letters
	KeyPlace    = "another place"  // a key where it is not declared to be
	InQuery     = "in the query"   // a sound token as a query parameter (RFC 6750 section 2.3)
	// a sound token behind the scheme's word in other letters (RFC 9110 section 11.1)
	SchemeCase  = "word in other case"
	CrossSite   = "cross-site"     // a sound cookie, sent by a page of another site
	OtherBody   = "another body"   // a signature over another body
	OldTime     = "old timestamp"  // soundly signed, longer ago than is tolerated
	Repeated    = "repeated"       // soundly signed, and sent a second time
	Changed     = "changed end"    // a link that was given a later end
	OtherRecord = "another record" // a link that was given out for another record

	// Two credentials at once, of which neither would do alone: a sound one of
	// somebody who may not enter, beside a broken one of somebody who may.
	BesideFirst = "two, sound one first"      // two Authorization fields, the sound one first
	BesideLast  = "two, sound one last"       // and last
	OtherBroken = "two schemes, other broken" // a sound one beside a broken one of a scheme that does not count here
	BesideOther = "two schemes"               // the sound one is of another scheme
)

// besides says whether a way presents two credentials.
func besides(way string) bool { return way == BesideFirst || way == BesideLast || way == BesideOther }

// Ways that a credential of a scheme can be broken in, in the order of the
// board's columns.
func Ways(s *declaration.Scheme) []string {
	removed := string(token.SignatureRemoved)
	switch s.Kind {
	case declaration.APIKey:
		return []string{Empty, KeyCase, KeyPlace}
	case declaration.Cookie:
		return []string{NoToken, Empty, CrossSite, Ended, OtherScheme, BesideOther, OtherBroken}
	case declaration.Basic:
		return []string{NoToken, Empty, OtherScheme}
	case declaration.Signature:
		out := []string{NoToken, removed, OtherBody, OtherScheme}
		if s.Signing.Timestamp != "" {
			out = slices.Insert(out, 3, OldTime, Repeated)
		}
		return out
	case declaration.Link:
		return []string{NoToken, removed, Changed, Expired, OtherRecord}
	default:
	}
	out := []string{NoToken, Empty}
	if s.Token == "jwt" {
		for _, v := range token.Variants {
			out = append(out, string(v))
		}
		out = append(out, Expired, NotYet, OtherAud, OtherIss)
	}
	return append(out, OtherKind, Ended, OtherScheme, InQuery, SchemeCase, BesideFirst, BesideLast, BesideOther,
		OtherBroken)
}

// MustEnter says whether a way is one that a service must admit: there is
// nothing wrong with what counts.
func MustEnter(way string) bool { return way == SchemeCase || way == OtherBroken }

// AllWays are the columns of the Tokens lens for a declaration.
func AllWays(d *declaration.Document) []string {
	var out []string
	for _, s := range d.Schemes {
		for _, w := range Ways(s) {
			if !slices.Contains(out, w) {
				out = append(out, w)
			}
		}
	}
	return out
}

// cannot says why a way is left out for a scheme, "" when it can be tried.
func (pl *planner) cannot(s *declaration.Scheme, way string) string {
	switch way {
	case Expired, NotYet, OtherAud, OtherIss:
		switch {
		case s.Kind == declaration.Link:
			if s.ExpiredLink == (declaration.Value{}) {
				return "no expired link is at hand; paste one that was given out before as the scheme's expired_link"
			}
		case s.SigningKey == (declaration.Value{}):
			return "such a token has to be signed; give the scheme a signing_key where the target is a test environment"
		case way == OtherAud && s.Audience == "":
			return "the scheme declares no audience"
		case way == OtherIss && s.Issuer == "":
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
	case OtherKind:
		if s.Login == nil || s.Login.Take["refresh"] == "" {
			return "the scheme's login gives no refresh token"
		}
	case Ended:
		if s.Logout == nil || s.Login == nil {
			return "the scheme has no logout"
		}
	case OtherScheme:
		if pl.otherDonor(s) == "" {
			return "there is no credential of another scheme"
		}
	}
	return ""
}

// HasValue says whether a credential of the scheme is one text that could
// stand elsewhere.
func HasValue(s *declaration.Scheme) bool {
	return s.Kind == declaration.Bearer || s.Kind == declaration.APIKey || s.Kind == declaration.Cookie
}

// beside chooses a sound credential to stand beside a broken one on route i:
// one that does not open it. With sameLock it is presented in the same place.
func (pl *planner) beside(i int, s *declaration.Scheme, sameLock bool) (identity, scheme, why string) {
	e := pl.d.Entry(i)
	acc := pl.d.Accepted(e)
	for _, class := range pl.classes { // whoever is sent: what it may do alone is then seen
		id, _ := check.Members(pl.d, class)
		for _, c := range id.Credentials {
			o := pl.d.SchemeNamed(c.Scheme.Name)
			if o == nil || !HasValue(o) && o.Kind != declaration.Basic || o.SameLock(s) != sameLock {
				continue
			}
			with := *id
			with.Credentials = []declaration.Credential{c}
			if access.Evaluate(pl.d, i, access.Caller{Identity: &with, State: access.Sound}).Outcome == access.Admit ||
				slices.Contains(acc, o) && !sameLock {
				continue
			}
			return id.Name, o.Name, ""
		}
	}
	return "", "", "everyone whose credential could stand beside it may enter there"
}

// uncounted is a scheme that route i does not accept, and that is presented in
// another place than s.
func (pl *planner) uncounted(i int, s *declaration.Scheme) string {
	acc := pl.d.Accepted(pl.d.Entry(i))
	for _, o := range pl.d.Schemes {
		if HasValue(o) && !slices.ContainsFunc(acc, func(a *declaration.Scheme) bool { return a.SameLock(o) }) &&
			!o.SameLock(s) {
			return o.Name
		}
	}
	return ""
}

// otherDonor is an identity with a credential behind another lock.
func (pl *planner) otherDonor(s *declaration.Scheme) string {
	for _, id := range pl.d.Identities {
		for _, c := range id.Credentials {
			if o := pl.d.SchemeNamed(c.Scheme.Name); o != nil && HasValue(o) && !o.SameLock(s) {
				return id.Name
			}
		}
	}
	return ""
}

// guardOf names the guard that route i is taken to be behind: its accepted
// schemes, its host and its collection.
func (pl *planner) guardOf(i int, s *declaration.Scheme) string {
	rt := pl.d.Routes[i]
	key := s.Name + " " + rt.Host
	literal := 0
	for _, g := range rt.Segments {
		if g.Any || literal == 2 {
			break
		}
		key += "/" + g.Literal
		literal++
	}
	return key
}

// spot is a route that stands for its guard.
type spot struct {
	route  int
	ctl    *Probe
	scheme *declaration.Scheme
}

// sameBytes gives a probe what the control sends, but for the credential.
func (at spot) sameBytes(p *Probe) {
	p.Params, p.Record = at.ctl.Params, at.ctl.Record
	if p.Record.Relation == access.Own {
		p.Record.Relation = access.NoRecord
	}
}

// guards finds for each guard the route to try broken credentials on: safe
// before unsafe. unsafe has for each the first route with an unsafe method, all
// has all of them.
func (pl *planner) guards() (order []string, best, unsafe map[string]spot, all map[string][]spot) {
	best, unsafe, all = map[string]spot{}, map[string]spot{}, map[string][]spot{}
	for i := range pl.d.Routes {
		c := pl.controls[i]
		if c == nil || c.Identity == "" || c.Expect.Outcome != access.Admit || c.State != access.Sound {
			continue
		}
		s := pl.d.SchemeNamed(c.Scheme)
		if s == nil || pl.usesSession(i) {
			continue
		}
		k := pl.guardOf(i, s)
		here := spot{i, c, s}
		all[k] = append(all[k], here)
		old, ok := best[k]
		if !ok {
			order = append(order, k)
		} else {
			pl.plan.Spared += len(Ways(s))
		}
		if !ok || c.Phase < old.ctl.Phase {
			best[k] = here
		}
		if u, ok := unsafe[k]; c.Phase == UnsafeAdmitted && (!ok || u.ctl.Record.Made && !c.Record.Made) {
			unsafe[k] = here
		}
	}
	return order, best, unsafe, all
}

// credentials plans broken credentials: on one route of each guard, and there
// as a caller that must be admitted with the sound one.
func (pl *planner) credentials() {
	order, best, unsafe, all := pl.guards()
	pl.plan.widen = func(x *Probe) (out []*Probe) {
		for _, at := range all[pl.guardOf(x.Route, pl.d.SchemeNamed(x.Scheme))] {
			if at.route == x.Route || at.ctl.Phase >= UnsafeDeleting {
				continue
			}
			if p, _ := pl.breaking(at, x.Way); p != nil && p.Expect.Outcome == x.Expect.Outcome {
				p.Widens = x.ID
				if n := len(pl.plan.Probes); pl.add(p) == p && len(pl.plan.Probes) > n {
					out = append(out, p)
				}
			}
		}
		return out
	}
	told := map[string]bool{}
	leave := func(s *declaration.Scheme, way, why string) {
		if !told[s.Name+way] {
			told[s.Name+way] = true
			pl.leave("every route behind "+s.Name, "", "a credential: "+way, why)
		}
	}
	for _, k := range order {
		b := best[k]
		if b.ctl.Phase >= UnsafeDeleting {
			pl.leave(pl.d.Routes[b.route].Key(), "", "broken credentials",
				"the only route of its guard deletes; a sound control would be needed each time")
			continue
		}
		pl.accepts(b)
		for _, way := range Ways(b.scheme) {
			at := b
			if way == CrossSite {
				u, ok := unsafe[k]
				if !ok {
					continue // reading across sites is the browser's to refuse
				}
				at = u
			}
			if why := pl.cannot(at.scheme, way); why != "" {
				leave(at.scheme, way, why)
				continue
			}
			p, why := pl.breaking(at, way)
			if p == nil {
				leave(at.scheme, way, why)
				continue
			}
			if p.Expect.Outcome == access.Refuse || MustEnter(way) {
				pl.add(p)
			}
		}
	}
}

// accepts plans how a refusal looks to who asks for a page, or for nothing:
// some services send the one to a login page and answer the other.
func (pl *planner) accepts(at spot) {
	if p, _ := pl.draft(at.route, nil, access.NoRecord, true); p == nil {
		return // the crossing itself says why
	}
	for _, way := range []string{crossing.AcceptHTML, crossing.AcceptNone} {
		if x, ok := crossing.Refusal(&pl.plan.context, at.ctl.Check, way); ok {
			pl.family(&x)
		}
	}
}

// breaking drafts one way of breaking the control's credential.
func (pl *planner) breaking(at spot, way string) (*Probe, string) {
	p, why := pl.draft(at.route, nil, access.NoRecord, true)
	if p == nil {
		return nil, why
	}
	at.sameBytes(p)
	p.Kind, p.Way, p.Donor, p.Scheme, p.State, p.Control = Credential, way, at.ctl.Identity, at.scheme.Name,
		access.Broken, at.ctl.ID
	p.Expect = access.Evaluate(pl.d, at.route, access.Caller{State: access.Broken})
	switch {
	case way == string(token.Raised) && HighestRole(pl.d, p.Donor) == "":
		return nil, "only the highest role is admitted there, so that there is none to raise one to"
	case way == OtherScheme:
		p.Donor = pl.otherDonor(at.scheme)
	case MustEnter(way):
		if way == OtherBroken {
			if p.BesideScheme = pl.uncounted(at.route, at.scheme); p.BesideScheme == "" {
				return nil, "there is no scheme beside those accepted there"
			}
		}
		p.Phase = at.ctl.Phase
		p.Expect = access.Evaluate(pl.d, at.route, access.Caller{Identity: pl.d.IdentityNamed(p.Donor),
			State: access.Sound, Record: at.ctl.Record.Relation})
	case besides(way):
		if p.Beside, p.BesideScheme, why = pl.beside(at.route, at.scheme, way != BesideOther); why != "" {
			return nil, why
		}
	case way == OtherRecord:
		if p.Param, p.OtherID = pl.anotherRecord(at.route, p); p.OtherID == "" {
			return nil, "no second record is known that a link could be for"
		}
	}
	return p, ""
}

// anotherRecord is a record that could stand behind a parameter of the route
// in place of the probe's.
func (pl *planner) anotherRecord(i int, p *Probe) (param, id string) {
	for _, name := range pl.d.Routes[i].Parameters() {
		rec := pl.drafts.Fills(i, name, pl.d.Record(i))
		if rec == nil {
			continue
		}
		here := p.Params[name]
		if name == p.Record.Param {
			here = p.Record.ID
		}
		for _, o := range pl.drafts.OwnersOf(rec) {
			for _, id := range rec.OwnedBy[o] {
				if id != here {
					return name, id
				}
			}
		}
	}
	return "", ""
}

// issued plans to judge the token of each login, once for every class of
// callers.
func (pl *planner) issued() {
	for _, c := range pl.classes {
		id, _ := check.Members(pl.d, c)
		for _, cr := range id.Credentials {
			s := pl.d.SchemeNamed(cr.Scheme.Name)
			if s == nil || s.Kind != declaration.Bearer && s.Kind != declaration.Cookie || s.Login == nil {
				continue
			}
			ri, key := pl.loginOf(s)
			pl.add(&Probe{Kind: Issued, Route: ri, RouteKey: key, Method: s.Login.Method, Host: s.Login.Host,
				Path: s.Login.Path, Identity: id.Name, Scheme: s.Name, State: access.Sound,
				Params: map[string]string{}, Phase: Safe, Expect: access.Expectation{Outcome: access.Admit}})
		}
	}
	pl.issuedLinks()
}

// issuedLinks plans to look at the end of a link that was given out, for each
// scheme of links.
func (pl *planner) issuedLinks() {
	done := map[string]bool{}
	for _, c := range pl.controls {
		if c == nil || done[c.Scheme] {
			continue
		}
		s := pl.d.SchemeNamed(c.Scheme)
		if s == nil || s.Kind != declaration.Link || s.Issue == nil {
			continue
		}
		done[s.Name] = true
		p := *c
		p.Check, p.shown = nil, nil
		p.Kind, p.IsControl, p.StandsFor, p.Phase, p.Expect = Issued, false, nil, Safe,
			access.Expectation{Outcome: access.Admit}
		if p.Record.Made {
			continue // its own control shows that it works
		}
		pl.add(&p)
	}
}
