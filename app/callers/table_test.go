package callers

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

const desk = `millgate: 1.1
routes: [GET /a]
roles: { reader: }
schemes:
  mailed: { kind: link, expires: until, signature: code, issue: { send: POST /codes, take: { link: /url } } }
  card: { kind: bearer, login: { send: POST /login, json: { user: "{user}", password: "{password}" }, take: { access: /t } } }
  key: { kind: api-key, in: header, name: X-Key }
identities:
  ann: { roles: reader, credentials: { key: { key: env:K } } }
access: [ { at: /**, who: reader } ]
`

// A table of test accounts becomes identities, with what it says of roles and scopes, and with their secrets sealed.
func TestATableOfAccounts(t *testing.T) {
	c := opened(t, t.TempDir(), desk)
	const table = `Name;Role;Scopes;User;Password;API key;verified;team
ann;reader;;ann@desk.example;hush-1;;true;north
bob;reader editor;a b;;hush-2;;false;
;;;cid;hush-3;;;
robot;;;;;hush-4;;
dee;reader;;;env:DEE;;;"the south"
`
	list, err := c.Table("", strings.Replace(table, "API key", "key", 1))
	require.NoError(t, err)
	var said []string
	for _, a := range list {
		said = append(said, strings.TrimSpace(fmt.Sprint(a.Line, " ", a.Name, " ", a.Scheme, " ", a.Members, " ",
			a.Known, " ",
			a.Problem)))
	}
	assert.Equal(t, []string{"2 ann card [password user] true", "3 bob card [password user] false",
		"4 cid card [password user] false", "5 robot key [key] false", "6 dee card [password user] false"}, said)
	assert.NotContains(t, fmt.Sprint(said), "hush")
	out, title, err := c.TakeTable(t.Context(), "", strings.Replace(table, "API key", "key", 1))
	require.NoError(t, err)
	assert.Equal(t, "5 callers from a table", title)
	_, msgs := c.ws.Parse(out)
	require.False(t, declaration.Failed(msgs), "%v\n%s", msgs, out)
	for _, line := range []string{
		`  ann: { roles: reader, credentials: { card: { password: kept:ann-password, user: "ann@desk.example" }, ` +
			`key: { key: env:K } }, attributes: { team: north, verified: true } }`,
		`  bob: { roles: [reader, editor], scopes: [a, b], attributes: { verified: false }, ` +
			`credentials: { card: { password: kept:bob-password, user: bob } } }`,
		`  cid: { credentials: { card: { password: kept:cid-password, user: cid } } }`,
		`  robot: { credentials: { key: { key: kept:robot-key } } }`,
		`  dee: { roles: reader, attributes: { team: the south }, credentials: { card: { password: env:DEE, user: dee } } }`,
	} {
		assert.Contains(t, out, line)
	}
	assert.NotContains(t, out, "hush")
	secret, err := c.ws.Secret(t.Context(), declaration.Value{Kept: "bob-password"})
	require.NoError(t, err)
	assert.Equal(t, "hush-2", secret)
	_, err = layout.Format(out)
	require.NoError(t, err)
}

func TestATableThatCannotBeWritten(t *testing.T) {
	c := opened(t, t.TempDir(), desk)
	for table, says := range map[string]string{
		"":                              "no first row",
		"name,password":                 "no row below",
		"name,token\nann,x":             "line 2: it fills no scheme; card needs password",
		"name,scheme\nann,other":        `line 2: there is no scheme "other"`,
		"name,scheme\nann,key":          "line 2: key needs key",
		"name,password\nb,x\nb,y":       "line 3: b stands in line 2 already",
		"password\nx":                   "line 2: it fills no scheme; card needs user",
		"name,key\n\"a,b\nc,d":          "line",
		"name,password\nbob,env:B\nc,,": "line 3: it fills no scheme",
	} {
		_, _, err := c.TakeTable(t.Context(), "", table)
		require.Error(t, err, table)
		assert.ErrorContains(t, err, says, table)
	}
	_, err := opened(t, t.TempDir(), "").Table("", "name,key\na,b")
	assert.ErrorContains(t, err, "add one first")
}
