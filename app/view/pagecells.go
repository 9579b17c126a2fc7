package view

import (
	"fmt"
	"slices"

	"millgate/core/access"
	"millgate/core/check/pages"
	"millgate/core/declaration"
	"millgate/core/origin"
)

// pageMemo remembers what is declared for pages: routes that are called alike,
// under one entry, have it in common.
type pageMemo struct {
	d     *declaration.Document
	known map[string][]string
}

// declared has a word for each page at route i, Absent where it has no such page; i is -1 for a
// route that the inventory does not have.
func (m *pageMemo) declared(list []origin.Page, i int) []string {
	switch {
	case i < 0:
		return slices.Repeat([]string{Absent}, len(list))
	case access.IsUndecided(m.d, i):
		return slices.Repeat([]string{undecided}, len(list))
	}
	call := pages.CallOf(m.d, i, "")
	key := fmt.Sprintf("%v %q %q %+v", m.d.OriginsAt[i], call.Method, call.ContentType, call.Credential)
	if s, ok := m.known[key]; ok {
		return s
	}
	out := make([]string, len(list))
	for k, col := range list {
		out[k] = Absent
		if page, ok := pages.At(m.d, i, col.ID); ok {
			out[k] = origin.Expect(call, page.Origin, pages.Allowed(m.d, i)).Does.Word()
		}
	}
	m.known[key] = out
	return out
}
