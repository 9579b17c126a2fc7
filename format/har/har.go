// Package har reads requests from HTTP archives (HAR 1.2), as browsers save
// them. Read has each with all its fields, as an example of how a service is called; what is observed of it has no
// header fields and cookies. Heads keeps those fields that the
// CORS protocol looks at, and of a cookie or a credential only that it is there.
package har

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"strings"

	"millgate/core/byexample"
	"millgate/core/declaration"
	"millgate/core/inventory"
	"millgate/core/origin"
)

// ErrFormat is wrapped when the text is not an archive.
var ErrFormat = errors.New("not a HAR 1.2 archive")

// Problem is something that could not be read.
type Problem struct {
	Line int
	Text string
}

// Request is one request with the address it went to.
type Request struct {
	inventory.Observed
	Origin  string // scheme://host[:port]
	Example *byexample.Request
}

type entry struct {
	Request struct {
		Method   string `json:"method"`
		URL      string `json:"url"`
		Headers  []pair `json:"headers"`
		Cookies  []pair `json:"cookies"`
		PostData *struct {
			MimeType string  `json:"mimeType"`
			Text     string  `json:"text"`
			Params   []param `json:"params"`
		} `json:"postData"`
	} `json:"request"`
	Response struct {
		Status  int    `json:"status"`
		Headers []pair `json:"headers"`
		Content struct {
			Text     string `json:"text"`
			Encoding string `json:"encoding"`
		} `json:"content"`
	} `json:"response"`
}

// param is a field of a form, or a file of one.
type param struct {
	Name        string `json:"name"`
	Value       string `json:"value"`
	FileName    string `json:"fileName"`
	ContentType string `json:"contentType"`
}

// bodyOf are fields as they were sent, with their content type: the archive does not have their text.
func bodyOf(contentType string, params []param) (string, []byte) {
	if media, _, err := mime.ParseMediaType(contentType); err != nil || media != "multipart/form-data" {
		form := url.Values{}
		for _, x := range params {
			form.Add(x.Name, x.Value)
		}
		return contentType, []byte(form.Encode())
	}
	var list declaration.Parts
	for _, x := range params {
		list = append(list, declaration.Part{Name: x.Name, File: x.FileName, Type: x.ContentType, Text: x.Value})
	}
	return list.Body()
}

type pair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Read reads an archive entry by entry, so that one that is cut off or broken
// in the middle still gives what stands before.
func Read(text []byte) (out []Request, problems []Problem, err error) {
	problems, err = each(text, func(e entry, at int) error {
		r, err := request(e)
		if err == nil {
			r.Line, r.Example.Line = at, at
			out = append(out, r)
		}
		return err
	})
	return out, problems, err
}

// Heads reads the requests of pages with the heads of their answers.
func Heads(text []byte) (out []origin.Exchange, problems []Problem, err error) {
	problems, err = each(text, func(e entry, _ int) error {
		if _, err := request(e); err != nil {
			return err
		}
		x := origin.Exchange{Method: e.Request.Method, URL: e.Request.URL, Body: e.Request.PostData != nil,
			Answer: origin.Answer{Status: e.Response.Status}}
		for _, h := range e.Request.Headers {
			v := h.Value
			switch strings.ToLower(h.Name) {
			case "authorization", "cookie":
				v = "..." // that it was there is all that counts
			}
			x.Headers = append(x.Headers, [2]string{h.Name, v})
		}
		for _, h := range e.Response.Headers {
			if !strings.EqualFold(h.Name, "Set-Cookie") {
				x.Answer.Headers = append(x.Answer.Headers, [2]string{h.Name, h.Value})
			}
		}
		out = append(out, x)
		return nil
	})
	return out, problems, err
}

// each walks through the entries; what f says becomes a problem of its entry.
func each(text []byte, f func(e entry, line int) error) (problems []Problem, err error) {
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	d := json.NewDecoder(bytes.NewReader(text))
	line := func() int { return bytes.Count(text[:min(len(text), int(d.InputOffset()))], []byte("\n")) + 1 }
	if err := enter(d, "log", "entries"); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	for n := 1; d.More(); n++ {
		at := line()
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return append(problems, Problem{line(), fmt.Sprintf("the archive breaks off in entry %d: %v", n,
				plain(err))}), nil
		}
		var e entry
		if err := json.Unmarshal(raw, &e); err != nil {
			problems = append(problems, Problem{at, fmt.Sprintf("entry %d: %v", n, plain(err))})
			continue
		}
		if err := f(e, at); err != nil {
			problems = append(problems, Problem{at, fmt.Sprintf("entry %d: %v", n, err)})
		}
	}
	return problems, nil
}

func plain(err error) string {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return "the text ends too early"
	}
	return err.Error()
}

// enter walks into the members that are named and the list behind the last.
func enter(d *json.Decoder, names ...string) error {
	for _, name := range names {
		if t, err := d.Token(); err != nil || t != json.Delim('{') {
			return fmt.Errorf("there is no object with %q", name)
		}
		for {
			t, err := d.Token()
			if err != nil {
				return errors.New(plain(err))
			}
			if t == json.Delim('}') {
				return fmt.Errorf("it has no %q", name)
			}
			if t == name {
				break
			}
			var skip json.RawMessage
			if err := d.Decode(&skip); err != nil {
				return errors.New(plain(err))
			}
		}
	}
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		return fmt.Errorf("%q is not a list", names[len(names)-1])
	}
	return nil
}

func request(e entry) (Request, error) {
	var r Request
	u, err := byexample.Address(e.Request.URL)
	if err != nil {
		return r, fmt.Errorf("%q is not an http address", cut(e.Request.URL))
	}
	if e.Request.Method == "" {
		return r, errors.New("it has no method")
	}
	r.Method, r.Path, r.Status, r.Origin = strings.ToUpper(e.Request.Method), u.EscapedPath(), e.Response.Status,
		u.Scheme+"://"+u.Host
	for k, v := range u.Query() {
		if r.Query == nil {
			r.Query = map[string]string{}
		}
		r.Query[k] = v[0]
	}
	if p := e.Request.PostData; p != nil {
		r.Type, r.Body = p.MimeType, []byte(p.Text)
		if len(p.Params) > 0 && p.Text == "" {
			r.Type, r.Body = bodyOf(p.MimeType, p.Params)
		}
	}
	r.Example = example(e, r, u)
	return r, nil
}

func cut(s string) string {
	if len(s) > 120 {
		return s[:120] + "…"
	}
	return s
}
