package app

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
)

// carrying is the village with a method that is open at one address.
var carrying = strings.NewReplacer("routes: [GET /a,", "routes: [GET /a, POST /a,",
	"{ at: GET /a, who: r }", "{ at: GET /a, who: r }\n  - { at: POST /a, who: anyone }").Replace(village)

// detours are services that answer more addresses and methods than they have.
var detours = []liar{
	{name: "an open method carries another", text: carrying, twist: func(v *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if r.URL.Path != "/a" || r.Method != "POST" {
			return false
		}
		w.Header().Set("Content-Type", "application/json")
		if r.Header.Get("X-HTTP-Method-Override") == "GET" {
			_, _ = io.WriteString(w, `{"path":"/a","of":"ann"}`)
		} else {
			_, _ = io.WriteString(w, `{"thanks":"for the note"}`)
		}
		return true
	}, kinds: []string{"U GET /a"}, says: []string{"method override"}, code: 1},
	{name: "an open method shows the same anyway", text: carrying, twist: func(_ *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if r.URL.Path != "/a" || r.Method != "POST" {
			return false
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"path":"/a","of":"ann"}`)
		return true
	}, kinds: []string{}, code: 0},
	{name: "every address is answered, with an error inside", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code == 404 && r.Method != "POST" {
			a.Header().Set("Content-Type", "application/json")
			says(a, 200, `{"error":"there is nothing here"}`)
		}
	}), kinds: []string{"X any unknown path"}, code: 1},
	{name: "every address is answered with a page", twist: rewriting(func(_ *villager, _ *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code == 404 {
			a.Header().Set("Content-Type", "text/html")
			says(a, 200, "<html><title>Village</title><div id=app></div></html>")
		}
	}), kinds: []string{"X any unknown path"}, code: 1},
	{name: "a slash steps around the role alone", text: annsAlone, twist: rewriting(func(v *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if keepsForAnn(v, r, a); r.Method == "GET" && strings.HasSuffix(r.URL.Path, "/") && v.who(r) != "" {
			if path := strings.TrimSuffix(r.URL.Path, "/"); path == "/a" || path == "/b" || path == "/c" {
				a.Header().Set("Content-Type", "application/json")
				says(a, 200, `{"path":"`+path+`","of":"`+v.who(r)+`"}`)
			}
		}
	}), kinds: []string{"P GET /b"}, says: []string{"The role check is stepped around by a slash"}, code: 1},
	{name: "letters in another case lead there", twist: func(_ *villager, _ http.ResponseWriter, r *http.Request) bool {
		if r.Method == "GET" && r.URL.Path != strings.ToLower(r.URL.Path) {
			r.URL.Path = strings.ToLower(r.URL.Path)
			if r.Header.Get("Authorization") == "" {
				r.Header.Set("Authorization", "Bearer token-of-ann")
			}
		}
		return false
	}, says: []string{"stepped around by letter case"}, code: 1, never: []string{"U PATCH"}},
	{name: "HEAD is answered to anyone, with nothing", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if r.Method == "HEAD" && a.Code == 401 {
			a.Header().Set("Content-Type", "application/json")
			says(a, 200, "")
		}
	}), says: []string{"by asking with HEAD"}, code: 1},
	{name: "OPTIONS lists methods to anyone", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if r.Method == "OPTIONS" {
			a.Header().Set("Content-Type", "application/json")
			a.Header().Set("Allow", "GET, HEAD")
			says(a, 200, `{"allow":["GET","HEAD"]}`)
		}
	}), kinds: []string{}, code: 0},
}
