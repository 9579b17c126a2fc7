package pasted

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/byexample"
)

// said is a request in words: its first line, its fields, its cookies, its body, and what was not understood.
func said(r *byexample.Request) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s\n", r.Method, r.URL)
	for _, h := range r.Headers {
		fmt.Fprintf(&b, "%s: %s\n", h[0], h[1])
	}
	for _, c := range r.Cookies {
		fmt.Fprintf(&b, "cookie %s=%s\n", c[0], c[1])
	}
	if r.Body != nil {
		fmt.Fprintf(&b, "body %s\n", r.Body)
	}
	if r.Answer != nil {
		fmt.Fprintf(&b, "answer %d %v %s\n", r.Answer.Status, r.Answer.Headers, r.Answer.Body)
	}
	for _, u := range r.Unread {
		fmt.Fprintf(&b, "unread %s\n", u)
	}
	return b.String()
}

// The same request reads the same in each form that a browser copies.
func TestTheSameRequestInEachForm(t *testing.T) {
	const want = `POST https://api.quay.example/v1/berths?day=3
content-type: application/json
authorization: Bearer abc
cookie sid=s-1
cookie theme=dark
body {"name":"O'Neil \"x\"","n":1,"p":"50%"}
`
	for name, text := range map[string]string{
		"bash": `curl 'https://api.quay.example/v1/berths?day=3' \
  -H 'content-type: application/json' \
  -H 'authorization: Bearer abc' \
  -b 'sid=s-1; theme=dark' \
  --data-raw $'{"name":"O\'Neil \\"x\\"","n":1,"p":"50%"}' \
  --compressed`,
		"bash in double quotes": `curl -XPOST -H "content-type: application/json" -H "authorization: Bearer abc" -H "Cookie: sid=s-1; theme=dark" -d "{\"name\":\"O'Neil \\\"x\\\"\",\"n\":1,\"p\":\"50%\"}" "https://api.quay.example/v1/berths?day=3"`,
		"cmd": `curl ^"https://api.quay.example/v1/berths?day=3^" ^
  -H ^"content-type: application/json^" ^
  -H ^"authorization: Bearer abc^" ^
  -b ^"sid=s-1; theme=dark^" ^
  --data-raw ^"^{^\^"name^\^":^\^"O'Neil ^\^\^\^"x^\^\^\^"^\^",^\^"n^\^":1,^\^"p^\^":^\^"50^%^\^"^}^" ^
  --compressed`,
		"cmd as before": `curl "https://api.quay.example/v1/berths?day=3" -H "content-type: application/json" -H "authorization: Bearer abc" -b "sid=s-1; theme=dark" --data-raw "{\"name\":\"O'Neil \\\"x\\\"\",\"n\":1,\"p\":\"50%\"}" --compressed`,
		"fetch": `fetch("https://api.quay.example/v1/berths?day=3", {
  "headers": { "content-type": "application/json", "authorization": "Bearer abc", "cookie": "sid=s-1; theme=dark" },
  "referrerPolicy": "same-origin",
  "body": "{\"name\":\"O'Neil \\\"x\\\"\",\"n\":1,\"p\":\"50%\"}",
  "method": "POST", "mode": "cors", "credentials": "include"
});`,
		"fetch by hand": `const r = await fetch('https://api.quay.example/v1/berths?day=3', { method: 'post',
  headers: { 'content-type': 'application/json', authorization: ` + "`Bearer abc`" + `, cookie: 'sid=s-1; theme=dark' },
  body: JSON.stringify({ name: 'O\'Neil "x"', n: 1, p: '50%' }) })`,
		"HTTP": "POST /v1/berths?day=3 HTTP/1.1\r\nHost: api.quay.example\r\ncontent-type: application/json\r\n" +
			"authorization: Bearer abc\r\nCookie: sid=s-1; theme=dark\r\n\r\n{\"name\":\"O'Neil \\\"x\\\"\",\"n\":1,\"p\":\"50%\"}\r\n",
	} {
		t.Run(name, func(t *testing.T) {
			list, err := Read(text)
			require.NoError(t, err)
			require.Len(t, list, 1)
			got := said(list[0])
			got = strings.Replace(got, "Host: api.quay.example\n", "", 1)
			assert.Equal(t, want, got)
		})
	}
}

func TestWhatIsRead(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"credentials and a query", `curl -u ana:pw -G -d a=1 -d 'b=2 3' --data-urlencode 'q=x y' -sSi http://h/x`,
			"GET http://h/x?a=1&b=2 3&q=x+y\nAuthorization: Basic YW5hOnB3\n"},
		{"a form", `curl -X PUT http://h/x -d user=ana -d pw=1`,
			"PUT http://h/x\nContent-Type: application/x-www-form-urlencoded\nbody user=ana&pw=1\n"},
		{"JSON by its option", `curl --json '{}' h/x`, "POST http://h/x\nContent-Type: application/json\nbody {}\n"},
		{"a head", `curl -I https://h`, "HEAD https://h/\n"},
		{"an empty body", `curl -d '' https://h/x`,
			"POST https://h/x\nContent-Type: application/x-www-form-urlencoded\nbody \n"},
		{"a prompt", "$ curl https://h/x \\\n  -H 'A: b'", "GET https://h/x\nA: b\n"},
		{"variables and other commands", `curl -H "Authorization: Bearer $TOKEN" -H "X: $(date)" https://h/x`,
			"GET https://h/x\nAuthorization: Bearer $TOKEN\nX: $(date)\n" +
				"unread what $TOKEN stands for\nunread a word that another command says: \"X: $(date)\"\n"},
		{"what is not understood", `curl --proxy http://p:1 --foo -d @body.json -b jar.txt -H bad https://h/x more`,
			"POST https://h/x\nContent-Type: application/x-www-form-urlencoded\nbody \nunread the option --proxy http://p:1\n" +
				"unread the option --foo\nunread a body that stands in the file body.json\n" +
				"unread cookies that stand in the file jar.txt\nunread the header bad\nunread the word more, beside the address\n"},
		{"parts", `curl -F name=x -F pic=@a.png https://h/x`, "POST https://h/x\nContent-Type: multipart/form-data; " +
			"boundary=millgate-part\nbody --millgate-part\r\nContent-Disposition: form-data; name=\"name\"\r\n\r\nx\r\n" +
			"--millgate-part--\r\n\nunread the part pic, which stands in a file\n"},
		{"several in a pipe", "TOKEN=$(curl -d a=1 https://h/login | cut -c1-9)\ncurl https://h/x && echo done",
			"POST https://h/login\nContent-Type: application/x-www-form-urlencoded\nbody a=1\nGET https://h/x\n"},
		{"several for Windows", "curl ^\"https://h/a^\"\ncurl ^\"https://h/b^\" ^\n  -H ^\"A: b^\"\n",
			"GET https://h/a\nGET https://h/b\nA: b\n"},
		{"a request and its answer",
			"GET /x HTTP/1.1\nHost: localhost:8080\n\nHTTP/1.1 200 OK\nSet-Cookie: sid=1\n\n{\"a\": 1}\n\n" +
				"GET /y HTTP/2\nHost: h\n",
			"GET http://localhost:8080/x\nHost: localhost:8080\nanswer 200 [[Set-Cookie sid=1]] {\"a\": 1}\nGET https://h/y\nHost: h\n"},
		{"a script",
			"fetch(`https://h/x`);\nfetch('https://h/y', { method: m, body: form, headers: { A: x, ['b']: 'c' }, ...rest, new: 1 })",
			"GET https://h/x\nGET https://h/y\nunread the method, which is no text\nunread the body, which is no text\n" +
				"unread the header A, whose value is no text\nunread a header whose name is no text\n" +
				"unread an option of fetch that is no plain member\nunread the option new of fetch\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			list, err := Read(c.text)
			require.NoError(t, err)
			var b strings.Builder
			for _, r := range list {
				b.WriteString(said(r))
			}
			assert.Equal(t, c.want, b.String())
		})
	}
}

func TestWhatIsNoRequest(t *testing.T) {
	for text, says := range map[string]string{
		"":                                 "no request",
		"hello":                            `it begins with "hello"`,
		"curl":                             "no address",
		"curl 'unclosed":                   "line 1",
		"curl ftp://h/x":                   "no http address",
		"GET /x HTTP/1.1\nAccept: x":       "does not say its Host",
		"fetch(":                           "cannot be read",
		"fetch(x)":                         "the address of fetch is no text",
		"curl 'https://h/%zz'":             "no http address",
		strings.Repeat("a", MaxSize+1):     "longer than 4 MB",
		"Invoke-WebRequest -Uri https://h": "it begins with",
	} {
		_, err := Read(text)
		require.ErrorIs(t, err, ErrNothing, cut(text))
		assert.ErrorContains(t, err, says, cut(text))
	}
}

// Whatever is pasted, it is read or it is an error, and never runs anything.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"curl 'https://h/x' -H 'A: b' -d @x", "curl ^\"https://h^\" ^\n -H ^\"a: b^\"",
		"fetch('h', {body: 1})",
		"POST /x\nHost: h\n\nbody\nHTTP/1.1 200\n\nx", "curl \"$(x)\" `y`"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		list, err := Read(text)
		if err == nil && len(list) == 0 {
			t.Fatal("neither a request nor an error")
		}
		for _, r := range list {
			if r.URL == nil || r.Method == "" || r.URL.Host == "" {
				t.Fatalf("half a request: %+v", r)
			}
		}
	})
}
