package byexample

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"millgate/core/madeup"
	"millgate/core/personal"
)

// Varies is how a part differs between requests.
type Varies string

// What of a part is the same.
const (
	ForAll   Varies = "all"     // the same in all requests, of several callers
	ByCaller Varies = "caller"  // each caller has its own, and keeps it
	BySess   Varies = "session" // it differs for one caller
	Once     Varies = "once"    // nothing to compare it with
)

// Part is a part of requests that proves who calls, or that differs between callers.
type Part struct {
	In     string // header, cookie, query or body
	Name   string
	Varies Varies
	Of     int  // in how many requests
	Proves bool // it proves who calls
}

// usuals are header fields that browsers and tools put into every request; they say nothing about who calls.
var usuals = []string{"accept", "accept-charset", "accept-encoding", "accept-language",
	"access-control-request-headers",
	"access-control-request-method", "baggage", "cache-control", "connection", "content-length", "content-type", "date",
	"dnt", "expect", "host", "if-match", "if-modified-since", "if-none-match", "keep-alive", "origin", "pragma",
	"priority",
	"range", "referer", "te", "traceparent", "tracestate", "transfer-encoding", "upgrade", "upgrade-insecure-requests",
	"user-agent", "via", "x-request-id", "x-requested-with"}

func usual(name string) bool {
	name = strings.ToLower(name)
	return slices.Contains(usuals, name) || strings.HasPrefix(name, "sec-")
}

// secret says whether a part proves something, by its name or by its form.
func secret(name, value string) bool {
	return value != "" && (madeup.SecretName(name) || personal.SecretIn(value) != personal.NoSecret)
}

func userAndPassword(basic string) (user, password string, ok bool) {
	b, err := base64.StdEncoding.DecodeString(basic)
	if err != nil {
		return "", "", false
	}
	return strings.Cut(string(b), ":")
}

// compare says of each part how it differs between requests of one caller and of several.
func (r *reader) compare() {
	type seen struct {
		part  Part
		by    map[string][]string // values, by caller
		times int
	}
	index := map[string]*seen{}
	var parts []*seen
	callers := map[string]bool{}
	for _, c := range r.calls {
		if c.login != nil {
			continue
		}
		if c.whose != "" {
			callers[c.whose] = true
		}
		put := func(in, name, value string) {
			key := in + " " + strings.ToLower(name)
			s := index[key]
			if s == nil {
				s = &seen{part: Part{In: in, Name: name}, by: map[string][]string{}}
				index[key] = s
				parts = append(parts, s)
			}
			s.times++
			if !slices.Contains(s.by[c.whose], value) {
				s.by[c.whose] = append(s.by[c.whose], value)
			}
		}
		for _, h := range c.q.Headers {
			if !usual(h[0]) {
				put("header", h[0], h[1])
			}
		}
		for _, k := range c.q.Cookies {
			put("cookie", k[0], k[1])
		}
		for _, p := range c.proofs {
			if p.in == "query" {
				put("query", p.field, p.value)
			}
		}
	}
	for _, s := range parts {
		values := map[string]bool{}
		most := 0
		for _, list := range s.by {
			most = max(most, len(list))
			for _, v := range list {
				values[v] = true
			}
		}
		p := &s.part
		p.Of = s.times
		switch {
		case s.times < 2:
			p.Varies = Once
		case most > 1:
			p.Varies = BySess
		case len(values) > 1:
			p.Varies = ByCaller
		case len(callers) > 1 && len(s.by) == len(callers):
			p.Varies = ForAll
		default:
			p.Varies = Once
		}
		r.judge(p)
	}
}

// judge says of a part what that means for who calls.
func (r *reader) judge(p *Part) {
	carried := false
	for _, c := range r.calls {
		for k := range c.proofs {
			f := &c.proofs[k]
			if f.in != p.In || !strings.EqualFold(f.field, p.Name) {
				continue
			}
			carried = true
			if p.Varies == ForAll {
				f.shared = true
			}
		}
	}
	for _, c := range r.calls {
		if f := c.proof(); f != nil && c.login == nil && f.in == p.In && strings.EqualFold(f.field, p.Name) {
			p.Proves = true
		}
	}
	if !carried && p.Varies == ByCaller && !isGuard(p.Name) {
		r.out.Unread = append(r.out.Unread,
			fmt.Sprintf("the %s %s differs between callers, and is no credential by its "+
				"name: if the service looks at it, it is an attribute of the caller", p.In, p.Name))
	}
	if carried || p.Varies == ByCaller || p.Varies == BySess && madeup.SecretName(p.Name) {
		r.out.Parts = append(r.out.Parts, *p)
	}
}
