package declaration

import (
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
