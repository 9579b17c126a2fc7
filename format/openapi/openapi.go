// Package openapi reads routes from OpenAPI 3.0 and 3.1 descriptions: methods,
// paths with the prefix of the first server, sample values from examples and
// schemas, and what the response schemas list.
package openapi

import (
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/pb33f/libopenapi"
	"github.com/pb33f/libopenapi/datamodel"
	"github.com/pb33f/libopenapi/datamodel/high/base"
	v3 "github.com/pb33f/libopenapi/datamodel/high/v3"

	"millgate/core/declaration"
)

// ErrFormat is wrapped when the text is not an OpenAPI 3 description at all.
var ErrFormat = errors.New("not an OpenAPI 3.0 or 3.1 description")

// Read returns the routes in the order of the text. What could not be read is
// listed in problems; it does not stop the rest. load reads files that it refers
// to; nil is none.
func Read(text []byte, load Load) (routes []declaration.Imported, problems []error) {
	d := Describe(text, load)
	return d.Routes, d.Problems
}

// Description is what a description says.
type Description struct {
	Title   string
	Routes  []declaration.Imported
	Schemes map[string]SecurityScheme
	// By "METHOD /path" the alternatives of what a request needs; none, or one that is empty, is nothing. It says
	// nothing
	// of what is not there.
	Security map[string][]Needs
	Links    []Link
	Problems []error
}

// Needs are what a request needs together (Security Requirement Object).
type Needs []Need

// Need is a scheme with the scopes that a credential for it must have.
type Need struct {
	Scheme string
	Scopes []string
}

func (n Needs) String() string {
	var parts []string
	for _, x := range n {
		if len(x.Scopes) > 0 {
			x.Scheme += " (" + strings.Join(x.Scopes, ", ") + ")"
		}
		parts = append(parts, x.Scheme)
	}
	return strings.Join(parts, " with ")
}

// Required is what any of several needs come to, and what of them is more than that can say.
func Required(ways []Needs) (r declaration.Required, lost []string) {
	for _, n := range ways {
		if len(n) == 0 {
			return declaration.Required{Nothing: true}, nil
		}
		if !slices.Contains(r.Schemes, n[0].Scheme) {
			r.Schemes = append(r.Schemes, n[0].Scheme)
		}
		if len(n) > 1 {
			lost = append(lost, "that it needs "+n.String()+" together")
		}
	}
	if r.Nothing = len(ways) == 0; r.Nothing {
		return r, nil
	}
	r.Scopes = ways[0][0].Scopes
	if slices.ContainsFunc(ways, func(n Needs) bool { return !slices.Equal(n[0].Scopes, r.Scopes) }) {
		r.Scopes, lost = nil, append(lost, "its scopes, which differ between schemes,")
	}
	return r, lost
}

// Link says that an answer has what another operation takes in its path (Link Object).
type Link struct {
	From, To  string // METHOD /path
	Parameter string
	Pointer   string // into the answer (RFC 6901)
}

// SecurityScheme is one that the description names.
type SecurityScheme struct {
	Name, Kind, In, Field, Format string
	TokenURL                      string
	Scopes                        []string
}

// Describe reads a description whole.
func Describe(text []byte, load Load) Description {
	d := Description{Schemes: map[string]SecurityScheme{}, Security: map[string][]Needs{}}
	text, d.Problems = inline(text, load)
	model, problems := d.read(text)
	d.Problems = append(d.Problems, problems...)
	if model != nil {
		d.security(model)
	}
	return d
}

func (d *Description) read(text []byte) (_ *v3.Document, problems []error) {
	doc, err := libopenapi.NewDocumentWithConfiguration(text,
		&datamodel.DocumentConfiguration{AllowFileReferences: false, AllowRemoteReferences: false,
			Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, []error{fmt.Errorf("%w: %v", ErrFormat, err)}
	}
	if v := doc.GetVersion(); !strings.HasPrefix(v, "3.0") && !strings.HasPrefix(v, "3.1") {
		return nil, []error{fmt.Errorf("%w: it says version %q", ErrFormat, v)}
	}
	model, err := doc.BuildV3Model()
	if err != nil {
		problems = append(problems, err)
	}
	if model == nil || model.Model.Paths == nil || model.Model.Paths.PathItems == nil {
		return nil, append(problems, fmt.Errorf("%w: it has no paths", ErrFormat))
	}
	if model.Model.Info != nil {
		d.Title = model.Model.Info.Title
	}
	prefix := ""
	if s := model.Model.Servers; len(s) > 0 {
		if u, err := url.Parse(s[0].URL); err == nil {
			prefix = strings.TrimRight(u.Path, "/")
		}
	}
	keys, ops := map[string]string{}, map[string]*v3.Operation{}
	for path, item := range model.Model.Paths.PathItems.FromOldest() {
		for method, op := range item.GetOperations().FromOldest() {
			im := declaration.Imported{Method: strings.ToUpper(method), Path: prefix + path, Summary: op.Summary,
				Line: 1}
			if low := op.GoLow(); low != nil && low.KeyNode != nil {
				im.Line = low.KeyNode.Line
			}
			im.Sample = sample(append(append([]*v3.Parameter{}, item.Parameters...), op.Parameters...), op.RequestBody)
			im.Answers = answers(op.Responses)
			key := im.Method + " " + im.Path
			d.needs(key, op.Security, model.Model.Security)
			if ways, said := d.Security[key]; said {
				r, _ := Required(ways)
				im.Requires = &r
			}
			d.Routes = append(d.Routes, im)
			ops[key] = op
			keys["#/paths/"+refEscaper.Replace(path)+"/"+method] = key
			if op.OperationId != "" {
				keys[op.OperationId] = key
			}
		}
	}
	for _, r := range d.Routes {
		d.links(r.Method+" "+r.Path, ops[r.Method+" "+r.Path], keys)
	}
	return &model.Model, problems
}

// refEscaper writes a path as a part of a reference (RFC 6901 section 3).
var refEscaper = strings.NewReplacer("~", "~0", "/", "~1")

// needs reads the security requirements of one operation: its own, or those of
// the whole description.
func (d *Description) needs(key string, own, all []*base.SecurityRequirement) {
	list := own
	if list == nil {
		list = all
	}
	if list == nil {
		return
	}
	needs := []Needs{}
	for _, r := range list {
		var n Needs
		if r.Requirements != nil {
			for name, scopes := range r.Requirements.FromOldest() {
				n = append(n, Need{name, scopes})
			}
		}
		needs = append(needs, n)
	}
	d.Security[key] = needs
}

// links reads what an answer of an operation has for others. keys are those of operations by their id.
func (d *Description) links(from string, op *v3.Operation, keys map[string]string) {
	if op.Responses == nil || op.Responses.Codes == nil {
		return
	}
	for code, resp := range op.Responses.Codes.FromOldest() {
		if !strings.HasPrefix(code, "2") || resp.Links == nil {
			continue
		}
		for _, l := range resp.Links.FromOldest() {
			to := keys[l.OperationId]
			if l.OperationId == "" {
				to = keys[l.OperationRef]
			}
			if to == "" || l.Parameters == nil {
				continue
			}
			for name, expression := range l.Parameters.FromOldest() {
				at, ok := strings.CutPrefix(expression, "$response.body#")
				name = strings.TrimPrefix(name, "path.")
				if ok && strings.HasSuffix(to, "{"+name+"}") {
					d.Links = append(d.Links, Link{From: from, To: to, Parameter: name, Pointer: at})
				}
			}
		}
	}
}

func (d *Description) security(m *v3.Document) {
	if m.Components == nil || m.Components.SecuritySchemes == nil {
		return
	}
	for name, s := range m.Components.SecuritySchemes.FromOldest() {
		x := SecurityScheme{Name: name, In: s.In, Field: s.Name, Format: s.BearerFormat}
		switch {
		case s.Type == "http" && strings.EqualFold(s.Scheme, "basic"):
			x.Kind = "basic"
		case s.Type == "apiKey" && s.In == "cookie":
			x.Kind = "cookie"
		case s.Type == "apiKey":
			x.Kind = "api-key"
		case s.Type == "http" || s.Type == "oauth2" || s.Type == "openIdConnect":
			x.Kind = "bearer"
		}
		if s.Flows != nil {
			for _, f := range []*v3.OAuthFlow{s.Flows.ClientCredentials, s.Flows.Password, s.Flows.AuthorizationCode} {
				if f == nil {
					continue
				}
				if x.TokenURL == "" {
					x.TokenURL = f.TokenUrl
				}
				if f.Scopes != nil {
					for n := range f.Scopes.FromOldest() {
						x.Scopes = append(x.Scopes, n)
					}
				}
			}
		}
		d.Schemes[name] = x
	}
}

func answers(r *v3.Responses) map[int]*declaration.Shape {
	if r == nil {
		return nil
	}
	out := map[int]*declaration.Shape{}
	put := func(code int, resp *v3.Response) {
		if resp == nil || resp.Content == nil {
			return
		}
		for ct, m := range resp.Content.FromOldest() {
			if strings.Contains(ct, "json") && m.Schema != nil {
				out[code] = newWalk().shape(m.Schema)
				return
			}
		}
	}
	if r.Codes != nil {
		for code, resp := range r.Codes.FromOldest() {
			if n, err := strconv.Atoi(code); err == nil {
				put(n, resp)
			}
		}
	}
	put(0, r.Default)
	if len(out) == 0 {
		return nil
	}
	return out
}

func (w *walk) shape(p *base.SchemaProxy) *declaration.Shape {
	s, leave := w.enter(p)
	defer leave()
	if s == nil || len(s.OneOf) > 0 || len(s.AnyOf) > 0 {
		return &declaration.Shape{Open: true}
	}
	out := &declaration.Shape{}
	for _, p := range s.AllOf {
		sub := w.shape(p)
		if sub.Open {
			return sub
		}
		for k, f := range sub.Fields {
			set(out, k, f)
		}
	}
	if s.Properties != nil {
		for name, p := range s.Properties.FromOldest() {
			set(out, name, w.shape(p))
		}
	}
	if a := s.AdditionalProperties; a != nil {
		if a.IsB() && !a.B {
			out.Closed = true
		} else if a.IsA() || a.B {
			return &declaration.Shape{Open: true}
		}
	}
	if s.Items != nil && s.Items.IsA() {
		out.Items = w.shape(s.Items.A)
	}
	return out
}

func set(s *declaration.Shape, name string, f *declaration.Shape) {
	if s.Fields == nil {
		s.Fields = map[string]*declaration.Shape{}
	}
	s.Fields[name] = f
}
