package check

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"millgate/core/declaration"
)

// Template is a request of the declaration as a call's. Its names are filled with what
// fill gives for them; one that it does not know (ok false) stays as it is written.
func Template(q *declaration.Request, fill func(name string) (f Fill, ok bool)) Request {
	r := Request{Method: q.Method, Host: q.Host, Path: q.Path, Headers: slices.Clone(q.Headers),
		Fill: map[string]Fill{}}
	for _, n := range q.Placeholders() {
		if f, ok := fill(n); ok {
			r.Fill[n] = f
		}
	}
	switch {
	case len(q.JSON) > 0:
		r.Body = slices.Clone([]byte(q.JSON))
		r.Headers = append(r.Headers, [2]string{"Content-Type", "application/json"})
	case len(q.Form) > 0:
		form := slices.Clone(q.Form)
		slices.SortStableFunc(form, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
		var b []byte
		for i, kv := range form {
			if i > 0 {
				b = append(b, '&')
			}
			b = append(b, url.QueryEscape(kv[0])+"="...)
			for part, name := range Names(kv[1]) {
				b = append(b, url.QueryEscape(part)...)
				if name == "" {
					continue
				}
				if _, ok := r.Fill[name]; ok {
					b = append(b, "{"+name+"}"...)
				} else {
					b = append(b, url.QueryEscape("{"+name+"}")...)
				}
			}
		}
		r.Body = b
		r.Headers = append(r.Headers, [2]string{"Content-Type", "application/x-www-form-urlencoded"})
	}
	return r
}

// QueryOf is a query of names and values, whose {names} stay.
func QueryOf(pairs [][2]string) string {
	parts := make([]string, 0, len(pairs))
	for _, kv := range pairs {
		parts = append(parts, url.QueryEscape(kv[0])+"="+escapeKeeping(kv[1]))
	}
	return strings.Join(parts, "&")
}

// MemberOf is the text of a member at the top of a request's body, "" without.
func MemberOf(q *declaration.Request, name string) string {
	for _, kv := range q.Form {
		if kv[0] == name {
			return kv[1]
		}
	}
	var m map[string]any
	if json.Unmarshal(q.JSON, &m) != nil {
		return ""
	}
	text, _ := m[name].(string)
	return text
}

// LoginAs is a login filled with what an identity's credential of a scheme has, but for what
// put gives in the place of a part; secret says whether the part is one.
func LoginAs(c *Context, login *declaration.Request, id *declaration.Identity, scheme string,
	put func(secret bool) (f Fill, ok bool)) Request {
	cr, right := id.Credential(scheme), FillsOf(c.Doc, c.Target, id.Name, scheme)
	return Template(login, func(n string) (Fill, bool) {
		if _, part := cr.Fill[n]; part {
			if f, ok := put(cr.Secret(n)); ok {
				return f, true
			}
		}
		return right(n)
	})
}

// FillsOf gives what stands for the names of a request that is sent as an identity: a value
// of its credential (of any scheme where scheme is ""), or else one of the target.
func FillsOf(d *declaration.Document, t *declaration.Target, identity, scheme string) func(name string) (Fill, bool) {
	return func(n string) (Fill, bool) {
		if id := d.IdentityNamed(identity); id != nil {
			for _, c := range id.Credentials {
				if _, ok := c.Fill[n]; ok && (scheme == "" || c.Scheme.Name == scheme) {
					return Fill{Identity: identity, Scheme: c.Scheme.Name, Name: n}, true
				}
			}
		}
		_, ok := t.Values[n]
		return Fill{Name: n}, ok
	}
}

// Names goes through a text by its {names}: what stands before one, and its name; the
// rest of the text comes last, without a name.
func Names(text string) func(yield func(before, name string) bool) {
	return func(yield func(string, string) bool) {
		from := 0
		for i := 0; i < len(text); {
			if text[i] != '{' {
				i++
				continue
			}
			j := strings.IndexAny(text[i+1:], "{}\"")
			if j <= 0 || text[i+1+j] != '}' {
				i++
				continue
			}
			if !yield(text[from:i], text[i+1:i+1+j]) {
				return
			}
			i += j + 2
			from = i
		}
		yield(text[from:], "")
	}
}

// WithoutMembers takes the members or form fields away whose value is one of
// the {placeholders}.
func WithoutMembers(body []byte, contentType string, placeholders []string) []byte {
	drop := func(v string) bool {
		return len(v) > 2 && v[0] == '{' && slices.Contains(placeholders, v[1:len(v)-1])
	}
	if strings.Contains(contentType, "urlencoded") {
		var keep []string
		for _, part := range strings.Split(string(body), "&") {
			if _, v, _ := strings.Cut(part, "="); !drop(v) {
				keep = append(keep, part)
			}
		}
		return []byte(strings.Join(keep, "&"))
	}
	var m map[string]any
	if json.Unmarshal(body, &m) != nil {
		return body
	}
	for k, v := range m {
		if t, ok := v.(string); ok && drop(t) {
			delete(m, k)
		}
	}
	out, err := json.Marshal(m)
	if err != nil {
		return body
	}
	return out
}
