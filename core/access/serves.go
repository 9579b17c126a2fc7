package access

import (
	"slices"

	"millgate/core/declaration"
)

// Serves says whether a route serves a request of the declaration.
func Serves(rt *declaration.Route, q *declaration.Request) bool {
	return q != nil && q.Method == rt.Method() && q.Host == rt.Host && rt.MatchesPath(q.Path)
}

// RouteOf is the route that serves a request of the declaration; -1 without.
func RouteOf(d *declaration.Document, q *declaration.Request) int {
	return slices.IndexFunc(d.Routes, func(rt *declaration.Route) bool { return Serves(rt, q) })
}

// Guarded says whether a request of the declaration needs a credential.
func Guarded(d *declaration.Document, q *declaration.Request) bool {
	i := RouteOf(d, q)
	return i >= 0 && Decide(d, i, Nobody(d, i)).Outcome == Refuse
}

// SessionAt is the login, renewal or logout request that route i serves, with its scheme;
// nil when it serves none.
func SessionAt(d *declaration.Document, i int) (*declaration.Scheme, *declaration.Request) {
	for _, s := range d.Schemes {
		for _, q := range []*declaration.Request{s.Login, s.Refresh, s.Logout} {
			if Serves(d.Routes[i], q) {
				return s, q
			}
		}
	}
	return nil, nil
}
