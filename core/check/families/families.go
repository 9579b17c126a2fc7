// Package families lists the families of checks that a sweep has. A new one is its folder
// in core/check and one line here.
package families

import (
	"millgate/core/check"
	"millgate/core/check/accounts"
	"millgate/core/check/answers"
	"millgate/core/check/clocks"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/check/headers"
	"millgate/core/check/issued"
	"millgate/core/check/lists"
	"millgate/core/check/logins"
	"millgate/core/check/malformed"
	"millgate/core/check/order"
	"millgate/core/check/pages"
	"millgate/core/check/quotas"
	"millgate/core/check/raised"
	"millgate/core/check/requests"
	"millgate/core/check/sessions"
	"millgate/core/check/undeclared"
	"millgate/core/finding"
)

// Causes are all causes of findings of sweeps, family by family; docs/findings.md is made from
// them.
var Causes = catalogue()

func catalogue() *finding.Catalogue {
	var out []finding.Family
	for _, f := range All {
		if c := f.Causes(); len(c.Rows) > 0 {
			out = append(out, c)
		}
	}
	return finding.NewCatalogue(out...)
}

// All are the families, in the order in which they are planned.
var All = check.Families{
	crossing.Family{},
	detour.Family{},
	requests.Family{},
	raised.Family{},
	lists.Family{},
	malformed.Family{},
	undeclared.Family{},
	issued.Family{},
	credential.Family{},
	clocks.Family{},
	order.Family{},
	logins.Family{},
	accounts.Family{},
	pages.Family{},
	headers.Family{},
	sessions.Family{},
	quotas.Family{},
	answers.Family{},
}
