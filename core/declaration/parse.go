package declaration

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"sort"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Files reads what a declaration names, relative to it. Either may be nil.
type Files struct {
	Routes Importer
	Text   func(ref string) ([]byte, error) // a file to include
}

// Version is a version of the language, as it is written at the top of a file. It is text:
// 1.10 is not 1.1. What a file means goes by its own version, whichever includes it.
type Version string

const (
	V1  Version = "1"
	V11 Version = "1.1"
)

// Versions are those that are read, the oldest first.
var Versions = []Version{V1, V11}

// since says whether the file that is read may use what came with a version, and fails
// where it is older.
func (r *reader) since(v Version, n ast.Node, what string) bool {
	if slices.Index(Versions, r.version) >= slices.Index(Versions, v) {
		return true
	}
	r.fail(n, "version", fmt.Sprintf("%s came with version %s of the language, and this file says %s", what, v,
		r.version), fmt.Sprintf("begin %s with  millgate: %s", r.file, v))
	return false
}

// Sections are the words of a declaration, TargetWords those of a target and EntryWords those
// of an access entry, in the order of the reference.
var (
	Sections = []string{"millgate", "title", "include", "targets", "routes", "roles", "schemes", "lifetimes",
		"identities", "records", "access", "origins", "quotas", "answers", "review", "waivers"}
	TargetWords = []string{"base", "hosts", "values", "direct", "pace", "unsafe", "ask_for", "pass", "drill",
		"ca", "client", "headers", "mark", "refuses", "describes"}
	EntryWords = []string{"at", "who", "broken", "hide", "turned_away", "given", "scope", "by", "owner_of"}
)

// Words are the words of the reference whose order matters, in that order, by what they
// belong to.
func Words() [][]string {
	return [][]string{Sections, TargetWords, routeWords, sampleWords, EntryWords, quotaWords, schemeWords}
}

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
	file, wrong := Syntax(r.file, text, parser.ParseComments, parser.AllowDuplicateMapKey())
	if wrong != nil {
		r.msgs = append(r.msgs, *wrong)
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
		r.fail(nil, "missing", "the declaration is empty", "begin with  millgate: 1.1")
		return false
	}
	r.document(doc, body)
	return true
}

// Syntax reads a text as YAML and no more. Where it is none, or nests so deeply that reading
// it would take all memory, there is a message and no file.
func Syntax(name string, text []byte, mode parser.Mode, opts ...parser.Option) (*ast.File, *Message) {
	if m := tooLarge(name, text); m != nil {
		return nil, m
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff")) // a byte order mark (YAML 1.2, section 5.2) says nothing more
	file, err := parser.ParseBytes(text, mode, opts...)
	if err == nil {
		return file, nil
	}
	m := syntaxMessage(name, nil, err.Error())
	var se *yaml.SyntaxError
	if errors.As(err, &se) {
		m = syntaxMessage(name, se.Token, se.Message)
	}
	return nil, &m
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
		outer := *r
		r.file, r.anchors, r.version = ref.Name, nil, ""
		r.text(doc, b)
		r.file, r.anchors, r.version = outer.file, outer.anchors, outer.version
	}
}

// Failed says whether one of the messages is an error.
func Failed(msgs []Message) bool {
	return slices.ContainsFunc(msgs, func(m Message) bool { return m.Level == Error })
}

func (r *reader) document(doc *Document, body ast.Node) {
	top := r.entries(body, "a declaration", Sections)
	r.versioned(top, body)
	doc.Version = cmp.Or(doc.Version, r.version) // not that of a file it includes
	for _, p := range top {
		switch p.key {
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
}

// versioned finds the version of the file before anything else of it is read. Where it is
// missing or not known, that is all that is said of it: the rest is read by the newest.
func (r *reader) versioned(top []pair, body ast.Node) {
	newest := Versions[len(Versions)-1]
	r.version = newest
	i := slices.IndexFunc(top, func(p pair) bool { return p.key == "millgate" })
	if i < 0 {
		r.fail(body, "missing", "the version of the language is not said", "begin the file with  millgate: 1.1")
		return
	}
	v, ok := r.str(top[i].val, "millgate")
	switch {
	case ok && slices.Contains(Versions, Version(v)):
		r.version = Version(v)
	case ok:
		r.fail(top[i].val, "version", fmt.Sprintf("version %s of the language is not known", v),
			fmt.Sprintf("this program reads %s and %s", V1, newest))
	}
}
