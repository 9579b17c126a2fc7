package app

import (
	"net/http"
	"net/http/httptest"
	"strings"
)

// undeclaredRows are services that serve more than the inventory has.
var undeclaredRows = []liar{
	{name: "a description is served with its page", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		switch {
		case r.Method != "GET":
		case r.URL.Path == "/openapi.json":
			says(a, 200, `{"openapi":"3.1.0","paths":{}}`)
		case r.URL.Path == "/docs":
			a.Header().Set("Content-Type", "text/html")
			says(a, 200, "<title>Village API documentation</title>")
		}
	}), kinds: []string{"X everything that describes it"}, code: 0,
		says: []string{"a description file of the API", "The same at 2 routes"}},
	{name: "any method does what GET does", twist: func(_ *villager, _ http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/login" && !strings.HasPrefix(r.URL.Path, "/t/") {
			r.Method = "GET"
		}
		return false
	}, kinds: []string{"X everything by any method"}, code: 1},
	{name: "one method too many", twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/b" && r.Method == "DELETE" && v.who(r) != "" {
			w.WriteHeader(204)
			return true
		}
		return false
	}, kinds: []string{"X DELETE /b"}, code: 1},
	{name: "a prefix is answered whatever stands behind it",
		text: strings.ReplaceAll(strings.ReplaceAll(village, "/a", "/v1/a"),
			"GET /b", "GET /v1/b"), twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
			switch {
			case strings.HasPrefix(r.URL.Path, "/v2/"):
				w.Header().Set("Content-Type", "text/html")
				_, _ = w.Write([]byte("<p>Version 2 is coming</p>"))
				return true
			case strings.HasPrefix(r.URL.Path, "/v1/"):
				r.URL.Path = strings.TrimPrefix(r.URL.Path, "/v1")
			}
			return false
		}, kinds: []string{}, code: 0},
	{name: "an older version is still served", text: strings.ReplaceAll(strings.ReplaceAll(village, "/a",
		"/v1/a"), "GET /b",
		"GET /v1/b"), twist: func(_ *villager, _ http.ResponseWriter, r *http.Request) bool {
		for _, prefix := range []string{"/v0", "/v1"} {
			if rest, ok := strings.CutPrefix(r.URL.Path, prefix); ok && (prefix == "/v1" || rest == "/a") {
				r.URL.Path = rest
			}
		}
		return false
	}, kinds: []string{"X GET /v0/a"}, code: 0},
}
