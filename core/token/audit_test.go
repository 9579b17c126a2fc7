package token

import (
	"crypto/rand"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each token is verified with the keys of its own scheme; of one that was not
// verified nobody can tell.
func TestAnAuditVerifiesByScheme(t *testing.T) {
	x := context(t)
	mine := x.Keys
	scheme := x.Scheme.Name
	k := signer(t, ec, "k1")
	s, err := k.Mint(rand.Reader, "at+jwt", claims())
	require.NoError(t, err)
	for _, c := range []struct {
		name          string
		of            map[string]SchemeKeys
		sound, unsure int
	}{
		{"its own keys", map[string]SchemeKeys{scheme: {Keys: mine}}, 1, 0},
		{"another scheme's keys", map[string]SchemeKeys{scheme: {Why: "its key set was not reached"},
			"other": {Keys: mine}}, 0, 1},
		{"no scheme's keys", map[string]SchemeKeys{}, 0, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := x
			x.Scheme, x.Identity, x.Keys, x.Of = nil, nil, Keys{}, c.of
			a := NewAuditor(x)
			a.Add(1, s)
			r := a.Report()
			assert.Equal(t, c.sound, r.Sound)
			assert.Equal(t, c.unsure, r.Unsure)
		})
	}
	assert.Equal(t, CannotTell, OutcomeOf(Judge(Decode(s), Context{Now: now, NoKeys: "none"})))
}

func TestAudit(t *testing.T) {
	x := context(t)
	x.Scheme, x.Identity = nil, nil
	a := NewAuditor(x)
	k := signer(t, ec, "k1")
	for i := range 300 {
		c := claims()
		c["jti"] = fmt.Sprint(i)
		c["client_id"] = fmt.Sprint("client", i)
		if i%3 == 0 {
			c["exp"] = now.Unix() + 7200
		}
		if i == 7 {
			c["roles"] = []string{"operator"}
		}
		s, err := k.Mint(rand.Reader, "at+jwt", c)
		require.NoError(t, err)
		a.Add(i+1, s)
		a.Add(i+1, "Bearer "+s)
	}
	a.Add(0, "")
	r := a.Report()
	assert.Equal(t, 600, r.Tokens)
	assert.Equal(t, 300, r.Distinct)
	assert.Equal(t, 300, r.Sound)
	require.Len(t, r.Tallies, 2)
	assert.Equal(t, "role-beyond", r.Tallies[0].ID)
	assert.Equal(t, 8, r.Offenders[0].Line, "the gravest first")
	assert.Equal(t, "too-long", r.Tallies[1].ID)
	assert.Equal(t, 100, r.Tallies[1].Count)
	assert.Len(t, r.Tallies[1].Examples, maxExamples)
	assert.Len(t, r.Offenders, maxList)
	assert.Len(t, r.Groups["client"], maxNames+1)
	assert.Equal(t, Count{"others", 100}, r.Groups["client"][0])
	assert.Equal(t, 200, r.Lifetimes[2].Count)
	assert.Equal(t, 100, r.Lifetimes[5].TooLong)
	assert.Equal(t, 8, r.Powerful[0].Line)
	assert.Equal(t, 1, r.Powerful[0].Beyond)
	assert.NotContains(t, fmt.Sprint(r), "eyJ", "no token is kept")
}
