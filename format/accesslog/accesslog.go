// Package accesslog reads requests from access logs: the Common and the
// Combined Log Format, and JSON lines whose fields a mapping names.
package accesslog

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"millgate/core/inventory"
)

// Mapping says which fields of a JSON line have what: names, or paths with dots
// ("http.request.method"). An empty one is guessed.
type Mapping struct {
	Method, Path, Status, Host string
	Request                    string // a field with "GET /path HTTP/1.1"
}

// Problem is a line that could not be read.
type Problem struct {
	Line int
	Text string
}

// Request is one request with the host that it was sent to, if the log says so.
type Request struct {
	inventory.Observed
	ToHost string
}

// common is the request line and the status of both formats, whatever stands
// before and behind.
var common = regexp.MustCompile(`"([A-Z]+) (\S+)(?: HTTP/[\d.]+)?" (\d{3})(?: |$)`)

var guesses = struct{ method, path, status, host, request []string }{
	[]string{"method", "request_method", "http_method", "verb", "http.request.method", "http.method", "requestMethod",
		"httpRequest.requestMethod"},
	[]string{"path", "uri", "url", "request_uri", "request_path", "uri_path", "url.path", "http.url", "url.original",
		"requestUrl", "httpRequest.requestUrl"},
	[]string{"status", "status_code", "response_status", "http.response.status_code", "http.status_code", "code",
		"httpRequest.status"},
	[]string{"host", "vhost", "http_host", "server_name", "authority", "url.domain"},
	[]string{"request", "request_line"},
}

// maxLine is the longest line that is read, in bytes.
const maxLine = 1 << 20

// Read reads a log line by line. Lines that cannot be read are listed, and do
// not stop the rest.
func Read(text []byte, m Mapping) (out []Request, problems []Problem) {
	s := bufio.NewScanner(bytes.NewReader(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))))
	s.Buffer(make([]byte, 64<<10), maxLine)
	n := 0
	for s.Scan() {
		n++
		line := strings.TrimSpace(s.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		var r Request
		var err error
		if strings.HasPrefix(line, "{") {
			r, err = fromJSON(line, m)
		} else {
			r, err = fromText(line)
		}
		if err != nil {
			problems = append(problems, Problem{n, err.Error()})
			continue
		}
		r.Line = n
		out = append(out, r)
	}
	if err := s.Err(); err != nil {
		problems = append(problems, Problem{n + 1,
			"the line is longer than a megabyte, and nothing behind it was read"})
	}
	return out, problems
}

func fromText(line string) (Request, error) {
	g := common.FindStringSubmatch(line)
	if g == nil {
		return Request{}, fmt.Errorf("there is no \"METHOD /path HTTP/1.1\" status in it")
	}
	return observed(g[1], g[2], g[3], "")
}

func observed(method, target, status, host string) (Request, error) {
	var r Request
	u, err := url.ParseRequestURI(target)
	if err != nil || u.Path != "" && u.Path[0] != '/' || u.Opaque != "" {
		return r, fmt.Errorf("%q is not a path", cut(target))
	}
	if u.Host != "" {
		host = u.Host
	}
	r.Method, r.Path, r.ToHost = strings.ToUpper(method), u.EscapedPath(), strings.ToLower(host)
	if r.Path == "" {
		r.Path = "/"
	}
	if r.Status, err = strconv.Atoi(status); status != "" && err != nil {
		return r, fmt.Errorf("%q is not a status", cut(status))
	}
	for k, v := range u.Query() {
		if r.Query == nil {
			r.Query = map[string]string{}
		}
		r.Query[k] = v[0]
	}
	return r, nil
}

func fromJSON(line string, m Mapping) (Request, error) {
	var v map[string]any
	d := json.NewDecoder(strings.NewReader(line))
	d.UseNumber()
	if err := d.Decode(&v); err != nil {
		return Request{}, fmt.Errorf("it is not JSON: %v", err)
	}
	if req := pick(v, m.Request, guesses.request); req != "" && m.Method == "" {
		if f := strings.Fields(req); len(f) >= 2 {
			return observed(f[0], f[1], pick(v, m.Status, guesses.status), pick(v, m.Host, guesses.host))
		}
	}
	method, path := pick(v, m.Method, guesses.method), pick(v, m.Path, guesses.path)
	if method == "" || path == "" {
		what := "method"
		if method != "" {
			what = "path"
		}
		return Request{}, fmt.Errorf("no field has the %s; say which under the field mapping", what)
	}
	return observed(method, path, pick(v, m.Status, guesses.status), pick(v, m.Host, guesses.host))
}

func pick(v map[string]any, name string, guess []string) string {
	names := guess
	if name != "" {
		names = []string{name}
	}
	for _, n := range names {
		if s, ok := at(v, n); ok {
			return s
		}
	}
	return ""
}

// at reads a field by its name, or by the parts of it between dots.
func at(v map[string]any, name string) (string, bool) {
	if x, ok := v[name]; ok {
		return scalar(x)
	}
	first, rest, ok := strings.Cut(name, ".")
	if !ok {
		return "", false
	}
	inner, ok := v[first].(map[string]any)
	if !ok {
		return "", false
	}
	return at(inner, rest)
}

func scalar(x any) (string, bool) {
	switch x := x.(type) {
	case string:
		return x, true
	case json.Number:
		return x.String(), true
	}
	return "", false
}

func cut(s string) string {
	if len(s) > 120 {
		return s[:120] + "…"
	}
	return s
}
