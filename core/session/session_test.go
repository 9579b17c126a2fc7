package session

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
)

func TestOf(t *testing.T) {
	const head = "millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /a, POST /login, POST " +
		"/logout]\nschemes:\n  s: { kind: bearer, token: jwt, lifetime: { access: a"
	const tail = " }, login: { send: POST /login, json: { u: \"{u}\" }, take: { access: /t } }"
	for name, c := range map[string]struct {
		scheme, lifetimes string
		check             func(Session)
	}{
		"with a list": {", refresh: r" + tail + ", logout: { send: POST /logout } }", "{ a: { max: 15m, skew: 30s, " +
			"ended_within: 0s }, r: { max: 30d, idle: 12h, rotates: true, reuse: ends-grant } }", func(x Session) {
			assert.Equal(t, 30*24*time.Hour+15*time.Minute+30*time.Second, x.Longest)
			assert.True(t, x.Bounded && x.StolenBounded && x.Noticed && x.NeedsList && x.AfterSaid)
			assert.Equal(t, 12*time.Hour, x.Idle)
			assert.Equal(t, time.Duration(0), x.After)
			assert.Equal(t, 15*time.Minute+30*time.Second, x.StolenAccess)
			assert.Equal(t, 310, x.Size, "1,200 an hour for 15.5 minutes")
			assert.Equal(t, 610, x.SizeSwept)
		}},
		"no logout": {tail + " }", "{ a: { max: 1h } }", func(x Session) {
			assert.Equal(t, time.Hour, x.After, "nothing ends it sooner")
			assert.False(t, x.AfterSaid || x.NeedsList || x.Renewed)
		}},
		"an ended one may live on": {tail + ", logout: { send: POST /logout } }",
			"{ a: { max: 10m, ended_within: 10m } }", func(x Session) {
				assert.Equal(t, 10*time.Minute, x.After)
				assert.False(t, x.NeedsList, "it ends by itself in time")
			}},
		"without a bound": {", refresh: r" + tail + " }", "{ a: { max: 10m }, r: { idle: 1h } }", func(x Session) {
			assert.False(t, x.Bounded || x.StolenBounded || x.Noticed)
			assert.Equal(t, time.Hour, x.Idle)
		}},
	} {
		d, msgs := declaration.Parse("x", []byte(head+c.scheme+"\nlifetimes: "+c.lifetimes+"\n"), nil)
		require.False(t, declaration.Failed(msgs), "%s: %v", name, msgs)
		x, ok := Of(d, d.Schemes[0], 1200)
		require.True(t, ok, name)
		c.check(x)
	}
	d, _ := declaration.Parse("x", []byte("millgate: 1\nschemes: { c: { kind: cookie, name: c, lifetime: { access: a "+
		"} }, k: { kind: api-key, in: header, name: K } }\nlifetimes: { a: { max: 8h, idle: 30m } }\n"), nil)
	x, ok := Of(d, d.Schemes[0], 1)
	require.True(t, ok)
	assert.Equal(t, 8*time.Hour, x.Longest)
	assert.Equal(t, 30*time.Minute, x.Idle)
	assert.False(t, x.NeedsList, "a session cookie is looked up anyway")
	_, ok = Of(d, d.Schemes[1], 1)
	assert.False(t, ok)
}
