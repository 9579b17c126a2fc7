package wire

import (
	"context"
	"crypto/hmac"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/token"
)

// otherKinds is a service with a cookie, a basic, a signed and a linked door.
func otherKinds(t *testing.T) (d *declaration.Document, k *Keyring, asked *[]string) {
	asked = &[]string{}
	s := server(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		*asked = append(*asked, r.Method+" "+r.URL.RequestURI()+" "+r.Header.Get("Authorization")+string(body))
		switch r.URL.Path {
		case "/login":
			http.SetCookie(w, &http.Cookie{Name: "theme", Value: "dark"})
			http.SetCookie(w, &http.Cookie{Name: "sid", Value: "s1-0123456789", Path: "/desk", HttpOnly: true,
				SameSite: http.SameSiteLaxMode, MaxAge: 90})
			w.WriteHeader(302)
		case "/files/7/link":
			_, _ = fmt.Fprintf(w, `{"url":"http://%s/files/7?until=2030-01-01T00:00:00Z&mac=%s"}`, r.Host,
				url.QueryEscape("a+b/c="))
		default:
			w.WriteHeader(204)
		}
	})
	d, msgs := declaration.Parse("x", []byte(fmt.Sprintf(`millgate: 1
targets: { t: { base: %s, unsafe: allowed } }
routes: [GET /a, POST /hook, "GET /files/{id}"]
schemes:
  basic: { kind: basic }
  desk: { kind: cookie, name: sid, login: { send: POST /login, form: { u: "{u}" } }, logout: POST /logout }
  hook: { kind: signature, algorithm: hmac-sha512, header: X-Sig, encoding: base64, prefix: v1=, timestamp: X-At, covers: "{timestamp}:{method}:{path}?{query}:{body}", tolerance: 2m }
  file: { kind: link, expires: until, signature: mac, issue: { send: "POST /files/{id}/link", json: { for: "{u}" }, take: { link: /url } }, expired_link: kept:OLD }
  mail: { kind: link, expires: until, signature: mac }
identities:
  ann: { credentials: { basic: { username: ann, password: kept:PW }, file: { u: ann }, desk: { u: ann }, mail: { link: kept:MAIL } } }
  bot: { credentials: { hook: { secret: kept:HOOK } } }
access: []
`, s.URL)), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	kept := map[string]string{"PW": "pw:1", "HOOK": "hush", "OLD": "/files/1?until=1000&mac=old-signature",
		"MAIL": s.URL + "/a?until=99999999999&mac=mail-signature"}
	tg := d.TargetNamed("t")
	tg.Pace = declaration.Pace{Count: 10000, Per: time.Second}
	return d, NewKeyring(d, tg, client(t, tg), func(v declaration.Value) (string, error) { return kept[v.Kept], nil }),
		asked
}

func TestPresentingOtherKinds(t *testing.T) {
	_, k, asked := otherKinds(t)
	ctx := context.Background()
	var o Outgoing
	_, err := k.Present(ctx, &o, "ann", "basic")
	require.NoError(t, err)
	assert.Equal(t, field.List{{"Authorization", "Basic " + base64.StdEncoding.EncodeToString([]byte("ann:pw:1"))}},
		o.Headers)

	o = Outgoing{}
	_, err = k.Present(ctx, &o, "ann", "desk")
	require.NoError(t, err, "a login may answer with a redirect")
	assert.Equal(t, field.List{{"Cookie", "sid=s1-0123456789"}}, o.Headers)
	c, err := k.Cookie(ctx, "ann", "desk")
	require.NoError(t, err)
	assert.Equal(t, &Cookie{Path: "/desk", HTTPOnly: true, SameSite: "lax", Life: 90 * time.Second}, c)
	assert.Len(t, *asked, 1, "one session serves for both")

	o = Outgoing{Query: "x=1", Params: map[string]string{"id": "7"}}
	_, err = k.Present(ctx, &o, "ann", "file")
	require.NoError(t, err)
	q, err := url.ParseQuery(o.Query)
	require.NoError(t, err)
	assert.Equal(t, "1 a+b/c=", q.Get("x")+" "+q.Get("mac"))
	assert.Equal(t, `POST /files/7/link Basic `+base64.StdEncoding.EncodeToString([]byte("ann:pw:1"))+`{"for":"ann"}`,
		(*asked)[1])
	g, err := k.LinkGiven(ctx, k.doc.SchemeNamed("file"), "ann", map[string]string{"id": "7"})
	require.NoError(t, err)
	assert.Equal(t, "2030-01-01T00:00:00Z", g.Ends.Format(time.RFC3339))
	assert.Equal(t, "2030-01-01T00:00:00Z", g.Said)
	assert.Equal(t, "/files/7", g.Path)
	_, err = k.Present(ctx, &Outgoing{}, "ann", "file")
	require.ErrorContains(t, err, "needs {id}")

	o = Outgoing{}
	_, err = k.Present(ctx, &o, "ann", "mail")
	require.NoError(t, err)
	assert.Equal(t, "/a?until=99999999999&mac=mail-signature", o.Path+"?"+o.Query, "a link is the whole request")
	assert.NotContains(t, k.client.mask.Text(o.Query), "mail-signature")
}

// verifies checks a signature as a service does.
func verifies(t *testing.T, o Outgoing, secret string) (at int64, ok bool) {
	h := http.Header{}
	for _, x := range o.Headers {
		h.Add(x[0], x[1])
	}
	m := hmac.New(sha512.New, []byte(secret))
	m.Write([]byte(h.Get("X-At") + ":" + o.Method + ":" + o.Path + "?" + o.Query + ":" + string(o.Body)))
	n, err := strconv.ParseInt(h.Get("X-At"), 10, 64)
	require.NoError(t, err)
	return n, h.Get("X-Sig") == "v1="+base64.StdEncoding.EncodeToString(m.Sum(nil))
}

func TestSigning(t *testing.T) {
	d, k, asked := otherKinds(t)
	ctx := context.Background()
	b := NewBreaking(k)
	request := func() Outgoing { return Outgoing{Method: "POST", Path: "/hook", Query: "a=b", Body: []byte(`{"n":1}`)} }
	first, second := request(), request()
	for _, o := range []*Outgoing{&first, &second} {
		_, err := k.Present(ctx, o, "bot", "hook")
		require.NoError(t, err)
	}
	at1, ok := verifies(t, first, "hush")
	assert.True(t, ok)
	at2, ok := verifies(t, second, "hush")
	assert.True(t, ok)
	assert.NotEqual(t, at1, at2, "nothing is signed twice: a service that remembers would refuse it")

	for way, sound := range map[string]bool{check.OtherBody: false, check.OldTime: true, check.Repeated: true} {
		o := request()
		require.NoError(t, b.Present(ctx, &o, Broken{Scheme: d.SchemeNamed("hook"), Donor: "bot", Way: way}))
		at, ok := verifies(t, o, "hush")
		assert.Equal(t, sound, ok, way)
		assert.Equal(t, way == check.OldTime, time.Since(time.Unix(at, 0)) > 3*time.Minute, way)
	}
	assert.Equal(t, []string{`POST /hook?a=b {"n":1}`}, *asked, "what is repeated was sent once before")
	o := request()
	require.NoError(t, b.Present(ctx, &o, Broken{Scheme: d.SchemeNamed("hook"), Donor: "bot",
		Way: string(token.SignatureRemoved)}))
	assert.Len(t, o.Headers, 1)
	o = request()
	require.NoError(t, k.PresentBroken(ctx, &o, "hook"))
	_, ok = verifies(t, o, "hush")
	assert.False(t, ok)
}

func TestBreakingLinksAndCookies(t *testing.T) {
	d, k, _ := otherKinds(t)
	ctx := context.Background()
	b := NewBreaking(k)
	link := func(way string) url.Values {
		o := Outgoing{Path: "/files/7", Params: map[string]string{"id": "7"}}
		require.NoError(t, b.Present(ctx, &o, Broken{Scheme: d.SchemeNamed("file"), Donor: "ann", Way: way}))
		q, err := url.ParseQuery(o.Query)
		require.NoError(t, err)
		q.Set("path", o.Path)
		return q
	}
	q := link(string(token.SignatureRemoved))
	assert.False(t, q.Has("mac"))
	q = link(check.ChangedEnd)
	assert.Equal(t, "2030-01-02T00:00:00Z a+b/c=", q.Get("until")+" "+q.Get("mac"))
	q = link(check.Expired)
	assert.Equal(t, "/files/1 1000 old-signature", q.Get("path")+" "+q.Get("until")+" "+q.Get("mac"))
	assert.Equal(t, "86401", later("1"))

	desk := d.SchemeNamed("desk")
	o := Outgoing{}
	require.NoError(t, b.Present(ctx, &o, Broken{Scheme: desk, Donor: "ann", Way: check.CrossSite}))
	assert.Equal(t, [2]string{"Origin", "https://elsewhere.invalid"}, o.Headers[1])
	o = Outgoing{}
	require.NoError(t, b.Present(ctx, &o, Broken{Scheme: desk, Donor: "ann", Way: check.Ended}))
	assert.Equal(t, "sid=s1-0123456789", o.Headers[0][1])
	for _, s := range []string{"basic", "desk", "file"} {
		var o Outgoing
		o.Params = map[string]string{"id": "7"}
		require.NoError(t, k.PresentBroken(ctx, &o, s), s)
		assert.NotContains(t, strings.Join(append([]string{o.Query}, fmt.Sprint(o.Headers)), " "), "s1-0123456789")
		assert.NotContains(t, o.Query, url.QueryEscape("a+b/c="))
	}
}
