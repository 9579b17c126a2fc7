package probe

import (
	"slices"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/route"
	"millgate/core/token"
)

// Ways in which a credential is broken, beside the variants of core/token.
const (
	NoToken     = "malformed"      // no token at all in its place
	Empty       = "empty"          // the scheme's word and nothing behind it
	Expired     = "expired"        // re-signed with the signing key, ended an hour ago
	NotYet      = "not yet valid"  // re-signed, begins in an hour
	OtherAud    = "wrong audience" // re-signed for another service
	OtherIss    = "wrong issuer"   // re-signed as another issuer
	OtherKind   = "refresh token"  // the scheme's refresh token
	Ended       = "ended"          // its session was logged out
	OtherScheme = "another scheme" // the value of another scheme's credential
	KeyCase     = "letter case"    // a key in other letters
	KeyPlace    = "another place"  // a key where it is not declared to be
)

// Ways that a credential of a scheme can be broken in, in the order of the
// board's columns.
func Ways(s *declaration.Scheme) []string {
	switch {
	case s.Kind == declaration.APIKey:
		return []string{Empty, KeyCase, KeyPlace}
	case s.Kind != declaration.Bearer:
		return nil
	}
	out := []string{NoToken, Empty}
	if s.Token == "jwt" {
		for _, v := range token.Variants {
			out = append(out, string(v))
		}
		out = append(out, Expired, NotYet, OtherAud, OtherIss)
	}
	return append(out, OtherKind, Ended, OtherScheme)
}

// AllWays are the columns of the Tokens lens for a declaration.
func AllWays(d *declaration.Document) []string {
	var out []string
	for _, s := range d.Schemes {
		if !s.Probed() {
			continue
		}
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

// otherDonor is an identity with a credential behind another lock.
func (pl *planner) otherDonor(s *declaration.Scheme) string {
	for _, id := range pl.d.Identities {
		for _, c := range id.Credentials {
			if o := pl.d.SchemeNamed(c.Scheme.Name); o != nil && o.Probed() && !o.SameLock(s) {
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

// credentials plans broken credentials: on one route of each guard, and there
// as a caller that must be admitted with the sound one.
func (pl *planner) credentials() {
	type spot struct {
		route  int
		ctl    *Probe
		scheme *declaration.Scheme
	}
	var order []string
	best := map[string]spot{}
	for i := range pl.d.Routes {
		c := pl.controls[i]
		if c == nil || c.Identity == "" || c.Expect.Outcome != access.Admit || c.State != access.Sound {
			continue
		}
		s := pl.d.SchemeNamed(c.Scheme)
		if s == nil || len(Ways(s)) == 0 {
			continue
		}
		k := pl.guardOf(i, s)
		old, ok := best[k]
		if !ok {
			order = append(order, k)
		}
		if ok {
			pl.plan.Spared += len(Ways(s))
		}
		if !ok || c.Phase < old.ctl.Phase {
			best[k] = spot{i, c, s}
		}
	}
	told := map[string]bool{}
	for _, k := range order {
		b := best[k]
		rt := pl.d.Routes[b.route]
		if b.ctl.Phase >= UnsafeDeleting {
			pl.leave(rt.Key(), "", "broken credentials", "the only route of its guard deletes; a sound control would be needed each time")
			continue
		}
		for _, way := range Ways(b.scheme) {
			if why := pl.cannot(b.scheme, way); why != "" {
				if !told[b.scheme.Name+way] {
					told[b.scheme.Name+way] = true
					pl.leave("every route behind "+b.scheme.Name, "", "a credential that is "+way, why)
				}
				continue
			}
			p, why := pl.draft(b.route, nil, access.NoRecord, true)
			if p == nil {
				pl.leave(rt.Key(), "", "broken credentials", why)
				break
			}
			// The same bytes as the control, but for the credential.
			p.Params, p.Record = b.ctl.Params, b.ctl.Record
			if p.Record.Relation == access.Own {
				p.Record.Relation = access.NoRecord
			}
			p.Kind, p.Way, p.Donor, p.Scheme, p.State, p.Control = Credential, way, b.ctl.Identity, b.scheme.Name, access.Broken, b.ctl.ID
			if way == OtherScheme {
				p.Donor = pl.otherDonor(b.scheme)
			}
			p.Expect = access.Evaluate(pl.d, b.route, access.Caller{State: access.Broken})
			if p.Expect.Outcome != access.Refuse {
				continue
			}
			pl.add(p)
		}
	}
}

// issued plans to judge the token of each login, once for every class of
// callers.
func (pl *planner) issued() {
	for _, c := range pl.classes {
		id, _ := pl.members(c)
		for _, cr := range id.Credentials {
			s := pl.d.SchemeNamed(cr.Scheme.Name)
			if s == nil || s.Kind != declaration.Bearer || s.Login == nil {
				continue
			}
			ri := RouteOf(pl.d, s.Login)
			key := s.Login.Method + " " + route.Hosted(s.Login.Host, s.Login.Path)
			if ri >= 0 {
				key = pl.d.Routes[ri].Key()
			}
			pl.add(&Probe{Kind: Issued, Route: ri, RouteKey: key, Method: s.Login.Method, Host: s.Login.Host, Path: s.Login.Path, Identity: id.Name, Scheme: s.Name, State: access.Sound,
				Params: map[string]string{}, Phase: Safe, Expect: access.Expectation{Outcome: access.Admit}})
		}
	}
}
