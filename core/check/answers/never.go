package answers

// Rule: A member that must never be shown counts where a value of it is shown.

import (
	"bytes"
	"encoding/json"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/mask"
	"millgate/core/pointer"
)

// shownMembers are the members of an answer that must never be shown, without the indexes of
// lists and without repetition.
//
// A name (never.fields) counts where its value is a string or a number that the service did
// not redact: a list under "password" is of complaints, and false says that there is none. What
// answers 400 or 422 complains about what was sent by that name: there it counts where what
// was sent is shown again. never.members says the rest by itself.
func shownMembers(a check.Answer, body any, r declaration.Answers) (out []pointer.JSON) {
	if body == nil || len(r.NeverFields)+len(r.Never) == 0 {
		return nil
	}
	named := func(name string) bool {
		return slices.ContainsFunc(r.NeverFields, func(n string) bool { return strings.EqualFold(n, name) })
	}
	var sent map[string][]string // by lower name
	if a.Status == 400 || a.Status == 422 {
		sent = valuesByName(a.Sent)
	}
	shown := func(v any, at pointer.JSON, name string) bool {
		text, is := valueText(v)
		if is && named(name) && text != "" && (mask.Anonymous(text) || !mask.Redacted(text)) {
			before := sent[strings.ToLower(name)]
			if len(before) == 0 || slices.ContainsFunc(before,
				func(s string) bool { return strings.Contains(text, s) }) {
				return true
			}
		}
		return slices.ContainsFunc(r.Never, func(m declaration.NeverMember) bool {
			return m.At.Matches(at) && ofStatus(a.Status, m.Status) && ofType(v, m.Type)
		})
	}
	// look goes over what stands at a pointer under a name, "" for the items of a list; plain is
	// the pointer without the indexes of lists.
	var look func(v any, at, plain pointer.JSON, name string)
	look = func(v any, at, plain pointer.JSON, name string) {
		if shown(v, at, name) && !slices.Contains(out, plain) {
			out = append(out, plain)
		}
		switch x := v.(type) {
		case map[string]any:
			for _, k := range slices.Sorted(maps.Keys(x)) {
				look(x[k], at.Member(k), plain.Member(k), k)
			}
		case []any:
			for i, e := range x {
				look(e, at.Item(i), plain, "")
			}
		}
	}
	look(body, "", "", "")
	return out
}

func ofStatus(status int, want string) bool {
	if class, ok := strings.CutSuffix(want, "xx"); ok {
		return strconv.Itoa(status/100) == class
	}
	return want == "" || strconv.Itoa(status) == want
}

func ofType(v any, want string) bool {
	is := ""
	switch v.(type) {
	case nil:
		return false
	case string:
		is = "string"
	case json.Number:
		is = "number"
	case bool:
		is = "boolean"
	case map[string]any:
		is = "object"
	case []any:
		is = "array"
	}
	return want == "" || want == is
}

// valueText is a string or a number as text.
func valueText(v any) (string, bool) {
	switch x := v.(type) {
	case string:
		return x, true
	case json.Number:
		return x.String(), true
	}
	return "", false
}

// valuesByName are the strings and numbers of a request's body by the lower name of their
// member or field.
func valuesByName(sent []byte) map[string][]string {
	out := map[string][]string{}
	put := func(name, text string) {
		if text != "" {
			out[strings.ToLower(name)] = append(out[strings.ToLower(name)], text)
		}
	}
	var v any
	d := json.NewDecoder(bytes.NewReader(sent))
	if d.UseNumber(); d.Decode(&v) != nil {
		form, _ := url.ParseQuery(string(sent)) // what is no form has no such names
		for k, list := range form {
			for _, text := range list {
				put(k, text)
			}
		}
		return out
	}
	var walk func(name string, v any)
	walk = func(name string, v any) {
		switch x := v.(type) {
		case map[string]any:
			for k, m := range x {
				walk(k, m)
			}
		case []any:
			for _, e := range x {
				walk(name, e)
			}
		default:
			if text, ok := valueText(x); ok {
				put(name, text)
			}
		}
	}
	walk("", v)
	return out
}
