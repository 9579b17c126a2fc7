package origin

import (
	"fmt"
	"strconv"
	"strings"

	"millgate/core/declaration"
	"millgate/core/field"
)

// ParseHead reads the head of an answer as it is pasted from a browser or a
// terminal: an optional status line (RFC 9112 section 4), and header fields.
// A status that is missing is 200. The error names the line.
func ParseHead(text string) (Answer, error) {
	a := Answer{Status: 200}
	for n, line := range strings.Split(strings.TrimLeft(text, "\r\n"), "\n") {
		line = strings.TrimRight(line, "\r")
		if n == 0 && (strings.HasPrefix(line, "HTTP/") || isStatus(line)) {
			fields := strings.Fields(line)
			if strings.HasPrefix(line, "HTTP/") {
				fields = fields[1:]
			}
			if len(fields) == 0 || !isStatus(fields[0]) {
				return a, fmt.Errorf("line 1: %q has no status; write it like HTTP/1.1 204", line)
			}
			a.Status, _ = strconv.Atoi(fields[0]) // three digits, as just seen
			continue
		}
		if strings.TrimSpace(line) == "" {
			break // the body follows
		}
		line = strings.TrimPrefix(line, "< ") // as terminals show it
		name, value, ok := strings.Cut(line, ":")
		if !ok || !token(strings.TrimSpace(name)) {
			return a, fmt.Errorf("line %d: %q is no header field; write it like Vary: Origin", n+1, line)
		}
		a.Headers = append(a.Headers, [2]string{strings.TrimSpace(name), trim(value)})
	}
	return a, nil
}

func isStatus(s string) bool {
	f := strings.Fields(s)
	if len(f) == 0 || len(f[0]) != 3 {
		return false
	}
	n, err := strconv.Atoi(f[0])
	return err == nil && n >= 100
}

// Recorded is one request of a page as it was recorded, with the preflight
// before it where there was one.
type Recorded struct {
	Request   Request
	Preflight *Answer
	Answer    *Answer
}

// Paired makes requests of pages of what a browser recorded in order: a
// preflight belongs to the next request of the same page to the same URL with
// the method that it asked for. Requests without an Origin are left out.
func Paired(list []Exchange) (out []Recorded) {
	type key struct{ page, url, method string }
	waiting := map[key]Answer{}
	for _, x := range list {
		page, there := get(x.Headers, "Origin")
		if !there || Of(x.URL) == "" || page == Of(x.URL) {
			continue
		}
		if asked, pre := get(x.Headers, "Access-Control-Request-Method"); pre && x.Method == "OPTIONS" {
			waiting[key{page, x.URL, asked}] = x.Answer
			out = append(out, Recorded{Request: Request{Page: page, URL: x.URL, Method: asked,
				Headers: requested(x.Headers)}, Preflight: &x.Answer})
			continue
		}
		k := key{page, x.URL, x.Method}
		r := Recorded{Request: Request{Page: page, URL: x.URL, Method: x.Method, Headers: ofScript(x.Headers),
			Credentials: Omit, Body: x.Body}, Answer: &x.Answer}
		if _, cookies := get(x.Headers, "Cookie"); cookies {
			r.Request.Credentials = Include
		}
		if a, ok := waiting[k]; ok {
			delete(waiting, k)
			r.Preflight = &a
			for i := len(out) - 1; i >= 0; i-- { // what stood for the preflight alone
				if q := out[i].Request; out[i].Answer == nil && q.Page == page && q.URL == x.URL &&
					q.Method == x.Method {
					out = append(out[:i], out[i+1:]...)
					break
				}
			}
		}
		out = append(out, r)
	}
	return out
}

// Exchange is one recorded request with the head of its answer.
type Exchange struct {
	Method  string
	URL     string
	Headers field.List
	Body    bool
	Answer  Answer
}

// requested are the header fields that a preflight asks for, with values that
// need it.
func requested(h field.List) (out field.List) {
	names, _ := list(h, "Access-Control-Request-Headers")
	for _, n := range names {
		v := "x"
		if n == "content-type" {
			v = "application/json"
		}
		out = append(out, [2]string{n, v})
	}
	return out
}

// ofBrowser are header fields that a browser sets by itself, among those that
// a page could set.
var ofBrowser = []string{"accept", "accept-language", "user-agent", "cache-control", "pragma", "priority",
	"upgrade-insecure-requests", "if-none-match", "if-modified-since"}

// ofScript are the header fields that the page's script set, as far as can be
// seen.
func ofScript(h field.List) (out field.List) {
	for _, kv := range h {
		n := strings.ToLower(kv[0])
		if strings.HasPrefix(n, ":") || forbiddenHeader(n, kv[1]) {
			continue
		}
		browser := false
		for _, b := range ofBrowser {
			browser = browser || n == b
		}
		if !browser {
			out = append(out, [2]string{n, asSent(kv[1])})
		}
	}
	return out
}

// asSent is a recorded value as a script would have to write it: what was sent were bytes, however
// the recording reads them.
func asSent(v string) string {
	if strings.IndexFunc(v, func(c rune) bool { return c > 0xff }) < 0 {
		return v
	}
	var b strings.Builder
	for _, c := range []byte(v) {
		b.WriteRune(rune(c))
	}
	return b.String()
}

// Meant is what the declaration lets this request of a page do.
func Meant(q Request, c Call, allow []declaration.Permission) Does {
	return doesOf(q, runSeen(q, asDeclared(c, q.Page, allow), Standard))
}

// remembered is a preflight that allows a request.
func remembered(q Request) *Answer {
	return &Answer{Status: 204, Headers: field.List{{"Access-Control-Allow-Origin", q.Page},
		{"Access-Control-Allow-Credentials", "true"},
		{"Access-Control-Allow-Methods", q.Method}, {"Access-Control-Allow-Headers",
			strings.Join(UnsafeNames(q.Headers, Standard), ", ")}}}
}

// Made is what comes of a recorded request, by the standard and by the browser
// that departs from it.
func Made(r Recorded) (Outcome, Does, string) {
	s := Seen{Preflight: r.Preflight, Answer: r.Answer}
	if s.Preflight == nil && s.Answer != nil {
		// It was sent, so one that is not recorded allowed it.
		s.Preflight = remembered(r.Request)
	}
	o := runSeen(r.Request, s, Standard)
	d := doesOf(r.Request, o)
	note := ""
	if c := runSeen(r.Request, s, Chromium); doesOf(r.Request, c) != d {
		note = Chromium.Name + " decides otherwise: it lets the page " + doesOf(r.Request, c).Verb()
	}
	return o, d, note
}
