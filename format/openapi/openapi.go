// Package openapi reads routes from OpenAPI 3.0 and 3.1 descriptions: methods,
// paths with the prefix of the first server, sample values from examples and
// schemas, and what the response schemas list.
package openapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi"
	"github.com/pb33f/libopenapi/datamodel"
	"github.com/pb33f/libopenapi/datamodel/high/base"
	v3 "github.com/pb33f/libopenapi/datamodel/high/v3"

	"millgate/core/declaration"
)

// ErrFormat is wrapped when the text is not an OpenAPI 3 description at all.
var ErrFormat = errors.New("not an OpenAPI 3.0 or 3.1 description")

// Read returns the routes in the order of the text. What could not be read is
// listed in problems; it does not stop the rest.
func Read(text []byte) (routes []declaration.Imported, problems []error) {
	doc, err := libopenapi.NewDocumentWithConfiguration(text, &datamodel.DocumentConfiguration{AllowFileReferences: false, AllowRemoteReferences: false})
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
	prefix := ""
	if s := model.Model.Servers; len(s) > 0 {
		if u, err := url.Parse(s[0].URL); err == nil {
			prefix = strings.TrimRight(u.Path, "/")
		}
	}
	for path, item := range model.Model.Paths.PathItems.FromOldest() {
		for method, op := range item.GetOperations().FromOldest() {
			im := declaration.Imported{Method: strings.ToUpper(method), Path: prefix + path, Summary: op.Summary, Line: 1}
			if low := op.GoLow(); low != nil && low.KeyNode != nil {
				im.Line = low.KeyNode.Line
			}
			im.Sample = sample(append(append([]*v3.Parameter{}, item.Parameters...), op.Parameters...), op.RequestBody)
			im.Answers = answers(op.Responses)
			routes = append(routes, im)
		}
	}
	return routes, problems
}

func sample(params []*v3.Parameter, body *v3.RequestBody) declaration.Sample {
	var s declaration.Sample
	put := func(m *map[string]string, k, v string) {
		if *m == nil {
			*m = map[string]string{}
		}
		(*m)[k] = v
	}
	for _, p := range params {
		v, ok := paramValue(p)
		required := p.Required != nil && *p.Required
		if !ok || !required && p.In != "path" {
			continue
		}
		switch p.In {
		case "path":
			put(&s.Path, p.Name, v)
		case "query":
			put(&s.Query, p.Name, v)
		case "header":
			put(&s.Headers, p.Name, v)
		}
	}
	if body == nil || body.Content == nil {
		return s
	}
	for ct, media := range body.Content.FromOldest() {
		v, ok := mediaValue(media)
		if !ok {
			continue
		}
		switch {
		case strings.Contains(ct, "json"):
			if b, err := json.Marshal(v); err == nil {
				s.JSON = b
			}
			if ct != "application/json" {
				s.Type = ct
			}
			return s
		case ct == "application/x-www-form-urlencoded":
			if m, isMap := v.(map[string]any); isMap {
				for k, x := range m {
					put(&s.Form, k, fmt.Sprint(x))
				}
			}
			return s
		case strings.HasPrefix(ct, "text/"):
			s.Text, s.Type = fmt.Sprint(v), ct
			return s
		}
	}
	return s
}

func node(n *yaml.Node) (any, bool) {
	if n == nil {
		return nil, false
	}
	var v any
	if n.Decode(&v) != nil {
		return nil, false
	}
	return plain(v), true
}

// plain turns maps with non-string keys into what JSON can hold.
func plain(v any) any {
	switch x := v.(type) {
	case map[any]any:
		m := map[string]any{}
		for k, e := range x {
			m[fmt.Sprint(k)] = plain(e)
		}
		return m
	case map[string]any:
		for k, e := range x {
			x[k] = plain(e)
		}
	case []any:
		for i, e := range x {
			x[i] = plain(e)
		}
	}
	return v
}

func paramValue(p *v3.Parameter) (string, bool) {
	if v, ok := node(p.Example); ok {
		return fmt.Sprint(v), true
	}
	if p.Examples != nil {
		for _, e := range p.Examples.FromOldest() {
			if v, ok := node(e.Value); ok {
				return fmt.Sprint(v), true
			}
		}
	}
	if p.Schema != nil {
		if v, ok := schemaExample(p.Schema.Schema()); ok {
			return fmt.Sprint(v), true
		}
	}
	return "", false
}

func mediaValue(m *v3.MediaType) (any, bool) {
	if v, ok := node(m.Example); ok {
		return v, true
	}
	if m.Examples != nil {
		for _, e := range m.Examples.FromOldest() {
			if v, ok := node(e.Value); ok {
				return v, true
			}
		}
	}
	if m.Schema != nil {
		return fromSchema(m.Schema.Schema(), 0)
	}
	return nil, false
}

func schemaExample(s *base.Schema) (any, bool) {
	if s == nil {
		return nil, false
	}
	if v, ok := node(s.Example); ok {
		return v, true
	}
	for _, list := range [][]*yaml.Node{s.Examples, s.Enum} {
		if len(list) > 0 {
			return node(list[0])
		}
	}
	return node(s.Default)
}

// fromSchema builds a value from examples, or from types where there are none.
func fromSchema(s *base.Schema, depth int) (any, bool) {
	if s == nil || depth > 12 {
		return nil, false
	}
	if v, ok := schemaExample(s); ok {
		return v, true
	}
	if len(s.AllOf) > 0 {
		out := map[string]any{}
		for _, p := range s.AllOf {
			if v, ok := fromSchema(p.Schema(), depth+1); ok {
				if m, isMap := v.(map[string]any); isMap {
					for k, x := range m {
						out[k] = x
					}
				}
			}
		}
		return out, true
	}
	for _, list := range [][]*base.SchemaProxy{s.OneOf, s.AnyOf} {
		if len(list) > 0 {
			return fromSchema(list[0].Schema(), depth+1)
		}
	}
	kind := ""
	for _, t := range s.Type {
		if t != "null" {
			kind = t
			break
		}
	}
	switch {
	case kind == "object" || s.Properties != nil:
		out := map[string]any{}
		if s.Properties != nil {
			for name, p := range s.Properties.FromOldest() {
				sub := p.Schema()
				if sub != nil && sub.ReadOnly != nil && *sub.ReadOnly {
					continue
				}
				if v, ok := fromSchema(sub, depth+1); ok {
					out[name] = v
				}
			}
		}
		return out, true
	case kind == "array":
		if s.Items != nil && s.Items.IsA() {
			if v, ok := fromSchema(s.Items.A.Schema(), depth+1); ok {
				return []any{v}, true
			}
		}
		return []any{}, true
	case kind == "integer" || kind == "number":
		if s.Minimum != nil {
			return *s.Minimum, true
		}
		return 1, true
	case kind == "boolean":
		return true, true
	case kind == "string":
		switch s.Format {
		case "date":
			return "2026-01-15", true
		case "date-time":
			return "2026-01-15T12:00:00Z", true
		case "email":
			return "probe@mail.example", true
		case "uuid":
			return "3f2a4c1e-5b6d-4e7f-8a90-1b2c3d4e5f60", true
		case "uri":
			return "https://probe.example/", true
		}
		v := "probe"
		if s.MinLength != nil && int64(len(v)) < *s.MinLength && *s.MinLength < 4096 {
			v += strings.Repeat("x", int(*s.MinLength)-len(v))
		}
		return v, true
	}
	return nil, false
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
				out[code] = shape(m.Schema.Schema(), 0)
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

func shape(s *base.Schema, depth int) *declaration.Shape {
	if s == nil || depth > 12 || len(s.OneOf) > 0 || len(s.AnyOf) > 0 {
		return &declaration.Shape{Open: true}
	}
	out := &declaration.Shape{}
	for _, p := range s.AllOf {
		sub := shape(p.Schema(), depth+1)
		if sub.Open {
			return sub
		}
		for k, f := range sub.Fields {
			set(out, k, f)
		}
	}
	if s.Properties != nil {
		for name, p := range s.Properties.FromOldest() {
			set(out, name, shape(p.Schema(), depth+1))
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
		out.Items = shape(s.Items.A.Schema(), depth+1)
	}
	return out
}

func set(s *declaration.Shape, name string, f *declaration.Shape) {
	if s.Fields == nil {
		s.Fields = map[string]*declaration.Shape{}
	}
	s.Fields[name] = f
}
