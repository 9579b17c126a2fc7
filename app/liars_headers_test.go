package app

import (
	"net/http"
	"net/http/httptest"
	"strings"
)

// protected is the village that is asked to protect who reads its answers: a page beside its routes,
// and a desk that is opened by a cookie.
var protected = strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "GET /c, ", "GET /c, GET /page, GET /desk, ",
	"identities:\n", "  desk: { kind: cookie, name: desk }\nidentities:\n", "records:\n",
	"  cat: { credentials: { desk: { token: the-desk-of-cat } } }\nrecords:\n",
	"  - { at: GET /c, who: r }\n", "  - { at: GET /c, who: r }\n  - { at: GET /page, who: anyone }\n"+
		"  - { at: GET /desk, who: identity:cat }\n").Replace(village) +
	"answers: { protects: [frames, sniffing, caching, referrer, transport, resources] }\n"

// guards is the service of it, with all that is asked for. change takes some of it away.
func protecting(change func(r *http.Request, h http.Header)) func(*villager, http.ResponseWriter, *http.Request) bool {
	return rewriting(func(_ *villager, r *http.Request, a *httptest.ResponseRecorder) {
		h := a.Header()
		switch {
		case r.Method != "GET":
		case r.URL.Path == "/page":
			h.Set("Content-Type", "text/html; charset=utf-8")
			says(a, 200, "<title>The village</title>")
		case r.URL.Path == "/desk" && r.Header.Get("Cookie") == "desk=the-desk-of-cat":
			says(a, 200, `{"desk":"of cat"}`)
		case r.URL.Path == "/desk":
			says(a, 401, "")
		}
		h.Set("X-Frame-Options", "DENY")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Cache-Control", "no-store")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if change != nil {
			change(r, h)
		}
	})
}

// underHeaders are services whose answers say this and that to browsers and caches.
var underHeaders = []liar{
	{name: "answers protect from all that is asked for", text: protected, twist: protecting(nil), kinds: []string{},
		code: 0,
		says: []string{"protection from transport", "plain http"}},
	{name: "what is not asked for is not missed", twist: nil, kinds: []string{}, code: 0},
	{name: "a page that any page may frame", text: protected, twist: protecting(func(_ *http.Request, h http.Header) {
		h.Set("Content-Security-Policy", "frame-ancestors *")
	}), kinds: []string{"P GET /page"}, code: 0},
	{name: "a policy beside the older field", text: protected, twist: protecting(func(_ *http.Request, h http.Header) {
		h.Del("X-Frame-Options")
		h.Set("Content-Security-Policy", "default-src 'self'; frame-ancestors 'self'")
	}), kinds: []string{}, code: 0},
	{name: "no answer says that its type counts", text: protected, twist: protecting(func(_ *http.Request,
		h http.Header) {
		h.Del("X-Content-Type-Options")
	}), kinds: []string{"P everything not protected from sniffing"}, code: 0},
	{name: "one answer that every cache may keep", text: protected, twist: protecting(func(r *http.Request,
		h http.Header) {
		if r.URL.Path == "/b" {
			h.Set("Cache-Control", "public, max-age=600")
		}
	}), kinds: []string{"L GET /b"}, code: 0},
	{name: "what anybody gets may be kept", text: protected, twist: protecting(func(r *http.Request, h http.Header) {
		if r.URL.Path == "/page" {
			h.Set("Cache-Control", "public, max-age=600")
		}
	}), kinds: []string{}, code: 0},
	{name: "what a cookie opens may be loaded by any page", text: protected, twist: protecting(func(_ *http.Request,
		h http.Header) {
		h.Del("Cross-Origin-Resource-Policy")
	}), kinds: []string{"P GET /desk"}, code: 0},
}
