package probe

import (
	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

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
