package snapshot

import (
	"millgate/core/check"
	"millgate/core/check/undeclared"
)

// KindOf names what a probe is in lists and counts: its family, and of what is not declared
// what that is.
func KindOf(p *check.Probe) string {
	if p.Is(undeclared.Family{}) {
		return p.Of
	}
	return p.Family
}
