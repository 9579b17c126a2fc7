package verdict

import (
	"millgate/core/check/families"
	"millgate/core/finding"
)

// Causes are all causes of findings of sweeps, family by family; docs/findings.md is
// made from them.
var Causes = finding.NewCatalogue(ofFamilies()...)

func ofFamilies() (out []finding.Family) {
	for _, f := range families.All {
		if c := f.Causes(); len(c.Rows) > 0 {
			out = append(out, c)
		}
	}
	return out
}
