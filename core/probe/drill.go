package probe

import (
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/route"
)

// drills plans a session drill for one of each class of callers and each of
// its schemes that has a login, and something after it.
func (pl *planner) drills() {
	told := map[string]bool{}
	for _, c := range pl.classes {
		id, rest := pl.members(c)
		for _, cr := range id.Credentials {
			s := pl.d.SchemeNamed(cr.Scheme.Name)
			if s == nil || s.Login == nil || s.Refresh == nil && s.Logout == nil && s.Introspect == nil {
				continue
			}
			ri, key := pl.loginOf(s)
			if pl.t.Unsafe == declaration.UnsafeRefused {
				if !told[s.Name] {
					told[s.Name] = true
					pl.leave(key, "", "the session drill", "the target does not allow unsafe methods, and a drill renews and ends sessions")
				}
				continue
			}
			uses := pl.used(id, s)
			if uses == nil {
				pl.leave(key, id.Name, "the session drill", "no safe route admits it with "+s.Name+", so that nothing shows whether its session works")
				continue
			}
			p := &Probe{Kind: Session, Route: ri, RouteKey: key, Method: s.Login.Method, Host: s.Login.Host, Path: s.Login.Path, Identity: id.Name, Scheme: s.Name, State: access.Sound,
				Params: map[string]string{}, Phase: Drilling, Uses: uses.ID, StandsFor: rest, Expect: access.Expectation{Outcome: access.Admit}}
			if s.Refresh != nil && s.Logout != nil && access.Guarded(pl.d, s.Logout) {
				p.Donor = pl.neighbourOf(id, s)
			}
			pl.add(p)
		}
	}
}

// loginOf is the route that serves a scheme's login, -1 without, and the key
// that stands for it.
func (pl *planner) loginOf(s *declaration.Scheme) (i int, key string) {
	if i = access.RouteOf(pl.d, s.Login); i >= 0 {
		return i, pl.d.Routes[i].Key()
	}
	return i, s.Login.Method + " " + route.Hosted(s.Login.Host, s.Login.Path)
}

// used is the safe crossing that shows whether a session of the identity works.
func (pl *planner) used(id *declaration.Identity, s *declaration.Scheme) *Probe {
	for _, p := range pl.plan.Probes {
		if p.Kind == Crossing && p.Identity == id.Name && p.Scheme == s.Name && p.Phase == Safe && p.Expect.Outcome == access.Admit && !p.Record.Made {
			// On an open route anything works.
			if e := pl.d.Entry(p.Route); e != nil && e.Who[0].Kind != declaration.WhoAnyone {
				return p
			}
		}
	}
	return nil
}

// neighbourOf is another identity with a credential of the scheme, "" without.
func (pl *planner) neighbourOf(id *declaration.Identity, s *declaration.Scheme) string {
	for _, o := range pl.d.Identities {
		if o == id {
			continue
		}
		for _, c := range o.Credentials {
			if c.Scheme.Name == s.Name {
				return o.Name
			}
		}
	}
	return ""
}
