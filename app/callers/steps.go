package callers

import (
	"millgate/core/access"
	"millgate/core/declaration"
)

// Steps are what stands before the first sweep: what there is, and how much of it is done.
type Steps struct {
	Routes  int
	Targets int
	Callers int // identities
	LogIn   int // of them, those of whom a credential was obtained or let in at the target
	Decided int // routes of which somebody has decided who may call them
}

// Steps says how far a text is, "" is the kept one, at a target, "" is its first one. letIn says whom the target let in
// when it was observed.
func (c *Callers) Steps(target, text string, letIn func(target string) map[string]bool) Steps {
	d := c.ws.Present().Doc
	if text != "" {
		d, _ = c.ws.Parse(text)
	}
	if target == "" && len(d.Targets) > 0 {
		target = d.Targets[0].Name
	}
	s := Steps{Routes: len(d.Routes), Targets: len(d.Targets), Callers: len(d.Identities)}
	seen := letIn(target)
	for _, id := range d.Identities {
		if seen[id.Name] || c.logsIn(target, id) {
			s.LogIn++
		}
	}
	for i := range d.Routes {
		if !access.IsUndecided(d, i) {
			s.Decided++
		}
	}
	return s
}

func (c *Callers) logsIn(target string, id *declaration.Identity) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, cr := range id.Credentials {
		if c.tried[credential{target, id.Name, cr.Scheme.Name}].State == Obtained {
			return true
		}
	}
	return false
}
