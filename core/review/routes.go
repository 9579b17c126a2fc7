package review

import (
	"fmt"
	"regexp"
	"sort"
	"strings"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/route"
)

func routeDuplicate(v *reviewer, c *Check) {
	first := map[string]int{}
	for i, rt := range v.d.Routes {
		k := strings.ToLower(rt.Method() + " " + strings.TrimRight(rt.TemplateKey(), "/"))
		j, ok := first[k]
		if !ok {
			first[k] = i
			continue
		}
		v.say(rt.Place, len(rt.Key()), rt.Key(), i, fmt.Sprintf("%s differs from %s in letter case or a trailing "+
			"slash only", rt.Key(), v.d.Routes[j].Key()), "keep one of them if the service serves one",
			v.byHand(rt, "Remove "+rt.Key()))
	}
}

// byHand is the fix that removes a route's own line.
func (v *reviewer) byHand(rt *declaration.Route, title string) *Fix {
	if rt.From != "" {
		return nil
	}
	return fixed(title, layout.Edit{Section: "routes", Item: rt.Key()})
}

func routeOverlap(v *reviewer, c *Check) {
	d := v.d
	// Only routes with a parameter can overlap with others of their length.
	byLen := map[string][]int{}
	for i, rt := range d.Routes {
		byLen[fmt.Sprint(rt.Method(), rt.Host, len(rt.Segments))] = append(byLen[fmt.Sprint(rt.Method(), rt.Host,
			len(rt.Segments))], i)
	}
	groups := make([]string, 0, len(byLen))
	for k := range byLen {
		groups = append(groups, k)
	}
	sort.Strings(groups)
	for _, k := range groups {
		list := byLen[k]
		sels := make([]route.Selector, len(list))
		for n, i := range list {
			sels[n] = d.Routes[i].Selector
		}
		ix := route.NewIndex(sels)
		for n, i := range list {
			if len(d.Routes[i].Parameters()) == 0 {
				continue
			}
			for _, m := range ix.Near(sels[n]) {
				j := list[m]
				if i == j || i < j && len(d.Routes[j].Parameters()) > 0 && !sels[n].Contains(sels[m]) &&
					!sels[m].Contains(sels[n]) {
					continue
				}
				if _, ok := sels[n].Intersect(sels[m]); !ok || sels[m].Contains(sels[n]) {
					continue
				}
				if d.Deciding[i] == d.Deciding[j] {
					continue // whichever serves a request, the same entry decides
				}
				rt, o := d.Routes[i], d.Routes[j]
				text := fmt.Sprintf("%s and %s overlap: a service that takes the templates in another order lets one "+
					"guard stand for the other", o.Key(), rt.Key())
				v.say(o.Place, len(o.Key()), o.Key(), j, text, "check in the service that the more specific one is "+
					"tried first, then accept it with a waiver", nil)
			}
		}
	}
}

var version = regexp.MustCompile(`^v\d+(?:\.\d+)?$`)

func routeVersions(v *reviewer, c *Check) {
	type seen struct {
		i   int
		ver string
	}
	first := map[string]seen{}
	for i, rt := range v.d.Routes {
		ver := ""
		var b strings.Builder
		b.WriteString(rt.Method() + " " + rt.Host)
		for _, g := range rt.Segments {
			switch {
			case ver == "" && !g.Any && version.MatchString(g.Literal):
				ver = g.Literal
				b.WriteString("/v*")
			case g.Any:
				b.WriteString("/{}")
			default:
				b.WriteString("/" + g.Literal)
			}
		}
		if ver == "" {
			continue
		}
		o, ok := first[b.String()]
		if !ok {
			first[b.String()] = seen{i, ver}
			continue
		}
		if o.ver != ver {
			v.say(rt.Place, len(rt.Key()), rt.Key(), i, fmt.Sprintf("%s is declared as %s too: two versions of one "+
				"route", v.d.Routes[o.i].Key(), ver), "take the old one off the service, or accept it with a waiver",
				v.byHand(v.d.Routes[o.i], "Remove "+v.d.Routes[o.i].Key()))
		}
	}
}

func routeUndescribed(v *reviewer, c *Check) {
	for i, rt := range v.d.Routes {
		if strings.TrimSpace(rt.Summary) == "" {
			v.say(rt.Place, len(rt.Key()), rt.Key(), i, fmt.Sprintf("nobody has described %s", rt.Key()),
				"add a summary: what it is for", nil)
		}
	}
}
