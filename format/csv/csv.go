// Package csv reads tables, and routes from them: RFC 4180 with a comma, a semicolon or a
// tab between the fields, and a first row that names them.
package csv

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/inventory"
)

// ErrFormat is wrapped when the table has no column for paths.
var ErrFormat = errors.New("not a table of routes")

// Problem is a row that could not be read.
type Problem struct {
	Line int
	Text string
}

// columns are the names that a column may have, in any case.
var columns = map[string][]string{
	"method":      {"method", "verb", "http method"},
	"path":        {"path", "route", "url", "uri", "endpoint", "template"},
	"host":        {"host"},
	"summary":     {"summary", "description", "title", "what"},
	"effect":      {"effect"},
	"sensitivity": {"sensitivity"},
	"group":       {"group", "tag", "area"},
}

// Row is one below the first, with its line.
type Row struct {
	Line   int
	Fields []string
}

// Get is the field of a column, "" where the row has none.
func (r Row) Get(column int) string {
	if column < 0 || column >= len(r.Fields) {
		return ""
	}
	return strings.TrimSpace(r.Fields[column])
}

// Table reads the names of the columns and the rows below them. What cannot be read of a row is a problem; its error is
// io.EOF where there is no first row.
func Table(text []byte) (head []string, rows []Row, problems []Problem, err error) {
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	r := csv.NewReader(bytes.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.TrimLeadingSpace, r.LazyQuotes = separator(text), -1, true, true
	if head, err = r.Read(); err != nil {
		return nil, nil, nil, err
	}
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return head, rows, problems, nil
		}
		line, _ := r.FieldPos(0)
		if err != nil {
			var pe *csv.ParseError
			if errors.As(err, &pe) {
				line = pe.Line
			}
			problems = append(problems, Problem{line, err.Error()})
			if len(fields) == 0 {
				continue
			}
		}
		rows = append(rows, Row{line, fields})
	}
}

// Read reads the rows below the first as routes. A route column may hold the method too: "GET /things".
func Read(text []byte) (out []inventory.Incoming, problems []Problem, err error) {
	head, rows, problems, err := Table(text)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: it has no first row", ErrFormat)
	}
	at := map[string]int{}
	for i, h := range head {
		for what, names := range columns {
			if _, ok := at[what]; !ok && slices.Contains(names, strings.ToLower(strings.TrimSpace(h))) {
				at[what] = i
			}
		}
	}
	if _, ok := at["path"]; !ok {
		return nil, nil, fmt.Errorf("%w: the first row names no column \"path\"", ErrFormat)
	}
	for _, row := range rows {
		list, err := incoming(func(what string) string {
			if i, ok := at[what]; ok {
				return row.Get(i)
			}
			return ""
		})
		if err != nil {
			problems = append(problems, Problem{row.Line, err.Error()})
			continue
		}
		for _, x := range list {
			x.Line = row.Line
			out = append(out, x)
		}
	}
	slices.SortStableFunc(problems, func(a, b Problem) int { return a.Line - b.Line })
	return out, problems, nil
}

func separator(text []byte) rune {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	best, n := ',', bytes.Count(first, []byte(","))
	for _, c := range ";\t" {
		if k := bytes.Count(first, []byte(string(c))); k > n {
			best, n = c, k
		}
	}
	return best
}

// incoming are the routes of a row.
func incoming(get func(string) string) (out []inventory.Incoming, err error) {
	var x inventory.Incoming
	path, method := get("path"), strings.ToUpper(get("method"))
	if m, p, ok := strings.Cut(path, " "); ok && method == "" {
		method, path = strings.ToUpper(m), strings.TrimSpace(p)
	}
	switch {
	case path == "":
		return nil, errors.New("it has no path")
	case method == "":
		return nil, errors.New("it has no method")
	}
	if h := get("host"); h != "" && !strings.Contains(path, ":/") {
		path = h + ":" + path
	}
	keys, unclear, err := inventory.Templates(method, path)
	if err != nil {
		return nil, err
	}
	x.Unclear, x.Summary, x.Group = unclear, get("summary"), get("group")
	for what, into := range map[string]*string{"effect": &x.Effect, "sensitivity": &x.Sensitivity} {
		v := strings.ToLower(get(what))
		known := []string{"read", "create", "update", "delete", "command"}
		if what == "sensitivity" {
			known = []string{"low", "medium", "high"}
		}
		if v != "" && !slices.Contains(known, v) {
			hint := strings.Join(known, ", ")
			if near := declaration.Nearest(v, known); near != "" {
				hint = "did you mean " + near + "?"
			}
			return nil, fmt.Errorf("%q is no %s: %s", v, what, hint)
		}
		*into = v
	}
	for _, key := range keys {
		x.Key = key
		out = append(out, x)
	}
	return out, nil
}
