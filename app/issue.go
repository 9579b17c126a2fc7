package app

import (
	"millgate/core/declaration"
	"millgate/core/token"
)

// keysOf are the public keys of a scheme, fetched once in a sweep.
func (r *run) keysOf(s *declaration.Scheme) token.Keys {
	r.mu.Lock()
	k, ok := r.public[s.Name]
	r.mu.Unlock()
	if ok {
		return k
	}
	k, _ = r.sweeps.ws.keysOf(r.ctx, r.doc, r.target, s)
	r.mu.Lock()
	r.public[s.Name] = k
	r.mu.Unlock()
	return k
}
