package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// What one soundness check lets pass on several routes is one finding; on a
// route without a guard it is part of that.
func TestCredentialFindingsAreGathered(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, GET "+
		"/b, GET /c]\n"), nil)
	item := func(route int, way, cause string, k finding.Kind) Item {
		return Item{Probe: &check.Probe{ID: check.ID{Family: credential.Family{}.Name(), Route: d.Routes[route].Key(),
			Of: way, Caller: check.Caller{Scheme: "s", State: access.Broken}}, Detail: credential.Detail{Way: way}},
			Verdict: Verdict{Kind: k, Gaps: []Gap{{Kind: k, Rung: 3, Subject: "soundness", Cause: cause,
				Confidence: finding.Proven}}}}
	}
	nobody := func(route int, st access.State) Item {
		return Item{Probe: &check.Probe{ID: check.ID{Family: crossings, Route: d.Routes[route].Key(),
			Caller: check.Caller{State: st}}},
			Verdict: Verdict{Kind: finding.Unprotected,
				Gaps: []Gap{{Kind: finding.Unprotected, Rung: 2, Cause: "credential " + string(st),
					Confidence: finding.Proven}}}}
	}
	list := gather(d, []Item{
		nobody(2, access.Absent), nobody(2, access.Broken),
		item(0, "expired", "token expired", finding.Unprotected), item(1, "expired", "token expired",
			finding.Unprotected), item(2, "expired", "token expired", finding.Unprotected),
		item(0, "unsigned", "token unsigned", finding.Unprotected), item(0, "signature removed",
			"token unsigned", finding.Unprotected),
		item(2, check.Ended, "afterlife", finding.Lifetime),
	})
	got := map[string]string{}
	for _, f := range list {
		got[f.Title] = string(f.Kind) + " " + f.Where()
	}
	assert.Equal(t, map[string]string{"No guard": "U GET /c", "An expired credential is accepted": "U everything " +
		"behind s", "An unsigned token is accepted": "U GET /a"}, got)
}
