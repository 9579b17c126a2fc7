package layout

import (
	"bytes"
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"millgate/core/declaration"
)

// putWords are those of a target that PutTarget writes; the others are written by hand, and stay.
var putWords = []string{"base", "hosts", "values", "direct", "pace", "unsafe", "ask_for"}

// PutTarget writes a target into the text: in place of the one with the same
// name, or after the last one.
func PutTarget(text string, t declaration.Target) (string, error) {
	l := source{text}
	lines := targetLines(t, "")
	if sec, ok := l.top().find("targets"); ok {
		if b, ok := l.inside(sec); ok {
			if _, there := b.find(t.Name); there {
				have := map[string]string{}
				for _, f := range lines[1:] {
					k, v, _ := strings.Cut(strings.TrimSpace(f), ": ")
					have[k] = v
				}
				var edits []Edit
				for _, k := range putWords {
					edits = append(edits, Edit{Section: "targets", Item: t.Name, Field: []string{k}, Text: have[k]})
				}
				return Apply(text, edits...)
			}
		}
	}
	for i, f := range lines {
		lines[i] = strings.TrimSpace(f)
	}
	return Apply(text, Edit{Section: "targets", Item: t.Name, Text: "\n" + strings.Join(lines[1:], "\n")})
}

func flowMap(m map[string]string) string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = declaration.Scalar(k) + ": " + declaration.Scalar(m[k])
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// targetLines is a target over several lines, the way people write them.
func targetLines(t declaration.Target, indent string) []string {
	in := indent + "  "
	out := []string{indent + declaration.Scalar(t.Name) + ":", in + "base: " + declaration.Scalar(t.Base)}
	if len(t.Hosts) > 0 {
		out = append(out, in+"hosts: "+flowMap(t.Hosts))
	}
	if len(t.Values) > 0 {
		out = append(out, in+"values: "+flowMap(t.Values))
	}
	if t.Direct != "" {
		out = append(out, in+"direct: "+declaration.Scalar(t.Direct))
	}
	if t.Pace.Count > 0 {
		out = append(out, in+"pace: "+t.Pace.String())
	}
	if t.Unsafe != "" {
		out = append(out, in+"unsafe: "+string(t.Unsafe))
	}
	if len(t.AskFor) > 0 {
		quoted := make([]string, len(t.AskFor))
		for i, s := range t.AskFor {
			quoted[i] = declaration.Scalar(s)
		}
		out = append(out, in+"ask_for: ["+strings.Join(quoted, ", ")+"]")
	}
	return out
}

// AddRoutes appends items to the list of routes, each written as one item:
// "GET /healthz" or "from: file.yaml".
func AddRoutes(text string, items []string) (string, error) {
	edits := make([]Edit, len(items))
	for i, it := range items {
		edits[i] = Edit{Section: "routes", Text: it}
	}
	return Apply(text, edits...)
}

// PutSample writes what is sent to a route as JSON into the text.
func PutSample(text, key string, body json.RawMessage) (string, error) {
	var flat bytes.Buffer
	if err := json.Compact(&flat, body); err != nil {
		return "", fmt.Errorf("the sample is not JSON: %w", err)
	}
	// JSON is YAML, and on one line it needs no layout.
	return PutRoute(text, key, []string{"send"}, "{ json: "+flat.String()+" }")
}

// PutRoute sets a field of a route's own line, and adds one where there is
// none: to a route that was imported, a line by hand only adds. An empty text
// removes the field.
func PutRoute(text, key string, field []string, value string) (string, error) {
	return Apply(text, RouteEdit(text, key, field, value))
}

// RouteEdit is the edit that PutRoute makes.
func RouteEdit(text, key string, field []string, value string) Edit {
	l := source{text}
	if sec, ok := l.top().find("routes"); ok {
		if b, ok := l.inside(sec); ok {
			for _, p := range b.parts {
				if l.routeOf(p) == key {
					return Edit{Section: "routes", Item: key, Field: field, Text: value}
				}
			}
		}
	}
	if value == "" {
		return Edit{Section: "routes"}
	}
	for i := len(field) - 1; i >= 0; i-- {
		value = declaration.Scalar(field[i]) + ": " + value
		if i > 0 {
			value = "{ " + value + " }"
		}
	}
	return Edit{Section: "routes", Text: "{ at: " + declaration.Scalar(key) + ", " + value + " }"}
}

// routeOf is the route that an item of the list names, "" when it names none.
func (l source) routeOf(p part) string {
	if b, ok := l.inside(p); ok {
		m, ok := b.find("at")
		if !ok {
			return ""
		}
		return Unquoted(strings.TrimSpace(l.text[m.val:m.valEnd]))
	}
	return Unquoted(strings.TrimSpace(l.text[p.val:max(p.val, p.valEnd)]))
}

// ReplaceImport makes a `from:` of the routes name another file.
func ReplaceImport(text, old, name string) (string, error) {
	l := source{text}
	if sec, ok := l.top().find("routes"); ok {
		if b, ok := l.inside(sec); ok {
			for _, p := range b.parts {
				in, ok := l.inside(p)
				if !ok {
					continue
				}
				if m, ok := in.find("from"); ok && Unquoted(strings.TrimSpace(l.text[m.val:m.valEnd])) == old {
					return l.text[:m.val] + declaration.Scalar(name) + l.text[m.valEnd:], nil
				}
			}
		}
	}
	return "", fmt.Errorf("the line  from: %s  is not in this file", old)
}

// SampleText is a sample on one line; "" when it says nothing.
func SampleText(s declaration.Sample) string {
	var parts []string
	add := func(k, v string) { parts = append(parts, k+": "+v) }
	if s.As.Name != "" {
		add("as", declaration.Scalar(s.As.Name))
	}
	for _, m := range []struct {
		k string
		v map[string]string
	}{{"path", s.Path}, {"query", s.Query}, {"headers", s.Headers}} {
		if len(m.v) > 0 {
			add(m.k, flowMap(m.v))
		}
	}
	if len(s.JSON) > 0 {
		add("json", string(s.JSON))
	}
	if len(s.Form) > 0 {
		add("form", flowMap(s.Form))
	}
	if len(s.Parts) > 0 {
		add("multipart", s.Parts.FlowText())
	}
	if s.Text != "" {
		add("text", declaration.Scalar(s.Text))
	}
	if s.Type != "" {
		add("type", declaration.Scalar(s.Type))
	}
	if len(parts) == 0 {
		return ""
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}
