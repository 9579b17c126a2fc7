package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/probe"
)

func TestBrokenCredentials(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a]\n"),
		nil)
	require.False(t, declaration.Failed(msgs))
	good := &Control{Caller: "ann", Answer: check.Answer{Status: 200}, Class: check.Admitted}
	for _, c := range []struct {
		way     string
		status  int
		control *Control
		want    finding.Kind
		sure    finding.Confidence
	}{
		{"unsigned", 200, good, finding.Unprotected, finding.Proven},
		{probe.Ended, 200, good, finding.Lifetime, finding.Proven},
		{"unsigned", 401, good, finding.Agrees, finding.Proven},
		{"unsigned", 400, good, finding.Agrees, finding.Proven}, // how a refusal looks is for the crossing to say
		{"unsigned", 401, nil, finding.Unproven, finding.NotSure},
		{"unsigned", 401, &Control{Caller: "ann", Answer: check.Answer{Status: 404}, Class: check.Hidden},
			finding.Unproven, finding.NotSure},
		{"unsigned", 500, good, finding.Unproven, finding.NotSure},
		{"unsigned", 429, good, finding.Unproven, finding.NotSure},
		{"unsigned", 0, good, finding.Unproven, finding.NotSure},
	} {
		p := &probe.Probe{Kind: probe.Credential, Route: 0, RouteKey: "GET /a", Way: c.way, Donor: "ann",
			State: access.Broken, Expect: access.Expectation{Outcome: access.Refuse, Decider: 3}}
		v := Judge(Input{Doc: d, Probe: p, Answer: check.Answer{Status: c.status}, Control: c.control})
		assert.Equal(t, c.want, v.Kind, "%s %d", c.way, c.status)
		assert.Equal(t, c.sure, v.Confidence, "%s %d", c.way, c.status)
	}
	p := &probe.Probe{Kind: probe.Issued, Route: 0, RouteKey: "GET /a", Identity: "ann", Scheme: "s"}
	assert.Equal(t, finding.Unproven, Judge(Input{Doc: d, Probe: p}).Kind)
	said := func(list ...Judged) finding.Kind { return Judge(Input{Doc: d, Probe: p, Issued: &list}).Kind }
	assert.Equal(t, finding.Agrees, said())
	assert.Equal(t, finding.Agrees, said(Judged{ID: "typ-missing", Severity: finding.Low}))
	assert.Equal(t, finding.Lifetime, said(Judged{ID: "too-long", Severity: finding.Medium}))
	assert.Equal(t, finding.WeakToken, said(Judged{ID: "alg-undeclared", Severity: finding.High}))
}

// What one soundness check lets pass on several routes is one finding; on a
// route without a guard it is part of that.
func TestCredentialFindingsAreGathered(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, GET "+
		"/b, GET /c]\n"), nil)
	item := func(route int, way, cause string, k finding.Kind) Item {
		return Item{Probe: &probe.Probe{ID: way + d.Routes[route].Key(), Kind: probe.Credential, Route: route,
			RouteKey: d.Routes[route].Key(), Way: way, Donor: "ann", Scheme: "s", State: access.Broken},
			Verdict: Verdict{Kind: k, Gaps: []Gap{{Kind: k, Rung: 3, Subject: "soundness", Cause: cause,
				Confidence: finding.Proven}}}}
	}
	nobody := func(route int, st access.State) Item {
		return Item{Probe: &probe.Probe{ID: string(st), Kind: probe.Crossing, Route: route,
			RouteKey: d.Routes[route].Key(), State: st},
			Verdict: Verdict{Kind: finding.Unprotected,
				Gaps: []Gap{{Kind: finding.Unprotected, Rung: 2, Cause: "credential " + string(st),
					Confidence: finding.Proven}}}}
	}
	list := gather(d, []Item{
		nobody(2, access.Absent), nobody(2, access.Broken),
		item(0, "expired", "token expired", finding.Unprotected), item(1, "expired", "token expired",
			finding.Unprotected), item(2, "expired", "token expired", finding.Unprotected),
		item(0, "unsigned", "token unsigned", finding.Unprotected), item(0, "signature removed",
			"token signature removed", finding.Unprotected),
		item(2, probe.Ended, "afterlife", finding.Lifetime),
	})
	got := map[string]string{}
	for _, f := range list {
		got[f.Title] = string(f.Kind) + " " + f.Where()
	}
	assert.Equal(t, map[string]string{"No guard": "U GET /c", "An expired credential is accepted": "U everything " +
		"behind s", "An unsigned token is accepted": "U GET /a"}, got)
}
