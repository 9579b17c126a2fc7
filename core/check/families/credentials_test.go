package families

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/declaration"
	"millgate/core/token"
)

func broken(pl *check.Plan) map[string][]string {
	out := map[string][]string{}
	for _, p := range pl.Probes {
		if kind(p) == "credential" {
			out[p.Route] = append(out[p.Route], way(p))
		}
	}
	return out
}

// One route of each guard is tried with every way that can be made, with the
// same request as its control.
func TestCredentialsAreBrokenOncePerGuard(t *testing.T) {
	_, pl := plan(t, "all")
	got := broken(pl)
	assert.Len(t, got, 2, "things and lamp: one each; other has no control")
	assert.NotContains(t, got, "GET /v2/signed", "nobody has a link")
	assert.Contains(t, got["GET /v2/things"], string(token.Unsigned))
	assert.NotContains(t, got["GET /v2/things"], check.Expired, "there is no key to sign one with")
	assert.NotContains(t, got["GET /v2/things"], check.OtherKind, "the login gives no refresh token")
	assert.Positive(t, pl.Spared)
	whys := map[string]string{}
	for _, l := range pl.Left {
		whys[l.What] = l.Why
	}
	assert.Contains(t, whys["a credential: expired"], "signing_key")
	assert.Contains(t, whys["a credential: public key as secret"], "say keys")
	assert.Contains(t, whys["a credential: ended"], "no logout")
	for _, p := range pl.Probes {
		if kind(p) != "credential" {
			continue
		}
		c := pl.Find(p.Control)
		require.NotNil(t, c, p.Key())
		assert.Equal(t, access.Sound, c.Caller.State)
		assert.Equal(t, map[bool]access.Outcome{true: access.Admit, false: access.Refuse}[check.MustEnter(way(p))],
			pl.Expect(p).Outcome)
		detail := credential.Of(p)
		assert.Equal(t, c.Caller.Identity, detail.Donor)
		assert.Empty(t, p.Caller.Identity, "a broken credential is nobody's")
		assert.Equal(t, c.Route, p.Route)
	}
	_, safe := plan(t, "safe")
	for _, p := range safe.Probes {
		assert.False(t, kind(p) == "credential" && p.Unsafe, p.Key())
	}
}

func TestWhatADeclarationSaysOpensMoreWays(t *testing.T) {
	more := strings.NewReplacer("token: jwt, claims", "token: jwt, issuer: i, audience: a, keys: { jwks: /keys }, "+
		"signing_key: env:K, logout: { send: POST /logout, json: { r: \"{refresh}\" } }, claims",
		"take: { access: /t }", "take: { access: /t, refresh: /r }", "  link: {",
		"  k: { kind: api-key, in: header, name: X-K }\n  link: {",
		"identities:\n", "identities:\n  kim: { credentials: { k: { key: env:D } } }\n",
		"  - { at: GET /v2/signed, who", "  - { at: GET /v3/keyed, who: signed-in, by: k }\n  - { at: GET "+
			"/v2/signed, who",
		"  - POST /login\n", "  - POST /login\n  - POST /logout\n  - GET /v3/keyed\n").Replace(text)
	d, msgs := declaration.Parse("x", []byte(more), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	pl := check.NewPlan(d, d.TargetNamed("all"), All)
	got := broken(pl)
	s := d.SchemeNamed("access")
	assert.ElementsMatch(t, slices.DeleteFunc(check.Ways(s), func(w string) bool {
		return w == check.BesideFirst || w == check.BesideLast || w == check.OtherOwn
	}), got["GET /v2/things"], "everybody with a token may read the things, so a sound one beside a broken one shows "+
		"nothing; and crossings present the key there")
	for _, p := range pl.Probes {
		if way(p) == check.BesideOther {
			assert.Equal(t, check.Caller{Identity: "kim", Scheme: "k", State: access.Sound},
				credential.Of(p).Beside)
		}
	}
	assert.ElementsMatch(t, []string{check.Empty, check.KeyCase, check.KeyPlace}, got["GET /v3/keyed"])
	assert.Contains(t, check.AllWays(d), check.KeyPlace)
	issued := map[string]bool{}
	for _, p := range pl.Probes {
		if kind(p) == "issued" {
			issued[p.Caller.Identity] = true
			assert.False(t, p.Unsafe)
		}
	}
	assert.Equal(t, map[string]bool{"amy": true, "boss": true}, issued, "one of each class")
	assert.Equal(t, "boss", check.HighestRole(d, "ann"))
	assert.Empty(t, check.HighestRole(d, "boss"))
}

// Where the control has the highest role, the role of an owner who is admitted too is raised.
func TestARoleOfWhoeverHasNotTheHighest(t *testing.T) {
	const text = `millgate: 1
targets: { t: { base: "http://h" } }
routes: ["GET /things/{id}"]
roles: { reader: , boss: { includes: reader } }
schemes: { s: { kind: bearer, token: jwt, claims: { roles: /roles }, login: { send: POST /in, take: { access: /t } } } }
identities:
  boss: { roles: boss, credentials: { s: { u: boss, p: env:C } } }
  ann: { roles: reader, credentials: { s: { u: ann, p: env:A } } }
records: { thing: { fills: "/things/{id}", owned_by: { ann: [t-1] } } }
access: [{ at: "GET /things/{id}", who: [owner, boss] }]
`
	raised := func(text string) (donors []string, left string) {
		d, msgs := declaration.Parse("x", []byte(text), nil)
		require.False(t, declaration.Failed(msgs), "%v", msgs)
		pl := check.NewPlan(d, d.Targets[0], All)
		for _, p := range pl.Probes {
			if p.Family == "credential" && way(p) == string(token.Raised) {
				c := pl.Find(p.Control)
				donors = append(donors, credential.Of(p).Donor+" beside "+c.Caller.Identity+" with "+c.Record.Value)
			}
		}
		return donors, fmt.Sprint(pl.Left)
	}
	donors, _ := raised(text)
	assert.Equal(t, []string{"ann beside ann with t-1"}, donors)
	donors, left := raised(strings.Replace(text, "[owner, boss]", "boss", 1))
	assert.Empty(t, donors)
	assert.Contains(t, left, "only the highest role is admitted there")
}
