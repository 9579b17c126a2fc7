package assist

import (
	"fmt"
	"strings"

	"millgate/core/declaration"
)

// Help says what a word means; columns count from 1.
type Help struct {
	Title     string
	Text      string
	Column    int
	EndColumn int
	Place     declaration.Place // where it is declared; zero without
}

var whoHelp = map[string]string{
	"anyone":    "Everybody, without a credential.",
	"signed-in": "Every caller with a sound credential that the route accepts.",
	"nobody":    "No caller at all.",
	"owner":     "Whoever owns the record behind the path parameter.",
	"undecided": "Nobody has decided yet who may call: nothing is expected of its crossings, and none is checked.",
}

// onOwn is what the word of one's own records means.
const onOwn = "The records that are the caller's own."

// about says in a sentence what a name stands for.
func about(d *declaration.Document, kind, name string) string {
	switch kind {
	case "role":
		r := d.RoleNamed(name)
		if r == nil {
			return ""
		}
		has := 0
		for _, id := range d.Identities {
			if d.RolesOf(id)[name] {
				has++
			}
		}
		s := fmt.Sprintf("A role that %d %s.", has, map[bool]string{true: "identity has",
			false: "identities have"}[has == 1])
		if len(r.Includes) > 0 {
			s += " It includes " + strings.Join(declaration.Names(r.Includes,
				func(x declaration.Ref) string { return x.Name }), " and ") + "."
		}
		return s
	case "identity":
		id := d.IdentityNamed(strings.TrimPrefix(name, "identity:"))
		if id == nil {
			return ""
		}
		s := "An identity"
		if len(id.Roles) > 0 {
			s += " with the role " + strings.Join(declaration.Names(id.Roles,
				func(x declaration.Ref) string { return x.Name }), " and ")
		}
		if len(id.Credentials) > 0 {
			s += ", comes with " + strings.Join(declaration.Names(id.Credentials,
				func(c declaration.Credential) string { return c.Scheme.Name }), " and ")
		}
		return s + "."
	case "scheme":
		if s := d.SchemeNamed(name); s != nil {
			return fmt.Sprintf("A scheme of kind %s.", s.Kind)
		}
	case "lifetime":
		if l := d.LifetimeNamed(name); l != nil && l.Max > 0 {
			return "At most " + declaration.ShortDuration(l.Max) + "."
		}
	case "record":
		if r := d.RecordNamed(name); r != nil {
			return fmt.Sprintf("A record with %d owners.", len(r.OwnedBy))
		}
	case "group":
		return "Records that are alike in state, on which an entry admits whoever it names."
	case "kind":
		n := 0
		for _, id := range d.Identities {
			if len(id.In(name)) > 0 {
				n++
			}
		}
		return fmt.Sprintf("What records stand in; on these an entry admits a caller that stands in the same %s. %d "+
			"of the identities do.", name, n)
	case "route":
		if i := d.RouteNamed(name); i >= 0 {
			s := d.Routes[i].Summary
			if e := d.Entry(i); e != nil {
				s += fmt.Sprintf(" For %s (line %d).", strings.Trim(declaration.WhoList(e.Who), "[]"),
					e.Line)
			}
			return strings.TrimSpace(s)
		}
	}
	return ""
}

// Explain says what stands at a place; ok is false when nothing is known of it.
func Explain(text string, line, column int, d *declaration.Document) (h Help, ok bool) {
	off := offset(text, line, column)
	from, to := wordAt(text, off)
	if from == to {
		return h, false
	}
	word := text[from:to]
	h.Column, h.EndColumn = columnOf(text, from), columnOf(text, to)
	s := locate(text, to)
	key := to < len(text) && text[to] == ':' || to+1 < len(text) && strings.IndexByte(`"'`, text[to]) >= 0 &&
		text[to+1] == ':'
	if key {
		at := s.path
		if !s.key && len(at) > 0 && at[len(at)-1] == word {
			at = at[:len(at)-1]
		}
		for _, o := range keysAt(at) {
			if o.Label == word {
				h.Title, h.Text = word, o.Info
				return h, true
			}
		}
	}
	for _, o := range named(d, s.path, nil) {
		if o.Label == word && o.Detail != "route" {
			h.Title, h.Text = o.Detail+" "+strings.TrimPrefix(word, "identity:"), o.Info
			h.Place = placeOf(d, o.Detail, word)
			return h, true
		}
	}
	if h.Place = placeOf(d, singular(s.path), word); h.Place.Line > 0 {
		h.Title = singular(s.path) + " " + word
		h.Text = about(d, singular(s.path), word)
		return h, true
	}
	// A selector stands with its method in front.
	if i := routeNear(d, text, from, to); i >= 0 {
		rt := d.Routes[i]
		h.Title, h.Text, h.Place = rt.Key(), about(d, "route", rt.Key()), rt.Place
		if e := d.Entry(i); e != nil && len(s.path) > 0 && s.path[0] == "routes" {
			h.Place = e.Place
		}
		return h, true
	}
	if s.value {
		for _, o := range valuesAt(s.path) {
			if o.Label == word {
				h.Title, h.Text = word, o.Info
				return h, true
			}
		}
	}
	return h, false
}

func routeNear(d *declaration.Document, text string, from, to int) int {
	line := strings.LastIndexByte(text[:from], '\n') + 1
	before := strings.Fields(strings.NewReplacer("{", " ", "\"", " ", "'", " ", "[", " ", ",",
		" ").Replace(text[line:from]))
	end := to
	for end < len(text) && strings.IndexByte(" \n,\"'", text[end]) < 0 {
		end++
	}
	start := from
	for start > line && strings.IndexByte(" \"'[", text[start-1]) < 0 {
		start--
	}
	path := strings.TrimRight(text[start:end], " ")
	if !strings.Contains(path, "/") {
		return -1
	}
	if len(before) > 0 {
		if i := d.RouteNamed(before[len(before)-1] + " " + path); i >= 0 {
			return i
		}
	}
	for i, r := range d.Routes {
		if strings.HasSuffix(r.Key(), " "+path) {
			return i
		}
	}
	return -1
}

// singular is what the members of a section are.
func singular(path []string) string {
	if len(path) == 0 {
		return ""
	}
	return map[string]string{"roles": "role", "identities": "identity", "schemes": "scheme", "lifetimes": "lifetime",
		"records": "record", "quotas": "quota", "targets": "target"}[path[0]]
}

func placeOf(d *declaration.Document, kind, name string) declaration.Place {
	switch kind {
	case "role":
		if x := d.RoleNamed(name); x != nil {
			return x.Place
		}
	case "identity":
		if x := d.IdentityNamed(strings.TrimPrefix(name, "identity:")); x != nil {
			return x.Place
		}
	case "scheme":
		if x := d.SchemeNamed(name); x != nil {
			return x.Place
		}
	case "lifetime":
		if x := d.LifetimeNamed(name); x != nil {
			return x.Place
		}
	case "record":
		if x := d.RecordNamed(name); x != nil {
			return x.Place
		}
	case "quota":
		if x := d.QuotaNamed(name); x != nil {
			return x.Place
		}
	case "target":
		if x := d.TargetNamed(strings.TrimPrefix(name, "target:")); x != nil {
			return x.Place
		}
	}
	return declaration.Place{}
}
