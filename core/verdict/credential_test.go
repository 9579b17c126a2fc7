package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/probe"
	"millgate/core/severity"
)

func TestBrokenCredentials(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a]\n"), nil)
	require.False(t, declaration.Failed(msgs))
	good := &Control{Caller: "ann", Answer: Answer{Status: 200}, Class: Admitted}
	for _, c := range []struct {
		way     string
		status  int
		control *Control
		want    Kind
		sure    Confidence
	}{
		{"unsigned", 200, good, Unprotected, Proven},
		{probe.Ended, 200, good, Lifetime, Proven},
		{"unsigned", 401, good, Agrees, Proven},
		{"unsigned", 400, good, Agrees, Proven}, // how a refusal looks is for the crossing to say
		{"unsigned", 401, nil, Unproven, NotSure},
		{"unsigned", 401, &Control{Caller: "ann", Answer: Answer{Status: 404}, Class: Hidden}, Unproven, NotSure},
		{"unsigned", 500, good, Unproven, NotSure},
		{"unsigned", 429, good, Unproven, NotSure},
		{"unsigned", 0, good, Unproven, NotSure},
	} {
		p := &probe.Probe{Kind: probe.Credential, Route: 0, RouteKey: "GET /a", Way: c.way, Donor: "ann", State: access.Broken, Expect: access.Expectation{Outcome: access.Refuse, Decider: 3}}
		v := Judge(Input{Doc: d, Probe: p, Answer: Answer{Status: c.status}, Control: c.control})
		assert.Equal(t, c.want, v.Kind, "%s %d", c.way, c.status)
		assert.Equal(t, c.sure, v.Confidence, "%s %d", c.way, c.status)
	}
	p := &probe.Probe{Kind: probe.Issued, Route: 0, RouteKey: "GET /a", Identity: "ann", Scheme: "s"}
	assert.Equal(t, Unproven, Judge(Input{Doc: d, Probe: p}).Kind)
	said := func(list ...Judged) Kind { return Judge(Input{Doc: d, Probe: p, Issued: &list}).Kind }
	assert.Equal(t, Agrees, said())
	assert.Equal(t, Agrees, said(Judged{ID: "typ-missing", Severity: severity.Low}))
	assert.Equal(t, Lifetime, said(Judged{ID: "too-long", Severity: severity.Medium}))
	assert.Equal(t, WeakToken, said(Judged{ID: "alg-undeclared", Severity: severity.High}))
}

// What one soundness check lets pass on several routes is one finding; on a
// route without a guard it is part of that.
func TestCredentialFindingsAreGathered(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, GET /b, GET /c]\n"), nil)
	item := func(route int, way, cause string, k Kind) Item {
		return Item{Probe: &probe.Probe{ID: way + d.Routes[route].Key(), Kind: probe.Credential, Route: route, RouteKey: d.Routes[route].Key(), Way: way, Donor: "ann", Scheme: "s", State: access.Broken},
			Verdict: Verdict{Kind: k, Gaps: []Gap{{Kind: k, Rung: 3, Subject: "soundness", Cause: cause, Confidence: Proven}}}}
	}
	nobody := func(route int, st access.State) Item {
		return Item{Probe: &probe.Probe{ID: string(st), Kind: probe.Crossing, Route: route, RouteKey: d.Routes[route].Key(), State: st},
			Verdict: Verdict{Kind: Unprotected, Gaps: []Gap{{Kind: Unprotected, Rung: 2, Cause: "credential " + string(st), Confidence: Proven}}}}
	}
	list := Gather(d, []Item{
		nobody(2, access.Absent), nobody(2, access.Broken),
		item(0, "expired", "token expired", Unprotected), item(1, "expired", "token expired", Unprotected), item(2, "expired", "token expired", Unprotected),
		item(0, "unsigned", "token unsigned", Unprotected), item(0, "signature removed", "token signature removed", Unprotected),
		item(2, probe.Ended, "afterlife", Lifetime),
	})
	got := map[string]string{}
	for _, f := range list {
		got[f.Title] = string(f.Kind) + " " + f.Route
	}
	assert.Equal(t, map[string]string{"No guard": "U GET /c", "A broken credential is accepted: expired": "U everything behind s", "An unsigned token is accepted": "U GET /a"}, got)
}
