package declaration

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"millgate/core/route"
)

// Imported is one route that an Importer found in another file.
type Imported struct {
	Method, Path, Summary string
	Sample                Sample
	Answers               map[int]*Shape
	Line                  int
}

// Importer reads the file that a `from:` names, relative to the declaration.
// Problems do not stop it: what could be read is returned beside them.
type Importer func(ref string) (routes []Imported, problems []error)

// Files reads what a declaration names, relative to it. Either may be nil.
type Files struct {
	Routes Importer
	Text   func(ref string) ([]byte, error) // a file to include
}

var (
	drillWords = []string{"for", "quotas"}
	topWords   = []string{"millgate", "title", "include", "targets", "routes", "roles", "schemes", "lifetimes",
		"identities", "records", "access", "origins", "quotas", "answers", "review", "waivers"}
	targetWords = []string{"base", "hosts", "values", "direct", "pace", "unsafe", "ask_for", "pass", "drill"}
	routeWords  = []string{"from", "host", "at", "effect", "sensitivity", "group", "send", "then", "summary"}
	sampleWords = []string{"as", "path", "query", "headers", "json", "form", "text", "type"}
	entryWords  = []string{"at", "who", "broken", "hide", "given", "scope", "by", "owner_of"}
)

// Parse reads a declaration. The messages are all that is wrong with it, in
// the order of the text; the Document is usable when none of them is an Error,
// and holds what could be read otherwise.
func Parse(name string, text []byte, load Importer) (*Document, []Message) {
	return ParseFiles(name, text, Files{Routes: load})
}

// ParseFiles is Parse for a declaration that may include others.
func ParseFiles(name string, text []byte, files Files) (*Document, []Message) {
	r := &reader{file: name, files: files, routes: map[string]*Route{}, included: map[string]bool{name: true}}
	doc := &Document{Name: name, Assume: DefaultAssumptions()}
	if !r.text(doc, text) {
		return doc.settled(r), r.msgs
	}
	doc.settled(r)
	sort.SliceStable(r.msgs, func(i, j int) bool {
		a, b := r.msgs[i], r.msgs[j]
		if a.File != b.File {
			return a.File == name
		}
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return doc, r.msgs
}

// text reads one file into the document; false when it is not YAML at all.
func (r *reader) text(doc *Document, text []byte) bool {
	if r.tooDeep(text) {
		return false
	}
	file, err := parser.ParseBytes(text, parser.ParseComments, parser.AllowDuplicateMapKey())
	if err != nil {
		var se *yaml.SyntaxError
		if errors.As(err, &se) {
			r.msgs = append(r.msgs, syntaxMessage(r.file, se.Token, se.Message))
		} else {
			r.msgs = append(r.msgs, syntaxMessage(r.file, nil, err.Error()))
		}
		return false
	}
	var body ast.Node
	for _, d := range file.Docs {
		if d.Body == nil {
			continue
		}
		if body != nil {
			r.fail(d.Body, "syntax", "a declaration is one YAML document",
				"remove the --- and what follows, or make it a file of its own")
			break
		}
		body = d.Body
	}
	if body == nil {
		r.fail(nil, "missing", "the declaration is empty", "begin with  millgate: 1")
		return false
	}
	r.document(doc, body)
	return true
}

// include reads another file of the language into the same document.
func (r *reader) include(doc *Document, n ast.Node) {
	for _, ref := range r.refs(n, "include") {
		say := func(text, hint string) { r.sayAt(ref.Place, len(ref.Name), Error, "include", text, hint) }
		switch {
		case r.files.Text == nil:
			say(fmt.Sprintf("%q cannot be read here", ref.Name), "")
			continue
		case r.included[ref.Name]:
			say(fmt.Sprintf("%s is included already", ref.Name), "remove one of the two")
			continue
		}
		r.included[ref.Name] = true
		b, err := r.files.Text(ref.Name)
		if err != nil {
			say(fmt.Sprintf("%s: %v", ref.Name, err), "files are looked for beside the declaration")
			continue
		}
		doc.Includes = append(doc.Includes, ref.Name)
		file, anchors := r.file, r.anchors
		r.file, r.anchors = ref.Name, nil
		r.text(doc, b)
		r.file, r.anchors = file, anchors
	}
}

// Failed says whether one of the messages is an error.
func Failed(msgs []Message) bool {
	return slices.ContainsFunc(msgs, func(m Message) bool { return m.Level == Error })
}

func (r *reader) document(doc *Document, body ast.Node) {
	top := r.entries(body, "a declaration", topWords)
	versioned := false
	for _, p := range top {
		switch p.key {
		case "millgate":
			versioned = true
			if v, ok := r.str(p.val, "millgate"); ok && v != "1" {
				r.fail(p.val, "version", fmt.Sprintf("version %s of the language is not known", v),
					"this program reads version 1")
			}
		case "title":
			if t, _ := r.str(p.val, "title"); doc.Title == "" {
				doc.Title = t
			}
		case "include":
			r.include(doc, p.val)
		case "targets":
			r.targets(doc, p.val)
		case "routes":
			r.routeList(doc, p.val)
		case "roles":
			for _, q := range r.entries(p.val, "roles", nil) {
				role := &Role{Name: q.key, Place: q.kpos}
				for _, f := range r.entries(q.val, "role "+q.key, []string{"includes"}) {
					role.Includes = r.refs(f.val, "includes")
				}
				doc.Roles = append(doc.Roles, role)
			}
		case "schemes":
			for _, q := range r.entries(p.val, "schemes", nil) {
				doc.Schemes = append(doc.Schemes, r.scheme(q))
			}
		case "lifetimes":
			for _, q := range r.entries(p.val, "lifetimes", nil) {
				doc.Lifetimes = append(doc.Lifetimes, r.lifetime(q))
			}
		case "identities":
			for _, q := range r.entries(p.val, "identities", nil) {
				doc.Identities = append(doc.Identities, r.identity(q))
			}
		case "records":
			for _, q := range r.entries(p.val, "records", nil) {
				doc.Records = append(doc.Records, r.record(q))
			}
		case "access":
			for _, x := range r.list(p.val) {
				doc.Access = append(doc.Access, r.entry(x))
			}
		case "origins":
			for _, x := range r.list(p.val) {
				doc.Origins = append(doc.Origins, r.originEntry(x))
			}
		case "quotas":
			for _, q := range r.entries(p.val, "quotas", nil) {
				doc.Quotas = append(doc.Quotas, r.quota(q))
			}
		case "answers":
			if doc.Answers.Status != nil {
				r.fail(p.kn, "duplicate", "`answers` is said in two files", "put all of it into one of them")
				continue
			}
			r.answers(doc, p.val)
		case "review":
			r.assumptions(doc, p.val)
		case "waivers":
			for _, x := range r.list(p.val) {
				doc.Waivers = append(doc.Waivers, r.waiver(x))
			}
		}
	}
	if !versioned {
		r.fail(body, "missing", "the version of the language is not said", "begin the file with  millgate: 1")
	}
}

func (r *reader) url(n ast.Node, what string) string {
	s, ok := r.str(n, what)
	if !ok {
		return ""
	}
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		r.fail(n, "type", fmt.Sprintf("%s must be an http or https address, not %q", what, s),
			"write for example https://staging.example")
		return ""
	}
	if u.RawQuery != "" || u.Fragment != "" || u.User != nil {
		r.fail(n, "type", what+" must have no user, query or fragment", "leave only scheme, host, port and path")
		return ""
	}
	return strings.TrimRight(s, "/")
}

func (r *reader) targets(doc *Document, n ast.Node) {
	for _, q := range r.entries(n, "targets", nil) {
		t := &Target{Name: q.key, Place: q.kpos, Hosts: map[string]string{}, Values: map[string]string{},
			Pace: DefaultPace, Unsafe: UnsafeRefused, Drill: DefaultDrill}
		based := false
		for _, f := range r.entries(q.val, "target "+q.key, targetWords) {
			switch f.key {
			case "base":
				based = true
				t.Base = r.url(f.val, "base")
			case "direct":
				t.Direct = r.url(f.val, "direct")
			case "hosts":
				for _, h := range r.entries(f.val, "hosts", nil) {
					t.Hosts[h.key] = r.url(h.val, "host "+h.key)
				}
			case "values":
				t.Values = r.stringMap(f.val, "values")
			case "pace":
				if s, ok := r.str(f.val, "pace"); ok {
					p, err := ParsePace(s)
					if err != nil {
						r.fail(f.val, "type", err.Error(), "write for example 5 per 1s")
					} else {
						t.Pace = p
					}
				}
			case "unsafe":
				t.Unsafe = Unsafe(r.word(f.val, "unsafe", string(UnsafeRefused), string(UnsafeMade),
					string(UnsafeAllowed)))
				if t.Unsafe == "" {
					t.Unsafe = UnsafeRefused
				}
			case "drill":
				r.drill(t, f)
			case "pass":
				t.Pass = r.pass(f)
			case "ask_for":
				for _, x := range r.refs(f.val, "ask_for") {
					if _, err := route.Parse(x.Name); err != nil || !strings.HasPrefix(x.Name, "/") {
						r.sayAt(x.Place, len(x.Name), Error, "type", fmt.Sprintf("ask_for needs paths, not %q", x.Name),
							"write for example /internal/health")
						continue
					}
					t.AskFor = append(t.AskFor, x.Name)
				}
			}
		}
		if !based {
			r.fail(q.kn, "missing", fmt.Sprintf("target %q has no base", q.key), "add  base: https://…")
		}
		doc.Targets = append(doc.Targets, t)
	}
}

// drill is how long a quota drill may take, or that and the quotas that are
// lower on this target.
func (r *reader) drill(t *Target, p pair) {
	if !isMap(r.plain(p.val)) {
		t.Drill = r.duration(p.val, "drill")
		return
	}
	for _, f := range r.entries(p.val, "drill", drillWords) {
		switch f.key {
		case "for":
			t.Drill = r.duration(f.val, "for")
		case "quotas":
			for _, g := range r.entries(f.val, "the lowered quotas", nil) {
				t.Lowered = append(t.Lowered, r.lowered(g))
			}
		}
	}
}

func (r *reader) lowered(p pair) Lowered {
	l := Lowered{Ref: Ref{Name: p.key, Place: p.kpos}}
	none := false
	if !isMap(r.plain(p.val)) {
		l.Allow = r.amounts(p.val, p.key)
		none = len(r.list(p.val)) == 0
	} else {
		none = true
		for _, f := range r.entries(p.val, "lowered quota "+p.key, []string{"allow", "burst"}) {
			if f.key == "allow" {
				l.Allow = r.amounts(f.val, "allow")
				none = len(r.list(f.val)) == 0
			} else {
				l.Burst = r.number(f.val, "burst", 1)
			}
		}
	}
	if none {
		r.fail(p.kn, "missing", fmt.Sprintf("the lowered quota %q has no amount", p.key),
			"write for example  "+p.key+": 5 per 2s")
	}
	return l
}

func isMap(n ast.Node) bool {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

func (r *reader) pass(p pair) Pass {
	out := Pass{Place: p.kpos}
	valued := false
	for _, f := range r.entries(p.val, "pass", []string{"header", "value"}) {
		switch f.key {
		case "header":
			s, _ := r.str(f.val, "header")
			if !fieldName.MatchString(s) {
				r.fail(f.val, "type", fmt.Sprintf("%q is no header field", s), "write for example X-Test-Pass")
			}
			out.Header = s
		case "value":
			out.Value, valued = r.value(f), true
		}
	}
	if out.Header == "" || !valued {
		r.fail(p.kn, "missing", "a pass needs `header` and `value`", "write  pass: { header: X-Test-Pass, value: "+
			"env:TEST_PASS }")
	}
	return out
}

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
					if f.key != "from" && f.key != "host" {
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
				rt.Send.Headers = r.stringMap(g.val, "headers")
			case "json":
				rt.Send.JSON, rt.Send.Imported = r.json(g.val), false
			case "form":
				rt.Send.Form, rt.Send.Imported = r.stringMap(g.val, "form"), false
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
		rt.Summary, rt.Send, rt.Answers, rt.From = im.Summary, im.Sample, im.Answers, ref
		rt.Send.Imported = true
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
		q.Headers = r.pairs(p.val, "headers")
	}
	if p, ok := by["take"]; ok {
		q.Take = map[string]string{}
		for _, f := range r.entries(p.val, "take", nil) {
			q.Take[f.key] = r.pointer(f.val, "take "+f.key)
		}
	}
	return q, by
}

func (r *reader) pointer(n ast.Node, what string) string {
	s, ok := r.str(n, what)
	if ok && !strings.HasPrefix(s, "/") {
		r.fail(n, "type", fmt.Sprintf("%s must be a JSON Pointer, not %q", what, s),
			"write for example /"+strings.ReplaceAll(s, ".", "/"))
		return ""
	}
	return s
}

func (r *reader) entry(n ast.Node) *Entry {
	e := &Entry{Place: r.place(n), Broken: BrokenEither}
	by := map[string]pair{}
	for _, f := range r.entries(n, "an access entry", entryWords) {
		by[f.key] = f
		switch f.key {
		case "at":
			e.At = r.selectors(f.val)
			if len(e.At) > 0 {
				e.Place = r.place(r.list(f.val)[0])
			}
		case "who":
			if len(r.list(f.val)) == 0 {
				r.fail(f.kn, "missing", "`who` is empty", "write nobody, anyone, signed-in, owner, a role or "+
					"identity:NAME")
			}
			for _, w := range r.refs(f.val, "who") {
				e.Who = append(e.Who, who(w))
			}
		case "broken":
			if w := r.word(f.val, "broken", string(BrokenEither), string(BrokenIgnored),
				string(BrokenRefused)); w != "" {
				e.Broken = Broken(w)
			}
		case "hide":
			e.Hide = r.bool(f.val, "hide")
		case "given":
			e.Given = map[string]any{}
			for _, g := range r.entries(f.val, "given", nil) {
				e.Given[g.key] = r.scalar(g.val, "attribute "+g.key)
			}
		case "scope":
			e.Scope = r.strings(f.val, "scope")
		case "by":
			e.By = r.refs(f.val, "by")
		case "owner_of":
			if s, ok := r.str(f.val, "owner_of"); ok {
				e.OwnerOf = Ref{Name: s, Place: r.place(f.val)}
			}
		}
	}
	if len(e.At) == 0 {
		if _, said := by["at"]; !said {
			r.fail(n, "missing", "an access entry needs `at`", "add  at: GET /path")
		}
	}
	if _, ok := by["who"]; !ok {
		r.fail(n, "missing", "an access entry needs `who`", "add  who: nobody  (or anyone, signed-in, owner, a role, "+
			"identity:NAME)")
	}
	return e
}

// selectors reads one selector or a list of them.
func (r *reader) selectors(n ast.Node) (out []route.Selector) {
	if len(r.list(n)) == 0 {
		r.fail(n, "missing", "`at` selects nothing", "write for example  at: GET /path")
	}
	for _, x := range r.list(n) {
		s, ok := r.str(x, "at")
		if !ok {
			continue
		}
		sel, err := route.Parse(s)
		if err != nil {
			r.fail(x, "selector", err.Error(), "")
			continue
		}
		out = append(out, sel)
	}
	return out
}

func who(w Ref) Who {
	switch {
	case w.Name == "anyone":
		return Who{WhoAnyone, w}
	case w.Name == "signed-in":
		return Who{WhoSignedIn, w}
	case w.Name == "nobody":
		return Who{WhoNobody, w}
	case w.Name == "owner":
		return Who{WhoOwner, w}
	case strings.HasPrefix(w.Name, "identity:"):
		return Who{WhoIdentity, Ref{Name: strings.TrimPrefix(w.Name, "identity:"), Place: w.Place}}
	}
	return Who{WhoRole, w}
}

func (r *reader) answers(doc *Document, n ast.Node) {
	a := &doc.Answers
	a.Status = map[int]AnswerRule{}
	named := []string{"errors", "never", "schema", "login_page", "refused_when"}
	for _, f := range r.entries(n, "answers", nil) {
		switch f.key {
		case "errors":
			a.Errors = r.answerRule(f)
		case "never":
			for _, g := range r.entries(f.val, "never", []string{"fields", "text"}) {
				if g.key == "fields" {
					a.NeverFields = r.strings(g.val, "fields")
				} else {
					a.NeverText = r.strings(g.val, "text")
				}
			}
		case "schema":
			if a.Schema = r.word(f.val, "schema", "exact", "listed", "off"); a.Schema == "off" {
				a.Schema = ""
			}
		case "login_page":
			for _, g := range r.entries(f.val, "login_page", []string{"location"}) {
				a.LoginPage, _ = r.str(g.val, "location")
			}
		case "refused_when":
			for _, g := range r.entries(f.val, "refused_when", []string{"status", "has"}) {
				if g.key == "has" {
					a.RefusedWhen.Has = r.pointer(g.val, "has")
				} else {
					a.RefusedWhen.Status = r.status(g.val)
				}
			}
			if a.RefusedWhen.Status == 0 || a.RefusedWhen.Has == "" {
				r.fail(f.kn, "missing", "refused_when needs a status and what the answer then has",
					"write  { status: 200, has: /error }")
			}
		default:
			st, err := strconv.Atoi(f.key)
			if err != nil || st < 100 || st > 599 {
				r.unknown(f.kn, f.key, "answers", append([]string{"a status like 401"}, named...))
				continue
			}
			a.Status[st] = r.answerRule(f)
		}
	}
}

func (r *reader) status(n ast.Node) int {
	s, ok := r.str(n, "status")
	st, err := strconv.Atoi(s)
	if ok && (err != nil || st < 100 || st > 599) {
		r.fail(n, "type", fmt.Sprintf("%q is not a status code", s), "write a number from 100 to 599")
		return 0
	}
	return st
}

func (r *reader) answerRule(f pair) AnswerRule {
	rule := AnswerRule{Place: f.kpos}
	for _, g := range r.entries(f.val, "answers "+f.key, []string{"type", "headers", "has"}) {
		switch g.key {
		case "type":
			rule.Type, _ = r.str(g.val, "type")
		case "headers":
			rule.Headers = r.strings(g.val, "headers")
		case "has":
			for _, x := range r.list(g.val) {
				rule.Has = append(rule.Has, r.pointer(x, "has"))
			}
		}
	}
	return rule
}
