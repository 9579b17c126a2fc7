package headers

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/finding"
	"millgate/testkit/play"
)

// h are fields, written as name, value, name, value.
func h(kv ...string) (out field.List) {
	for i := 0; i < len(kv); i += 2 {
		out = append(out, [2]string{kv[i], kv[i+1]})
	}
	return out
}

var (
	bearer = &declaration.Scheme{Kind: declaration.Bearer, Field: "Authorization"}
	cookie = &declaration.Scheme{Kind: declaration.Cookie, Field: "desk"}
	header = &declaration.Scheme{Kind: declaration.APIKey, In: "header", Field: "X-Key"}
	query  = &declaration.Scheme{Kind: declaration.APIKey, In: "query", Field: "key"}
	link   = &declaration.Scheme{Kind: declaration.Link}
)

const (
	csp = "Content-Security-Policy"
	xfo = "X-Frame-Options"
	cc  = "Cache-Control"
	sts = "Strict-Transport-Security"
)

// Each row is an answer, and what is missing in it: "" for nothing, "-" where there is nothing to
// protect.
func TestFields(t *testing.T) {
	for _, c := range []struct {
		what   declaration.Protection
		scheme *declaration.Scheme // nil: anybody gets it
		typ    string
		fields field.List
		want   string
	}{
		{declaration.Frames, nil, "text/html; charset=utf-8", nil, "frames"},
		{declaration.Frames, nil, "application/json", nil, "-"},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors 'none'"), ""},
		{declaration.Frames, nil, "text/html", h(csp, "default-src 'self'; Frame-Ancestors 'self' https://a.example"),
			""},
		{declaration.Frames, nil, "text/html", h(csp, "default-src 'self'"), "frames"},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors *"), "frames"},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors https:"), "frames"},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors https://*:443/x"), "frames"},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors https://*.a.example"), ""},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors"), ""},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors *; frame-ancestors 'none'"), "frames"},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors *, frame-ancestors 'none'"), ""},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors *", csp, "frame-ancestors 'self'"), ""},
		{declaration.Frames, nil, "text/html", h(csp, "frame-ancestors *", xfo, "DENY"), "frames"},
		{declaration.Frames, nil, "text/html", h(csp+"-Report-Only", "frame-ancestors 'none'"), "frames"},
		{declaration.Frames, nil, "text/html", h(xfo, "deny"), ""},
		{declaration.Frames, nil, "text/html", h(xfo, "SAMEORIGIN"), ""},
		{declaration.Frames, nil, "text/html", h(xfo, "SAMEORIGIN, sameorigin"), ""},
		{declaration.Frames, nil, "text/html", h(xfo, "SAMEORIGIN", xfo, "DENY"), ""},
		{declaration.Frames, nil, "text/html", h(xfo, "ALLOWALL"), "frames"},
		{declaration.Frames, nil, "text/html", h(xfo, "ALLOW-FROM https://a.example"), "frames"},
		{declaration.Frames, nil, "text/html", h(xfo, "ALLOW-FROM https://a.example, DENY"), ""},
		{declaration.Frames, nil, "application/xhtml+xml", nil, "frames"},

		{declaration.Sniffing, nil, "application/json", nil, "sniffing"},
		{declaration.Sniffing, nil, "application/json", h("X-Content-Type-Options", "NoSniff"), ""},
		{declaration.Sniffing, nil, "application/json", h("X-Content-Type-Options", "nosniff, x"), ""},
		{declaration.Sniffing, nil, "application/json", h("X-Content-Type-Options", "x, nosniff"), "sniffing"},
		{declaration.Sniffing, nil, "", h("X-Content-Type-Options", "\"nosniff\""), "sniffing"},

		{declaration.Caching, nil, "application/json", nil, "-"},
		{declaration.Caching, bearer, "application/json", nil, "keeping"},
		{declaration.Caching, bearer, "application/json", h(cc, "no-store"), ""},
		{declaration.Caching, bearer, "application/json", h(cc, "max-age=60, No-Store"), ""},
		{declaration.Caching, bearer, "application/json", h(cc, "private, max-age=60"), ""},
		{declaration.Caching, bearer, "application/json", h(cc, "no-cache"), ""},
		{declaration.Caching, bearer, "application/json", h(cc, "private=\"set-cookie\""), "keeping"},
		{declaration.Caching, bearer, "application/json", h(cc, "no-cache=\"x\", public"), "caching"},
		{declaration.Caching, bearer, "application/json", h(cc, "max-age=60"), "keeping"},
		{declaration.Caching, bearer, "application/json", h(cc, "public, max-age=60"), "caching"},
		{declaration.Caching, bearer, "application/json", h(cc, "max-age=60", cc, "s-maxage=600"), "caching"},
		{declaration.Caching, bearer, "application/json", h(cc, "max-age=60, must-revalidate"), "caching"},
		{declaration.Caching, bearer, "application/json", h(cc, "max-age=0, must-revalidate"), ""},
		{declaration.Caching, bearer, "application/json", h(cc, "public", "Vary", "Origin, authorization"), "keeping"},
		{declaration.Caching, bearer, "application/json", h(cc, "public", "Vary", "*"), "keeping"},
		{declaration.Caching, cookie, "application/json", h(cc, "max-age=60"), "caching"},
		{declaration.Caching, cookie, "application/json", h(cc, "max-age=60", "Vary", "Cookie"), "keeping"},
		{declaration.Caching, cookie, "application/json", h("Last-Modified", "Sun, 06 Nov 1994 08:49:37 GMT"),
			"caching"},
		{declaration.Caching, cookie, "application/json", nil, "keeping"},
		{declaration.Caching, cookie, "application/json", h(cc, "max-age=0"), "keeping"},
		{declaration.Caching, cookie, "application/json", h("Expires", "0"), "keeping"},
		{declaration.Caching, cookie, "application/json", h("Expires", "Sun, 06 Nov 2094 08:49:37 GMT"), "caching"},
		{declaration.Caching, header, "application/json", h(cc, "max-age=60"), "caching"},
		{declaration.Caching, header, "application/json", h(cc, "max-age=60", "Vary", "x-key"), "keeping"},
		{declaration.Caching, query, "application/json", h(cc, "public"), "keeping"},

		{declaration.Referrer, bearer, "text/html", nil, "-"},
		{declaration.Referrer, link, "application/json", nil, "-"},
		{declaration.Referrer, link, "text/html", nil, "unsaid referrer"},
		{declaration.Referrer, query, "text/html", h("Referrer-Policy", "unsafe-url"), "referrer"},
		{declaration.Referrer, query, "text/html", h("Referrer-Policy", "no-referrer-when-downgrade"), "referrer"},
		{declaration.Referrer, link, "text/html", h("Referrer-Policy", "unsafe-url, No-Referrer"), ""},
		{declaration.Referrer, link, "text/html", h("Referrer-Policy", "no-referrer, later-word"), ""},
		{declaration.Referrer, link, "text/html", h("Referrer-Policy", "later-word"), "unsaid referrer"},
		{declaration.Referrer, link, "text/html", h("Referrer-Policy", "origin"), ""},

		{declaration.Transport, nil, "application/json", nil, "transport"},
		{declaration.Transport, nil, "application/json", h(sts, "max-age=31536000; includeSubDomains"), ""},
		{declaration.Transport, nil, "application/json", h(sts, "includeSubDomains; Max-Age = \"60\" ;"), ""},
		{declaration.Transport, nil, "application/json", h(sts, "max-age=0"), "transport"},
		{declaration.Transport, nil, "application/json", h(sts, "includeSubDomains"), "transport"},
		{declaration.Transport, nil, "application/json", h(sts, "max-age=1y"), "transport"},
		{declaration.Transport, nil, "application/json", h(sts, "max-age=60; max-age=60"), "transport"},
		{declaration.Transport, nil, "application/json", h(sts, "max-age=0", sts, "max-age=60"), "transport"},

		{declaration.Resources, nil, "application/json", nil, "-"},
		{declaration.Resources, bearer, "application/json", nil, "-"},
		{declaration.Resources, cookie, "application/json", nil, "resources"},
		{declaration.Resources, cookie, "application/json", h("Cross-Origin-Resource-Policy", "same-site"), ""},
		{declaration.Resources, cookie, "application/json", h("Cross-Origin-Resource-Policy", "same-origin"), ""},
		{declaration.Resources, cookie, "application/json", h("Cross-Origin-Resource-Policy", "Same-Origin"),
			"resources"},
		{declaration.Resources, cookie, "application/json", h("Cross-Origin-Resource-Policy", "cross-origin"),
			"resources"},
		{declaration.Resources, cookie, "application/json", h("Cross-Origin-Resource-Policy",
			"same-origin, same-origin"),
			"resources"},
	} {
		f := c.fields
		if c.typ != "" {
			f = append(h("Content-Type", c.typ), f...)
		}
		s, applies := checks[c.what](answer{check.Answer{Status: 200, Body: []byte("<p>x")}, f, data{c.scheme != nil,
			c.scheme}})
		got := s.row
		if !applies {
			got = "-"
		}
		assert.Equal(t, c.want, got, "%s %v %s", c.what, c.fields, s.says)
		assert.Equal(t, s.row == "", s.says == "")
		if s.row != "" {
			assert.NotNil(t, finding.RowOf(rows, cause+s.row))
		}
	}
	_, applies := referrer(answer{check.Answer{Status: 302}, h("Location", "/x"), data{true, link}})
	assert.True(t, applies, "a redirect hands its address on too")
	for what := range checks {
		_, applies := checks[what](answer{check.Answer{Status: 204}, nil, data{true, cookie}})
		assert.Equal(t, what == declaration.Transport, applies,
			"an answer without content has nothing else to protect: %s", what)
	}
}

const text = `
millgate: 1.1
targets: { plain: { base: "http://h.example" }, tls: { base: "https://h.example" }, number: {
	base: "https://127.0.0.1:8443" } }
routes: [GET /open, GET /own, PUT /own]
roles: { r: }
schemes: { s: { kind: bearer } }
identities: { ann: { roles: r, credentials: { s: { token: kept:A } } } }
access: [{ at: GET /open, who: anyone }, { at: /own, who: r }]
answers: { protects: PROTECTS }
`

type crossings struct {
	play.Crossings
	d *declaration.Document
}

func (x crossings) Control(i int) (check.Sample, bool) {
	s := check.Sample{Key: "control", Request: check.Request{Method: x.d.Routes[i].Method(),
		Path: x.d.Routes[i].Path()}}
	if i > 0 {
		s.Caller = check.Caller{Identity: "ann", Scheme: "s"}
	}
	return s, true
}

func planned(t *testing.T, target, protects string) (*check.Context, *check.Planning) {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(strings.Replace(text, "PROTECTS", protects, 1)), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.TargetNamed(target)}, check.NewPlanning(crossings{d: d})
	Family{}.Plan(c, p)
	return c, p
}

func left(p *check.Planning) (out []string) {
	for _, o := range p.Left {
		out = append(out, o.What)
	}
	return out
}

func TestWhatIsSent(t *testing.T) {
	_, p := planned(t, "tls", "[]")
	assert.Empty(t, p.Probes, "it is off unless it is asked for")
	c, p := planned(t, "tls", "[frames, caching, transport, referrer, resources]")
	assert.Equal(t, []string{"protection from referrer", "protection from resources"}, left(p),
		"what applies nowhere is said")
	require.Len(t, p.Probes, 2, "safe routes alone")
	for _, x := range p.Probes {
		_, calls := play.Run(Family{}.Script(c, x), -1, func(check.Call, time.Duration) check.Report {
			return check.Report{Fate: check.Answered, Exchange: check.Exchange{Status: 200}}
		})
		require.Len(t, calls, 1)
		assert.Equal(t, x.Route, calls[0].Request.Method+" "+calls[0].Request.Path)
		assert.Equal(t, check.Safe, calls[0].Effect)
		assert.Len(t, calls[0].As, map[string]int{"GET /open": 0, "GET /own": 1}[x.Route])
	}
	for _, target := range []string{"plain", "number"} {
		_, p = planned(t, target, "transport")
		assert.Equal(t, []string{"protection from transport"}, left(p))
	}
}

func TestJudge(t *testing.T) {
	c, p := planned(t, "tls", "[frames, sniffing, caching, transport]")
	own := p.Probes[1]
	of := func(status int, fields field.List) check.Verdict {
		return Family{}.Judge(c, own, &check.Fact{Reports: []check.Report{{Name: check.TheRequest, Fate: check.Answered,
			Exchange: check.Exchange{Status: status, Answer: fields, Content: "{}"}}}}, nil)
	}
	causes := func(v check.Verdict) (out []string) {
		for _, g := range v.Gaps {
			assert.Equal(t, finding.Proven, g.Proof.Confidence())
			out = append(out, g.Cause.Cause)
		}
		return out
	}
	v := of(200, h("Content-Type", "application/json"))
	assert.Equal(t, []string{"headers sniffing", "headers keeping", "headers transport"}, causes(v))
	assert.Equal(t, "frames: nothing to protect here", v.Says)
	v = of(200, h("Content-Type", "application/json", "X-Content-Type-Options", "nosniff", cc, "no-store", sts,
		"max-age=1"))
	assert.Empty(t, v.Gaps)
	assert.Equal(t, "it is protected from sniffing, caching, transport; frames: nothing to protect here", v.Says)
	assert.Equal(t, finding.Proven, v.Proof.Confidence())
	for _, status := range []int{0, 401, 404, 429, 500} {
		v = of(status, nil)
		assert.Empty(t, v.Gaps, status)
		assert.Equal(t, finding.NotSure, v.Proof.Confidence(), status)
	}
}
