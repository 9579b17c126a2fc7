package declaration

import (
	"bytes"
	"encoding/json"
	"fmt"
	"sort"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Edits from the interface change lines of the text and leave all other lines
// as they are, comments and layout included.

// span finds the lines of a top-level section: where its key stands and where
// the next one begins (counted from 0, end exclusive). ok is false when the
// section is not there.
func span(text, section string) (start, end int, node ast.Node, ok bool) {
	file, err := parser.ParseBytes([]byte(text), 0, parser.AllowDuplicateMapKey())
	if err != nil || len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return 0, 0, nil, false
	}
	m, isMap := file.Docs[0].Body.(*ast.MappingNode)
	if !isMap {
		return 0, 0, nil, false
	}
	end = len(strings.Split(strings.TrimRight(text, "\n"), "\n"))
	for i, v := range m.Values {
		if v.Key.GetToken().Value != section {
			continue
		}
		start = v.Key.GetToken().Position.Line - 1
		if i+1 < len(m.Values) {
			end = m.Values[i+1].Key.GetToken().Position.Line - 1
		}
		return start, end, v.Value, true
	}
	return 0, 0, nil, false
}

func splitLines(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(strings.TrimRight(text, "\n"), "\n")
}

// trimEnd moves an end upward over blank lines and comments, which belong to
// what follows.
func trimEnd(lines []string, start, end int) int {
	for end > start+1 {
		l := strings.TrimSpace(lines[end-1])
		if l != "" && !strings.HasPrefix(l, "#") {
			break
		}
		end--
	}
	return end
}

func splice(lines []string, from, to int, put []string) string {
	out := append([]string{}, lines[:from]...)
	out = append(out, put...)
	out = append(out, lines[to:]...)
	return strings.Join(out, "\n") + "\n"
}

// PutTarget writes a target into the text: in place of the one with the same
// name, or after the last one.
func PutTarget(text string, t Target) (string, error) {
	lines := splitLines(text)
	start, end, node, ok := span(text, "targets")
	if !ok {
		if len(lines) > 0 {
			lines = append(lines, "")
		}
		return splice(lines, len(lines), len(lines), append([]string{"targets:"}, targetLines(t, "  ")...)), nil
	}
	end = trimEnd(lines, start, end)
	if isNull(node) {
		return splice(lines, start, end, append([]string{"targets:"}, targetLines(t, "  ")...)), nil
	}
	m, isMap := node.(*ast.MappingNode)
	if !isMap || m.IsFlowStyle {
		return "", fmt.Errorf("the targets are written in one line; write one target per line first, then edit them here")
	}
	indent := "  "
	for i, v := range m.Values {
		p := v.Key.GetToken().Position
		indent = strings.Repeat(" ", p.Column-1)
		if v.Key.GetToken().Value != t.Name {
			continue
		}
		to := end
		if i+1 < len(m.Values) {
			to = trimEnd(lines, p.Line-1, m.Values[i+1].Key.GetToken().Position.Line-1)
		}
		return splice(lines, p.Line-1, to, targetLines(t, indent)), nil
	}
	return splice(lines, end, end, targetLines(t, indent)), nil
}

func plainScalar(s string) string {
	if s == "" || strings.ContainsAny(s, "{}[],#\"'&*!|>%@`") || strings.Contains(s, ": ") || strings.TrimSpace(s) != s {
		return strconv.Quote(s)
	}
	return s
}

func flowMap(m map[string]string) string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = plainScalar(k) + ": " + plainScalar(m[k])
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

func targetLines(t Target, indent string) []string {
	in := indent + "  "
	out := []string{indent + plainScalar(t.Name) + ":", in + "base: " + plainScalar(t.Base)}
	if len(t.Hosts) > 0 {
		out = append(out, in+"hosts: "+flowMap(t.Hosts))
	}
	if len(t.Values) > 0 {
		out = append(out, in+"values: "+flowMap(t.Values))
	}
	if t.Direct != "" {
		out = append(out, in+"direct: "+plainScalar(t.Direct))
	}
	if t.Pace.Count > 0 {
		out = append(out, in+"pace: "+t.Pace.String())
	}
	if t.Unsafe != "" {
		out = append(out, in+"unsafe: "+string(t.Unsafe))
	}
	if len(t.AskFor) > 0 {
		quoted := make([]string, len(t.AskFor))
		for i, s := range t.AskFor {
			quoted[i] = plainScalar(s)
		}
		out = append(out, in+"ask_for: ["+strings.Join(quoted, ", ")+"]")
	}
	return out
}

// AddRoutes appends items to the list of routes, each written as one item:
// "GET /healthz" or "from: file.yaml".
func AddRoutes(text string, items []string) (string, error) {
	lines := splitLines(text)
	put := make([]string, len(items))
	for i, it := range items {
		put[i] = "  - " + it
	}
	start, end, node, ok := span(text, "routes")
	if !ok {
		if len(lines) > 0 {
			lines = append(lines, "")
		}
		return splice(lines, len(lines), len(lines), append([]string{"routes:"}, put...)), nil
	}
	end = trimEnd(lines, start, end)
	if isNull(node) {
		return splice(lines, start, end, append([]string{"routes:"}, put...)), nil
	}
	seq, isSeq := node.(*ast.SequenceNode)
	if !isSeq || seq.IsFlowStyle {
		return "", fmt.Errorf("the routes are written in one line; write one route per line first, then add more here")
	}
	col := seq.Start.Position.Column - 1
	for i := range put {
		put[i] = strings.Repeat(" ", col) + "- " + items[i]
	}
	return splice(lines, end, end, put), nil
}

// PutSample writes what is sent to a route as JSON into the text: into the
// route's own line where there is one, as a new line otherwise. A route that is
// written over several lines is left to the editor.
func PutSample(text, key string, body json.RawMessage) (string, error) {
	var flat bytes.Buffer
	if err := json.Compact(&flat, body); err != nil {
		return "", fmt.Errorf("the sample is not JSON: %w", err)
	}
	// JSON is YAML, and on one line it needs no layout.
	send := "send: { json: " + flat.String() + " }"
	if _, _, node, ok := span(text, "routes"); ok {
		seq, isSeq := node.(*ast.SequenceNode)
		if isSeq && !seq.IsFlowStyle {
			for _, item := range seq.Values {
				at, line, span, found := itemAt(item)
				if !found || at != key {
					continue
				}
				lines := splitLines(text)
				old := lines[line-1]
				switch m := item.(type) {
				case *ast.StringNode:
					i := strings.Index(old, "- ")
					if i < 0 {
						return "", fmt.Errorf("the route %s is written over several lines, in line %d; change its sample in the editor", key, line)
					}
					return splice(lines, line-1, line, []string{old[:i+2] + "{ at: " + strconv.Quote(key) + ", " + send + " }"}), nil
				case *ast.MappingNode:
					end := strings.LastIndexByte(old, '}')
					if span > 1 || !m.IsFlowStyle || end < 0 {
						return "", fmt.Errorf("the route %s is written over several lines, in line %d; change its sample in the editor", key, line)
					}
					from, to := member(old, "send:")
					if from < 0 {
						return splice(lines, line-1, line, []string{strings.TrimRight(old[:end], " ") + ", " + send + " " + old[end:]}), nil
					}
					return splice(lines, line-1, line, []string{old[:from] + send + old[to:]}), nil
				}
			}
		}
	}
	return AddRoutes(text, []string{"{ at: " + strconv.Quote(key) + ", " + send + " }"})
}

// itemAt is the route that an item of the list names, its line, and over how
// many lines it goes.
func itemAt(item ast.Node) (at string, line, lines int, ok bool) {
	switch x := item.(type) {
	case *ast.StringNode:
		return x.Value, x.GetToken().Position.Line, 1, true
	case *ast.MappingNode:
		for _, v := range x.Values {
			p := v.Key.GetToken().Position
			if line == 0 {
				line = p.Line
			}
			lines = p.Line - line + 1
			if v.Key.GetToken().Value == "at" {
				at, ok = v.Value.GetToken().Value, true
			}
		}
	case *ast.MappingValueNode:
		if x.Key.GetToken().Value == "at" {
			return x.Value.GetToken().Value, x.Key.GetToken().Position.Line, 2, true
		}
	}
	return at, line, lines, ok
}

// member finds a member of a mapping in braces on one line, with its value in
// braces; -1 without.
func member(line, key string) (from, to int) {
	from = strings.Index(line, key)
	if from < 0 {
		return -1, -1
	}
	depth, quoted := 0, false
	for i := from; i < len(line); i++ {
		switch c := line[i]; {
		case c == '"' && line[i-1] != '\\':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			if depth--; depth == 0 {
				return from, i + 1
			}
			if depth < 0 {
				return from, i
			}
		case c == ',' && depth == 0:
			return from, i
		}
	}
	return -1, -1
}
