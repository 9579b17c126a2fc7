package layout

import (
	"fmt"
	"slices"

	"millgate/core/declaration"
	"millgate/core/route"
)

// EntryEdits are the edits that give some routes another rule: set are fields of
// the entry with their new text, an empty one takes the field away. Routes whose
// entry decides others too get an entry of their own, behind it, as do those of which a pattern says that nobody
// has decided: it stays for what comes later.
func EntryEdits(d *declaration.Document, routes []int,
	set func(e *declaration.Entry) map[string]string) ([]Edit, error) {
	groups := map[int][]int{}
	var order []int
	for _, i := range routes {
		e := d.Deciding[i]
		if d.Entry(i).Undecided() && !d.NamesRoute(e, i) {
			e = -1
		}
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
					Text: declaration.FieldsText([][2]string{{"at", declaration.SelectorsText(keysOf(d, g))}}, fields)})
			}
			continue
		}
		en := d.Access[e]
		fields := set(en)
		if len(fields) == 0 {
			continue
		}
		names := slices.ContainsFunc(g, func(i int) bool { return d.NamesRoute(e, i) })
		whole := !slices.ContainsFunc(d.Deciding, func(x int) bool { return x == e }) || len(g) == decidedBy(d, e)
		if (names || whole) && en.File != d.Name {
			return nil, fmt.Errorf("%s is decided by %s, line %d; change it there", d.Routes[g[0]].Key(), en.File,
				en.Line)
		}
		if whole {
			for _, k := range declaration.EntryWords {
				if v, ok := fields[k]; ok {
					out = append(out, Edit{Section: "access", Line: en.Line, Field: []string{k}, Text: v})
				}
			}
			continue
		}
		full := en.Fields()
		full[0][1] = declaration.SelectorsText(keysOf(d, g))
		after := en.Line
		if en.File != d.Name {
			after = 0
		}
		if names {
			rest := without(d, en, g)
			if len(rest) == 0 {
				return nil, fmt.Errorf("the entry in line %d is written in a way that is not changed from here; "+
					"change it in the editor", en.Line)
			}
			out = append(out, Edit{Section: "access", Line: en.Line, Field: []string{"at"},
				Text: declaration.SelectorsText(rest)})
		}
		out = append(out, Edit{Section: "access", After: after, Text: declaration.FieldsText(full, fields)})
	}
	return out, nil
}

func decidedBy(d *declaration.Document, e int) int {
	n := 0
	for _, x := range d.Deciding {
		if x == e {
			n++
		}
	}
	return n
}

// keysOf writes routes as selectors, one for each template.
func keysOf(d *declaration.Document, routes []int) []route.Selector {
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
func without(d *declaration.Document, e *declaration.Entry, routes []int) []route.Selector {
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
			out = append(out, keysOf(d, left)...)
		}
	}
	return out
}
