package families

import (
	"fmt"
	"strings"
	"testing"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/detour"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
	"millgate/core/finding"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The families of made-up probes; of what is not declared, what that is.
const (
	crossings   = "crossing"
	around      = "around"
	ofMalformed = "malformed"
)

func item(kind, route, identity string, st access.State, gaps ...finding.Gap) check.Item {
	v := finding.Verdict{Kind: finding.Agrees, Gaps: gaps}
	if len(gaps) > 0 {
		v.Kind = gaps[0].Row.Kind
	}
	id := check.ID{Family: kind, Route: route, Caller: check.Caller{Identity: identity, State: st}}
	if kind == undeclared.Path || kind == undeclared.Address {
		id.Family, id.Of = undeclared.Family{}.Name(), kind
	}
	return check.Item{Probe: &check.Probe{ID: id}, Verdict: v}
}

// gap is a proven one of a cause, which may end in a name.
func gap(k finding.Kind, cause string, rung int) finding.Gap {
	row, ok := Causes.Row(k, cause)
	if !ok {
		panic("no row of " + cause)
	}
	return finding.Gap{Row: row, What: strings.TrimPrefix(cause, row.Cause), Rung: rung, Confidence: finding.Proven,
		Reason: "It is " + cause + "."}
}

// wide is a gap that is one fault of everything behind the scheme s where it shows at several
// routes.
func wide(g finding.Gap) finding.Gap {
	g.Wide = finding.Scope{Of: finding.AtScheme, Name: "s"}
	return g
}

func TestOneCauseIsOneFinding(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\nroutes: [GET /a]\n"), nil)
	u := func(st string) finding.Gap { return gap(finding.Unprotected, "credential "+st, 2) }
	p, w := gap(finding.OverPermissive, "role", 4), gap(finding.WrongRefusal, "forbid refused", 0)

	items := []check.Item{item(crossings, "GET /a", "", access.Absent, u("absent")),
		item(crossings, "GET /a", "", access.Broken, u("broken"))}
	for i := range 7 {
		items = append(items, item(crossings, "GET /a", fmt.Sprint("i", i), access.Sound, p))
	}
	fs := gather(d, items)
	require.Len(t, fs, 1, "nine callers let through by one missing guard")
	assert.Equal(t, finding.Unprotected, fs[0].Kind)
	assert.Equal(t, "No guard", fs[0].Title)
	assert.Len(t, fs[0].Callers, 9, "seven identities, and nobody in two ways")
	assert.Equal(t, 9, fs[0].Crossings)

	// Open without a credential only: what a role lets through is another cause.
	fs = gather(d, []check.Item{items[0], item(crossings, "GET /a", "i0", access.Sound, p),
		item(crossings, "GET /a", "i1", access.Sound, w)})
	require.Len(t, fs, 3)
	assert.Equal(t, []finding.Kind{finding.Unprotected, finding.OverPermissive, finding.WrongRefusal},
		[]finding.Kind{fs[0].Kind, fs[1].Kind, fs[2].Kind}, "worst first")

	// The identity of a finding does not change with who shows it, or how many.
	again := gather(d, []check.Item{item(crossings, "GET /a", "other", access.Sound, p)})
	assert.Equal(t, fs[1].ID, again[0].ID)
	assert.NotEqual(t, fs[0].ID, fs[1].ID)
	elsewhere := gather(d, []check.Item{item(crossings, "GET /b", "other", access.Sound, p)})
	assert.NotEqual(t, again[0].ID, elsewhere[0].ID)
	assert.Regexp(t, `^mg-[0-9a-f]{10}$`, again[0].ID)
}

func TestInferredAreNotObserved(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\nroutes: [GET /a]\n"), nil)
	it := item(crossings, "GET /a", "ann", access.Sound, gap(finding.OverPermissive, "role", 4))
	it.Probe.StandsFor = []string{"eve", "ida"}
	f := gather(d, []check.Item{it})[0]
	assert.Equal(t, []string{"ann"}, f.Callers)
	assert.Equal(t, []string{"eve", "ida"}, f.Inferred)
}

// gather is Gather with all families.
func gather(d *declaration.Document, items []check.Item) []finding.Finding {
	return check.Gather(&check.Context{Doc: d}, All, items)
}

func TestCausesThatAreOne(t *testing.T) {
	d := kindsDoc(t)
	kinds := func(items ...check.Item) (out []string) {
		for _, f := range gather(d, items) {
			out = append(out, string(f.Kind)+" "+f.Where()+": "+f.Title)
		}
		return out
	}
	slash := item(around, "GET /a", "", access.Absent, gap(finding.Unprotected, "way a slash", 2))
	double := item(around, "GET /a", "", access.Broken, gap(finding.Unprotected, "way a slash", 2))
	assert.Equal(t, []string{"U GET /a: The guard is stepped around by a slash"}, kinds(slash, double))

	w := gap(finding.WrongRefusal, "answer", 0)
	assert.Equal(t, []string{"W " + finding.AnyPath + ": A refusal in another shape than declared"},
		kinds(item(undeclared.Path, "GET /x", "", access.Absent, w),
			item(undeclared.Address, "GET /debug", "", access.Absent, w),
			item(around, "GET /a", "", access.Absent, w)))

	refused := item(crossings, "DELETE /a", "", access.Absent, gap(finding.Unprotected, "carried out", 2))
	forbidden := item(crossings, "DELETE /a", "ann", access.Sound,
		gap(finding.OverPermissive, "carried out", 4), gap(finding.WrongRefusal, "forbid refused", 4))
	forbidden.Probe.Unsafe = true
	assert.Equal(t, []string{"U DELETE /a: Refused and carried out all the same"}, kinds(refused, forbidden))

	other := item(crossings, "GET /a", "key", access.Sound, gap(finding.OverPermissive, "credential", 2))
	absent := item(crossings, "GET /a", "", access.Absent, gap(finding.Unprotected, "credential absent", 2))
	assert.Equal(t, []string{"U GET /a: Open when no credential is sent"}, kinds(absent, other),
		"another scheme is no credential here")
	assert.Equal(t, []string{"P GET /a: With another scheme"}, kinds(other))
	absent.Verdict.Gaps[0].Aside = true
	assert.Len(t, kinds(absent, other), 2, "what asks for a page alone says nothing of others")

	two := item(crossings, "GET /a", "ann", access.Sound, gap(finding.Leaking, "field password", 0),
		gap(finding.Leaking, "text goroutine", 0))
	assert.Len(t, kinds(two), 2, "two things shown are two findings")
	for _, title := range []string{"Answered 401, 403 is declared", "Sent to a login page, 401 is declared"} {
		cause := map[string]string{"Answered 401, 403 is declared": "forbid refused",
			"Sent to a login page, 401 is declared": "refuse to-login"}[title]
		assert.Equal(t, []string{"W GET /a: " + title},
			kinds(item(crossings, "GET /a", "ann", access.Sound, gap(finding.WrongRefusal, cause, 4))))
	}
}

// What one soundness check lets pass on several routes is one finding; on a
// route without a guard it is part of that.
func TestCredentialFindingsAreGathered(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, GET "+
		"/b, GET /c]\n"), nil)
	item := func(route int, way, cause string, k finding.Kind) check.Item {
		return check.Item{Probe: &check.Probe{ID: check.ID{Family: credential.Family{}.Name(),
			Route: d.Routes[route].Key(), Of: way, Caller: check.Caller{Scheme: "s", State: access.Broken}},
			Detail: credential.Detail{Way: way}},
			Verdict: finding.Verdict{Kind: k, Gaps: []finding.Gap{wide(gap(k, cause, 3))}}}
	}
	nobody := func(route int, st access.State) check.Item {
		return check.Item{Probe: &check.Probe{ID: check.ID{Family: crossings, Route: d.Routes[route].Key(),
			Caller: check.Caller{State: st}}},
			Verdict: finding.Verdict{Kind: finding.Unprotected,
				Gaps: []finding.Gap{gap(finding.Unprotected, "credential "+string(st), 2)}}}
	}
	list := gather(d, []check.Item{
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

// What follows a gap along its guard belongs to the finding that led to it.
func TestWidenedGapsAreOneFinding(t *testing.T) {
	d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, "+
		"\"GET /a/{id}\", GET /b]\n"), nil)
	item := func(id string, route int, widens string) check.Item {
		p := &check.Probe{ID: check.ID{Family: credential.Family{}.Name(), Route: d.Routes[route].Key(), Of: id,
			Caller: check.Caller{Scheme: "s", State: access.Broken}}, Detail: credential.Detail{Way: "foreign key"}}
		if widens != "" {
			p.Widens = check.ID{Family: p.Family, Route: d.Routes[0].Key(), Of: widens, Caller: p.Caller}.Key()
		}
		return check.Item{Probe: p, Verdict: finding.Verdict{Kind: finding.Unprotected,
			Gaps: []finding.Gap{wide(gap(finding.Unprotected, "token foreign key", 3))}}}
	}
	fs := gather(d, []check.Item{item("1", 0, ""), item("2", 1, "1")})
	require.Len(t, fs, 1)
	assert.Equal(t, "GET /a", fs[0].Where())
	assert.Equal(t, "GET /a", fs[0].Route)
	assert.Equal(t, []string{"GET /a", "GET /a/{id}"}, fs[0].Routes)
	assert.Equal(t, &finding.Scope{Of: finding.AtGuard, Name: "GET /a"}, fs[0].Scope)
	assert.Equal(t, 2, fs[0].Crossings)
	fs = gather(d, []check.Item{item("1", 0, ""), item("3", 2, ""), item("2", 1, "1")})
	require.Len(t, fs, 1)
	assert.Equal(t, "everything behind s", fs[0].Where(), "at two guards it is the check that they share")
	assert.Equal(t, "GET /a", fs[0].Route, "never a scope's name")
	assert.Equal(t, []string{"GET /a", "GET /a/{id}", "GET /b"}, fs[0].Routes, "in the inventory's order")
	assert.Equal(t, &finding.Scope{Of: finding.AtScheme, Name: "s"}, fs[0].Scope)
	past := func(id string, route int) check.Item {
		g := gap(finding.Unprotected, "way "+detour.PastGateway, 2)
		g.Wide = detour.PastAll
		return check.Item{Probe: &check.Probe{ID: check.ID{Family: around, Of: detour.PastGateway,
			Relation: access.Relation(id), Route: d.Routes[route].Key()}},
			Verdict: finding.Verdict{Kind: finding.Unprotected, Gaps: []finding.Gap{g}}}
	}
	fs = gather(d, []check.Item{past("4", 0)})
	require.Len(t, fs, 1)
	assert.Equal(t, "GET /a", fs[0].Where())
	assert.Nil(t, fs[0].Scope, "one route")
	assert.Nil(t, fs[0].Routes)
	fs = gather(d, []check.Item{past("4", 0), past("5", 1)})
	require.Len(t, fs, 1)
	assert.Equal(t, detour.PastAll.String(), fs[0].Where())
	assert.Equal(t, detour.PastAll.String(), fs[0].Route, "it is at no route")
	assert.Len(t, fs[0].Routes, 2)
}

// Whether everybody gets in who must not is asked of who was sent to a route at which somebody does.
func TestWhetherEverybodyGetsIn(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte("millgate: 1\nroles: { boss: }\nroutes: [GET /a]\n"+
		"schemes: { s: { kind: api-key, in: header, name: K } }\nidentities:\n"+
		"  ann: { credentials: { s: { key: env:A } } }\n  bob: { credentials: { s: { key: env:B } } }\n"+
		"  boss: { roles: boss, credentials: { s: { key: env:C } } }\n"+
		"access:\n  - { at: GET /a, who: boss }\n"), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	sent := func(who string, gaps ...finding.Gap) check.Item {
		return check.Item{Probe: &check.Probe{ID: check.ID{Family: "crossing", Route: "GET /a",
			Caller: check.Caller{Identity: who, Scheme: "s", State: access.Sound}}},
			Verdict: finding.Verdict{Kind: finding.Agrees, Gaps: gaps}}
	}
	in := gap(finding.OverPermissive, "role", 4)
	one := gather(d, []check.Item{sent("ann", in), sent("bob")})
	all := gather(d, []check.Item{sent("ann", in), sent("bob", in)})
	require.Len(t, one, 1)
	require.Len(t, all, 1)
	assert.False(t, one[0].Severity.AtLeast(all[0].Severity), "%s and %s", one[0].Severity, all[0].Severity)
	alone := gather(d, []check.Item{sent("ann", in)})
	require.Len(t, alone, 1)
	assert.Equal(t, all[0].Severity, alone[0].Severity, "everybody who was sent")
}

// What shows wherever another cause does is part of that finding, and only there.
func TestCoveredCauses(t *testing.T) {
	d := doc(t, "schemes: { s: { kind: basic } }\n")
	item := func(id string, causes ...string) check.Item {
		v := finding.Verdict{Kind: finding.WeakToken}
		for _, c := range causes {
			v.Gaps = append(v.Gaps, gap(finding.WeakToken, "token "+c, 3))
		}
		return check.Item{Probe: &check.Probe{ID: check.ID{Family: "issued", Route: "POST /a",
			Caller: check.Caller{Identity: id, Scheme: "s"}}}, Verdict: v}
	}
	fs := gather(d, []check.Item{item("ann", "key-unfit", "alg-undeclared", "secret-guessed"),
		item("bob", "secret-guessed", "alg-undeclared")})
	require.Len(t, fs, 1)
	assert.Equal(t, "token secret-guessed", fs[0].Cause)
	assert.Contains(t, fs[0].Reason, "With it: no published key fits the algorithm of issued tokens; issued tokens "+
		"are signed")
	fs = gather(d, []check.Item{item("ann", "key-unfit", "alg-undeclared")})
	require.Len(t, fs, 1)
	assert.Equal(t, "token alg-undeclared", fs[0].Cause)
	fs = gather(d, []check.Item{item("ann", "secret-guessed", "alg-undeclared"), item("bob", "alg-undeclared")})
	assert.Len(t, fs, 2, "bob's token has another secret")
}
