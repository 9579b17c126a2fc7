package pages

import (
	"fmt"
	"slices"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/origin"
)

// Absent is the word where a route has no such page.
const Absent = "absent"

// undecided is the word where nobody has decided who may call.
var undecided = access.Cell(access.Undecided).Word()

// Words say what is declared for pages at routes, as the Origins lens shows it. Routes that are called alike, under one
// entry, have it in common, and are looked at once.
type Words struct {
	d     *declaration.Document
	all   bool // of pages that it does not declare too
	known map[string][]string
}

// NewWords are those of a declaration.
func NewWords(d *declaration.Document) *Words { return &Words{d: d, known: map[string][]string{}} }

// At is a word for each page at route i: that of an origin.Does, undecided or Absent. i is -1 for a route that the
// inventory does not have. It is asked for the same list throughout.
func (w *Words) At(list []origin.Page, i int) []string {
	switch {
	case i < 0:
		return slices.Repeat([]string{Absent}, len(list))
	case access.IsUndecided(w.d, i):
		return slices.Repeat([]string{undecided}, len(list))
	}
	call := CallOf(w.d, i, "")
	key := fmt.Sprintf("%v %q %q %+v", w.d.OriginsAt[i], call.Method, call.ContentType, call.Credential)
	if s, ok := w.known[key]; ok {
		return s
	}
	out := make([]string, len(list))
	for k, col := range list {
		out[k] = Absent
		page, ok := At(w.d, i, col.ID)
		if !ok {
			page = col
		}
		if ok || w.all {
			out[k] = origin.Expect(call, page.Origin, Allowed(w.d, i)).Does.Word()
		}
	}
	w.known[key] = out
	return out
}

// Turned is a crossing of a page at which one declaration lets it do something else than another; of a page that is
// Fresh also where that is the same.
type Turned struct{ Route, Page, Was, Becomes string }

// Changes counts those that differ. Where nobody had decided who may call, or nobody has any more, that is another
// change than one of what pages may do.
func Changes(list []Turned) (n int) {
	for _, t := range list {
		if t.Was != t.Becomes && t.Was != undecided && t.Becomes != undecided {
			n++
		}
	}
	return n
}

// Seen is a page with the number of routes at which it can do what, by word.
type Seen struct {
	origin.Page
	Was, Now map[string]int
	Fresh    bool // the older declaration does not know it
}

// Compare is what each page of two declarations may do by the newer one, beside what it may by the older one, and where
// that differs at routes of both.
func Compare(old, d *declaration.Document) (list []Seen, turned []Turned) {
	known := origin.Declared(old)
	names := known
	for _, o := range origin.Declared(d) {
		if !slices.Contains(known, o) {
			names = append(names[:len(names):len(names)], o)
		}
	}
	var columns []origin.Page
	for _, o := range names {
		columns = append(columns, origin.Page{ID: o, Origin: o})
	}
	for _, p := range Columns(d) {
		if p.Hostile {
			columns = append(columns, p)
		}
	}
	for _, p := range columns {
		list = append(list, Seen{Page: p, Was: map[string]int{}, Now: map[string]int{},
			Fresh: !p.Hostile && !slices.Contains(known, p.ID)})
	}
	was, now := NewWords(old), NewWords(d)
	was.all, now.all = true, true
	for i, rt := range d.Routes {
		had := old.RouteNamed(rt.Key())
		before := was.At(columns, had)
		for k, word := range now.At(columns, i) {
			x := &list[k]
			x.Now[word]++
			if had < 0 {
				continue
			}
			x.Was[before[k]]++
			if before[k] != word || x.Fresh {
				turned = append(turned, Turned{rt.Key(), x.ID, before[k], word})
			}
		}
	}
	return list, turned
}
