package view

import (
	"fmt"
	"strings"

	"millgate/core/check/pages"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/origin"
)

// letters are a row's cells in the Origins lens: what is declared, the
// verdicts, and what a browser lets the page do, "." where that is not known.
func (m *pageMemo) letters(list []origin.Page, i int, row Row, seen map[[2]string]finding.Kind,
	does map[[2]string]string) (expect, found, can string) {
	e := m.declared(list, i)
	var v, c []byte
	for _, col := range list {
		k := [2]string{row.Key, col.ID}
		letter := byte('.')
		if d, ok := origin.DoesOf(does[k]); ok {
			letter = d.Letter()
		}
		v, c = append(v, verdictLetter(seen[k])), append(c, letter)
	}
	return e, string(v), string(c)
}

// pageMemo remembers what is declared for pages: routes that are called alike,
// under one entry, have it in common.
type pageMemo struct {
	d     *declaration.Document
	known map[string]string
}

// declared has a letter for each page at route i, "-" where it has no such page.
func (m *pageMemo) declared(list []origin.Page, i int) string {
	if i < 0 {
		return strings.Repeat("-", len(list))
	}
	call := pages.CallOf(m.d, i, "")
	key := fmt.Sprint(m.d.OriginsAt[i], call.Method, "\x00", call.ContentType, "\x00", call.Credential)
	if s, ok := m.known[key]; ok {
		return s
	}
	out := make([]byte, len(list))
	for k, col := range list {
		out[k] = '-'
		if page, ok := pages.At(m.d, i, col.ID); ok {
			out[k] = origin.Expect(call, page.Origin, pages.Allowed(m.d, i)).Does.Letter()
		}
	}
	m.known[key] = string(out)
	return string(out)
}
