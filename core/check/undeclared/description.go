package undeclared

// Rule: What describes the API is known by its content, and read as an inventory beside ours.

import (
	"encoding/json"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"millgate/core/check"
)

// Description is what an OpenAPI document (versions 2 and 3) says, as far as it was read.
type Description struct {
	Routes []Operation
	// Servers are where requests go: addresses, or paths on the host that gave it.
	Servers []string
	Asks    bool // it names schemes of credentials
	Cut     bool // not all of it was kept
}

// Operation is an operation that a description names.
type Operation struct {
	Method, Path string // a template, from the root of its server
	// Asks says whether it asks for a credential; Says is false where nothing says so.
	Asks, Says bool
}

// operations are the members of a path item that are methods (OpenAPI 3.1 section 4.8.9).
var operations = []string{"get", "put", "post", "delete", "options", "head", "patch"}

// Read reads a description; ok is false where the text is none. Of one that was cut what stands
// before the cut is read.
func Read(text string, cut bool) (d Description, ok bool) {
	var doc struct {
		OpenAPI, Swagger    any
		Servers             []struct{ URL string }
		Host, BasePath      string
		Schemes             []string
		Security            []map[string]any
		SecurityDefinitions map[string]any                           `json:"securityDefinitions"`
		Components          struct{ SecuritySchemes map[string]any } `json:"components"`
		Paths               map[string]map[string]json.RawMessage
	}
	if cut {
		text = closed(text)
	}
	if json.Unmarshal([]byte(text), &doc) != nil {
		if !inYAML.MatchString(text) || aliased.MatchString(text) {
			return d, false
		}
		b, err := yaml.YAMLToJSON([]byte(text))
		if err != nil || json.Unmarshal(b, &doc) != nil {
			return d, false
		}
	}
	if doc.OpenAPI == nil && doc.Swagger == nil {
		return d, false
	}
	d = Description{Cut: cut, Asks: len(doc.SecurityDefinitions)+len(doc.Components.SecuritySchemes) > 0}
	for _, s := range doc.Servers {
		d.Servers = append(d.Servers, s.URL)
	}
	if doc.Swagger != nil {
		at := doc.BasePath
		if doc.Host != "" {
			at = append(doc.Schemes, "https")[0] + "://" + doc.Host + at
		}
		d.Servers = append(d.Servers, at)
	}
	for path, item := range doc.Paths {
		for _, m := range operations {
			raw, is := item[m]
			if !is {
				continue
			}
			var op struct{ Security *[]map[string]any }
			if json.Unmarshal(raw, &op) != nil {
				continue
			}
			n := Operation{Method: strings.ToUpper(m), Path: path, Asks: asks(doc.Security), Says: doc.Security != nil}
			if op.Security != nil {
				n.Asks, n.Says = asks(*op.Security), true
			}
			d.Routes = append(d.Routes, n)
		}
	}
	slices.SortFunc(d.Routes, func(a, b Operation) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Method, b.Method)
	})
	return d, true
}

var (
	inYAML = regexp.MustCompile(`(?m)^(openapi|swagger):`)
	// aliased is a text whose values may stand for others (YAML 1.2 section 7.1): a short one can say
	// more than fits into memory.
	aliased = regexp.MustCompile(`[:,\[{-]\s*[&*]\w`)
)

// asks says whether a list of requirements asks for a credential: none, or an empty one among
// them, does not (OpenAPI 3.1 section 4.8.30).
func asks(list []map[string]any) bool {
	return len(list) > 0 && !slices.ContainsFunc(list, func(m map[string]any) bool { return len(m) == 0 })
}

// closed is a JSON text that was cut, up to the last value that stands whole in a path item, with
// what is open closed. Of YAML it is what stands before the last line.
func closed(text string) string {
	if !strings.HasPrefix(strings.TrimSpace(text), "{") {
		return text[:strings.LastIndexByte(text, '\n')+1]
	}
	const item = 3 // braces deep stand operations: the document, paths, a path
	var open []byte
	end, tail := 0, ""
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			open = append(open, c+2) // the other bracket stands two behind in ASCII
		case (c == '}' || c == ']') && len(open) > 0:
			if open = open[:len(open)-1]; len(open) <= item {
				end, tail = i+1, reversed(open)
			}
		}
	}
	return text[:end] + tail
}

func reversed(b []byte) string {
	b = slices.Clone(b)
	slices.Reverse(b)
	return string(b)
}

// At is the path of an operation from the root of its host, and the address of the server that it
// is sent to, "" where that is where the description was found.
func (d Description) At(n Operation) (path, server string) {
	if len(d.Servers) == 0 {
		return n.Path, ""
	}
	u, err := url.Parse(d.Servers[0])
	if err != nil {
		return n.Path, ""
	}
	if u.Host != "" {
		server = u.Scheme + "://" + u.Host
	}
	return strings.TrimSuffix(u.Path, "/") + n.Path, server
}

// inPage finds addresses that a page names and that may describe an API.
var inPage = regexp.MustCompile(`["'](?:https?://[^"'/]+)?(/?[A-Za-z0-9_./-]*(?:openapi|swagger|api-docs|asyncapi)` +
	`[A-Za-z0-9_./-]*|/?[A-Za-z0-9_./-]+\.(?:json|ya?ml))["']`)

// mostNamed is how many addresses of a page are looked at.
const mostNamed = 3

// namedBy are the paths that a page names, from the root of its host.
func namedBy(a check.Answer, at string) (out []string) {
	if !strings.Contains(a.Header("Content-Type"), "html") {
		return nil
	}
	base, err := url.Parse(at)
	if err != nil {
		return nil
	}
	for _, m := range inPage.FindAllStringSubmatch(string(a.Body), -1) {
		u, err := url.Parse(m[1])
		if err != nil || strings.HasSuffix(m[1], ".js") || strings.HasSuffix(m[1], ".css") {
			continue
		}
		if p := base.ResolveReference(u).Path; !slices.Contains(out, p) && p != base.Path {
			out = append(out, p)
		}
	}
	return out[:min(len(out), mostNamed)]
}
