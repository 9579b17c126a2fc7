package app

import (
	"millgate/core/check"
	"millgate/core/check/undeclared"
)

// is says whether a probe is one of a family.
func is(p *check.Probe, f check.Family) bool { return p.Family == f.Name() }

// KindOf names what a probe is in lists and counts: its family, and of what is not declared
// what that is.
func KindOf(p *check.Probe) string {
	if is(p, undeclared.Family{}) {
		return p.Of
	}
	return p.Family
}
