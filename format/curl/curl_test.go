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
	"millgate/core/probe"
)

const text = `millgate: 1
targets: { t: { base: "BASE", unsafe: allowed } }
routes:
  - { at: "POST /a/{id}", send: { path: { id: "x y" }, query: { q: "1&2" }, headers: { X-Say: "it's $HOME" }, json: { price: "$5 \"now\"", p: "{password}" } } }
schemes:
  access: { kind: bearer, login: { send: POST /login, json: { u: ann, p: "{password}" }, take: { access: /t } } }
  key: { kind: api-key, in: query, name: k }
identities:
  ann: { credentials: { access: { password: env:P } } }
  bot: { credentials: { key: { key: env:K } } }
access: [{ at: "/**", who: signed-in, by: [access, key] }]
`

func probeOf(t *testing.T, base string, pick func(*probe.Probe) bool) (*declaration.Document, *declaration.Target,
	*probe.Probe) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(strings.Replace(text, "BASE", base, 1)), nil)
	require.Empty(t, msgs)
	for _, p := range probe.Make(d, d.Targets[0], families.All).Probes {
		if pick(p) {
			return d, d.Targets[0], p
		}
	}
	t.Fatal("no such probe")
	return nil, nil, nil
}

// The command is run by a shell and a curl, and what arrives is compared.
func TestTheCommandRuns(t *testing.T) {
	var uri, auth, say, body string
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		uri, auth, say, body = r.RequestURI, r.Header.Get("Authorization"), r.Header.Get("X-Say"), string(b)
	}))
	defer s.Close()
	d, tg, p := probeOf(t, s.URL, func(p *probe.Probe) bool { return p.Identity == "ann" && p.Kind == probe.Crossing })
	cmd := Command(d, tg, p, "", nil)
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
	d, tg, p := probeOf(t, "http://h", func(p *probe.Probe) bool {
		return p.Identity == "bot" &&
			p.Kind == probe.Crossing
	})
	assert.Contains(t, Command(d, tg, p, "", nil), `"http://h/a/x%20y?q=1%262&k=$BOT_KEY_KEY"`)
	d, tg, p = probeOf(t, "http://h", func(p *probe.Probe) bool {
		return p.State == access.Broken &&
			p.Kind == probe.Crossing
	})
	assert.Contains(t, Command(d, tg, p, "", nil), "$BROKEN_ACCESS_TOKEN")
	d, tg, p = probeOf(t, "http://h", func(p *probe.Probe) bool { return p.Way == detour.DoubledSlash })
	assert.Contains(t, Command(d, tg, p, "", nil), "--path-as-is")
	assert.Contains(t, Command(d, tg, p, "", nil), `"http://h//a/x%20y?`)
	d, tg, p = probeOf(t, "http://h", func(p *probe.Probe) bool { return p.Kind == "wrong-secret" })
	call := families.All.Named("wrong-secret").Script(&check.Context{Doc: d, Target: tg}, p.Check).Next(0, nil).Send[0]
	assert.Contains(t, Command(d, tg, p, "", &call), "$WRONG_ANN_PASSWORD")
	assert.Equal(t, "A_B_2_C", Variable("a-b", "2.c"))
}
