package check

import (
	"maps"
	"net/url"
	"slices"
	"strings"

	"millgate/core/declaration"
)

// SampleBody is the body of a route's sample, or else of the session request that the
// route serves (nil when it serves none), and the header fields that belong to it. What
// the declaration says of a login comes before what a description of the API shows.
func SampleBody(s declaration.Sample, session *declaration.Request) (headers [][2]string, body []byte) {
	if session != nil && s.Imported {
		s.JSON, s.Form, s.Text, s.Type = nil, nil, "", ""
	}
	if len(s.JSON) == 0 && len(s.Form) == 0 && s.Text == "" && session != nil {
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

// escapeKeeping encodes a form value but leaves {placeholders} to be filled.
func escapeKeeping(s string) string {
	e := url.QueryEscape(s)
	return strings.NewReplacer("%7B", "{", "%7D", "}").Replace(e)
}
