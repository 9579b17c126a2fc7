package exchanges

import (
	"cmp"
	"fmt"
	"math/rand"
	"slices"
	"strconv"
	"strings"

	"millgate/core/origin"
)

// Hosts are the origins that take part: the page's own, and two services.
type Hosts struct{ Page, Service, Other string }

// gen makes cases.
type gen struct {
	at     Hosts
	ground string
	list   []*Exchange
	names  map[string]int
}

// Grounds are the rules that cases look at, each by many.
func Grounds(list []*Exchange) map[string]int {
	out := map[string]int{}
	for _, x := range list {
		out[x.Ground]++
	}
	return out
}

// All makes the cases. The place in the list is a case's ID.
func All(at Hosts) []*Exchange {
	g := &gen{at: at}
	for _, ground := range []struct {
		name string
		make func(*gen)
	}{
		{"who may read", (*gen).pages}, {"methods", (*gen).methods}, {"header fields", (*gen).fields},
		{"allowed fields", (*gen).allowed}, {"status", (*gen).statuses}, {"exposed fields", (*gen).exposed},
		{"without CORS", (*gen).without}, {"redirects", (*gen).redirects}, {"repeated names", (*gen).repeated},
		{"ranges", (*gen).ranges}, {"cache modes", (*gen).cacheModes}, {"max-age", (*gen).maxAges},
		{"remembered", (*gen).remembered}, {"client hints", (*gen).clientHints}, {"names of fields", (*gen).fieldNames},
		{"private network", (*gen).private}, {"locations", (*gen).locations}, {"names in redirects", (*gen).userinfo},
		{"null and fragments", (*gen).nullAndFragments}, {"beyond Latin-1", (*gen).latin1}, {"hosts", (*gen).hosts},
		{"sizes", (*gen).sizes}, {"drawn", (*gen).drawn},
	} {
		g.ground = ground.name
		ground.make(g)
	}
	return g.list
}

// add makes a case of one request, or of several that follow each other. A URL is the case's own,
// where it says none; of one that begins with / or # that is the beginning.
func (g *gen) add(name string, q origin.Request, hops ...Hop) *Exchange {
	return g.several(name, []origin.Request{q}, hops...)
}

func (g *gen) several(name string, asks []origin.Request, hops ...Hop) *Exchange {
	id := strconv.Itoa(len(g.list))
	filled := strings.NewReplacer("{id}", id, "{service}", g.at.Service, "{other}", g.at.Other, "{home}", g.at.Page,
		"{port}", port(g.at.Service), "{homeport}", port(g.at.Page))
	x := &Exchange{ID: id, Ground: g.ground, Name: name, Asks: slices.Clone(asks), Hops: hops}
	for i := range x.Asks {
		q := &x.Asks[i]
		if q.URL == "" || strings.ContainsAny(q.URL[:1], "?#") {
			q.URL = "{service}/x/{id}/0" + q.URL
		}
		q.URL = filled.Replace(q.URL)
		if q.Page == "" {
			q.Page = g.at.Page
		}
		x.Null = q.Page == origin.Null
	}
	for i := range x.Hops {
		for _, a := range []*origin.Answer{&x.Hops[i].Preflight, &x.Hops[i].Answer, x.Hops[i].Later} {
			if a == nil {
				continue
			}
			if a.Status == 0 {
				a.Status = 200
			}
			for k := range a.Headers {
				a.Headers[k][1] = strings.ReplaceAll(filled.Replace(a.Headers[k][1]), "{page}", x.Asks[0].Page)
			}
		}
	}
	if g.names == nil {
		g.names = map[string]int{}
	}
	if g.names[x.Key()]++; g.names[x.Key()] > 1 { // in a table that has it twice, or cut short alike
		x.Name += fmt.Sprintf(" (%d)", g.names[x.Key()])
	}
	g.list = append(g.list, x)
	return x
}

func ans(status int, kv ...string) origin.Answer {
	a := origin.Answer{Status: status}
	for i := 0; i < len(kv); i += 2 {
		a.Headers = append(a.Headers, [2]string{kv[i], kv[i+1]})
	}
	return a
}

const (
	acao = "Access-Control-Allow-Origin"
	acac = "Access-Control-Allow-Credentials"
	acam = "Access-Control-Allow-Methods"
	acah = "Access-Control-Allow-Headers"
	aceh = "Access-Control-Expose-Headers"
	acma = "Access-Control-Max-Age"
)

var modes = []origin.Credentials{origin.Omit, origin.SameOrigin, origin.Include}

var permissions = [][]string{{}, {acao, "*"}, {acao, "{page}"}, {acao, "null"}, {acao, "{page}/"},
	{acao, "http://evil.example"}, {acao, "{page}, {page}"}, {acao, "{page}", acao, "{page}"},
	{acao, "*", acao, "{page}"}, {acao, " {page} "}, {acao, ""}, {acao, "*, *"}, {acao, "HTTP://127.0.0.1"},
	{acao, "{home}"}}

var creds = [][]string{{}, {acac, "true"}, {acac, "True"}, {acac, "TRUE"}, {acac, "1"}, {acac, "true, true"},
	{acac, "true", acac, "true"}, {acac, " true "}, {acac, "false"}, {acac, ""}}

var methodLists = [][]string{{}, {acam, "*"}, {acam, "PUT, PATCH, DELETE, FOO"}, {acam, "put, patch, delete, foo"},
	{acam, "Patch"}, {acam, "GET; PUT"}, {acam, "PUT,,PATCH,"}, {acam, "PUT PATCH"},
	{acam, "PUT", acam, "PATCH"}, {acam, ""}, {acam, "*", acam, "PUT"}, {acam, " PUT ,\tPATCH"}, {acam, "\"PUT\""},
	{acam, "GET"}}

var headerLists = [][]string{{}, {acah, "*"}, {acah, "authorization, content-type, x-a"},
	{acah, "Authorization, Content-Type, X-A"}, {acah, "X-A"}, {acah, "x-a; x-b"}, {acah, "x-a,,authorization"},
	{acah, "x-a authorization"}, {acah, "x-a", acah, "authorization"}, {acah, "*, authorization"},
	{acah, "content-type"}, {acah, "(x)"}}

var asked = [][2]string{{"Authorization", "Bearer x"}, {"Content-Type", "application/json"},
	{"Content-Type", "text/plain"}, {"Content-Type", "text/plain;charset=utf-8"}, {"Content-Type", "TEXT/PLAIN"},
	{"Content-Type", "text/plain; charset=\"utf-8\""}, {"Content-Type", "multipart/form-data; boundary=x"},
	{"Content-Type", "application/x-www-form-urlencoded"}, {"Content-Type", "text/plain, text/plain"},
	{"Content-Type", "text/plain;"}, {"Content-Type", "text/"}, {"Content-Type", "text"}, {"Content-Type", ""},
	{"Content-Type", " text/plain "}, {"Content-Type", "text /plain"}, {"Content-Type", "text/plain x"},
	{"Accept", "application/json"}, {"Accept", "text/html;q=0.9, */*"}, {"Accept", "a\"b"}, {"Accept", "x(y)"},
	{"Accept", strings.Repeat("a", 128)}, {"Accept", strings.Repeat("a", 129)}, {"Accept", "a{b"}, {"Accept", "a\tb"},
	{"Accept-Language", "de, en;q=0.5"}, {"Accept-Language", "de_DE"}, {"Content-Language", "de"},
	{"Content-Language", "x@y"},
	{"Range", "bytes=0-10"}, {"Range", "bytes=5-"}, {"Range", "bytes=-5"}, {"Range", "bytes=0-1,3-4"},
	{"Range", "bytes=9-1"}, {"Range", "bytes= 0-1"}, {"Range", "items=0-1"}, {"Range", "bytes=010-20"},
	{"X-A", "1"}, {"If-None-Match", "\"a\""}, {"Cache-Control", "no-cache"}, {"Pragma", "no-cache"}, {"DPR", "2"},
	{"Downlink", "1.5"}, {"Save-Data", "on"}, {"Save-Data", "off"}, {"Viewport-Width", "800"}, {"Width", "100"},
	{"Device-Memory", "4"}, {"RTT", "100"}, {"ECT", "4g"},
	{"Cookie", "a=b"}, {"Origin", "http://x.example"}, {"Referer", "http://x.example"}, {"Sec-Foo", "1"},
	{"Proxy-Foo", "1"}, {"DNT", "1"}, {"Date", "x"}, {"X-HTTP-Method-Override", "TRACE"},
	{"X-HTTP-Method-Override", "PUT"}, {"X-HTTP-Method", "a, track"}, {"Last-Event-ID", "5"},
	{"Upgrade-Insecure-Requests", "1"}, {"Content-DPR", "1"}}

func (g *gen) pages() {
	for _, p := range permissions {
		for _, c := range modes {
			for _, page := range []string{"", origin.Null} {
				g.add(fmt.Sprintf("page %q with %s of %q", p, c, page), origin.Request{Credentials: c, Page: page},
					Hop{Answer: ans(200, append(slices.Clone(p), acac, "true")...)})
			}
		}
	}
	for _, c := range creds {
		g.add(fmt.Sprintf("credentials %q", c), origin.Request{Credentials: origin.Include},
			Hop{Answer: ans(200, append([]string{acao, "{page}"}, c...)...)})
		g.add(fmt.Sprintf("preflight credentials %q", c), origin.Request{Credentials: origin.Include, Method: "PUT"},
			Hop{Preflight: ans(204, append([]string{acao, "{page}", acam, "PUT"}, c...)...),
				Answer: ans(200, acao, "{page}", acac, "true")})
	}
}

func (g *gen) methods() {
	for _, m := range []string{"get", "HEAD", "post", "put", "PATCH", "patch", "Patch", "DELETE", "OPTIONS", "FOO",
		"foo", "TRACE", "track", "a b", "QUERY"} {
		for _, l := range methodLists {
			for _, c := range []origin.Credentials{origin.Omit, origin.Include} {
				if c == origin.Include && len(l) > 1 && l[1] != "*" && m != "patch" {
					continue
				}
				g.add(fmt.Sprintf("method %s by %q with %s", m, l, c), origin.Request{Method: m, Credentials: c},
					Hop{Preflight: ans(204, append([]string{acao, "{page}", acac, "true"}, l...)...),
						Answer: ans(200, acao, "{page}", acac, "true")})
			}
		}
	}
}

func (g *gen) fields() {
	for _, h := range asked {
		g.add(fmt.Sprintf("header %q", h), origin.Request{Method: "POST", Body: true, Headers: [][2]string{h}},
			Hop{Preflight: ans(204, acao, "*", acah, strings.ToLower(h[0])), Answer: ans(200, acao, "*")})
		g.add(fmt.Sprintf("header %q without permission", h), origin.Request{Headers: [][2]string{h}},
			Hop{Preflight: ans(204, acao, "*"), Answer: ans(200, acao, "*")})
	}
}

func (g *gen) allowed() {
	for _, l := range headerLists {
		for _, c := range []origin.Credentials{origin.Omit, origin.Include} {
			for _, h := range [][][2]string{{{"Authorization", "Bearer x"}}, {{"X-A", "1"}},
				{{"authorization", "Bearer x"}, {"x-a", "1"}}, {{"Content-Type", "application/json"}}} {
				g.add(fmt.Sprintf("headers %q by %q with %s", h, l, c), origin.Request{Headers: h, Credentials: c},
					Hop{Preflight: ans(200, append([]string{acao, "{page}", acac, "true"}, l...)...),
						Answer: ans(200, acao, "{page}", acac, "true")})
			}
		}
	}
}

func (g *gen) statuses() {
	for _, s := range []int{200, 201, 204, 206, 226, 299, 300, 301, 302, 304, 307, 400, 401, 403, 404, 405, 500, 503} {
		g.add(fmt.Sprintf("preflight answered %d", s), origin.Request{Method: "PUT"},
			Hop{Preflight: ans(s, acao, "*", acam, "PUT", "Location", "{service}/x/{id}/0"),
				Answer: ans(200, acao, "*")})
		if !slices.Contains([]int{301, 302, 307}, s) {
			g.add(fmt.Sprintf("answered %d", s), origin.Request{}, Hop{Answer: ans(s, acao, "*")})
			g.add(fmt.Sprintf("answered %d without permission", s), origin.Request{}, Hop{Answer: ans(s)})
		}
	}
}

func (g *gen) exposed() {
	for _, e := range [][]string{{}, {aceh, "*"}, {aceh, "X-One"}, {aceh, "x-one, x-two"},
		{aceh, "x-one", aceh, "x-two"}, {aceh, "x-one; x-two"}, {aceh, "x-one,,x-two"}, {aceh, "set-cookie, x-one"},
		{aceh, "*, x-one"}, {aceh, "x one"}, {aceh, ""}, {aceh, "X-ONE"}, {aceh, "x-one", aceh, "*"}, {aceh,
			"\"x-one\""},
		{aceh, "etag,"}, {aceh, "etag, pragma"}} {
		for _, c := range modes {
			g.add(fmt.Sprintf("exposed %q with %s", e, c), origin.Request{Credentials: c},
				Hop{Answer: ans(200, append([]string{acao, "{page}", acac, "true", "X-One", "1", "X-Two", "2", "ETag",
					"\"e\"", "Last-Modified", "x", "Pragma", "x", "Expires", "0", "Content-Language", "de",
					"Set-Cookie", "a=b"}, e...)...)})
		}
	}
}

func (g *gen) without() {
	for _, q := range []origin.Request{{Method: "POST"}, {Method: "GET"}, {Method: "PUT"}, {Method: "HEAD"},
		{Method: "POST", Headers: [][2]string{{"Content-Type", "application/json"}}},
		{Method: "POST", Headers: [][2]string{{"Content-Type", "text/plain"}}},
		{Headers: [][2]string{{"X-A", "1"}}}, {Headers: [][2]string{{"Range", "bytes=0-1"}}},
		{Headers: [][2]string{{"Authorization", "x"}}}, {Credentials: origin.Include}, {Credentials: origin.Omit},
		{Method: "patch"}} {
		q.Mode = origin.NoCORS
		for _, s := range []int{200, 204, 401, 500} {
			g.add(fmt.Sprintf("without CORS %s %q %s answered %d", q.Method, q.Headers, q.Credentials, s), q,
				Hop{Answer: ans(s)})
		}
	}
	for _, m := range []string{"GET", "POST", "PUT"} {
		id := strconv.Itoa(len(g.list))
		g.add("same origin "+m, origin.Request{Method: m, URL: g.at.Page + "/x/" + id + "/0",
			Headers: [][2]string{{"X-A", "1"}}}, Hop{Answer: ans(200, "X-One", "1", "Set-Cookie", "a=b")})
	}
	g.add("get with a body", origin.Request{Body: true}, Hop{Answer: ans(200, acao, "*")})
}

func (g *gen) redirects() {
	allow := []string{acao, "{page}", acac, "true", acam, "*, PUT, PATCH", acah, "x-a, authorization, content-type"}
	star := []string{acao, "*", acam, "*", acah, "x-a, authorization, content-type"}
	null := []string{acao, "null", acac, "true", acam, "PUT", acah, "x-a, authorization"}
	for _, s := range []int{301, 302, 303, 307, 308} {
		for _, q := range []origin.Request{{}, {Method: "POST", Body: true,
			Headers: [][2]string{{"Content-Type", "text/plain"}}}, {Method: "POST", Body: true,
			Headers: [][2]string{{"Content-Type", "application/json"}}},
			{Method: "PUT", Headers: [][2]string{{"X-A", "1"}}}, {Headers: [][2]string{{"Authorization", "x"}}},
			{Method: "HEAD"}} {
			for _, to := range []string{"{service}", "{other}", "{home}"} {
				for k, then := range [][]string{allow, star, null} {
					if k > 0 && (q.Method == "POST" || s == 308 || s == 303) {
						continue
					}
					g.add(fmt.Sprintf("redirect %d of %s %q to %s, %s", s, cmp.Or(q.Method, "GET"), q.Headers, to,
						then[1]),
						q,
						Hop{Preflight: ans(204, allow...), Answer: ans(s,
							append([]string{"Location", to + "/x/{id}/1"}, allow...)...)},
						Hop{Preflight: ans(204, then...), Answer: ans(200, then...)})
				}
			}
		}
	}
	for _, mode := range []origin.Redirect{origin.RefuseAll, origin.ManualFollow} {
		for _, a := range [][]string{{"Location", "/x/{id}/1", acao, "*"}, {"Location", "/x/{id}/1"}, {acao, "*"}} {
			g.add(fmt.Sprintf("redirect mode %s %q", mode, a), origin.Request{Redirect: mode},
				Hop{Answer: ans(302, a...)}, Hop{Answer: ans(200, acao, "*")})
		}
	}
	g.add("redirect without permission", origin.Request{}, Hop{Answer: ans(302, "Location", "/x/{id}/1")},
		Hop{Answer: ans(200, acao, "*")})
	g.add("redirect to nowhere", origin.Request{}, Hop{Answer: ans(302, "Location", "data:text/plain,x", acao, "*")})
	g.add("redirect to a URL with a name", origin.Request{},
		Hop{Answer: ans(302, "Location", strings.Replace("{service}", "", "", 1)+"/x/{id}/1", acao, "*")},
		Hop{Answer: ans(200, acao, "*")})
	g.add("redirect without Location", origin.Request{}, Hop{Answer: ans(302, acao, "*")})
	for _, to := range []string{"{other}", "{service}"} {
		g.add("two redirects by "+to, origin.Request{},
			Hop{Answer: ans(302, append([]string{"Location", to + "/x/{id}/1"}, allow...)...)},
			Hop{Answer: ans(302, append([]string{"Location", "{service}/x/{id}/2"}, star...)...)},
			Hop{Answer: ans(200, null...)})
		g.add("two redirects home by "+to, origin.Request{},
			Hop{Answer: ans(302, append([]string{"Location", to + "/x/{id}/1"}, allow...)...)},
			Hop{Answer: ans(302, append([]string{"Location", "{home}/x/{id}/2"}, star...)...)},
			Hop{Answer: ans(200, null...)})
	}
}

// drawn mixes the rules.
func (g *gen) drawn() {
	r := rand.New(rand.NewSource(20261125)) //nolint:gosec // the same cases each time
	pick := func(l [][]string) []string { return l[r.Intn(len(l))] }
	likely := func(l [][]string, good ...string) []string {
		if r.Intn(3) > 0 {
			return good
		}
		return pick(l)
	}
	for n := range 600 {
		q := origin.Request{Method: []string{"GET", "POST", "PUT", "PATCH", "patch", "DELETE", "FOO"}[r.Intn(7)],
			Credentials: modes[r.Intn(3)]}
		q.Body = q.Method != "GET" && r.Intn(2) == 0
		if r.Intn(4) == 0 {
			q.Page = origin.Null
		}
		for range r.Intn(3) {
			q.Headers = append(q.Headers, asked[r.Intn(len(asked))])
		}
		one := func() (out []string) {
			return slices.Concat(likely(permissions, acao, "{page}"), likely(creds, acac, "true"))
		}
		pre := slices.Concat(one(), likely(methodLists, acam, "PUT, PATCH, DELETE, FOO"), pick(headerLists))
		status := 204
		if r.Intn(8) == 0 {
			status = []int{200, 302, 401, 404}[r.Intn(4)]
		}
		g.add(fmt.Sprintf("drawn %d", n), q, Hop{Preflight: ans(status, pre...), Answer: ans(200,
			append(one(), "X-One", "1", aceh, []string{"*", "x-one", "x one"}[r.Intn(3)])...)})
	}
}
