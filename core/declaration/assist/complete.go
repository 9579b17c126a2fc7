// Package assist helps whoever writes a declaration: what can stand at a place, what a word
// means, where a name is declared.
//
// It works on texts that cannot be parsed yet, since that is what a text is while somebody
// types: a place is found from the text alone (place.go), what can stand there from the
// language's own schema (schema.go), and names from the last document that could be read.
package assist

import (
	"maps"
	"slices"
	"strings"

	"millgate/core/declaration"
)

// Option is something that can stand at a place.
type Option struct {
	Label  string `json:"label"`
	Detail string `json:"detail"` // what kind of thing it is
	Info   string `json:"info"`   // what it means
	Insert string `json:"insert"` // what is written
}

// Completion lists what can stand at a place, in place of the text from column
// From on.
type Completion struct {
	From    int      `json:"from"`
	Options []Option `json:"options"`
}

// named are the names of the document that can stand at a path, as values or
// as keys.
func named(d *declaration.Document, path []string, more map[string][]string) []Option {
	var clean []string
	for _, k := range path {
		if k != "#" {
			clean = append(clean, k)
		}
	}
	if len(clean) == 0 {
		return nil
	}
	section, last := clean[0], clean[len(clean)-1]
	var out []Option
	put := func(detail string, names []string) {
		for _, n := range names {
			out = append(out, Option{Label: n, Detail: detail, Info: about(d, detail, n),
				Insert: declaration.Scalar(n)})
		}
	}
	roles := func() { put("role", declaration.Names(d.Roles, func(r *declaration.Role) string { return r.Name })) }
	identities := func(prefix string) {
		put("identity", declaration.Names(d.Identities,
			func(i *declaration.Identity) string { return prefix + i.Name }))
	}
	schemes := func() {
		put("scheme", declaration.Names(d.Schemes, func(s *declaration.Scheme) string { return s.Name }))
	}
	switch {
	case last == "who" && section == "access":
		for _, w := range []string{"anyone", "signed-in", "nobody", "owner", "undecided"} {
			out = append(out, Option{Label: w, Detail: "value", Info: whoHelp[w], Insert: w})
		}
		roles()
		for _, id := range d.Identities {
			out = append(out, Option{Label: "identity:" + id.Name, Detail: "identity",
				Info: about(d, "identity", id.Name), Insert: string(declaration.Quote("identity:" + id.Name))})
		}
	case last == "on" && section == "access":
		out = append(out, Option{Label: "own", Detail: "value", Info: onOwn, Insert: "own"})
		put("group", groups(d))
		put("kind", d.Kinds())
	case len(clean) == 3 && last == "in" && (section == "identities" || section == "records"):
		put("kind", kinds(d))
	case len(clean) == 4 && clean[2] == "in" && (section == "identities" || section == "records"):
		put(last, places(d, last))
	case len(clean) == 3 && last == "groups" && section == "records":
		put("group", groups(d))
	case last == "by" && section == "access", len(clean) == 3 && last == "credentials":
		schemes()
	case last == "roles" && section == "identities", last == "includes":
		roles()
	case last == "owned_by", last == "as":
		identities("")
	case last == "owner_of":
		put("record", declaration.Names(d.Records, func(r *declaration.Record) string { return r.Name }))
	case last == "given", last == "attributes":
		put("attribute", collected(d.Identities,
			func(id *declaration.Identity) []string { return slices.Collect(maps.Keys(id.Attributes)) }))
	case last == "scope", last == "scopes":
		put("scope", collected(d.Identities, func(id *declaration.Identity) []string { return id.Scopes }))
	case section == "schemes" && len(clean) == 4 && clean[2] == "lifetime":
		put("lifetime", declaration.Names(d.Lifetimes, func(l *declaration.Lifetime) string { return l.Name }))
	case last == "for" && section == "quotas":
		roles()
		identities("identity:")
	case last == "exempt":
		roles()
		put("target", declaration.Names(d.Targets, func(t *declaration.Target) string { return "target:" + t.Name }))
		identities("identity:")
	case last == "host" && section == "routes":
		put("host", collected(d.Targets,
			func(t *declaration.Target) []string { return slices.Collect(maps.Keys(t.Hosts)) }))
	case last == "fills":
		put("parameter", collected(d.Routes, func(r *declaration.Route) []string { return r.Parameters() }))
	case last == "at" && section != "routes", last == "send" && section != "routes":
		put("route", declaration.Names(d.Routes, func(r *declaration.Route) string { return r.Key() }))
	default:
		put(last, more[last])
	}
	return out
}

// groups are the groups of records.
func groups(d *declaration.Document) []string {
	return collected(d.Records, func(r *declaration.Record) []string {
		return declaration.Names(r.Groups, func(g declaration.Group) string { return g.Name })
	})
}

// kinds are those that something stands in, and the records that others may stand in.
func kinds(d *declaration.Document) []string {
	out := append(d.Kinds(), declaration.Names(d.Records, func(r *declaration.Record) string { return r.Name })...)
	slices.Sort(out)
	return slices.Compact(out)
}

// places are the records of a kind that something stands in.
func places(d *declaration.Document, kind string) []string {
	out := collected(d.Records, func(r *declaration.Record) (names []string) {
		for _, w := range r.Within {
			if w.Name == kind {
				names = append(names, declaration.Names(w.Places, func(p declaration.Placed) string {
					return p.Name
				})...)
			}
		}
		return names
	})
	out = append(out, collected(d.Identities, func(id *declaration.Identity) []string { return id.In(kind) })...)
	slices.Sort(out)
	return slices.Compact(out)
}

// collected are the names that a list has, each once, in their order.
func collected[T any](list []T, of func(T) []string) (out []string) {
	for _, x := range list {
		out = append(out, of(x)...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Complete lists what can stand at a place. d is the last document that was
// read from the text; more are names by the word they belong to, which this
// package does not know.
func Complete(text string, line, column int, d *declaration.Document, more map[string][]string) Completion {
	off := offset(text, line, column)
	s := locate(text, off)
	c := Completion{From: columnOf(text, s.from)}
	typed := strings.ToLower(strings.TrimLeft(text[s.from:off], `"'`))
	fits := func(list []Option) {
		for _, o := range list {
			if l := strings.ToLower(o.Label); typed == "" || strings.Contains(l, typed) {
				c.Options = append(c.Options, o)
			}
		}
	}
	if s.value {
		fits(named(d, s.path, more))
		fits(valuesAt(s.path))
	}
	if s.key {
		fits(keysAt(s.path))
		for _, o := range named(d, s.path, nil) {
			if o.Detail != "route" && len(s.path) > 0 && mapOfNames[s.path[len(s.path)-1]] {
				o.Insert = declaration.Scalar(o.Label) + ": "
				fits([]Option{o})
			}
		}
	}
	// What begins with the text comes before what only has it in it.
	slices.SortStableFunc(c.Options, func(a, b Option) int {
		rank := func(o Option) int {
			if strings.HasPrefix(strings.ToLower(o.Label), typed) {
				return 0
			}
			return 1
		}
		return rank(a) - rank(b)
	})
	c.Options = c.Options[:min(len(c.Options), 200)]
	return c
}

// mapOfNames are words whose members are names declared elsewhere.
var mapOfNames = map[string]bool{"credentials": true, "owned_by": true, "given": true, "attributes": true, "for": true,
	"in": true, "groups": true}
