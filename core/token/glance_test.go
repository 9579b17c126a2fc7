package token

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"millgate/core/declaration"
)

func TestGlance(t *testing.T) {
	loggedOut := func(s *declaration.Scheme) { s.Logout = nil }
	for _, c := range []struct {
		name string
		of   made
		want map[Question]string
		bad  []Question
	}{
		{"as declared", made{}, map[Question]string{OfIssuer: "https://id.example", OfAudience: "service",
			OfHolder: "imre (imre-v); roles observer; scopes w",
			OfReach:  "2 routes, 1 of them change something: /a 2", OfEnd: "2026-11-25 12:15:00 UTC, in 15 min",
			OfLogout: "refused at once, as declared",
			OfThief:  "reads through 1 route and changes something through 1, for 15 min, until its holder logs out"},
			[]Question{OfThief}},
		{"without an end, for anybody, of nobody", with(with(claim("exp", nil), head("typ", "JWT")), with(claim("aud",
			nil),
			claim("sub", nil))), map[Question]string{OfAudience: "any service that trusts its issuer",
			OfHolder: "nobody is named", OfEnd: "for ever, as far as it says",
			OfThief: "can do nothing with it where everything is checked"},
			[]Question{OfAudience, OfEnd, OfHolder}},
		{"beyond what is granted", claim("roles", []string{"operator"}), map[Question]string{
			OfReach: "3 routes, 1 of them change something: /a 2, /ops 1; 1 are not granted to its holder"},
			[]Question{OfReach, OfThief}},
		{"of a client, and nothing ends it", made{claims: object{"azp": "desk"}, scheme: loggedOut},
			map[Question]string{
				OfIssuer: "https://id.example, to the client desk",
				OfLogout: "it works on to its end: the scheme declares no logout",
				OfThief: "reads through 1 route and changes something through 1, for 15 min, " +
					"whatever its holder does"},
			[]Question{OfLogout, OfThief}},
		{"ended, of a stranger", with(with(claim("exp", unix(-time.Hour)), claim("sub", "ada")), claim("roles",
			[]string{})),
			map[Question]string{OfHolder: "ada, whom the declaration does not know; scopes w",
				OfEnd: "it ended 1 h ago", OfReach: "nothing that needs a token"}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := context(t)
			scheme := *x.Scheme
			if x.Scheme = &scheme; c.of.scheme != nil {
				c.of.scheme(&scheme)
			}
			tok := Decode(c.of.token(t))
			x.Identity = Holder(x.Doc, tok)
			got := Glance(tok, x, OutcomeOf(Judge(tok, x)), Reach(x.Doc, x.Scheme, tok, x.Identity))
			var bad []Question
			for _, f := range got {
				if want, ok := c.want[f.Of]; ok {
					assert.Equal(t, want, f.Text, f.Of)
				}
				if f.Bad {
					bad = append(bad, f.Of)
				}
			}
			assert.Len(t, got, 7)
			assert.ElementsMatch(t, c.bad, bad)
		})
	}
	assert.Empty(t, Glance(Decode("5f2c00"), context(t), CannotTell, nil))
	assert.Equal(t, "not known: it belongs to no declared scheme", Glance(Decode(made{}.token(t)), Context{Now: now},
		CannotTell, nil)[3].Text)
}
