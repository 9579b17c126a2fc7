package wire

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
)

// post is a service that mails links, into one mailbox for everybody.
type post struct {
	mu    sync.Mutex
	mails []string // the newest first
	sends int
	text  func(n int, base string) string // of the n-th mail; "" sends none
	most  int                             // mails that were under way at once
	under int
}

func (p *post) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/send":
		p.mu.Lock()
		p.sends++
		p.under++
		p.most = max(p.most, p.under)
		n := p.sends
		p.mu.Unlock()
		if text := p.text(n, "http://"+r.Host); text != "" {
			p.mu.Lock()
			p.mails = append([]string{text}, p.mails...)
			p.mu.Unlock()
		}
	case "/messages":
		p.mu.Lock()
		defer p.mu.Unlock()
		p.under = 0
		if len(p.mails) == 0 {
			w.WriteHeader(404)
			return
		}
		_, _ = fmt.Fprintf(w, `[{"to":%q,"text":%q}]`, r.URL.Query().Get("to"), p.mails[0])
	}
}

func mailing(t *testing.T, p *post, words string) (*declaration.Document, *Keyring) {
	s := server(t, p.ServeHTTP)
	d, msgs := declaration.Parse("x", []byte(fmt.Sprintf(`millgate: 1.1
targets: { t: { base: %s, hosts: { mail: %s }, pace: 5000 per 1s } }
routes: [GET /confirm, POST /send, "GET /files/{id}"]
schemes:
  key: { kind: api-key, in: header, name: X-Key }
  mailed: { kind: link, signature: token, once: true, issue: { send: POST /send,
	arrives: { read: GET mail:/messages, query: { to: "{caller.email}" }, find: /0/text, within: 700ms%s } } }
identities:
  ann: { attributes: { email: ann@x.example }, credentials: { key: { key: kept:A }, mailed: {} } }
  bob: { attributes: { email: ann@x.example }, credentials: { key: { key: kept:B }, mailed: {} } }
`, s.URL, s.URL, words)), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	tg := d.TargetNamed("t")
	return d, NewKeyring(d, tg, client(t, tg), func(v declaration.Value) (string, error) {
		return "key-" + v.Kept,
			nil
	})
}

func TestLinksThatAreMailed(t *testing.T) {
	old := "http://elsewhere.example/confirm?token=old"
	for _, c := range []struct {
		name  string
		text  func(n int, base string) string
		path  string
		want  string
		fails string
	}{
		{"in a sentence", func(n int, base string) string {
			return fmt.Sprintf("See http://x.example/help?token=a, or confirm (%s/confirm?who=1&token=secret-%d).",
				base, n)
		}, "/confirm", "/confirm?who=1&token=secret-1", ""},
		{"in a tag", func(_ int, base string) string { return `<a href="` + base + `/confirm?token=s-1">` }, "/confirm",
			"/confirm?token=s-1", ""},
		{"a path alone", func(int, string) string { return "/confirm?token=s-1" }, "/confirm", "/confirm?token=s-1",
			""},
		{"which says the parameter", func(_ int, base string) string { return base + "/files/f%207?token=s-1" },
			"/files/{id}", "/files/f%207?token=s-1", ""},
		{"never sent", func(int, string) string { return "" }, "/confirm", "",
			"no message with a link of the target came to /messages within 700ms"},
		{"in a mailbox without end", func(int, string) string { return strings.Repeat("a long message, ", 6000) },
			"/confirm",
			"", "the mailbox at /messages is longer than 64 KiB"},
		{"the same as before", func(int, string) string { return old }, "/confirm", "", "no message with a link"},
		{"of another service", func(int, string) string { return "http://elsewhere.example/confirm?token=new" },
			"/confirm",
			"", "no message with a link of the target"},
		{"to another route", func(_ int, base string) string { return base + "/files/1?token=s-1" }, "/confirm", "",
			"the link leads to /files/1, which is not /confirm"},
		{"without what signs it", func(_ int, base string) string { return base + "/confirm?t=1" }, "/confirm", "",
			"the link has no token in its query"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := &post{text: c.text, mails: []string{old}}
			_, k := mailing(t, p, "")
			o := Outgoing{Method: "GET", Path: c.path}
			_, err := k.Present(context.Background(), &o, "ann", "mailed")
			if c.fails != "" {
				require.ErrorIs(t, err, ErrCredential)
				assert.ErrorContains(t, err, c.fails)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, o.Path+"?"+o.Query)
			assert.NotContains(t, k.client.mask.Text(o.Path+"?"+o.Query), "s-1&", "what signs it is masked")
		})
	}
}

// A service that is tried at a test address writes its public one into links.
func TestLinksWithThePublicAddress(t *testing.T) {
	_, k := mailing(t, &post{}, "")
	s := k.doc.SchemeNamed("mailed")
	for link, want := range map[string]string{
		"https://public.example/confirm?token=s-12345678": "/confirm?token=s-12345678",
		"https://public.example/files/1?token=s-12345678": "",
		"/confirm?token=s-12345678":                       "/confirm?token=s-12345678",
	} {
		o := Outgoing{Method: "GET", Path: "/confirm"}
		a, err := k.address(s, link, "")
		require.NoError(t, err)
		if err = k.follow(&o, s, a); want == "" {
			assert.ErrorContains(t, err, "the link leads to public.example, which does not belong to the target")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, want, o.Path+"?"+o.Query)
	}
}

// A link is asked for with a record: it leads to that one, and what is sent elsewhere on purpose
// bears its query alone.
func TestLinksOfARecord(t *testing.T) {
	d, k, _ := otherKinds(t)
	s := d.SchemeNamed("file")
	for _, x := range []struct{ path, link, want, fails string }{
		{"/files/7", "/files/7?mac=signature-1", "/files/7?mac=signature-1", ""},
		{"/files/7", "/files/8?mac=signature-1", "", "the link leads to /files/8, asked for was /files/7"},
		{"/files/%27malformed", "/files/7?mac=signature-1", "/files/%27malformed?mac=signature-1", ""},
		{"/files/9", "/files/7?mac=signature-1", "/files/9?mac=signature-1", ""},
	} {
		o := Outgoing{Method: "GET", Path: x.path, Params: map[string]string{"id": "7"}}
		a, err := k.address(s, x.link, "")
		require.NoError(t, err)
		if err = k.follow(&o, s, a); x.fails != "" {
			assert.ErrorContains(t, err, x.fails)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, x.want, o.Path+"?"+o.Query)
	}
}

// Two callers share a mailbox and cannot be told apart there: each has its own link.
func TestMailboxesAreReadInTurn(t *testing.T) {
	p := &post{text: func(n int, base string) string { return fmt.Sprintf("%s/confirm?token=secret-%d", base, n) }}
	_, k := mailing(t, p, "")
	var all sync.WaitGroup
	got := make([]string, 6)
	for i := range got {
		all.Go(func() {
			o := Outgoing{Method: "GET", Path: "/confirm"}
			_, err := k.Present(context.Background(), &o, []string{"ann", "bob"}[i%2], "mailed")
			assert.NoError(t, err)
			got[i] = o.Query
		})
	}
	all.Wait()
	assert.ElementsMatch(t, []string{"token=secret-1", "token=secret-2", "token=secret-3", "token=secret-4",
		"token=secret-5", "token=secret-6"}, got)
	assert.Equal(t, 1, p.most, "one at a time")
}

// A script takes a link, and a request is that link; what is made up has a form.
func TestScriptsFollowLinks(t *testing.T) {
	var asked []string
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Method+" "+r.URL.RequestURI())
		if r.URL.Path == "/sign-up" {
			w.Header().Set("X-Mail", "sent")
			_, _ = fmt.Fprintf(w,
				`{"mail":"Confirm at http://%s/confirm?who=7&token=hush-hush-hush, soon","was":%q}`, r.Host,
				r.URL.Query().Get("p"))
		}
	})
	d, msgs := declaration.Parse("x", []byte(fmt.Sprintf("millgate: 1\ntargets: { t: { base: %s } }\nroutes: [GET "+
		"/confirm]\n"+
		"schemes: { mailed: { kind: link, expires: e, signature: token } }\n", s.URL)), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	k := NewKeyring(d, d.Targets[0], client(t, d.Targets[0]), nil)
	fills := map[string]check.Fill{"n": {Made: "probe"}, "e": {Made: "probe", Form: check.AsEmail},
		"u": {Made: "probe", Form: check.AsUUID}, "p": {Made: "word", Form: check.AsPassword, Size: 12}}
	f, err := Runner{Keys: k}.Run(context.Background(), check.Tell(func(t *check.Telling) {
		for range 2 {
			t.One(check.Call{Name: "sign up", Request: check.Request{Method: "GET", Path: "/sign-up",
				Query: "n={n}&e={e}&u={u}&p={p}", Fill: fills},
				Take: []check.Take{{Slot: "link", From: check.FromLink, At: "/mail", Scheme: "mailed"}}})
		}
		t.One(check.Call{Name: "confirm", Request: check.Request{Method: "GET", Path: "/elsewhere", Link: "link"}})
	}))
	require.NoError(t, err)
	assert.Equal(t, "GET /confirm?who=7&token=hush-hush-hush", asked[2])
	assert.Equal(t, asked[0], asked[1], "a script has its words for good")
	q := strings.SplitN(asked[0], "?", 2)[1]
	assert.Regexp(t, `^e=probe-[0-9a-f]{16}%40probe\.example&n=probe-[0-9a-f]{16}&p=Mg7-[0-9a-f]{8}&`+
		`u=[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-a[0-9a-f]{3}-[0-9a-f]{12}$`, sorted(q))
	assert.Equal(t, []string{"word"}, f.Reports[0].Echoed)
	assert.Empty(t, f.Reports[2].Echoed)
	assert.NotContains(t, f.Reports[0].Exchange.Content, "hush-hush", "what signs a link is masked")
	assert.NotContains(t, f.Reports[0].Exchange.Content, "Mg7-", "and a password")
	assert.NotEmpty(t, f.Reports[0].Took["link"])
	assert.Less(t, time.Duration(0), f.Reports[2].End)
}

func sorted(query string) string {
	parts := strings.Split(query, "&")
	for i := range parts {
		for j := i + 1; j < len(parts); j++ {
			if parts[j] < parts[i] {
				parts[i], parts[j] = parts[j], parts[i]
			}
		}
	}
	return strings.Join(parts, "&")
}
