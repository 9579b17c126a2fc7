package layout

import "strings"

// Heading is one line of the outline.
type Heading struct {
	Name  string `json:"name"`
	Line  int    `json:"line"`
	Depth int    `json:"depth"` // 0 for sections
}

// Outline lists the sections of a text and what they declare.
func Outline(text string) []Heading {
	text = strings.TrimPrefix(text, orderMark)
	l := source{text}
	out := []Heading{}
	// Lines are counted once, from the top.
	at, n := 0, 1
	line := func(off int) int {
		n += strings.Count(text[at:off], "\n")
		at = off
		return n
	}
	for _, p := range l.top().parts {
		out = append(out, Heading{p.key, line(p.start), 0})
		b, ok := l.inside(p)
		if !ok || listSections[p.key] && p.key != "access" && p.key != "origins" && p.key != "waivers" {
			continue
		}
		for _, q := range b.parts {
			name := q.key
			if b.list {
				name = l.routeOf(q)
				if m, ok := l.inside(q); ok && name == "" {
					if at, ok := m.find("check"); ok {
						name = l.text[at.val:at.valEnd]
					}
				}
			}
			if name != "" {
				out = append(out, Heading{name, line(q.start), 1})
			}
		}
	}
	return out
}
