package declaration

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/pointer"
	"millgate/core/route"
)

// Imported is one route that an Importer found in another file.
type Imported struct {
	Method, Path, Summary string
	Sample                Sample
	Answers               map[int]*Shape
	Line                  int
	Requires              *Required
}

// Required is what a description says that a request needs: nothing, or a credential for any of the schemes, which has
// all of the scopes. It says who may come, not what they may do, and nobody checks it.
type Required struct {
	Nothing bool
	Schemes []string
	Scopes  []string
}

// Importer reads the file that a `from:` names, relative to the declaration.
// Problems do not stop it: what could be read is returned beside them.
type Importer func(ref string) (routes []Imported, problems []error)

func (r *reader) routeList(doc *Document, n ast.Node) {
	byKey := r.routes
	add := func(rt *Route) *Route {
		k := rt.Method() + " " + rt.TemplateKey()
		if old := byKey[k]; old != nil {
			return old
		}
		byKey[k] = rt
		doc.Routes = append(doc.Routes, rt)
		return nil
	}
	for _, x := range r.list(n) {
		x = r.plain(x)
		switch x.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			fields := r.entries(x, "a route", routeWords)
			by := map[string]pair{}
			for _, f := range fields {
				by[f.key] = f
			}
			if from, ok := by["from"]; ok {
				for _, f := range fields {
					if f.key != "from" && f.key != "host" && f.key != "owner" {
						r.fail(f.kn, "unknown-word", fmt.Sprintf("%q has no meaning beside `from`", f.key),
							"say it in a line of its own for each route:  - { at: METHOD /path, … }")
					}
				}
				r.importRoutes(by, from, func(rt *Route, place ast.Node) {
					if old := add(rt); old != nil && old.From == rt.From {
						r.fail(place, "duplicate", fmt.Sprintf("%s stands twice in %s", rt.Key(), rt.From),
							"remove one of them there")
					}
				})
				continue
			}
			at, ok := by["at"]
			if !ok {
				r.fail(x, "missing", "a route needs `at` or `from`", "write  - at: GET /path  or  - from: "+
					"file.openapi.yaml")
				continue
			}
			if rt := r.routeAt(at.val); rt != nil {
				r.routeFields(rt, by)
				if old := add(rt); old != nil {
					if old.From == "" {
						r.fail(at.val, "duplicate", fmt.Sprintf("the route %s is said twice, first in line %d",
							rt.Key(), old.Line), "remove one of them")
						continue
					}
					// A line by hand adds to what was imported.
					r.routeFields(old, by)
					old.Place = rt.Place
				}
			}
		default:
			if rt := r.routeAt(x); rt != nil {
				if old := add(rt); old != nil {
					if old.From == "" {
						r.fail(x, "duplicate", fmt.Sprintf("the route %s is said twice, first in line %d", rt.Key(),
							old.Line), "remove one of them")
					}
				}
			}
		}
	}
}

func (r *reader) routeAt(n ast.Node) *Route {
	s, ok := r.str(n, "a route")
	if !ok {
		return nil
	}
	sel, err := route.ParseTemplate(s)
	if err != nil {
		r.fail(n, "selector", err.Error(), "write  METHOD /path/{parameter}")
		return nil
	}
	r.repeats(n, sel)
	return newRoute(sel, r.place(n))
}

func newRoute(sel route.Selector, at Place) *Route {
	rt := &Route{Selector: sel, Place: at, Sensitivity: Medium, Effect: Read}
	switch sel.Method() {
	case "POST":
		rt.Effect = Create
	case "PUT", "PATCH":
		rt.Effect = Update
	case "DELETE":
		rt.Effect = Delete
	}
	return rt
}

func (r *reader) routeFields(rt *Route, by map[string]pair) {
	if f, ok := by["effect"]; ok {
		if w := r.word(f.val, "effect", string(Read), string(Create), string(Update), string(Delete),
			string(Command)); w != "" {
			rt.Effect = Effect(w)
		}
	}
	if f, ok := by["sensitivity"]; ok {
		if w := r.word(f.val, "sensitivity", string(Low), string(Medium), string(High)); w != "" {
			rt.Sensitivity = Sensitivity(w)
		}
	}
	if f, ok := by["summary"]; ok {
		rt.Summary, _ = r.str(f.val, "summary")
	}
	if f, ok := by["group"]; ok {
		rt.Group, _ = r.str(f.val, "group")
	}
	if owner := r.owner(by); owner != "" {
		rt.Owner = owner
	}
	if f, ok := by["changes"]; ok {
		r.changes(rt, f)
	}
	if f, ok := by["then"]; ok {
		rt.Then = nil
		for _, x := range r.list(f.val) {
			if u := r.followUp(x); u != nil {
				rt.Then = append(rt.Then, u)
			}
		}
	}
	if f, ok := by["send"]; ok {
		for _, g := range r.entries(f.val, "send", sampleWords) {
			switch g.key {
			case "as":
				if s, ok := r.str(g.val, "as"); ok {
					rt.Send.As = Ref{Name: s, Place: r.place(g.val)}
				}
			case "path":
				rt.Send.Path = merged(rt.Send.Path, r.stringMap(g.val, "path"))
			case "query":
				rt.Send.Query = r.stringMap(g.val, "query")
			case "headers":
				r.fields(g.val, "headers")
				rt.Send.Headers = r.stringMap(g.val, "headers")
			case "json":
				rt.Send.JSON, rt.Send.Imported = r.json(g.val), false
			case "form":
				rt.Send.Form, rt.Send.Imported = r.stringMap(g.val, "form"), false
			case "multipart":
				if r.since(V11, g.kn, "`multipart` of send") {
					rt.Send.Parts, rt.Send.Imported = r.parts(g.val), false
				}
			case "text":
				rt.Send.Text, _ = r.str(g.val, "text")
				rt.Send.Imported = false
			case "type":
				rt.Send.Type, _ = r.str(g.val, "type")
			}
		}
		for name := range rt.Send.Path {
			if !slices.Contains(rt.Parameters(), name) {
				r.fail(f.kn, "reference", fmt.Sprintf("%s has no parameter %q", rt.Key(), name),
					"its parameters are "+strings.Join(rt.Parameters(), ", "))
			}
		}
	}
}

// owner is who mends a route, or all that are read from a file; "" where nobody is named.
func (r *reader) owner(by map[string]pair) (name string) {
	if f, ok := by["owner"]; ok && r.since(V11, f.kn, "`owner` of a route") {
		name, _ = r.str(f.val, "owner")
	}
	return name
}

func merged(a, b map[string]string) map[string]string {
	out := map[string]string{}
	for k, v := range a {
		out[k] = v
	}
	for k, v := range b {
		out[k] = v
	}
	return out
}

func (r *reader) importRoutes(by map[string]pair, from pair, add func(*Route, ast.Node)) {
	ref, ok := r.str(from.val, "from")
	if !ok {
		return
	}
	host := ""
	if h, ok := by["host"]; ok {
		host, _ = r.str(h.val, "host")
	}
	owner := r.owner(by)
	if r.files.Routes == nil {
		r.fail(from.val, "import", fmt.Sprintf("%q cannot be read here", ref), "")
		return
	}
	routes, problems := r.files.Routes(ref)
	for _, p := range problems {
		r.fail(from.val, "import", fmt.Sprintf("%s: %s", ref, p), "mend the file, or write its routes by hand")
	}
	for _, im := range routes {
		text := im.Method + " "
		if host != "" {
			text += host + ":"
		}
		sel, err := route.ParseTemplate(text + im.Path)
		if err != nil {
			r.fail(from.val, "import", fmt.Sprintf("%s, line %d: %s", ref, im.Line, err),
				"mend the file, or write its routes by hand")
			continue
		}
		rt := newRoute(sel, Place{File: ref, Line: max(1, im.Line), Column: 1})
		rt.Summary, rt.Send, rt.Answers, rt.From, rt.Owner = im.Summary, im.Sample, im.Answers, ref, owner
		rt.Send.Imported, rt.Requires = true, im.Requires
		add(rt, from.val)
	}
}

// request reads a request with placeholders; "send: POST id:/path".
func (r *reader) request(n ast.Node, what string, extra ...string) (*Request, map[string]pair) {
	known := append([]string{"send", "json", "form", "headers", "take"}, extra...)
	by := map[string]pair{}
	if _, ok := r.plain(n).(*ast.StringNode); ok {
		by["send"] = pair{val: n}
	} else {
		for _, p := range r.entries(n, what, known) {
			by[p.key] = p
		}
	}
	send, ok := by["send"]
	if !ok {
		r.fail(n, "missing", what+" does not say what to send", "add  send: POST /path")
		return nil, by
	}
	s, ok := r.str(send.val, "send")
	if !ok {
		return nil, by
	}
	sel, err := route.ParseTemplate(s)
	if err != nil {
		r.fail(send.val, "selector", err.Error(), "write  METHOD /path")
		return nil, by
	}
	q := &Request{Place: r.place(send.val), Method: sel.Method(), Host: sel.Host, Path: sel.Path()}
	if p, ok := by["json"]; ok {
		q.JSON = r.json(p.val)
	}
	if p, ok := by["form"]; ok {
		q.Form = r.pairs(p.val, "form")
	}
	if p, ok := by["headers"]; ok {
		r.fields(p.val, "headers")
		q.Headers = r.pairs(p.val, "headers")
	}
	if p, ok := by["take"]; ok {
		q.Take = map[string]pointer.JSON{}
		for _, f := range r.entries(p.val, "take", nil) {
			q.Take[f.key] = r.pointer(f.val, "take "+f.key)
		}
	}
	return q, by
}

func (r *reader) pointer(n ast.Node, what string) pointer.JSON {
	s, ok := r.str(n, what)
	if ok && !strings.HasPrefix(s, "/") {
		r.fail(n, "type", fmt.Sprintf("%s must be a JSON Pointer, not %q", what, s),
			"write for example /"+strings.ReplaceAll(s, ".", "/"))
		return ""
	}
	p := pointer.JSON(s)
	if err := p.Check(); ok && err != nil {
		r.fail(n, "type", what+" must be a JSON Pointer: "+err.Error(), "write ~0 for ~ and ~1 for /")
		return ""
	}
	return p
}

var (
	routeWords = []string{"from", "host", "at", "effect", "sensitivity", "group", "send", "then", "summary",
		"changes", "owner"}
	sampleWords = []string{"as", "path", "query", "headers", "json", "form", "multipart", "text", "type"}
)
