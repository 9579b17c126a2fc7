package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"

	"millgate/app/coverage"
	"millgate/core/finding"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"width": func(n int, s coverage.Share) template.CSS {
		return template.CSS(fmt.Sprintf("%.1f%%", 100*float64(n)/float64(max(1, s.All())))) //nolint:gosec // a number
	},
	"kinds":    func(f *coverage.Figure) shares { return shares{"By kind of check", f.Kinds} },
	"groupsOf": func(f *coverage.Figure) shares { return shares{"By group of routes", f.Groups} },
	"owasp":    func(f *coverage.Figure) shares { return shares{"By OWASP category", f.OWASP} },
	"board":    pictureOf,
	"groups":   func(r *Report) []group { return r.grouped() },
	"join":     func(it Item) string { return strings.Join(it.everyone(), ", ") },
	"exchange": func(x Named) string { return plainExchange(x.Exchange) },
	"notSeen":  func(r *Report) []string { return r.notSeen() },
}).Parse(pageText))

// shares are coverage counted in one way.
type shares struct {
	Name string
	List []coverage.Share
}

// HTML writes a report as one page that needs no script and nothing else.
func (r *Report) HTML(w io.Writer) error { return page.Execute(w, r) }

// picture is the board, drawn.
type picture struct {
	Width, Height int
	Says          string
	Left          int // routes that are not drawn
	Heads, Rows   []drawn
	Cells         []drawn
}

type drawn struct {
	X, Y, TX, TY int
	Text, Fill   string
}

const (
	mostRows   = 120 // beyond it, routes without a gap are left out
	mostHeads  = 40
	nameWidth  = 320
	headHeight = 90
	cellSize   = 18
)

var fills = map[finding.Kind]string{finding.Unprotected: "#a3242b", finding.OverPermissive: "#b4530a",
	finding.Unthrottled: "#6d3fa0", finding.Leaking: "#8a2a63", finding.Undeclared: "#3b4a8c",
	finding.Lifetime: "#3b4a8c", finding.WeakToken: "#3b4a8c", finding.OverRestrictive: "#7a6a12",
	finding.WrongRefusal: "#7a6a12"}

// pictureOf draws the routes of a report by its callers; nil where it has none.
func pictureOf(r *Report) *picture {
	rows := slices.Clone(r.Routes)
	p := &picture{}
	if len(rows) > mostRows {
		rows = slices.DeleteFunc(rows, func(rt Route) bool { return len(rt.Findings) == 0 })
	}
	if len(rows) > mostRows {
		rows = rows[:mostRows]
	}
	p.Left = len(r.Routes) - len(rows)
	heads := r.Callers[:min(len(r.Callers), mostHeads)]
	if len(rows) == 0 || len(heads) == 0 {
		return nil
	}
	p.Width, p.Height = nameWidth+cellSize*len(heads)+70, headHeight+cellSize*len(rows)
	gaps := 0
	for i, who := range heads {
		name := who
		if who == "" {
			name = "nobody"
		}
		p.Heads = append(p.Heads, drawn{X: nameWidth + cellSize*i + 10, Y: headHeight - 6, Text: short(name, 16)})
	}
	for k, rt := range rows {
		y := headHeight + cellSize*k
		p.Rows = append(p.Rows, drawn{Y: y + 12, Text: short(rt.Key, 52)})
		for i, who := range heads {
			kind, ok := rt.Cells[who]
			if !ok {
				continue
			}
			x := nameWidth + cellSize*i
			d := drawn{X: x, Y: y, TX: x + 7, TY: y + 11, Text: "·"}
			switch {
			case kind.IsGap():
				d.Text, d.Fill = string(kind), fills[kind]
				gaps++
			case kind == finding.Unproven:
				d.Text = "?"
			case kind == finding.Unprobed:
				continue
			}
			p.Cells = append(p.Cells, d)
		}
	}
	p.Says = fmt.Sprintf("%d routes by %d callers; %d crossings have a gap, and are named below", len(rows), len(heads),
		gaps)
	return p
}

// short cuts a text in the middle.
func short(s string, most int) string {
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	half := (most - 1) / 2
	return string(r[:half]) + "…" + string(r[len(r)-half:])
}
