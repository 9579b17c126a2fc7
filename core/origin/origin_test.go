package origin

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/field"
)

const page = "https://app.example"

func head(status int, kv ...string) *Answer {
	a := &Answer{Status: status}
	for i := 0; i < len(kv); i += 2 {
		a.Headers = append(a.Headers, [2]string{kv[i], kv[i+1]})
	}
	return a
}

func with(pre, ans *Answer) Ask {
	return func(s Sent) (Answer, bool) {
		a := ans
		if s.Preflight {
			a = pre
		}
		if a == nil {
			return Answer{}, false
		}
		return *a, true
	}
}

const (
	tAO = "Access-Control-Allow-Origin"
	tAC = "Access-Control-Allow-Credentials"
	tAM = "Access-Control-Allow-Methods"
	tAH = "Access-Control-Allow-Headers"
	tEH = "Access-Control-Expose-Headers"
	tMA = "Access-Control-Max-Age"
)

func TestWhatABrowserDecides(t *testing.T) {
	q := func(m string, c Credentials, h ...string) Request {
		r := Request{Page: page, URL: "https://api.example/v1", Method: m, Credentials: c}
		for i := 0; i < len(h); i += 2 {
			r.Headers = append(r.Headers, [2]string{h[i], h[i+1]})
		}
		return r
	}
	for _, c := range []struct {
		name     string
		q        Request
		pre, ans *Answer
		stopped  string // name of the step, and the header that decided
		sent     int
	}{
		{"star is enough to read", q("GET", Omit), nil, head(200, tAO, "*"), "", 1},
		{"star with cookies is not", q("GET", Include), nil, head(200, tAO, "*", tAC, "true"), "answer " + tAO, 1},
		{"cookies need true", q("GET", Include), nil, head(200, tAO, page, tAC, "True"), "answer " + tAC, 1},
		{"letter case of the origin counts", q("GET", Omit), nil, head(200, tAO, "https://APP.example"),
			"answer " + tAO, 1},
		{"no permission, and sent all the same", q("POST", Omit, "Content-Type", "text/plain"), nil, head(200),
			"answer " + tAO, 1},
		{"JSON is asked for first", q("POST", Omit, "Content-Type", "application/json"), head(405), head(200, tAO, "*"),
			"preflight " + tAO, 1},
		{"a preflight that fails", q("PUT", Omit), head(401, tAO, "*", tAM, "PUT"), head(200, tAO, "*"),
			"preflight status", 1},
		{"patch is not PATCH", q("patch", Omit), head(204, tAO, "*", tAM, "PATCH"), head(200, tAO, "*"),
			"method " + tAM, 1},
		{"put is PUT", q("put", Omit), head(204, tAO, "*", tAM, "PUT"), head(200, tAO, "*"), "", 2},
		{"star covers no authorization", q("GET", Omit, "Authorization", "x"), head(204, tAO, "*", tAH, "*"),
			head(200, tAO, "*"), "header " + tAH, 1},
		{"star covers other fields", q("GET", Omit, "X-A", "x"), head(204, tAO, "*", tAH, "*"), head(200, tAO, "*"), "",
			2},
		{"star is no wildcard with cookies", q("GET", Include, "X-A", "x"), head(204, tAO, page, tAC, "true", tAH, "*"),
			head(200, tAO, page, tAC, "true"), "header " + tAH, 1},
		{"a malformed list stops", q("PUT", Omit), head(204, tAO, "*", tAM, "PUT; GET"), head(200, tAO, "*"),
			"method " + tAM, 1},
		{"TRACE is refused before anything", q("trace", Omit), nil, nil, "request ", 0},
		{"a page sets no cookie", q("GET", Omit, "Cookie", "a=b"), nil, head(200, tAO, "*"), "", 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := Run(c.q, nil, time.Time{}, Standard, with(c.pre, c.ans))
			stopped := ""
			if b := o.Blocked(); b != nil {
				stopped = b.Name + " " + b.Header
			}
			assert.Equal(t, c.stopped, stopped)
			assert.Equal(t, c.stopped == "", o.Resolved)
			assert.Len(t, o.Sent, c.sent)
		})
	}
}

func TestWhatIsReadable(t *testing.T) {
	a := head(200, tAO, page, tAC, "true", "Content-Type", "text/plain", "X-One", "1", "Set-Cookie", "a=b", tEH,
		"*, x-one")
	read := func(c Credentials) string {
		o := Run(Request{Page: page, URL: "https://api.example/", Credentials: c}, nil, time.Time{}, Standard,
			with(nil, a))
		return strings.Join(o.Readable, " ")
	}
	assert.Contains(t, read(Omit), "access-control-allow-origin")
	assert.Equal(t, "content-type x-one", read(Include), "with cookies * is a name like any other")
	assert.NotContains(t, read(Omit), "set-cookie")
}

func TestThePreflightIsRemembered(t *testing.T) {
	var cache Cache
	now := time.Unix(1_790_000_000, 0)
	ask := func(at time.Duration, c Credentials, pre *Answer) int {
		o := Run(Request{Page: page, URL: "https://api.example/", Method: "PUT", Credentials: c}, &cache, now.Add(at),
			Standard, with(pre, head(200, tAO, page, tAC, "true")))
		require.True(t, o.Resolved)
		return o.Preflights
	}
	pre := head(204, tAO, page, tAC, "true", tAM, "PUT", tMA, "60")
	assert.Equal(t, 1, ask(0, Omit, pre))
	assert.Equal(t, 0, ask(59*time.Second, Omit, pre))
	assert.Equal(t, 1, ask(59*time.Second, Include, pre), "what was allowed without cookies is not allowed with them")
	assert.Equal(t, 0, ask(100*time.Second, Omit, pre), "but the other way round")
	assert.Equal(t, 1, ask(120*time.Second, Omit, pre))
}

func TestOriginsOfURLs(t *testing.T) {
	for in, want := range map[string]string{"https://A.example:443/x": "https://a.example",
		"http://a.example:8080": "http://a.example:8080", "http://[::1]:80/": "http://[::1]", "ftp://a": "", "a": ""} {
		assert.Equal(t, want, Of(in), in)
	}
}

func TestHostilePages(t *testing.T) {
	got := map[string]string{}
	for _, p := range Hostile("https://sky.fernhollow.example") {
		got[p.ID] = p.Origin
		assert.True(t, p.Hostile)
		assert.NotEmpty(t, p.Says)
	}
	assert.Equal(t, map[string]string{
		Unrelated: "https://page.evil.test", Beginning: "https://sky.fernhollow.example.evil.test",
		Ending: "https://evilfernhollow.example", Subdomain: "https://evil.fernhollow.example",
		PlainHTTP: "http://sky.fernhollow.example", OtherPort: "https://sky.fernhollow.example:8443", NullPage: "null",
		UpperCase: "HTTPS://SKY.FERNHOLLOW.EXAMPLE", FinalDot: "https://sky.fernhollow.example.",
	}, got)
	assert.Len(t, Hostile(""), 2, "what is like nothing needs no declared page")
	assert.Equal(t, "https://evilapp.example", Hostile(page)[2].Origin,
		"no name right under a top-level domain is made up from it")
	assert.Len(t, Hostile("http://127.0.0.1:8443"), 3, "an address has no names like it, and http no plainer one")
}

func TestConfusions(t *testing.T) {
	set := func(l ...string) map[string]bool {
		m := map[string]bool{}
		for _, k := range l {
			m[k] = true
		}
		return m
	}
	for _, c := range []struct {
		passed map[string]bool
		kind   string
		want   string
	}{
		{set(Unrelated, Ending, NullPage), NullPage, Unrelated},
		{set(Ending, Subdomain), Subdomain, Ending},
		{set(Beginning, OtherPort, FinalDot), FinalDot, Beginning},
		{set(Beginning, Ending, Subdomain), Subdomain, "containing"},
		{set(Beginning, Ending, NullPage), NullPage, NullPage},
		{set(PlainHTTP, NullPage), PlainHTTP, PlainHTTP},
	} {
		assert.Equal(t, c.want, Confusion(c.passed, c.kind))
	}
}

var allow = []declaration.Permission{
	{Origin: page, Methods: []string{"GET", "PATCH"}, Headers: []string{"authorization"},
		Expose: []string{"retry-after"}, Credentials: true, MaxAge: 10 * time.Minute},
	{Origin: "https://read.example"},
}

func call(m string) Call {
	return Call{Method: m, URL: "https://api.example/v1", Credential: "authorization"}
}

func TestWhatIsDeclared(t *testing.T) {
	for _, c := range []struct {
		page, method string
		want         Does
	}{
		{page, "GET", ReadAsUser}, {page, "PATCH", ReadAsUser}, {page, "DELETE", Nothing}, {page, "POST", Send},
		{"https://read.example", "GET", Read}, {"https://read.example", "PATCH", Nothing},
		{unrelatedOrigin, "GET", Send}, {unrelatedOrigin, "PUT", Nothing}, {Null, "GET", Send},
		{"HTTPS://APP.EXAMPLE", "GET", Nothing},
	} {
		assert.Equal(t, c.want, Expect(call(c.method), c.page, allow).Does, "%s %s", c.page, c.method)
	}
	assert.Equal(t, Read, Expect(call("GET"), unrelatedOrigin, []declaration.Permission{{Origin: "any"}}).Does)
	typed := Call{Method: "POST", URL: "https://api.example/", ContentType: "application/json"}
	assert.Equal(t, Send, Expect(typed, unrelatedOrigin, nil).Does, "a page sends the body as text")
}

func TestJudgingAPermission(t *testing.T) {
	good := func() Seen {
		return Seen{
			Preflight: head(204, tAO, page, tAC, "true", tAM, "GET, PATCH", tAH, "Authorization", tMA, "600", "Vary",
				"Origin"),
			Answer:  head(200, tAO, page, tAC, "true", tEH, "Retry-After", "Vary", "Origin"),
			Refusal: head(401, tAO, page, tAC, "true", "Vary", "Origin"),
		}
	}
	set := func(a *Answer, name, value string) {
		for i := range a.Headers {
			if a.Headers[i][0] == name {
				a.Headers[i][1] = value
				return
			}
		}
		a.Headers = append(a.Headers, [2]string{name, value})
	}
	drop := func(a *Answer, name string) {
		for i := range a.Headers {
			if a.Headers[i][0] == name {
				a.Headers = append(a.Headers[:i:i], a.Headers[i+1:]...)
				return
			}
		}
	}
	declared, evil := Page{ID: page, Origin: page}, Page{ID: Unrelated, Origin: unrelatedOrigin, Hostile: true}
	for _, c := range []struct {
		name   string
		page   Page
		method string
		turn   func(s *Seen)
		want   []string // sort and id
	}{
		{"as declared", declared, "GET", func(*Seen) {}, nil},
		{"hostile and not permitted", evil, "GET", func(*Seen) {}, nil},
		{"mirrored", evil, "GET", func(s *Seen) { set(s.Answer, tAO, evil.Origin) }, []string{"broader origin"}},
		{"only the preflight is mirrored", evil, "PATCH", func(s *Seen) { set(s.Preflight, tAO, evil.Origin) },
			[]string{"broader origin"}},
		{"no permission", declared, "GET", func(s *Seen) { drop(s.Answer, tAO) }, []string{"narrower missing"}},
		{"guarded preflight", declared, "PATCH", func(s *Seen) { s.Preflight.Status = 401 },
			[]string{"narrower preflight-guarded"}},
		{"a preflight without the header that the guard reads", declared, "GET",
			func(s *Seen) { drop(s.Preflight, tAH) }, []string{"narrower missing"}},
		{"a method that is not declared", declared, "DELETE", func(s *Seen) { set(s.Preflight, tAM, "DELETE") },
			[]string{"broader method"}},
		{"a longer list of methods", declared, "GET", func(s *Seen) { set(s.Preflight, tAM, "GET, PATCH, DELETE") },
			[]string{"note methods-listed"}},
		{"a longer list of headers", declared, "GET", func(s *Seen) { set(s.Preflight, tAH, "authorization, x-debug") },
			[]string{"broader headers"}},
		{"no Vary", declared, "GET", func(s *Seen) { drop(s.Answer, "Vary") }, []string{"narrower vary"}},
		{"nothing exposed", declared, "GET", func(s *Seen) { drop(s.Answer, tEH) }, []string{"narrower expose"}},
		{"a refusal that cannot be read", declared, "GET", func(s *Seen) { drop(s.Refusal, tAO) },
			[]string{"narrower refusal"}},
		{"remembered for longer", declared, "GET", func(s *Seen) { set(s.Preflight, tMA, "86400") },
			[]string{"note max-age"}},
		{"two origins", declared, "GET", func(s *Seen) { set(s.Answer, tAO, page+", "+page) },
			[]string{"narrower missing", "note many-origins"}},
		{"cookies that are not declared", Page{ID: "https://read.example", Origin: "https://read.example"}, "GET",
			func(s *Seen) { set(s.Answer, tAO, "https://read.example"); s.Preflight, s.Refusal = nil, nil },
			[]string{"broader credentials"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := good()
			c.turn(&s)
			_, _, said := Judge(call(c.method), c.page, allow, s, head(200))
			var got []string
			for _, j := range said {
				got = append(got, string(j.Sort)+" "+j.ID)
			}
			assert.Equal(t, c.want, got)
		})
	}
	s := good()
	drop(s.Answer, "Vary")
	_, _, said := Judge(call("GET"), declared, allow, s, head(200, tAO, page))
	assert.Empty(t, said, "what never changes needs no Vary")
	s = Seen{Preflight: head(204, tAO, "*", tAH, "*"), Answer: head(401)}
	_, got, said := Judge(Call{Method: "GET", URL: "https://api.example/", Credential: "authorization"}, evil, nil, s,
		nil)
	assert.Equal(t, Send, got.Does)
	assert.Empty(t, said)
}

func TestAPreflightAloneIsTakenForTheAnswer(t *testing.T) {
	s := Seen{Preflight: head(204, tAO, page, tAC, "true", tAM, "PATCH", tAH, "authorization")}
	got := Look(call("PATCH"), page, s, Standard)
	assert.Equal(t, ReadAsUser, got.Does)
	assert.True(t, got.Assumed)
}

func TestPastedHeads(t *testing.T) {
	a, err := ParseHead("HTTP/1.1 204 No Content\r\nVary: Origin\r\n access-control-allow-origin :  * \r\n\r\nbody: no")
	require.NoError(t, err)
	assert.Equal(t, Answer{Status: 204, Headers: [][2]string{{"Vary", "Origin"}, {"access-control-allow-origin", "*"}}},
		a)
	a, err = ParseHead("< vary: Origin")
	require.NoError(t, err)
	assert.Equal(t, 200, a.Status)
	_, err = ParseHead("HTTP/2 200\nnonsense")
	assert.ErrorContains(t, err, "line 2")
	_, err = ParseHead("HTTP/2 fine")
	assert.ErrorContains(t, err, "line 1")
}

func TestPairingARecording(t *testing.T) {
	o := [2]string{"Origin", page}
	pre := Exchange{Method: "OPTIONS", URL: "https://api.example/a", Headers: [][2]string{o,
		{"Access-Control-Request-Method", "PUT"}, {"Access-Control-Request-Headers", "x-a"}},
		Answer: *head(204, tAO, page, tAM, "PUT", tAH, "x-a")}
	put := Exchange{Method: "PUT", URL: "https://api.example/a", Headers: [][2]string{o, {"X-A", "1"},
		{"User-Agent", "x"}, {"Cookie", "…"}}, Answer: *head(200, tAO, page)}
	list := Paired([]Exchange{{Method: "GET", URL: "https://api.example/b"}, pre, put,
		{Method: "GET", URL: page + "/c", Headers: [][2]string{o}}, put, pre})
	require.Len(t, list, 3, "what has no Origin, and what is of the same, is no page's request")
	assert.NotNil(t, list[0].Preflight)
	assert.Equal(t, field.List{{"x-a", "1"}}, list[0].Request.Headers)
	assert.Equal(t, Include, list[0].Request.Credentials)
	_, does, _ := Made(list[0])
	assert.Equal(t, Nothing, does, "the cookies that went with it were not permitted to the preflight")
	assert.Nil(t, list[1].Preflight)
	_, does, _ = Made(list[1])
	assert.Equal(t, Send, does, "an earlier preflight allowed it, and its answer has no permission for cookies")
	assert.Nil(t, list[2].Answer)

	// What went over the wire could: no value of a recording is more than a browser can send.
	for _, v := range []string{"Bearer ...", "‹token:1›", "Ā", "\xe4", "ä"} {
		list = Paired([]Exchange{{Method: "GET", URL: "https://api.example/a", Headers: [][2]string{o,
			{"Authorization", v}},
			Answer: *head(200, tAO, "*")}})
		out, does, _ := Made(list[0])
		assert.Equal(t, Read, does, "%q: %v", v, out.Steps)
	}
}
