package standin

import (
	"io"
	"strings"
)

// describes serves what describes the API: operators may see it.
func (s *Service) describes(c *call, table []*rt) (done bool) {
	if &table[0] != &s.api[0] || c.r.Method != "GET" {
		return false
	}
	who, why := s.bearer(c.r.Header.Get("Authorization"), "GET "+c.r.URL.Path)
	switch c.r.URL.Path {
	case "/openapi.json":
		switch {
		case s.flaws[DocsOpen]:
		case who == nil:
			c.problem(401, why)
			return true
		case !who.has("operator"):
			c.problem(403, "you are not among those who may do this")
			return true
		}
		c.json(200, s.description())
	case "/docs":
		if !s.flaws[DocsOpen] {
			return false
		}
		c.w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(c.w, "<!doctype html><title>Fernhollow, for those who call it</title>"+
			`<script>const from = "/openapi.json"</script><p>Put your token here: <input>`)
	case "/v1/diagnostics":
		if !s.flaws[DocsNameMore] {
			return false
		}
		if who == nil {
			c.problem(401, why)
			return true
		}
		c.json(200, map[string]any{"dome": "closed", "disk": 41})
	default:
		return false
	}
	return true
}

// description is an OpenAPI document of its routes.
func (s *Service) description() map[string]any {
	type object = map[string]any
	paths := map[string]object{}
	add := func(method, path string, guarded bool) {
		if paths[path] == nil {
			paths[path] = object{}
		}
		op := object{"responses": object{"default": object{"description": "what came of it"}}, "security": []any{}}
		if guarded {
			op["security"] = []any{object{"access": []string{}}}
		}
		paths[path][strings.ToLower(method)] = op
	}
	for _, t := range s.api {
		add(t.method, "/"+strings.Join(t.segs, "/"), t.guard.scheme != "")
	}
	if s.flaws[DocsNameMore] {
		add("GET", "/v1/diagnostics", true)
	}
	return object{"openapi": "3.0.3", "info": object{"title": "Fernhollow", "version": "1"}, "paths": paths,
		"components": object{"securitySchemes": object{"access": object{"type": "http", "scheme": "bearer"}}}}
}
