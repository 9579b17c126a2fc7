package app

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"time"

	"millgate/app/coverage"
)

// refusals are answered in another way.
func refusals(change func(r *http.Request, a *httptest.ResponseRecorder)) func(*villager, http.ResponseWriter,
	*http.Request) bool {
	return rewriting(func(_ *villager, r *http.Request, a *httptest.ResponseRecorder) {
		if (a.Code == 401 || a.Code == 403) && r.URL.Path != "/login" {
			change(r, a)
		}
	})
}

func with200(_ *http.Request, a *httptest.ResponseRecorder) {
	a.Header().Set("Content-Type", "application/json")
	says(a, 200, `{"error":"you may not"}`)
}

// coded is a refusal that is answered 200 and bears its status as a text.
func coded(_ *http.Request, a *httptest.ResponseRecorder) {
	a.Header().Set("Content-Type", "application/json")
	says(a, 200, fmt.Sprintf(`{"error":{"code":"E%d"}}`, a.Code))
}

// saying is the village with the refusals of coded declared, where rule says.
func saying(rule string) string {
	return strings.Replace(village, "millgate: 1\n", "millgate: 1.1\n", 1) + fmt.Sprintf("answers:\n  refused_when:\n"+
		"    - { %[1]s, equals: { /error/code: E403 }, is: forbidden }\n    - { %[1]s, has: /error/code }\n", rule)
}

// challenging asks with these challenges for a credential, wherever one is missing or broken.
func challenging(text string) func(*villager, http.ResponseWriter, *http.Request) bool {
	return refusals(func(_ *http.Request, a *httptest.ResponseRecorder) {
		if a.Code == 401 {
			a.Header().Set("WWW-Authenticate", text)
		}
	})
}

// turning is the village with what its access entries and its scheme say of how callers are turned away.
func turning(entry, scheme string) string {
	return strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "who: r }", "who: r"+entry+" }", "who: owner }",
		"who: owner"+entry+" }", "kind: bearer,", "kind: bearer,"+scheme).Replace(village)
}

// oddStatus are services whose status does not say what happened.
var oddStatus = []liar{
	{name: "refusals are answered 200, as declared", text: village +
		"answers: { refused_when: { status: 200, has: /error } }\n", twist: refusals(with200),
		kinds: []string{"W the guard of access"},
		code:  0},
	{name: "refusals are answered 200, as declared by what stands in them", text: saying("status: 200"),
		twist: refusals(coded), kinds: []string{}, code: 0},
	{name: "refusals are answered 200, as declared for other routes", text: saying(`at: "/t/{id}", status: 200`),
		twist: refusals(coded), says: []string{"GET /a", "nothing of the control's answer"},
		never: []string{" proven", "GET /t/", "PATCH /t/"}, code: 1},
	{name: "refusals are answered 200, which nobody declared", twist: refusals(with200), never: []string{" proven"},
		says: []string{"nothing of the control's answer"}, code: 1},
	{name: "refusals are answered 204", twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) {
		a.Header().Del("Content-Type")
		says(a, 204, "")
	}), never: []string{" proven"}, code: 1},
	{name: "refusals are answered 404", twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) {
		says(a, 404, "")
	}), kinds: []string{"W the guard of access", "W the guard of access"}, code: 0},
	{name: "refusals are answered 404, as declared", text: turning(", turned_away: 404", ""),
		twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) { says(a, 404, "") }), code: 0},
	{name: "refusals are answered 410, as declared", text: turning(", turned_away: 410", ""),
		twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) { says(a, 410, "") }), code: 0},
	{name: "refusals are answered 401 and 403, where 410 is declared", text: turning(", turned_away: 410", ""),
		says: []string{"another status is declared", "must be answered 410 ("}, never: []string{"U ", "P "}, code: 0},
	{name: "a scheme refuses with 403, as declared", text: turning("", " refuses: 403,"),
		twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) { says(a, 403, "") }), code: 0},
	{name: "an entry comes before its scheme", text: turning(", turned_away: { credential: 401, soundness: 401 }",
		" refuses: 403,"), code: 0},
	{name: "a 401 asks for the scheme that is declared", text: turning("", " challenge: Bearer,"),
		twist: challenging(`Digest realm="a, b", bearer`), kinds: []string{}, code: 0},
	{name: "a 401 asks for another scheme than declared", text: turning("", " challenge: Bearer,"),
		twist: challenging("Basic"),
		kinds: []string{"W everything answered with an error without a challenge of Bearer"},
		says:  []string{"a 401 must bear a challenge of Bearer (WWW-Authenticate), it bears Basic"}, code: 0},
	{name: "a 401 bears no challenge, which is declared twice", text: turning("", " challenge: Bearer,") +
		"answers: { 401: { headers: [WWW-Authenticate] } }\n", says: []string{"it does not"},
		never: []string{"bears none"},
		kinds: []string{"W everything answered with an error without www-authenticate"}, code: 0},
	{name: "refusals are answered 418", twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) {
		says(a, 418, "")
	}), never: []string{"U ", "P "}, code: 0},
	{name: "refusals are answered 500", twist: refusals(func(_ *http.Request, a *httptest.ResponseRecorder) {
		says(a, 500, "")
	}), kinds: []string{"W the guard of access"}, says: []string{"fails (500), once more a moment later"}, code: 0},
	{name: "the first answer to each request is a failure", twist: func(v *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if r.URL.Path == "/login" || v.times(r.Method+r.URL.Path+r.Header.Get("Authorization")) > 1 {
			return false
		}
		w.WriteHeader(500)
		return true
	}, never: []string{"Serves no one", "Fails in place of refusing"}, code: 3},
	{name: "whoever asks for a page gets the one to log in by", twist: func(_ *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if !strings.Contains(r.Header.Get("Accept"), "html") {
			return false
		}
		w.Header().Set("Content-Type", "text/html")
		_, _ = fmt.Fprintf(w, "<title>%s</title><form>ann or bob", r.URL.Path)
		return true
	}, never: []string{"U "}, code: 0},
	{name: "everything is answered 200, done or not", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code >= 400 && r.URL.Path != "/login" {
			a.Header().Set("Content-Type", "application/json")
			says(a, 200, `{"ok":false}`)
		}
	}), says: []string{"It shows nothing of the control's answer. likely"},
		never: []string{"crossings). proven"}, code: 1},
	{name: "admissions are answered 202", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code == 200 && r.URL.Path != "/login" {
			a.Code = 202
		}
	}), kinds: []string{}, code: 0},
}

// oddLogins are services that log in otherwise than they should.
var oddLogins = []liar{
	{name: "a login answers 200 with an error", twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/login" {
			_, _ = w.Write([]byte(`{"error":"not today"}`))
		}
		return r.URL.Path == "/login"
	}, code: 3, kinds: []string{}, says: []string{"no token at /t"}},
	{name: "a login gives an empty token", twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/login" {
			_, _ = w.Write([]byte(`{"t":""}`))
		}
		return r.URL.Path == "/login"
	}, code: 3, never: []string{"U ", "P "}},
	{name: "a login leads elsewhere", twist: func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/login" {
			w.Header().Set("Location", "http://elsewhere.invalid/")
			w.WriteHeader(302)
		}
		return r.URL.Path == "/login"
	}, code: 3, kinds: []string{}},
	{name: "a login tells who has an account", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if r.URL.Path == "/login" && a.Code == 401 {
			says(a, 401, `{"error":"wrong secret"}`)
		}
	}), kinds: []string{}, code: 0},
	{name: "a login fails for one of two", twist: rewriting(func(v *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if r.URL.Path == "/login" && strings.Contains(a.Body.String(), "token-of-bob") {
			says(a, 500, "")
		}
	}), kinds: []string{}, code: 0, says: []string{"bob: the credential cannot be obtained"}},
	{name: "a secret too short to be hidden inside other text", change: []string{"password: right-bob",
		"password: b-b"},
		kinds: []string{}, says: []string{"left out: what is kept: masking of password: it is shorter than 6"},
		code: 0},
	{name: "each login ends the one before", twist: func() func(*villager, http.ResponseWriter, *http.Request) bool {
		return nil
	}(), kinds: []string{}, code: 0},
}

// oddRecords are services whose records are other than they look.
var oddRecords = []liar{
	{name: "each read changes the record", twist: rewriting(func(v *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code == 200 && strings.HasPrefix(r.URL.Path, "/t/") {
			says(a, 200, fmt.Sprintf(`{"path":%q,"of":%q,"reads":%d,"seen":"at read %d"}`, r.URL.Path, v.who(r),
				v.times("reads"), v.times("seen")))
		}
	}), kinds: []string{}, code: 0},
	{name: "a refused change is carried out", twist: changing(true, false), kinds: []string{"P PATCH /t/{id}"},
		says: []string{"carried out all the same"}, code: 1},
	{name: "anybody changes any record", twist: changing(false, true), kinds: []string{"P PATCH /t/{id}"},
		says: []string{"Somebody else's record"}, code: 1},
	{name: "records of two people are the same", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code == 200 && strings.HasPrefix(r.URL.Path, "/t/") {
			says(a, 200, `{"name":"a bench by the river","colour":"green as moss"}`)
		}
	}), kinds: []string{}, code: 0},
	{name: "everybody reads every record", twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if strings.HasPrefix(r.URL.Path, "/t/t-") && v.who(r) != "" && (r.Method == "GET" || r.Method == "HEAD") {
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"path":%q,"of":"the owner of %s","note":"kept for %s"}`, r.URL.Path, r.URL.Path,
				r.URL.Path)
			return true
		}
		return false
	}, kinds: []string{"P GET /t/{id}"}, says: []string{"Somebody else's record", " proven"}, code: 1},
	{name: "everybody is shown an empty record", twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if strings.HasPrefix(r.URL.Path, "/t/t-") && v.who(r) != "" && r.URL.Path != "/t/t-"+v.who(r) &&
			(r.Method == "GET" || r.Method == "HEAD") {
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write([]byte(`{}`))
			return true
		}
		return false
	}, kinds: []string{"P GET /t/{id}"}, never: []string{" proven"}, code: 1},
}

// changing is a village whose records remember what was written: by who is refused all the same,
// or by anybody.
func changing(refused, anybody bool) func(*villager, http.ResponseWriter, *http.Request) bool {
	return func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		who := v.who(r)
		if !strings.HasPrefix(r.URL.Path, "/t/t-") || who == "" {
			return false
		}
		mine := r.URL.Path == "/t/t-"+who
		w.Header().Set("Content-Type", "application/json")
		switch {
		case r.Method == "PATCH" && (mine || refused || anybody):
			v.times("written " + r.URL.Path)
			if !mine && refused {
				w.WriteHeader(403)
				return true
			}
		case r.Method != "GET" && r.Method != "HEAD" || !mine:
			return false
		}
		v.mu.Lock()
		n := v.count["written "+r.URL.Path]
		v.mu.Unlock()
		_ = json.NewEncoder(w).Encode(map[string]any{"path": r.URL.Path, "of": r.URL.Path[5:], "written": n})
		return true
	}
}

// mixedUp are services that take one caller for another.
var mixedUp = []liar{
	{name: "the tokens of two are changed", twist: func(_ *villager, _ http.ResponseWriter, r *http.Request) bool {
		if v := r.Header.Get("Authorization"); strings.HasSuffix(v, "token-of-ann") {
			r.Header.Set("Authorization", strings.Replace(v, "ann", "bob", 1))
		} else if strings.HasSuffix(v, "token-of-bob") {
			r.Header.Set("Authorization", strings.Replace(v, "bob", "ann", 1))
		}
		return false
	}, never: []string{"U ", " proven"}, code: 3, rules: []coverage.DoubtRule{coverage.NoControls}},
	{name: "everybody is ann", twist: func(_ *villager, _ http.ResponseWriter, r *http.Request) bool {
		if v := r.Header.Get("Authorization"); strings.HasSuffix(v, "token-of-bob") {
			r.Header.Set("Authorization", strings.Replace(v, "bob", "ann", 1))
		}
		return false
	}, says: []string{"P GET /t/{id}"}, never: []string{"U "}, code: 1},
	{name: "one call in five is somebody else's", twist: func(v *villager, _ http.ResponseWriter,
		r *http.Request) bool {
		if h := r.Header.Get("Authorization"); strings.HasSuffix(h, "token-of-bob") && v.times("bob")%5 == 0 {
			r.Header.Set("Authorization", strings.Replace(h, "bob", "ann", 1))
		}
		return false
	}, never: []string{"U "}, code: 1},
	{name: "who is signed in last is everybody", twist: func() func(*villager, http.ResponseWriter,
		*http.Request) bool {
		last := "ann"
		return func(v *villager, _ http.ResponseWriter, r *http.Request) bool {
			v.mu.Lock()
			defer v.mu.Unlock()
			if h := r.Header.Get("Authorization"); strings.Contains(h, "token-of-") {
				_, name, _ := strings.Cut(h, "token-of-")
				if name == "ann" || name == "bob" {
					last = name
				}
			} else if r.URL.Path != "/login" && h == "" {
				r.Header.Set("Authorization", "Bearer token-of-"+last)
			}
			return false
		}
	}(), says: []string{"Open when no credential is sent"}, code: 1},
	{name: "the boss's role is everybody's", text: signed, serves: &issuing{claim: func(c map[string]any) {
		c["roles"] = []string{"boss"}
	}}, says: []string{"it holds the role boss", "P GET /b"}, code: 1},
	{name: "tokens name somebody else", text: signed, serves: &issuing{claim: func(c map[string]any) {
		c["sub"] = "ann"
	}}, says: []string{"P GET /t/{id}"}, never: []string{"U "}, code: 1},
}

// linked is the village with links to its records, which anybody opens who has one.
const linked = `millgate: 1.1
targets: { t: { base: "%s", pace: 5000 per 1s, unsafe: allowed } }
routes: [GET /a, "POST /t/{id}/link", "GET /t/{id}"]
roles: { r: }
lifetimes: { day: { max: 1h } }
schemes:
  access: { kind: bearer, login: { send: POST /login, json: { n: "{n}", p: "{password}" }, take: { access: /t } } }
  link: { kind: link, expires: until, signature: sig, lifetime: { access: day },
    issue: { send: "POST /t/{id}/link", take: { link: /url } } }
identities:
  ann: { roles: r, credentials: { access: { n: ann, password: right-ann }, link: {} } }
  bob: { roles: r, credentials: { access: { n: bob, password: right-bob }, link: {} } }
records:
  thing: { fills: id, owned_by: { ann: [t-ann, t-eve], bob: [t-bob] } }
access:
  - { at: GET /a, who: r }
  - { at: "POST /t/{id}/link", who: owner, by: access }
  - { at: "GET /t/{id}", who: owner, by: link }
`

// links gives out links and opens them: covers says what a signature is made over, leads where a
// link leads, life how long it lives.
func links(covers func(id, until string) string, leads func(id string) string, life int64) func(*villager,
	http.ResponseWriter, *http.Request) bool {
	return func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		id, isLink := strings.CutSuffix(strings.TrimPrefix(r.URL.Path, "/t/"), "/link")
		w.Header().Set("Content-Type", "application/json")
		switch q := r.URL.Query(); {
		case !strings.HasPrefix(r.URL.Path, "/t/t-") || id != "t-ann" && id != "t-bob" && id != "t-eve":
			w.Header().Del("Content-Type")
			return false
		case isLink && r.Method == "POST":
			if v.who(r) == "" {
				w.WriteHeader(401)
			} else if id != "t-"+v.who(r) && (id != "t-eve" || v.who(r) != "ann") {
				w.WriteHeader(403)
			} else {
				until := fmt.Sprint(time.Now().Unix() + life)
				_, _ = fmt.Fprintf(w, `{"url":"http://village.example/t/%s?until=%s&sig=%s"}`, leads(id), until,
					mac(covers(leads(id), until)))
			}
		case isLink || r.Method != "GET" && r.Method != "HEAD":
			w.WriteHeader(405)
		case q.Get("sig") != mac(covers(id, q.Get("until"))) || len(q["sig"]) != 1 || len(q["until"]) != 1:
			w.WriteHeader(401)
		case q.Get("until") < fmt.Sprint(time.Now().Unix()):
			w.WriteHeader(401)
		default:
			_, _ = fmt.Fprintf(w, `{"id":%q,"name":"the thing %s"}`, id, id)
		}
		return true
	}
}

func whole(id, until string) string { return id + "\n" + until }

func itself(id string) string { return id }

// oddLinks are services whose links hold less than they should.
var oddLinks = []liar{
	{name: "sound links", text: linked, twist: links(whole, itself, 600), kinds: []string{}},
	{name: "links that open any record", text: linked, twist: links(func(_,
		until string) string {
		return until
	}, itself,
		600), says: []string{"A link opens other records"}, code: 1},
	{name: "links whose end can be changed", text: linked, twist: links(func(id, _ string) string { return id },
		itself, 600),
		says: []string{"A link's end can be changed"}, code: 1},
	{name: "links that live for a year", text: linked, twist: links(whole, itself, 365*86400),
		kinds: []string{"S everything behind link"}, says: []string{"Links live longer than declared"}},
	{name: "links to somebody else's record", text: linked, twist: links(whole,
		func(string) string { return "t-bob" }, 600),
		says: []string{"Links lead elsewhere than was asked for"}, code: 3, never: []string{"U "}},
}
