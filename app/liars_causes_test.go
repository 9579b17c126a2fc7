package app

import (
	"net/http"
	"net/http/httptest"
)

// oneCause are services with one mistake that shows at many routes: one finding each.
var oneCause = []liar{
	{name: "one error handler answers HTML everywhere",
		text: village + "answers: { errors: { type: application/json } }\n",
		twist: rewriting(func(_ *villager, _ *http.Request, a *httptest.ResponseRecorder) {
			if a.Code >= 400 {
				a.Header().Set("Content-Type", "text/html")
				says(a, a.Code, "<p>no</p>")
			}
		}), kinds: []string{"W everything answered with an error of another type"}, code: 0,
		says: []string{"A refusal in another shape"}},
	{name: "one guard says 401 for 403", text: annsAlone, twist: rewriting(func(v *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if keepsForAnn(v, r, a); a.Code == 403 {
			a.Code = 401
		}
	}), kinds: []string{"W the guard of access"}, code: 0, says: []string{"Answered 401, 403 is declared"}},
	{name: "one guard redirects", twist: rewriting(func(_ *villager, r *http.Request, a *httptest.ResponseRecorder) {
		if a.Code == 401 && r.URL.Path != "/login" {
			a.Header().Set("Location", "/login")
			says(a, 302, "")
		}
	}), kinds: []string{"W the guard of access"}, code: 0},
	{name: "one guard forgets the role", text: annsAlone,
		kinds: []string{"P GET /b", "P GET /c"}, code: 1, says: []string{"Without the role"}},
	{name: "no guard anywhere", twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if v.who(r) == "" {
			r.Header.Set("Authorization", "Bearer token-of-ann")
		}
		return false
	}, kinds: []string{"U GET /a", "U GET /b", "U GET /c", "U GET /t/{id}", "U PATCH /t/{id}"}, code: 1,
		says: []string{"No guard"}, never: []string{"broken credential"}},
}
