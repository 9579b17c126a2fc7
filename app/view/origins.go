package view

import (
	"strings"

	"millgate/core/check/pages"
	"millgate/core/declaration"
)

// PagesView is what pages may do by a text, beside the one that is kept.
type PagesView struct {
	Entries []PageEntry
	Pages   []pages.Seen
	Turned  []pages.Turned // at most mostTurned
	Total   int            // how many change
}

// PageEntry is an entry of `origins`.
type PageEntry struct {
	Place  declaration.Place
	Here   bool // it stands in the text itself, not in a file that it includes
	At     []string
	Routes int // that it decides
	Allow  []PagePermission
}

// PagePermission is a permission as a form has it: its members as text, lists with commas between.
type PagePermission struct {
	Origin  string
	Members map[string]string
}

const mostTurned = 5000

// Pages says what pages may do by a text, "" is the kept one.
func (vw *View) Pages(text string) (PagesView, error) {
	d, err := vw.beside(text)
	if err != nil {
		return PagesView{}, err
	}
	out := PagesView{Entries: entriesOf(d)}
	out.Pages, out.Turned = pages.Compare(vw.ws.Present().Doc, d)
	out.Total = pages.Changes(out.Turned)
	out.Turned = out.Turned[:min(len(out.Turned), mostTurned)]
	return out, nil
}

func entriesOf(d *declaration.Document) []PageEntry {
	routes := make([]int, len(d.Origins))
	for _, at := range d.OriginsAt {
		if at >= 0 {
			routes[at]++
		}
	}
	out := []PageEntry{}
	for k, e := range d.Origins {
		x := PageEntry{Place: e.Place, Here: e.File == d.Name, At: []string{}, Routes: routes[k],
			Allow: []PagePermission{}}
		for _, s := range e.At {
			x.At = append(x.At, s.String())
		}
		for _, p := range e.Allow {
			m := map[string]string{}
			for _, f := range p.Members() {
				m[f[0]] = f[1]
			}
			for n, list := range map[string][]string{"methods": p.Methods, "headers": p.Headers, "expose": p.Expose} {
				if len(list) > 0 {
					m[n] = strings.Join(list, ", ")
				}
			}
			x.Allow = append(x.Allow, PagePermission{p.Origin, m})
		}
		out = append(out, x)
	}
	return out
}
