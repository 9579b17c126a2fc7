package assist

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/declaration"
)

type schemaNode = map[string]any

var schemaRoot = func() schemaNode {
	var n schemaNode
	if err := json.Unmarshal(declaration.Schema, &n); err != nil {
		panic(err) // it is part of the program
	}
	return n
}()

// resolved looks through references and alternatives.
func resolved(n schemaNode) []schemaNode {
	var out []schemaNode
	if ref, ok := n["$ref"].(string); ok {
		defs, _ := schemaRoot["$defs"].(schemaNode)
		if d, ok := defs[strings.TrimPrefix(ref, "#/$defs/")].(schemaNode); ok {
			for _, r := range resolved(d) {
				if r["description"] == nil || n["description"] != nil {
					c := schemaNode{}
					for k, v := range r {
						c[k] = v
					}
					if n["description"] != nil {
						c["description"] = n["description"]
					}
					r = c
				}
				out = append(out, r)
			}
		}
		return out
	}
	if alts, ok := n["anyOf"].([]any); ok && n["properties"] == nil {
		for _, a := range alts {
			if m, ok := a.(schemaNode); ok {
				out = append(out, resolved(m)...)
			}
		}
		if n["description"] != nil {
			out = append(out, schemaNode{"description": n["description"]})
		}
		return out
	}
	return []schemaNode{n}
}

// walk follows a path through the schema.
func walk(path []string) []schemaNode {
	at := resolved(schemaRoot)
	for _, k := range path {
		var to []schemaNode
		for _, n := range at {
			if k == "#" {
				if items, ok := n["items"].(schemaNode); ok {
					to = append(to, resolved(items)...)
				}
				continue
			}
			if props, ok := n["properties"].(schemaNode); ok {
				if p, ok := props[k].(schemaNode); ok {
					to = append(to, resolved(p)...)
					continue
				}
			}
			if pats, ok := n["patternProperties"].(schemaNode); ok && len(k) == 3 && k[0] >= '1' && k[0] <= '5' {
				for _, p := range pats {
					to = append(to, resolved(p.(schemaNode))...)
				}
			}
			if more, ok := n["additionalProperties"].(schemaNode); ok {
				to = append(to, resolved(more)...)
			}
		}
		at = to
	}
	return at
}

func described(n schemaNode) string { s, _ := n["description"].(string); return s }

// keysAt are the words that can stand as keys at a path.
func keysAt(path []string) (out []Option) {
	seen := map[string]bool{}
	for _, n := range walk(path) {
		props, _ := n["properties"].(schemaNode)
		for k, v := range props {
			if seen[k] {
				continue
			}
			seen[k] = true
			info := ""
			for _, r := range resolved(v.(schemaNode)) {
				if info = described(r); info != "" {
					break
				}
			}
			if d := described(v.(schemaNode)); d != "" {
				info = d
			}
			detail := "word"
			if v, ok := v.(schemaNode)["since"].(string); ok {
				detail = "word, since version " + v
			}
			out = append(out, Option{Label: k, Detail: detail, Info: info, Insert: k + ": "})
		}
	}
	words := listOf(out)
	sort.Slice(out, func(i, j int) bool {
		a, b := slices.Index(words, out[i].Label), slices.Index(words, out[j].Label)
		return a < b || a == b && out[i].Label < out[j].Label
	})
	return out
}

// listOf is the list of the reference that has most of the keys: the same word stands in
// more than one.
func listOf(keys []Option) (best []string) {
	most := 0
	for _, words := range declaration.Words() {
		n := 0
		for _, k := range keys {
			if slices.Contains(words, k.Label) {
				n++
			}
		}
		if n > most {
			best, most = words, n
		}
	}
	return best
}

// valuesAt are the values that the schema lists for a path.
func valuesAt(path []string) (out []Option) {
	seen := map[string]bool{}
	for _, n := range walk(path) {
		add := func(v any, detail string) {
			l := fmt.Sprint(v)
			if !seen[l] {
				seen[l] = true
				out = append(out, Option{Label: l, Detail: detail, Info: described(n), Insert: l})
			}
		}
		if list, ok := n["enum"].([]any); ok {
			for _, v := range list {
				add(v, "value")
			}
		}
		if n["type"] == "boolean" {
			add("true", "value")
			add("false", "value")
		}
		if list, ok := n["examples"].([]any); ok {
			for _, v := range list {
				add(v, "example")
			}
		}
	}
	return out
}
