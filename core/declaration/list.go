package declaration

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/pointer"
	"millgate/core/route"
)

// List is a route that lists records of a kind: where its answer has rows, and a row the id of a record.
type List struct {
	Place
	At     Ref          // the route, as it is written
	Each   pointer.JSON // the rows: an array, or an object whose members they are; "" is the whole answer
	ID     pointer.JSON // the id in a row; "" where the row is the id
	Pages  Pages        // the zero one where the first answer has all rows
	Record *Record      // whose rows they are
	route  route.Selector
}

// Pages says how the next page of a list is asked for: by a number in the query, or by an address that the page has.
type Pages struct {
	Query string       // the parameter of the number; "" where Next says it
	From  int          // the number of the first page
	Next  pointer.JSON // where the page has the address of the next; it has none on the last
}

// Paged says whether there is more than one page.
func (p Pages) Paged() bool { return p.Query != "" || p.Next != "" }

var (
	listWords = []string{"at", "each", "id", "pages"}
	pageWords = []string{"query", "from", "next"}
)

// listed reads the routes that list records of a kind.
func (r *reader) listed(f pair, rec *Record) {
	if !r.since(V11, f.kn, "`listed` of a record") {
		return
	}
	for _, n := range r.list(f.val) {
		l := &List{Place: r.place(n), Record: rec, ID: "/id"}
		for _, g := range r.entries(n, "listed of "+rec.Name, listWords) {
			switch g.key {
			case "at":
				if s, ok := r.str(g.val, "at"); ok {
					l.At = Ref{Name: s, Place: r.place(g.val)}
				}
			case "each":
				l.Each = r.whole(g.val, "each")
			case "id":
				l.ID = r.whole(g.val, "id")
			case "pages":
				l.Pages = r.pages(g)
			}
		}
		if l.At.Name == "" {
			r.fail(n, "missing", "a list of "+rec.Name+" does not say which route it is", "add  at: GET /things")
			continue
		}
		var err error
		if l.route, err = route.ParseTemplate(l.At.Name); err != nil {
			r.sayAt(l.At.Place, len(l.At.Name), Error, "selector", fmt.Sprintf("%q is no route: %s", l.At.Name, err),
				"write  GET /things")
			continue
		}
		rec.Listed = append(rec.Listed, l)
	}
}

// whole is a pointer, or "" for all that there is.
func (r *reader) whole(n ast.Node, what string) pointer.JSON {
	if s, ok := r.plain(n).(*ast.StringNode); ok && s.Value == "" {
		return ""
	}
	return r.pointer(n, what)
}

func (r *reader) pages(f pair) (p Pages) {
	p.From = 1
	asks := 0
	for _, g := range r.entries(f.val, "pages", pageWords) {
		switch g.key {
		case "query":
			p.Query, _ = r.str(g.val, "query")
			if asks++; strings.ContainsAny(p.Query, "&=?# ") || p.Query == "" {
				r.fail(g.val, "type", fmt.Sprintf("%q is no name of a parameter", p.Query), "write  query: page")
			}
		case "from":
			p.From = r.number(g.val, "from", 0)
		case "next":
			asks++
			p.Next = r.pointer(g.val, "next")
		}
	}
	if asks != 1 {
		r.fail(f.kn, "missing", "pages are asked for by a number in the query, or by an address that each page has",
			"write  pages: { query: page, from: 1 }  or  pages: { next: /links/next }")
	}
	return p
}

// settleLists finds the routes that list records.
func (d *Document) settleLists(r *reader) {
	for _, rec := range d.Records {
		for _, l := range rec.Listed {
			fail := func(says, hint string) { r.sayAt(l.At.Place, len(l.At.Name), Error, "list", says, hint) }
			at := d.Inventory.Named(l.route)
			switch {
			case len(at) == 0:
				fail(l.At.Name+" is no route of the inventory", HintAt(l.At.Name,
					Names(d.Routes, func(rt *Route) string { return rt.Key() }),
					"write the method and the path of a route"))
			case d.Routes[at[0]].Method() != "GET":
				fail(l.At.Name+" is no GET, and lists are read with that alone", "write  GET /things")
			case d.lists[at[0]] != nil:
				fail(fmt.Sprintf("%s lists %s already", l.At.Name, d.lists[at[0]].Record.Name),
					"say it under one record")
			default:
				d.lists[at[0]] = l
			}
		}
	}
}

// List is what route i lists; nil where it lists nothing.
func (d *Document) List(i int) *List {
	if i >= len(d.lists) {
		return nil
	}
	return d.lists[i]
}

// About is the record that `on` is about at route i: the one behind its path, or else the one that it lists; nil
// without.
func (d *Document) About(i int) *Record {
	if rec := d.Record(i); rec != nil {
		return rec
	}
	if l := d.List(i); l != nil {
		return l.Record
	}
	return nil
}

// Admission is the entry by which route i admits callers. At a list, who is admitted on some records is admitted,
// and Rows says what it is shown; where a record stands behind the path, that one decides as everywhere.
func (d *Document) Admission(i int) *Entry {
	e := d.Entry(i)
	if e == nil || d.List(i) == nil || d.Record(i) != nil || len(e.Words()) == 0 {
		return e
	}
	c := *e
	c.of, c.Who = e, slices.Clone(e.Who)
	for k := range c.Who {
		w := &c.Who[k]
		w.On = On{}
		if w.Kind == WhoSignedIn {
			w.Name = "signed-in"
		}
	}
	return &c
}

// Rows are the records of which an identity (nil is nobody) is shown rows where route i lists them, if it is admitted.
// A word of `on` that is of the record behind the path, and not of what is listed, says nothing of rows.
func (d *Document) Rows(i int, id *Identity) Extent {
	l, e := d.List(i), d.Entry(i)
	if l == nil || e == nil {
		return Extent{}
	}
	x := e.Opens()
	if id != nil {
		y := d.Admits(e, id)
		if x = x.With(y.On...); y.All {
			x = Extent{All: true}
		}
	}
	if slices.ContainsFunc(x.On, func(o On) bool { return !l.Record.Knows(o) }) {
		return Extent{All: true}
	}
	return x
}

// Shows says whether rows of a record are shown to an identity (nil is nobody), and whether that is known: of a record
// that the declaration does not name it is not.
func (l *List) Shows(x Extent, record string, id *Identity) (shown, known bool) {
	if x.All {
		return true, true
	}
	if slices.ContainsFunc(x.On, func(o On) bool { return o.Holds(l.Record, record, id) }) {
		return true, true
	}
	return false, slices.Contains(l.Record.IDs(), record)
}
