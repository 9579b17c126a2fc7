package declaration

import (
	"bytes"
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"millgate/core/route"
)

// WhoWord is the caller of an alternative of `who` as one writes it; `owner` with its records.
func WhoWord(w Who) string {
	switch w.Kind {
	case WhoNobody:
		return "nobody"
	case WhoAnyone:
		return "anyone"
	case WhoSignedIn:
		if w.On.Kind == OnOwn {
			return "owner"
		}
		return "signed-in"
	case WhoUndecided:
		return undecided
	case WhoIdentity:
		return "identity:" + w.Name
	default:
	}
	return w.Name
}

// WhoList writes alternatives of `who`, one alone or a list in brackets.
func WhoList(list []Who) string {
	out := Names(list, func(w Who) string {
		word := WhoWord(w)
		if w.On.Kind == OnAll || word == "owner" {
			return FlowList([]string{word})
		}
		return "{ who: " + flowScalar(word) + ", on: " + flowScalar(w.On.Name) + " }"
	})
	if len(out) == 1 {
		return out[0]
	}
	for k, w := range list {
		if word := WhoWord(w); out[k] == FlowList([]string{word}) {
			out[k] = flowScalar(word)
		}
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// flowScalar writes a text so that YAML reads the same text within brackets.
func flowScalar(s string) string {
	if strings.Contains(s, ":") { // some readers take a:b in brackets for a mapping
		return string(Quote(s))
	}
	return Scalar(s)
}

// Text is an access entry on one line, in the canonical order.
func (e *Entry) Text() string { return FieldsText(e.Fields(), nil) }

// Fields are the words of the entry with their values as text.
func (e *Entry) Fields() [][2]string {
	var out [][2]string
	put := func(k, v string) { out = append(out, [2]string{k, v}) }
	put("at", SelectorsText(e.At))
	put("who", WhoList(e.Who))
	if e.Broken != BrokenEither && e.Broken != "" {
		put("broken", string(e.Broken))
	}
	if e.Hide {
		put("hide", "true")
	}
	if t := e.Turned.Text(); t != "" {
		put("turned_away", t)
	}
	if len(e.Given) > 0 {
		put("given", scalarMap(e.Given))
	}
	if len(e.Scope) > 0 {
		put("scope", FlowList(e.Scope))
	}
	if len(e.By) > 0 {
		put("by", FlowList(Names(e.By, func(r Ref) string { return r.Name })))
	}
	if e.OwnerOf.Name != "" {
		put("owner_of", Scalar(e.OwnerOf.Name))
	}
	return out
}

func scalarMap(m map[string]any) string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	for i, k := range keys {
		v := fmt.Sprint(m[k])
		if s, ok := m[k].(string); ok {
			v = Scalar(s)
		}
		keys[i] = Scalar(k) + ": " + v
	}
	return "{ " + strings.Join(keys, ", ") + " }"
}

// SelectorsText writes selectors as one alternative or a list.
func SelectorsText(list []route.Selector) string {
	return FlowList(Names(list, func(s route.Selector) string { return s.String() }))
}

// FieldsText writes fields on one line; set replaces some, an empty text drops.
func FieldsText(fields [][2]string, set map[string]string) string {
	var parts []string
	done := map[string]bool{}
	for _, f := range fields {
		v := f[1]
		if s, ok := set[f[0]]; ok {
			v = s
		}
		done[f[0]] = true
		if v != "" {
			parts = append(parts, f[0]+": "+v)
		}
	}
	for _, k := range EntryWords {
		if v := set[k]; !done[k] && v != "" {
			parts = append(parts, k+": "+v)
		}
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// Quote writes a text as JSON, which YAML reads as the same text.
func Quote(s string) []byte {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(s) // a string always encodes
	return bytes.TrimRight(b.Bytes(), "\n")
}

// Scalar writes a text so that YAML reads the same text, also inside brackets.
func Scalar(s string) string {
	if s == "" || strings.ContainsAny(s, "{}[],#\"'&*!|>%@`\n\t\\") || strings.Contains(s, ": ") ||
		strings.HasSuffix(s, ":") || strings.TrimSpace(s) != s || strings.HasPrefix(s, "- ") ||
		strings.HasPrefix(s, "? ") || plainOther[strings.ToLower(s)] || numberText.MatchString(s) {
		return string(Quote(s))
	}
	return s
}

// plainOther are words that YAML readers take for something else than text.
var plainOther = map[string]bool{"true": true, "false": true, "null": true, "~": true, "yes": true, "no": true,
	"on": true, "off": true, "-": true, "---": true}

// FlowList writes texts as a list in brackets, or one alone.
func FlowList(list []string) string {
	if len(list) == 1 {
		return Scalar(list[0])
	}
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = flowScalar(s)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// Members are those of a permission, as they stand in a declaration, in the order in which they are written.
func (p Permission) Members() (out [][2]string) {
	add := func(name, text string) {
		if text != "" {
			out = append(out, [2]string{name, text})
		}
	}
	for _, l := range []struct {
		name string
		list []string
	}{{"methods", p.Methods}, {"headers", p.Headers}, {"expose", p.Expose}} {
		if len(l.list) > 0 {
			add(l.name, FlowList(l.list))
		}
	}
	if p.Credentials {
		add("credentials", "true")
	}
	if p.MaxAge > 0 {
		add("max_age", ShortDuration(p.MaxAge))
	}
	return out
}

// Text is a permission as a declaration has it, on one line.
func (p Permission) Text() string {
	if m := p.Members(); len(m) > 0 {
		return FieldsText(m, nil)
	}
	return "{}"
}
