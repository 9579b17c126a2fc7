package app

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"time"

	"millgate/app/coverage"
)

// raw answers everything but logins with bytes as they are, and closes.
func raw(text string) func(*villager, http.ResponseWriter, *http.Request) bool {
	return func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/login" {
			return false
		}
		c, b, err := w.(http.Hijacker).Hijack()
		if err == nil {
			_, _ = b.WriteString(text)
			_ = b.Flush()
			_ = c.Close()
		}
		return true
	}
}

// endlessly answers everything but logins with something again and again, for longer than any
// answer is waited for.
func endlessly(head, again string, pause time.Duration) func(*villager, http.ResponseWriter, *http.Request) bool {
	return func(_ *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/login" {
			return false
		}
		c, b, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return true
		}
		go func() {
			defer c.Close() //nolint:errcheck // the other side closes it
			_, err := b.WriteString(head)
			for ends := time.Now().Add(time.Minute); err == nil && time.Now().Before(ends); {
				if _, err = b.WriteString(again); err == nil {
					err = b.Flush()
				}
				time.Sleep(pause)
			}
		}()
		return true
	}
}

// zipped is 64 MiB of nothing, compressed.
var zipped = sync.OnceValue(func() string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write(make([]byte, 64<<20))
	_ = z.Close()
	return b.String()
})

// fields sets header fields of every answer.
func fields(set ...string) func(*villager, http.ResponseWriter, *http.Request) bool {
	return rewriting(func(_ *villager, _ *http.Request, a *httptest.ResponseRecorder) {
		for i := 0; i+1 < len(set); i += 2 {
			a.Header().Add(set[i], set[i+1])
		}
	})
}

// bodied answers who is admitted with another body.
func bodied(kind, body string) func(*villager, http.ResponseWriter, *http.Request) bool {
	return rewriting(func(_ *villager, r *http.Request, a *httptest.ResponseRecorder) {
		if a.Code == 200 && r.URL.Path != "/login" {
			a.Header().Set("Content-Type", kind)
			says(a, 200, body)
		}
	})
}

// badTransport are services whose connections end, break and go on in every way.
var badTransport = []liar{
	{name: "it is no HTTP", twist: raw("220 village FTP ready\r\n"), code: 3, kinds: []string{}, sends: 60},
	{name: "it closes after the status", twist: raw("HTTP/1.1 200 OK\r\n"), code: 3, kinds: []string{}, sends: 60},
	{name: "it says more bytes than it sends", twist: raw("HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n" +
		"Content-Length: 500\r\n\r\n{\"a\":1"), code: 3, kinds: []string{}},
	{name: "its chunks are broken",
		twist: raw("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\nabc"), code: 3,
		kinds: []string{}},
	{name: "two lengths that differ",
		twist: raw("HTTP/1.1 200 OK\r\nContent-Length: 3\r\nContent-Length: 5\r\n\r\nabcde"),
		code:  3, kinds: []string{}},
	{name: "early hints without end", twist: endlessly("", "HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\n",
		time.Millisecond),
		code: 3, kinds: []string{}, within: 5 * time.Minute},
	{name: "an event stream without end", twist: endlessly("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n",
		"data: tick\n\n", time.Second), code: 3, within: 30 * time.Minute, never: []string{" proven"}},
	{name: "a body without end", twist: endlessly("HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n[",
		strings.Repeat("1,", 2000), time.Microsecond), within: 30 * time.Minute, never: []string{"Shows"}, code: 1},
	{name: "it takes a connection and says nothing", twist: func(_ *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if r.URL.Path == "/login" {
			return false
		}
		c, _, err := w.(http.Hijacker).Hijack()
		if err == nil {
			go func() { _, _ = io.Copy(io.Discard, c) }()
		}
		return true
	}, code: 3, kinds: []string{}, within: 30 * time.Minute, sends: 60},
	{name: "a body that grows a thousandfold", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code == 200 && r.URL.Path != "/login" {
			a.Header().Set("Content-Encoding", "gzip")
			says(a, 200, zipped())
		}
	}), kinds: []string{}, code: 0},
}

// oddHeaders are services with unusual header fields.
var oddHeaders = []liar{
	{name: "a thousand cookies",
		twist: fields(strings.Split(strings.TrimSuffix(strings.Repeat("Set-Cookie,a=b,", 1000), ","),
			",")...), kinds: []string{}},
	{name: "two content types", twist: fields("Content-Type", "text/html"), text: village +
		"answers: { errors: { type: application/json } }\n", kinds: []string{}},
	{name: "a page under the type of JSON", twist: bodied("application/json", "<html><body>hello</body></html>"),
		kinds: []string{}},
	{name: "signs that turn the direction of writing", twist: fields("X-Note", "\u202egnorw"), kinds: []string{}},
	{name: "a location on everything", twist: fields("Location", "/login"), kinds: []string{}},
	{name: "come back soon, once each", twist: func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/login" || v.times(r.Method+r.URL.Path+r.Header.Get("Authorization")) > 1 {
			return false
		}
		w.Header().Set("Retry-After", "soon")
		w.WriteHeader(429)
		return true
	}, kinds: []string{}},
	{name: "come back at a time that is over, once each", twist: func(v *villager, w http.ResponseWriter,
		r *http.Request) bool {
		if r.URL.Path == "/login" || v.times(r.Method+r.URL.Path+r.Header.Get("Authorization")) > 1 {
			return false
		}
		w.Header().Set("Retry-After", "Mon, 02 Jan 2006 15:04:05 GMT")
		w.WriteHeader(429)
		return true
	}, kinds: []string{}},
	{name: "a challenge of another scheme", twist: fields("WWW-Authenticate", `Negotiate, Digest realm="x\"y", bogus=`),
		kinds: []string{}},
}

// oddBodies are services with unusual bodies.
var oddBodies = []liar{
	{name: "nothing at all", twist: bodied("", ""), kinds: []string{}},
	{name: "no Unicode", twist: bodied("application/json", "{\"a\":\"\xff\xfe\x00\"}"), kinds: []string{}},
	{name: "nested a hundred thousand times", twist: bodied("application/json", strings.Repeat("[", 100_000)),
		text: village + "answers: { never: { fields: [x] }, schema: exact }\n", kinds: []string{}},
	{name: "one member twice", twist: bodied("application/json", `{"pin":null,"pin":"1234"}`),
		text: village + "answers: { never: { fields: [pin] } }\n", says: []string{"Shows pin"}, code: 1},
	{name: "more than is kept", twist: bodied("application/json", `{"a":"`+strings.Repeat("x",
		1<<20)+`","pin":"1234"}`),
		text: village + "answers: { never: { fields: [pin], text: [goroutine] } }\n", never: []string{"Shows"},
		says: []string{"was not checked beyond the first part"}, code: 0},
	{name: "numbers beyond any", twist: bodied("application/json", `{"n":1e999999,"m":-0,"k":12345678901234567890123}`),
		kinds: []string{}},
	{name: "it repeats what was sent to it", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if r.URL.Path != "/login" {
			a.Header().Set("Content-Type", "text/plain")
			says(a, a.Code, fmt.Sprint(r.Method, r.URL, r.Header))
		}
	}), kinds: []string{}},
	{name: "complaints under the name of what must not be shown", text: village +
		"answers: { never: { fields: [password] } }\n", twist: rewriting(func(_ *villager, r *http.Request,
		a *httptest.ResponseRecorder) {
		if a.Code == 401 {
			a.Header().Set("Content-Type", "application/json")
			says(a, 401, `{"errors":{"password":["is wrong"]},"password":null}`)
		}
	}), kinds: []string{}},
}

// oddTimes are services whose time is another.
var oddTimes = []liar{
	{name: "a date in the future", twist: fields("Date", "Fri, 01 Jan 2100 00:00:00 GMT"), kinds: []string{}},
	{name: "one route answers after its time", twist: func(_ *villager, _ http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/c" {
			time.Sleep(time.Minute)
		}
		return false
	}, code: 3, kinds: []string{}, rules: []coverage.DoubtRule{coverage.NoControls}, says: []string{"GET /c"}},
	{name: "each answer takes three seconds", twist: slowly(1, 3*time.Second, nil), kinds: []string{}},
	{name: "tokens that ended before they were given", text: signed, serves: &issuing{claim: func(c map[string]any) {
		c["iat"], c["exp"] = time.Now().Unix()-2000, time.Now().Unix()-1100
	}}, code: 3, never: []string{"U ", "P "}},
	{name: "tokens that begin in an hour", text: signed, serves: &issuing{claim: func(c map[string]any) {
		c["nbf"] = time.Now().Unix() + 3600
	}}, code: 3, never: []string{"U ", "P "}},
	{name: "tokens by a clock that jumps", text: signed, serves: &issuing{claim: func() func(map[string]any) {
		clock := jumping(10 * time.Minute)
		return func(c map[string]any) {
			now := clock().Unix()
			c["iat"], c["exp"] = now, now+900
		}
	}()}, kinds: []string{"K everything behind access", "S everything behind access"}, code: 0,
		// So long it is taken, by the right clock.
		says: []string{"it was issued 10 min in the future", "it lives 25 min"}},
	{name: "tokens of a minute", text: signed, serves: &issuing{claim: func(c map[string]any) {
		c["exp"] = time.Now().Unix() + 60
	}}, kinds: []string{}},
}
