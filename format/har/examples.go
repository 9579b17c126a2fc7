package har

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"

	"millgate/core/byexample"
)

// Examples reads requests with all their fields, secrets among them, for whoever brings their own to say how they call:
// of an archive, of a list of entries, or of one entry. One that is broken is an error.
func Examples(text []byte) (out []*byexample.Request, err error) {
	var any struct {
		Log     json.RawMessage `json:"log"`
		Request json.RawMessage `json:"request"`
	}
	text = bytes.TrimSpace(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")))
	var list []entry
	switch {
	case len(text) > 0 && text[0] == '[':
		err = json.Unmarshal(text, &list)
	case json.Unmarshal(text, &any) == nil && any.Request != nil:
		list = make([]entry, 1)
		err = json.Unmarshal(text, &list[0])
	default:
		problems, e := each(text, func(e entry, _ int) error {
			list = append(list, e)
			return nil
		})
		if err = e; err == nil && len(problems) > 0 {
			err = fmt.Errorf("line %d: %s", problems[0].Line, problems[0].Text)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s", ErrFormat, plain(err))
	}
	for k, e := range list {
		r, err := request(e)
		if err != nil {
			return nil, fmt.Errorf("%w: entry %d: %w", ErrFormat, k+1, err)
		}
		out = append(out, r.Example)
	}
	return out, nil
}

// example is an entry with all its fields.
func example(e entry, r Request, u *url.URL) *byexample.Request {
	x := &byexample.Request{Form: byexample.HAR, Line: 1, Method: r.Method, URL: u, Body: r.Body}
	for _, h := range e.Request.Headers {
		if !strings.HasPrefix(h.Name, ":") { // of HTTP/2, which say what stands elsewhere (RFC 9113 section 8.3)
			x.Add(h.Name, h.Value)
		}
	}
	for _, c := range e.Request.Cookies {
		if !x.Cookies.Has(c.Name) {
			x.Cookies = append(x.Cookies, [2]string{c.Name, c.Value})
		}
	}
	if e.Response.Status == 0 {
		return x
	}
	x.Answer = &byexample.Answer{Status: e.Response.Status, Body: []byte(e.Response.Content.Text)}
	for _, h := range e.Response.Headers {
		x.Answer.Headers = append(x.Answer.Headers, [2]string{h.Name, h.Value})
	}
	if e.Response.Content.Encoding == "base64" {
		if b, err := base64.StdEncoding.DecodeString(e.Response.Content.Text); err == nil {
			x.Answer.Body = b
		}
	}
	return x
}
