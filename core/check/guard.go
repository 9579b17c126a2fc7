package check

import (
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// Spot is a route that a guard is tried at, with its control and the scheme that the
// control presents.
type Spot struct {
	Route   int
	Control *Probe
	Who     string // the control's caller, in words
	Scheme  *declaration.Scheme
}

// Guard is what routes are taken to share: their accepted schemes, host and collection.
type Guard struct {
	Best   Spot // stands for it: safe before unsafe
	Unsafe Spot // the first that changes something on a known record; its Control is nil without one
	All    []Spot
}

// Guards are the guards of a document, in the order of their routes. Only where somebody is
// admitted with a credential can one be broken.
func Guards(d *declaration.Document, controlAt func(route int) (*Probe, string)) (out []*Guard) {
	named := map[string]*Guard{}
	for i := range d.Routes {
		c, who := controlAt(i)
		if c == nil || c.Caller.Identity == "" || c.Caller.State != access.Sound {
			continue
		}
		s := d.SchemeNamed(c.Caller.Scheme)
		if s == nil || UsesSession(d, i) {
			continue
		}
		k, here := guardOf(d, i, s), Spot{i, c, who, s}
		g := named[k]
		if g == nil {
			g = &Guard{Best: here}
			named[k] = g
			out = append(out, g)
		}
		g.All = append(g.All, here)
		if c.Phase < g.Best.Control.Phase {
			g.Best = here
		}
		if u := g.Unsafe.Control; c.Phase == ThenAdmitted && (u == nil || u.Record.Lent() && !c.Record.Lent()) {
			g.Unsafe = here
		}
	}
	return out
}

// GuardAt is the guard that a route is behind, nil without.
func GuardAt(list []*Guard, route int) *Guard {
	for _, g := range list {
		for _, s := range g.All {
			if s.Route == route {
				return g
			}
		}
	}
	return nil
}

// GuardScope is the scope of what a guard does wrong wherever it stands: named by the schemes
// that it asks for.
func GuardScope(d *declaration.Document, route string) finding.Scope {
	return finding.Scope{Of: finding.AtGuard, Name: "the guard of " + SchemesAt(d, route)}
}

// SchemesAt names the schemes that a route accepts; "" where nothing says.
func SchemesAt(d *declaration.Document, key string) string {
	i := d.RouteNamed(key)
	if i < 0 || d.Entry(i) == nil {
		return ""
	}
	var names []string
	for _, s := range d.Accepted(d.Entry(i)) {
		names = append(names, s.Name)
	}
	return strings.Join(names, " or ")
}

// guardOf names the guard that route i is taken to be behind.
func guardOf(d *declaration.Document, i int, s *declaration.Scheme) string {
	rt := d.Routes[i]
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
