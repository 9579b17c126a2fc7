package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/core/probe"
	"millgate/core/token"
)

// Whatever cause a probe can give has a row. The lists are those that probes are planned
// from, so that a new word without a row fails here.
func TestEveryCauseHasARow(t *testing.T) {
	known := func(k finding.Kind, cause string) {
		t.Helper()
		_, ok := Causes.Row(k, cause)
		assert.True(t, ok, "%s %q", k, cause)
	}
	for _, o := range []access.Outcome{access.Refuse, access.Forbid, access.Hide} {
		for _, c := range []Class{Refused, Forbidden, Hidden, ToLogin, Invalid, WrongMethod} {
			known(finding.WrongRefusal, o.String()+" "+string(c))
		}
	}
	known(finding.WrongRefusal, access.Either.String()+" "+string(Forbidden))
	for _, c := range []Class{Refused, Forbidden, Hidden, ToLogin} {
		known(finding.OverRestrictive, "admit "+string(c))
	}
	for _, kind := range []declaration.Kind{declaration.Bearer, declaration.APIKey, declaration.Cookie, declaration.Basic, declaration.Signature, declaration.Link} {
		s := &declaration.Scheme{Kind: kind, Token: "jwt"}
		s.Signing.Timestamp = "T"
		for _, w := range probe.Ways(s) {
			if !probe.MustEnter(w) && w != probe.Ended && !unsignedWays[w] {
				known(finding.Unprotected, "token "+w)
			}
		}
	}
	for _, w := range probe.Detours {
		if w == probe.TrailingSlash || w == probe.DoubledSlash {
			known(finding.Unprotected, aSlash)
			continue
		}
		known(finding.Unprotected, "way "+w)
	}
	for _, c := range token.Checks {
		k := finding.WeakToken
		if lifetimes[c.ID] {
			k = finding.Lifetime
		}
		known(k, "token "+c.ID)
	}
	for _, k := range origin.Kinds {
		known(finding.OverPermissive, pageCause+k)
	}
	for _, id := range []string{origin.JOrigin, origin.JMethod, origin.JCredentials, origin.JHeaders} {
		known(finding.OverPermissive, pageCause+id+" https://a.example")
	}
	for _, id := range []string{origin.JMissing, origin.JGuarded, origin.JExpose, origin.JVary, origin.JRefusal} {
		known(finding.OverRestrictive, pageCause+id+" https://a.example")
	}
}
