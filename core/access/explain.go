package access

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/route"
)

// Explained is one crossing with everything that its expectation comes from.
type Explained struct {
	Route  string // its key
	Caller string // an identity, or nobody
	Record string // the record behind the route's last parameter; empty without
	Whose  string // what the declaration says of that record
	Expectation
}

// Explain is the expectation of a request before it is sent: at is a method and a route of the
// inventory, or a path that one of them serves; caller an identity or nobody; record the id behind
// the route's record parameter, taken from the path where it is empty. With broken the caller
// presents a credential that does not verify. The error says what is not declared.
func Explain(d *declaration.Document, at, caller, record string, broken bool) (Explained, error) {
	id, err := callerNamed(d, caller)
	if err != nil {
		return Explained{}, err
	}
	i, err := routeAt(d, at)
	if err != nil {
		return Explained{}, err
	}
	c := Caller{Identity: id, State: Sound}
	switch {
	case broken:
		c.State = Broken
	case id == nil:
		c.State = Absent
	}
	out := Explained{Route: d.Routes[i].Key(), Caller: "nobody", Record: record}
	if id != nil {
		out.Caller = id.Name
	}
	rec := d.Record(i)
	if rec == nil {
		if record != "" {
			return out, fmt.Errorf("%s is about no record: `records` says what fills its parameters", out.Route)
		}
	} else {
		if out.Record == "" {
			out.Record = paramIn(d, i, rec, at)
		}
		c.Record, out.Whose = relation(d, i, rec, id, out.Record)
	}
	out.Expectation = Evaluate(d, i, c)
	return out, nil
}

// routeAt finds a route by its key, or the one that serves a path.
func routeAt(d *declaration.Document, at string) (int, error) {
	method, path, _ := strings.Cut(strings.Join(strings.Fields(at), " "), " ")
	method = strings.ToUpper(method)
	if i := d.RouteNamed(method + " " + path); i >= 0 {
		return i, nil
	}
	if s, err := route.ParseTemplate(method + " " + path); err == nil { // however its parameters are called
		if named := d.Inventory.Named(s); len(named) == 1 {
			return named[0], nil
		}
	}
	host := ""
	if h, p, ok := strings.Cut(path, ":/"); ok {
		host, path = h, "/"+p
	}
	if path != "" && !strings.ContainsAny(path, "{}") {
		if i := d.Inventory.Find(method, host, path); i >= 0 {
			return i, nil
		}
	}
	return -1, NoRoute(d, at)
}

// NoRoute says that the inventory has no such route, and which is nearest.
func NoRoute(d *declaration.Document, at string) error {
	keys := declaration.Names(d.Routes, func(r *declaration.Route) string { return r.Key() })
	if near := declaration.Nearest(at, keys); near != "" {
		return fmt.Errorf("the inventory has no route %s; did you mean %s?", at, near)
	}
	return fmt.Errorf("the inventory has no route %s", at)
}

// paramIn is what stands in a path for the parameter that a record fills, "" in a template.
func paramIn(d *declaration.Document, i int, rec *declaration.Record, at string) string {
	of := strings.Split(d.Routes[i].Path(), "/")
	path := at[strings.Index(at, "/")+1:]
	segments := append([]string{""}, strings.Split(path, "/")...)
	k := slices.Index(of, "{"+d.FillParam(i, rec)+"}")
	if k < 0 || k >= len(segments) || strings.HasPrefix(segments[k], "{") {
		return ""
	}
	return segments[k]
}

// relation is how a caller stands to a record, and what the declaration says of it.
func relation(d *declaration.Document, i int, rec *declaration.Record, id *declaration.Identity,
	record string) (Relation, string) {
	if record == "" {
		return NoRecord, ""
	}
	owner := rec.OwnerOf(record)
	if id != nil && slices.Contains(rec.OwnedBy[id.Name], record) {
		owner = id.Name // whoever else owns it too
	}
	whose := fmt.Sprintf("the %s %s is %s's", rec.Name, record, owner)
	if owner == "" {
		whose = fmt.Sprintf("nobody whom the declaration names owns the %s %s", rec.Name, record)
	}
	for _, g := range rec.Groups {
		if slices.Contains(g.IDs, record) {
			whose += ", it is " + g.Name
		}
	}
	for _, w := range rec.Within {
		if at := rec.In(w.Name, record); len(at) > 0 {
			whose += fmt.Sprintf(", it stands in the %s %s", w.Name, join(at, "and"))
		}
	}
	return Standing(d, i, rec, record, id), whose
}
