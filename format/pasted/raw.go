package pasted

import (
	"fmt"
	"net"
	"regexp"
	"strconv"
	"strings"

	"millgate/core/byexample"
	"millgate/core/field"
)

var (
	requestLine = regexp.MustCompile(`^([A-Z]{3,10}) (\S+)(?: HTTP/\d(?:\.\d)?)?$`)
	statusLine  = regexp.MustCompile(`^HTTP/\d(?:\.\d)? (\d{3})`)
)

func isRaw(text string) bool {
	first, _, _ := strings.Cut(text, "\n")
	m := requestLine.FindStringSubmatch(strings.TrimSpace(first))
	return m != nil && (strings.HasPrefix(m[2], "/") || strings.Contains(m[2], "://"))
}

// raw reads requests, each with the answer that follows it, if one does. A request begins with its request line at the
// beginning of the text or behind an empty line.
func raw(text string) (out []*byexample.Request, err error) {
	lines := strings.Split(text, "\n")
	var r *byexample.Request
	for i := 0; i < len(lines); {
		line := strings.TrimSpace(lines[i])
		behind := i == 0 || strings.TrimSpace(lines[i-1]) == ""
		request, status := requestLine.FindStringSubmatch(line), statusLine.FindStringSubmatch(line)
		switch {
		case request != nil && (behind || r == nil) && isRaw(line):
			if r, i, err = begun(lines, i, request); err != nil {
				return nil, err
			}
			out = append(out, r)
		case status != nil && r != nil && r.Answer == nil:
			r.Answer = &byexample.Answer{}
			r.Answer.Status, _ = strconv.Atoi(status[1])
			var body string
			r.Answer.Headers, body, i = message(lines, i+1)
			r.Answer.Body = []byte(body)
		default:
			if line != "" && r != nil {
				r.Miss("the line " + cut(line))
			}
			i++
		}
	}
	return out, nil
}

// begun reads a request from its request line on.
func begun(lines []string, i int, line []string) (*byexample.Request, int, error) {
	r := &byexample.Request{Form: byexample.Raw, Line: i + 1, Method: line[1]}
	headers, body, next := message(lines, i+1)
	to, host := line[2], headers.Get("Host")
	if strings.HasPrefix(to, "/") {
		if host == "" {
			return nil, 0, fmt.Errorf("%w: line %d: the request does not say its Host", ErrNothing, i+1)
		}
		to = "https://" + host + to
		if name, port, err := net.SplitHostPort(host); err == nil && port == "80" || isLocal(host, name) {
			to = "http" + strings.TrimPrefix(to, "https")
		}
	}
	u, err := address(to)
	if err != nil {
		return nil, 0, err
	}
	r.URL, r.Body = u, []byte(body)
	for _, h := range headers {
		r.Add(h[0], h[1])
	}
	if len(r.Body) == 0 {
		r.Body = nil
	}
	return r, next, nil
}

// isLocal says whether a host is this machine, where nothing is encrypted as a rule.
func isLocal(host, name string) bool {
	if name == "" {
		name = host
	}
	ip := net.ParseIP(name)
	return name == "localhost" || ip != nil && ip.IsLoopback()
}

// message reads fields up to an empty line, and the body behind it up to the next message.
func message(lines []string, i int) (headers field.List, body string, next int) {
	for ; i < len(lines) && strings.TrimSpace(lines[i]) != ""; i++ {
		if n, v, ok := strings.Cut(lines[i], ":"); ok {
			headers = append(headers, [2]string{strings.TrimSpace(n), strings.TrimSpace(v)})
		}
	}
	from := min(i+1, len(lines))
	for i = from; i < len(lines); i++ {
		line := strings.TrimSpace(lines[i])
		if statusLine.MatchString(line) || isRaw(line) && (i == from || strings.TrimSpace(lines[i-1]) == "") {
			break
		}
	}
	return headers, strings.TrimSpace(strings.Join(lines[from:i], "\n")), i
}
