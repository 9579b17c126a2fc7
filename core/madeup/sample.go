package madeup

import (
	"bytes"
	"encoding/json"
	"io"
	"mime"
	"mime/multipart"
	"net/url"
	"path"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/inventory"
	"millgate/core/route"
)

// Sample is what could be sent to a folded route: what was seen, without what looks like a secret or like somebody's.
func (m *Maker) Sample(f inventory.Folded) declaration.Sample {
	var s declaration.Sample
	sel, err := route.ParseTemplate(f.Template)
	if err != nil || f.Best.Status < 200 || f.Best.Status >= 400 {
		return s
	}
	segs := route.Split(route.Normalise(f.Best.Path))
	for i, g := range sel.Segments {
		if g.Name != "" && i < len(segs) {
			if s.Path == nil {
				s.Path = map[string]string{}
			}
			v, err := url.PathUnescape(segs[i])
			if err != nil {
				v = segs[i]
			}
			s.Path[g.Name] = m.of(g.Name, v, false)
		}
	}
	for k, v := range f.Best.Query {
		if SecretName(k) {
			continue
		}
		if s.Query == nil {
			s.Query = map[string]string{}
		}
		s.Query[k] = m.of(k, v, false)
	}
	if !declaration.UnsafeMethod(f.Best.Method) || len(f.Best.Body) == 0 {
		return s
	}
	if media, params, err := mime.ParseMediaType(f.Best.Type); err == nil && media == "multipart/form-data" {
		s.Parts = m.parts(f.Best.Body, params["boundary"])
		return s
	}
	if len(f.Best.Body) > mostText {
		return s
	}
	switch {
	case strings.Contains(f.Best.Type, "json"):
		var v any
		d := json.NewDecoder(strings.NewReader(string(f.Best.Body)))
		d.UseNumber()
		if d.Decode(&v) == nil {
			if b, err := json.Marshal(m.in("", v)); err == nil {
				s.JSON = b
			}
		}
	case strings.Contains(f.Best.Type, "x-www-form-urlencoded"):
		form, err := url.ParseQuery(string(f.Best.Body))
		if err != nil {
			break
		}
		s.Form = map[string]string{}
		for k := range form {
			s.Form[k] = m.of(k, form.Get(k), false)
			if SecretName(k) {
				s.Form[k] = Placeholder(k)
			}
		}
	}
	return s
}

// mostText is the longest body, and field of one, that is looked into.
const mostText = 64 << 10

// parts are those of a multipart body (RFC 7578) in their order, up to where it breaks off. What files are called and
// hold is made up; what kind they are of stays.
func (m *Maker) parts(body []byte, boundary string) (out declaration.Parts) {
	if boundary == "" {
		return nil
	}
	in := multipart.NewReader(bytes.NewReader(body), boundary)
	for {
		p, err := in.NextPart()
		if err != nil {
			return out
		}
		name := p.FormName()
		x := declaration.Part{Name: name, Type: p.Header.Get("Content-Type")}
		switch text, err := io.ReadAll(io.LimitReader(p, mostText)); {
		case name == "" || slices.ContainsFunc(out, func(o declaration.Part) bool { return o.Name == name }):
			continue // several of one name cannot be told apart in a declaration
		case p.FileName() != "":
			x.File, x.Text = "sample"+extension(p.FileName()), "made up"
		case SecretName(name):
			x.Text = Placeholder(name)
		case err == nil:
			x.Text = m.of(name, string(text), false)
		}
		out = append(out, x)
	}
}

// extension is that of a file's name, where it is a plain one.
func extension(name string) string {
	if e := path.Ext(name); len(e) > 1 && len(e) <= 8 && strings.Map(plain, e[1:]) == e[1:] {
		return e
	}
	return ""
}

// Placeholder is what stands in a sample for a secret of a name.
func Placeholder(name string) string { return "{" + strings.Map(plain, name) + "}" }

func plain(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
		return r
	}
	return '_'
}
