package openapi

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi/datamodel/high/base"
	v3 "github.com/pb33f/libopenapi/datamodel/high/v3"

	"millgate/core/declaration"
)

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
		if ct == "multipart/form-data" {
			s.Parts = partsOf(media, v)
			return s
		}
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

// partsOf are the parts of a multipart body in the order of its schema, with an example's values. A file holds made-up
// text of the first content type that the description gives it (OpenAPI 3.1, Encoding Object).
func partsOf(media *v3.MediaType, example any) (out declaration.Parts) {
	values, _ := example.(map[string]any)
	var schema *base.Schema
	if media.Schema != nil {
		schema = media.Schema.Schema()
	}
	if schema == nil || schema.Properties == nil {
		for _, k := range slices.Sorted(maps.Keys(values)) {
			out = append(out, declaration.Part{Name: k, Text: fmt.Sprint(values[k])})
		}
		return out
	}
	for k, of := range schema.Properties.FromOldest() {
		p, x := of.Schema(), declaration.Part{Name: k}
		if media.Encoding != nil {
			if e, ok := media.Encoding.Get(k); ok && e != nil {
				x.Type, _, _ = strings.Cut(e.ContentType, ",")
			}
		}
		v, known := values[k]
		switch {
		case p != nil && (p.Format == "binary" || p.ContentMediaType != ""):
			if x.Type == "" {
				x.Type = cmp.Or(p.ContentMediaType, "application/octet-stream")
			}
			x.File, x.Text = "sample", "made up"
		case !known:
			continue
		default:
			x.Text = textOf(v)
		}
		out = append(out, x)
	}
	return out
}

// textOf is a value in a part: a text as it is, else JSON.
func textOf(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
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
		return newWalk().value(m.Schema)
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

// walk goes through a schema that may refer to itself, by way of others: none is
// entered while it is open, and no more than so many are entered in all. Five that
// refer to each other would otherwise be a tree that no memory holds.
type walk struct {
	left int
	open map[string]bool // references on the way here
}

// mostSchemas is how many schemas make one sample, or one shape, at most.
const mostSchemas = 4000

func newWalk() *walk { return &walk{left: mostSchemas, open: map[string]bool{}} }

// enter gives the schema behind a proxy; leave is called when it is done. nil where
// it is not entered.
func (w *walk) enter(p *base.SchemaProxy) (s *base.Schema, leave func()) {
	ref := p.GetReference()
	if w.left == 0 || ref != "" && w.open[ref] || len(w.open) > 12 {
		return nil, func() {}
	}
	w.left--
	if ref == "" {
		return p.Schema(), func() {}
	}
	w.open[ref] = true
	return p.Schema(), func() { delete(w.open, ref) }
}

// value builds a value from examples, or from types where there are none.
func (w *walk) value(p *base.SchemaProxy) (any, bool) {
	s, leave := w.enter(p)
	defer leave()
	if s == nil {
		return nil, false
	}
	if v, ok := schemaExample(s); ok {
		return v, true
	}
	if len(s.AllOf) > 0 {
		out := map[string]any{}
		for _, p := range s.AllOf {
			if v, ok := w.value(p); ok {
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
			return w.value(list[0])
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
				if sub := p.Schema(); sub != nil && sub.ReadOnly != nil && *sub.ReadOnly {
					continue
				}
				if v, ok := w.value(p); ok {
					out[name] = v
				}
			}
		}
		return out, true
	case kind == "array":
		n := 1
		if s.MinItems != nil {
			n = int(max(1, min(*s.MinItems, 50)))
		}
		if s.Items != nil && s.Items.IsA() {
			if v, ok := w.value(s.Items.A); ok {
				out := make([]any, n)
				for i := range out {
					out[i] = v
				}
				return out, true
			}
		}
		return []any{}, true
	case kind == "integer" || kind == "number":
		return number(s, kind == "integer"), true
	case kind == "boolean":
		return true, true
	case kind == "string":
		return word(s), true
	}
	return nil, false
}

// number is one that the schema's bounds allow.
func number(s *base.Schema, whole bool) any {
	lo, hi := math.Inf(-1), math.Inf(1)
	step := 1.0
	if s.Minimum != nil {
		lo = *s.Minimum
	}
	if s.Maximum != nil {
		hi = *s.Maximum
	}
	if e := s.ExclusiveMinimum; e != nil && e.IsB() {
		lo = math.Max(lo, math.Nextafter(e.B, math.Inf(1)))
	} else if e != nil && e.A && s.Minimum != nil {
		lo = math.Nextafter(lo, math.Inf(1))
	}
	if e := s.ExclusiveMaximum; e != nil && e.IsB() {
		hi = math.Min(hi, math.Nextafter(e.B, math.Inf(-1)))
	} else if e != nil && e.A && s.Maximum != nil {
		hi = math.Nextafter(hi, math.Inf(-1))
	}
	if s.MultipleOf != nil && *s.MultipleOf > 0 {
		step = *s.MultipleOf
	}
	v := step
	if v < lo {
		v = math.Ceil(lo/step) * step
	}
	if v > hi {
		v = math.Floor(hi/step) * step
	}
	if !whole && (v < lo || v > hi) {
		v = lo + (hi-lo)/2
	}
	if whole || v == math.Trunc(v) && math.Abs(v) < 1<<53 {
		return int64(v)
	}
	return v
}

// formats have a value each that every service should take.
var formats = map[string]string{"date": "2026-01-15", "date-time": "2026-01-15T12:00:00Z", "time": "12:00:00Z",
	"duration": "PT1H", "email": "probe@mail.example", "uuid": "3f2a4c1e-5b6d-4e7f-8a90-1b2c3d4e5f60",
	"uri": "https://probe.example/", "url": "https://probe.example/", "hostname": "probe.example", "ipv4": "192.0.2.1",
	"ipv6": "2001:db8::1", "byte": "cHJvYmU="}

// word is one that the schema's format, pattern and lengths allow.
func word(s *base.Schema) string {
	v, ok := formats[s.Format]
	if !ok {
		v = "probe"
	}
	if s.Pattern != "" {
		if p, err := regexp.Compile(s.Pattern); err == nil && !p.MatchString(v) {
			if made := matching(s.Pattern, s.MinLength); p.MatchString(made) {
				v = made
			}
		}
		return v
	}
	if s.MinLength != nil && int64(len(v)) < *s.MinLength && *s.MinLength < 4096 {
		v += strings.Repeat("x", int(*s.MinLength)-len(v))
	}
	if s.MaxLength != nil && int64(len(v)) > *s.MaxLength && *s.MaxLength >= 0 {
		v = v[:*s.MaxLength]
	}
	return v
}

// matching makes a text that an expression matches, as short as it can be; at
// least the length that is asked for where repetitions allow it.
func matching(pattern string, least *int64) string {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return ""
	}
	made := example(re.Simplify(), 0)
	for n := 1; least != nil && int64(len(made)) < *least && n < 64; n++ {
		made = example(re.Simplify(), n)
	}
	return made
}

func example(re *syntax.Regexp, more int) string {
	switch re.Op {
	case syntax.OpLiteral:
		return string(re.Rune)
	case syntax.OpCharClass:
		for _, want := range "ap0A1" {
			for i := 0; i+1 < len(re.Rune); i += 2 {
				if re.Rune[i] <= want && want <= re.Rune[i+1] {
					return string(want)
				}
			}
		}
		if len(re.Rune) > 0 {
			return string(re.Rune[0])
		}
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return "a"
	case syntax.OpCapture, syntax.OpPlus:
		out := example(re.Sub[0], more)
		if re.Op == syntax.OpPlus {
			out += strings.Repeat(out, more)
		}
		return out
	case syntax.OpStar, syntax.OpQuest:
		if more > 0 {
			return strings.Repeat(example(re.Sub[0], more), map[bool]int{true: more, false: 1}[re.Op == syntax.OpStar])
		}
	case syntax.OpRepeat:
		n := re.Min
		if re.Max < 0 || re.Max > n {
			n += more
			if re.Max >= 0 {
				n = min(n, re.Max)
			}
		}
		return strings.Repeat(example(re.Sub[0], more), min(n, 256))
	case syntax.OpConcat:
		var b strings.Builder
		for _, r := range re.Sub {
			b.WriteString(example(r, more))
		}
		return b.String()
	case syntax.OpAlternate:
		return example(re.Sub[0], more)
	default:
	}
	return ""
}
