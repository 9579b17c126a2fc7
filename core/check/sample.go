package check

import (
	"cmp"
	"maps"
	"net/url"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/route"
)

// SampleBody is the body of a route's sample, or else of the session request that the
// route serves (nil when it serves none), and the header fields that belong to it. What
// the declaration says of a login comes before what a description of the API shows.
func SampleBody(s declaration.Sample, session *declaration.Request) (headers field.List, body []byte) {
	if session != nil && s.Imported {
		s.DropBody()
	}
	if !s.HasBody() && session != nil {
		s.JSON = session.JSON
		for _, kv := range session.Form {
			if s.Form == nil {
				s.Form = map[string]string{}
			}
			s.Form[kv[0]] = kv[1]
		}
		headers = append(headers, session.Headers...)
	}
	ct := s.Type
	switch {
	case len(s.JSON) > 0:
		body = s.JSON
		if ct == "" {
			ct = "application/json"
		}
	case len(s.Form) > 0:
		var parts []string
		for _, k := range slices.Sorted(maps.Keys(s.Form)) {
			parts = append(parts, url.QueryEscape(k)+"="+escapeKeeping(s.Form[k]))
		}
		body = []byte(strings.Join(parts, "&"))
		ct = "application/x-www-form-urlencoded"
	case len(s.Parts) > 0:
		ct, body = s.Parts.Body()
	case s.Text != "":
		body = []byte(s.Text)
		if ct == "" {
			ct = "text/plain; charset=utf-8"
		}
	}
	if ct != "" {
		headers = append(headers, [2]string{"Content-Type", ct})
	}
	return headers, body
}

// RequestOf is the request of a probe at route i, without a body. path is the route's, or
// another that leads there; known are values of its parameters but the record's.
func RequestOf(c *Context, p *Probe, i int, path string, known map[string]string) Request {
	rt := c.Doc.Routes[i]
	q := Request{Method: rt.Method(), Host: rt.Host, Path: path, NeedsOf: cmp.Or(rt.Send.As.Name, p.Caller.Identity)}
	for n, v := range known {
		q.Path = strings.ReplaceAll(q.Path, "{"+n+"}", route.EscapeSegment(v))
	}
	query := url.Values{}
	for k, v := range rt.Send.Query {
		query.Set(k, v)
	}
	q.Query = query.Encode()
	for _, k := range slices.Sorted(maps.Keys(rt.Send.Headers)) {
		q.Headers = append(q.Headers, [2]string{k, rt.Send.Headers[k]})
	}
	if s := c.Doc.SchemeNamed(p.Caller.Scheme); s != nil && s.Kind == declaration.Link {
		q.Params = map[string]string{}
		maps.Copy(q.Params, known)
	}
	p.Record.Fill(&q)
	return q
}

// WithBody adds the body of route i's sample. What it names comes from credentials.
func (q Request) WithBody(c *Context, i int) Request {
	_, session := access.SessionAt(c.Doc, i)
	headers, body := SampleBody(c.Doc.Routes[i].Send, session)
	q.Headers, q.Body = append(q.Headers, headers...), body
	q.Needs = (&declaration.Request{JSON: body}).Placeholders()
	return q
}

// escapeKeeping encodes a form value but leaves {placeholders} to be filled.
func escapeKeeping(s string) string {
	e := url.QueryEscape(s)
	return braces.Replace(e)
}

var braces = strings.NewReplacer("%7B", "{", "%7D", "}")
