package madeup

import (
	"encoding/json"
	"net/url"
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
	if !declaration.UnsafeMethod(f.Best.Method) || len(f.Best.Body) == 0 || len(f.Best.Body) > 64<<10 {
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

// Placeholder is what stands in a sample for a secret of a name.
func Placeholder(name string) string { return "{" + strings.Map(plain, name) + "}" }

func plain(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
		return r
	}
	return '_'
}
