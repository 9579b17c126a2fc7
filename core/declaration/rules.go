package declaration

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/route"
)

// WhoWord is an alternative of `who` as one writes it.
func WhoWord(w Who) string {
	switch w.Kind {
	case WhoNobody:
		return "nobody"
	case WhoAnyone:
		return "anyone"
	case WhoSignedIn:
		return "signed-in"
	case WhoOwner:
		return "owner"
	case WhoIdentity:
		return "identity:" + w.Name
	default:
	}
	return w.Name
}

// EntryText is an access entry on one line, in the canonical order.
func (e *Entry) Text() string { return flowText(e.fields(), nil) }

// fields are the words of the entry with their values as text.
func (e *Entry) fields() [][2]string {
	var out [][2]string
	put := func(k, v string) { out = append(out, [2]string{k, v}) }
	put("at", selectorsText(e.At))
	put("who", FlowList(names(e.Who, WhoWord)))
	if e.Broken != BrokenEither && e.Broken != "" {
		put("broken", string(e.Broken))
	}
	if e.Hide {
		put("hide", "true")
	}
	if len(e.Given) > 0 {
		put("given", scalarMap(e.Given))
	}
	if len(e.Scope) > 0 {
		put("scope", FlowList(e.Scope))
	}
	if len(e.By) > 0 {
		put("by", FlowList(names(e.By, func(r Ref) string { return r.Name })))
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

func selectorsText(list []route.Selector) string {
	return FlowList(names(list, func(s route.Selector) string { return s.String() }))
}

// flowText writes fields on one line; set replaces some, an empty text drops.
func flowText(fields [][2]string, set map[string]string) string {
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
	for _, k := range entryWords {
		if v := set[k]; !done[k] && v != "" {
			parts = append(parts, k+": "+v)
		}
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// EntryEdits are the edits that give some routes another rule: set are fields of
// the entry with their new text, an empty one takes the field away. Routes whose
// entry decides others too get an entry of their own, behind it.
func (d *Document) EntryEdits(routes []int, set func(e *Entry) map[string]string) ([]Edit, error) {
	groups := map[int][]int{}
	var order []int
	for _, i := range routes {
		e := d.Deciding[i]
		if groups[e] == nil {
			order = append(order, e)
		}
		groups[e] = append(groups[e], i)
	}
	var out []Edit
	for _, e := range order {
		g := groups[e]
		if e < 0 {
			fields := set(nil)
			if len(fields) > 0 {
				out = append(out, Edit{Section: "access",
					Text: flowText([][2]string{{"at", selectorsText(d.keysOf(g))}}, fields)})
			}
			continue
		}
		en := d.Access[e]
		fields := set(en)
		if len(fields) == 0 {
			continue
		}
		names := slices.ContainsFunc(g, func(i int) bool { return d.NamesRoute(e, i) })
		whole := !slices.ContainsFunc(d.Deciding, func(x int) bool { return x == e }) || len(g) == d.decidedBy(e)
		if (names || whole) && en.File != d.Name {
			return nil, fmt.Errorf("%s is decided by %s, line %d; change it there", d.Routes[g[0]].Key(), en.File,
				en.Line)
		}
		if whole {
			for _, k := range entryWords {
				if v, ok := fields[k]; ok {
					out = append(out, Edit{Section: "access", Line: en.Line, Field: []string{k}, Text: v})
				}
			}
			continue
		}
		full := en.fields()
		full[0][1] = selectorsText(d.keysOf(g))
		after := en.Line
		if en.File != d.Name {
			after = 0
		}
		if names {
			rest := d.without(en, g)
			if len(rest) == 0 {
				return nil, fmt.Errorf("the entry in line %d is written in a way that is not changed from here; "+
					"change it in the editor", en.Line)
			}
			out = append(out, Edit{Section: "access", Line: en.Line, Field: []string{"at"}, Text: selectorsText(rest)})
		}
		out = append(out, Edit{Section: "access", After: after, Text: flowText(full, fields)})
	}
	return out, nil
}

func (d *Document) decidedBy(e int) int {
	n := 0
	for _, x := range d.Deciding {
		if x == e {
			n++
		}
	}
	return n
}

// keysOf writes routes as selectors, one for each template.
func (d *Document) keysOf(routes []int) []route.Selector {
	var out []route.Selector
	at := map[string]int{}
	for _, i := range routes {
		s := d.Routes[i].Selector
		k := s.TemplateKey()
		if n, ok := at[k]; ok {
			out[n].Methods = append(slices.Clone(out[n].Methods), s.Methods...)
			continue
		}
		at[k] = len(out)
		s.Methods = slices.Clone(s.Methods)
		out = append(out, s)
	}
	return out
}

// without are the selectors of an entry without some of the routes they name.
func (d *Document) without(e *Entry, routes []int) []route.Selector {
	var out []route.Selector
	for _, s := range e.At {
		named := d.Inventory.Named(s)
		if len(named) == 0 {
			out = append(out, s)
			continue
		}
		left := slices.DeleteFunc(slices.Clone(named), func(i int) bool { return slices.Contains(routes, i) })
		if len(left) == len(named) {
			out = append(out, s)
		} else if len(left) > 0 {
			out = append(out, d.keysOf(left)...)
		}
	}
	return out
}
