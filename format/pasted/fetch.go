package pasted

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"

	"millgate/core/byexample"
)

// fetches reads the calls of fetch (Fetch Standard, section 5.4) in a script.
func fetches(text string) (out []*byexample.Request, err error) {
	ast, err := js.Parse(parse.NewInputString(text), js.Options{})
	if err != nil {
		return nil, fmt.Errorf("%w: the script cannot be read: %s", ErrNothing, firstLine(err.Error()))
	}
	v := &calls{text: text}
	js.Walk(v, ast)
	return v.out, v.err
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return s
}

// calls gathers calls of fetch.
type calls struct {
	text string
	out  []*byexample.Request
	err  error
}

func (v *calls) Exit(js.INode) {}

func (v *calls) Enter(n js.INode) js.IVisitor {
	call, ok := n.(*js.CallExpr)
	if !ok || !isFetch(call.X) || len(call.Args.List) == 0 {
		return v
	}
	r := &byexample.Request{Form: byexample.Fetch, Method: "GET", Line: 1 + strings.Count(v.text[:max(0,
		nth(v.text, "fetch(", len(v.out)))], "\n")}
	var to string
	if !literal(call.Args.List[0].Value, &to) {
		v.err = fmt.Errorf("%w: the address of fetch is no text", ErrNothing)
		return v
	}
	u, err := address(to)
	if err != nil {
		v.err = err
		return v
	}
	r.URL = u
	if len(call.Args.List) > 1 {
		options, ok := call.Args.List[1].Value.(*js.ObjectExpr)
		if !ok {
			r.Miss("the options of fetch, which are no object")
		} else {
			for _, p := range options.List {
				option(r, p)
			}
		}
	}
	v.out = append(v.out, r)
	return v
}

// nth is where a text stands the nth time, from 0; -1 where it does not.
func nth(text, what string, n int) int {
	at := -1
	for range n + 1 {
		i := strings.Index(text[at+1:], what)
		if i < 0 {
			return -1
		}
		at += 1 + i
	}
	return at
}

func isFetch(x js.IExpr) bool {
	if d, ok := x.(*js.DotExpr); ok { // window.fetch
		return named(d.Y, "fetch")
	}
	return named(x, "fetch")
}

// named says whether an expression is a name.
func named(x js.IExpr, name string) bool {
	switch v := x.(type) {
	case *js.Var:
		return string(v.Data) == name
	case *js.LiteralExpr:
		return string(v.Data) == name
	case js.LiteralExpr:
		return string(v.Data) == name
	}
	return false
}

// ways are options of fetch that say how a page sends it, and nothing about who calls.
var ways = []string{"mode", "credentials", "cache", "redirect", "referrerPolicy", "integrity", "keepalive", "signal",
	"priority", "duplex"}

func option(r *byexample.Request, p js.Property) {
	name := ""
	if p.Name != nil {
		name = unquoted(p.Name.Literal.Data)
	}
	switch {
	case p.Spread || name == "":
		r.Miss("an option of fetch that is no plain member")
	case name == "method":
		if literal(p.Value, &r.Method) {
			r.Method = strings.ToUpper(r.Method)
			return
		}
		r.Miss("the method, which is no text")
	case name == "headers":
		fields(r, p.Value)
	case name == "body":
		body(r, p.Value)
	case name == "referrer":
		var s string
		if literal(p.Value, &s) && s != "" {
			r.Add("Referer", s)
		}
	case !slices.Contains(ways, name):
		r.Miss("the option " + name + " of fetch")
	}
}

func fields(r *byexample.Request, x js.IExpr) {
	if n, ok := x.(*js.NewExpr); ok && n.Args != nil && len(n.Args.List) == 1 { // new Headers({…})
		x = n.Args.List[0].Value
	}
	o, ok := x.(*js.ObjectExpr)
	if !ok {
		r.Miss("the headers, which are no object")
		return
	}
	for _, p := range o.List {
		var v string
		switch {
		case p.Name == nil || p.Name.IsComputed() || p.Spread:
			r.Miss("a header whose name is no text")
		case !literal(p.Value, &v):
			r.Miss("the header " + unquoted(p.Name.Literal.Data) + ", whose value is no text")
		default:
			r.Add(unquoted(p.Name.Literal.Data), v)
		}
	}
}

// body is a text, or JSON.stringify of a value.
func body(r *byexample.Request, x js.IExpr) {
	var s string
	switch v := x.(type) {
	case *js.CallExpr:
		var value json.RawMessage
		var flat bytes.Buffer
		if d, ok := v.X.(*js.DotExpr); ok && named(d.X, "JSON") && named(d.Y, "stringify") && len(v.Args.List) == 1 &&
			literal(v.Args.List[0].Value, &value) && json.Compact(&flat, value) == nil {
			r.Body = flat.Bytes()
			return
		}
	case *js.LiteralExpr:
		if v.TokenType == js.NullToken {
			return
		}
	}
	if literal(x, &s) {
		r.Body = []byte(s)
		return
	}
	r.Miss("the body, which is no text")
}

// literal reads a value that stands there as it is.
func literal(x js.IExpr, into any) bool {
	if t, ok := x.(*js.TemplateExpr); ok && len(t.List) == 0 && t.Tag == nil {
		b, err := json.Marshal(strings.Trim(string(t.Tail), "`"))
		return err == nil && json.Unmarshal(b, into) == nil
	}
	j, ok := x.(js.JSONer)
	if !ok {
		return false
	}
	var b bytes.Buffer
	return j.JSON(&b) == nil && json.Unmarshal(b.Bytes(), into) == nil
}

func unquoted(b []byte) string {
	var s string
	if len(b) > 1 && (b[0] == '"' || b[0] == '\'') {
		if literal(&js.LiteralExpr{TokenType: js.StringToken, Data: b}, &s) {
			return s
		}
	}
	return string(b)
}
