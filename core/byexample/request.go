package byexample

import (
	"cmp"
	"errors"
	"net/url"
	"strings"

	"millgate/core/field"
)

// Form is what a request was pasted as.
type Form string

// The forms of pasted requests.
const (
	Curl  Form = "curl"
	Fetch Form = "fetch"
	HAR   Form = "HAR"
	Raw   Form = "HTTP" // as it goes over the wire (RFC 9112)
)

// Request is one that worked, as somebody brought it.
type Request struct {
	Whose   string // who sent it, as somebody says; "" is found out where that can be
	Role    string // which role that is, as somebody says; "" where nobody does
	Form    Form
	Line    int // where it begins in what was pasted, from 1
	Method  string
	URL     *url.URL
	Headers field.List // without those of cookies, which are apart
	Cookies field.List
	Body    []byte
	Answer  *Answer // nil where it was not brought
	// Unread is what of it was not understood, each in words.
	Unread []string
}

// Answer is what a request was answered.
type Answer struct {
	Status  int
	Headers field.List
	Body    []byte
}

// Address reads an absolute address of HTTP, as all others are compared with it: with a path, its scheme and host
// in small
// letters (RFC 3986 section 6.2.2.1).
func Address(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, errors.New("it is no http address")
	}
	u.Scheme, u.Host = strings.ToLower(u.Scheme), strings.ToLower(u.Host)
	if u.Path == "" {
		u.Path = "/"
	}
	return u, nil
}

// Origin is where it goes, as scheme://host[:port].
func (r *Request) Origin() string { return r.URL.Scheme + "://" + r.URL.Host }

// Address is its origin with its path, without the query.
func (r *Request) Address() string { return r.Origin() + cmp.Or(r.URL.EscapedPath(), "/") }

// Add puts a header field in; those of cookies are taken apart (RFC 6265 section 4.2.1).
func (r *Request) Add(name, value string) {
	if !strings.EqualFold(name, "Cookie") {
		r.Headers = append(r.Headers, [2]string{name, value})
		return
	}
	for _, c := range strings.Split(value, ";") {
		if n, v, ok := strings.Cut(strings.TrimSpace(c), "="); ok {
			r.Cookies = append(r.Cookies, [2]string{n, v})
		}
	}
}

// Miss notes what was not understood, once.
func (r *Request) Miss(what string) {
	for _, u := range r.Unread {
		if u == what {
			return
		}
	}
	r.Unread = append(r.Unread, what)
}
