package curl

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/detour"
	"millgate/core/check/families"
	"millgate/core/declaration"
	"millgate/core/pointer"
)

const text = `millgate: 1
targets: { t: { base: "BASE", unsafe: allowed } }
routes:
  - { at: "POST /a/{id}", send: { path: { id: "x y" }, query: { q: "1&2" }, headers: { X-Say: "it's $HOME" },
	json: { price: "$5 \"now\"", p: "{password}" } } }
schemes:
  access: { kind: bearer, login: { send: POST /login, json: { u: ann, p: "{password}" }, take: { access: /t } } }
  key: { kind: api-key, in: query, name: k }
identities:
  ann: { credentials: { access: { password: env:P } } }
  bot: { credentials: { key: { key: env:K } } }
access: [{ at: "/**", who: signed-in, by: [access, key] }]
`

func probeOf(t *testing.T, base string, pick func(*check.Probe) bool) (*declaration.Document, *declaration.Target,
	*check.Probe, *check.Call) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(strings.Replace(text, "BASE", base, 1)), nil)
	require.Empty(t, msgs)
	for _, p := range check.NewPlan(d, d.Targets[0], families.All).Probes {
		if pick(p) {
			script := families.All.Named(p.Family).Script(&check.Context{Doc: d, Target: d.Targets[0]}, p)
			return d, d.Targets[0], p, &script.Next(0, nil).Send[0]
		}
	}
	t.Fatal("no such probe")
	return nil, nil, nil, nil
}

// The command is run by a shell and a curl, and what arrives is compared.
func TestTheCommandRuns(t *testing.T) {
	var uri, auth, say, body string
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		uri, auth, say, body = r.RequestURI, r.Header.Get("Authorization"), r.Header.Get("X-Say"), string(b)
	}))
	defer s.Close()
	d, tg, p, call := probeOf(t, s.URL, func(p *check.Probe) bool {
		return p.Caller.Identity == "ann" && p.Family == "crossing"
	})
	cmd := Command(d, tg, p, "", call)
	assert.Contains(t, cmd, "$ANN_ACCESS_TOKEN")
	assert.Contains(t, cmd, "$ANN_PASSWORD")
	if _, err := exec.LookPath("curl"); err != nil {
		t.Log("curl is not installed: the command was only read")
		return
	}
	c := exec.Command("sh", "-c", cmd)
	c.Env = append(os.Environ(), "ANN_ACCESS_TOKEN=tok-1", "ANN_PASSWORD=pw-1", "HOME=/nowhere")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "/a/x%20y?q=1%262", uri)
	assert.Equal(t, "Bearer tok-1", auth)
	assert.Equal(t, "it's $HOME", say, "nothing but the secrets is filled in")
	assert.Equal(t, `{"price":"$5 \"now\"","p":"pw-1"}`, body)
}

func TestOtherCallers(t *testing.T) {
	d, tg, p, call := probeOf(t, "http://h", func(p *check.Probe) bool {
		return p.Caller.Identity == "bot" &&
			p.Family == "crossing"
	})
	assert.Contains(t, Command(d, tg, p, "", call), `"http://h/a/x%20y?q=1%262&k=$BOT_KEY_KEY"`)
	d, tg, p, call = probeOf(t, "http://h", func(p *check.Probe) bool {
		return p.Caller.State == access.Broken &&
			p.Family == "crossing"
	})
	assert.Contains(t, Command(d, tg, p, "", call), "$BROKEN_ACCESS_TOKEN")
	assert.Contains(t, Command(d, tg, p, "", call), "# BROKEN_ACCESS_TOKEN is ", "it says how that is filled")
	assert.Contains(t, Command(d, tg, p, "", call), ", then changed, so that it does not hold\ncurl ")
	d, tg, p, call = probeOf(t, "http://h", func(p *check.Probe) bool { return p.Of == detour.DoubledSlash })
	assert.Contains(t, Command(d, tg, p, "", call), "--path-as-is")
	assert.Contains(t, Command(d, tg, p, "", call), `"http://h//a/x%20y?`)
	d, tg, p, call = probeOf(t, "http://h", func(p *check.Probe) bool { return p.Family == "wrong-secret" })
	assert.Contains(t, Command(d, tg, p, "", call), "$WRONG_ANN_PASSWORD")
	assert.Equal(t, "A_B_2_C", Variable("a-b", "2.c"))

	tg.CA.Name, tg.Client.Cert.Name = "ca's.pem", "client.pem"
	tg.Headers = []declaration.Header{{Name: "X-Site", Value: declaration.Value{Literal: "north $1"}},
		{Name: "X-Door", Value: declaration.Value{Env: "DOOR"}}, {Name: "X-Say",
			Value: declaration.Value{Literal: "z"}}}
	cmd := Command(d, tg, p, "", call)
	for _, line := range []string{`--cacert 'ca'\''s.pem' \`, `--cert 'client.pem' --key "$` + Variable(tg.Name) +
		`_KEY_FILE" \`, `-H "X-Site: north \$1" \`, `-H "X-Door: $` + Variable(tg.Name) + `_X_DOOR" \`} {
		assert.Contains(t, cmd, "  "+line+"\n")
	}
	assert.Equal(t, 1, strings.Count(cmd, "X-Say"), "what the probe says itself")

	want := []string{`curl -sS -i`, `--cacert 'ca'\''s.pem'`, `--cert 'client.pem' --key "$T_KEY_FILE"`,
		`-H 'X-Log: by-hand'`,
		`-H "X-Site: north \$1"`, `-H "X-Door: $T_X_DOOR"`, `-H 'X-Say: it'\''s'`, `'http://h/a'`}
	tg.Name, tg.Mark = "t", "X-Log"
	assert.Equal(t, strings.Join(want, " \\\n  "), Get(tg, "X-Say", "it's", "http://h/a"))
}

// Each kind of credential says in one line how its variables are filled.
func TestHowVariablesAreFilled(t *testing.T) {
	login := &declaration.Request{Method: "POST", Host: "id", Path: "/in",
		Take: map[string]pointer.JSON{"access": "/t"}}
	signed := declaration.Signing{Algorithm: "hmac-sha256", Covers: "{timestamp}.{body}", Timestamp: "X-At",
		Encoding: "hex"}
	for want, x := range map[string]struct {
		s  declaration.Scheme
		as check.Present
	}{
		"ANN_S_TOKEN is what POST id:/in gives ann at /t": {s: declaration.Scheme{Kind: declaration.Bearer,
			Login: login}},
		"ANN_S_TOKEN is the token of ann for s": {s: declaration.Scheme{Kind: declaration.Bearer}},
		"ANN_S_USER_AND_PASSWORD is the base64 of ann's username:password": {
			s: declaration.Scheme{Kind: declaration.Basic}},
		"ANN_S_COOKIE is the cookie sid that POST id:/in sets for ann": {
			s: declaration.Scheme{Kind: declaration.Cookie, Field: "sid", Login: login}},
		"ANN_S_KEY is the key of ann for s": {s: declaration.Scheme{Kind: declaration.APIKey}},
		"what is missing stands in the link that POST id:/in gives ann": {
			s: declaration.Scheme{Kind: declaration.Link, Issue: login}},
		"ANN_S_SIGNATURE is the hmac-sha256 of {timestamp}.{body} with the secret of ann, as hex; ANN_S_TIME is " +
			"now, in " +
			"seconds since 1970": {s: declaration.Scheme{Kind: declaration.Signature, Signing: signed}},
		"EXPIRED_S_TOKEN is the token of ann for s, then broken: expired": {
			s: declaration.Scheme{Kind: declaration.Bearer}, as: check.Present{Way: check.Expired}},
	} {
		x.s.Name, x.as.Identity = "s", "ann"
		assert.Equal(t, want, filled(&x.s, x.as))
	}
}
