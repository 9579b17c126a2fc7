package play

import (
	"millgate/core/check"
	"millgate/core/finding"
)

// Said is a verdict in three words: the worst kind, how sure that is, and its cause, "" where
// there is no gap.
func Said(v check.Verdict) (kind finding.Kind, sure finding.Confidence, cause string) {
	kind, sure = finding.Agrees, v.Proof.Confidence()
	if sure == finding.NotSure {
		kind = finding.Unproven
	}
	for _, g := range v.Gaps {
		if !kind.IsGap() || finding.Worse(g.Cause.Kind, kind) {
			kind, sure, cause = g.Cause.Kind, g.Proof.Confidence(), g.Cause.Cause
		}
	}
	return kind, sure, cause
}
