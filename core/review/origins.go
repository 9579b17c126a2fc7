package review

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/route"
)

type routeSegment = route.Segment

func (v *reviewer) originEdit(e *declaration.OriginEntry, text string, field ...string) layout.Edit {
	return layout.Edit{Section: "origins", Line: e.Line, Field: append([]string{"allow"}, field...), Text: text}
}

// without is the fix that takes a permission away.
func (v *reviewer) without(e *declaration.OriginEntry, p declaration.Permission) *Fix {
	if len(e.Allow) == 1 {
		return fixed("Permit no page", v.originEdit(e, "none"))
	}
	return fixed("Take the permission away", v.originEdit(e, "", p.Origin))
}

func eachPermission(v *reviewer, f func(e *declaration.OriginEntry, p declaration.Permission)) {
	for _, e := range v.d.Origins {
		for _, p := range e.Allow {
			f(e, p)
		}
	}
}

func originAnyCredentials(v *reviewer, c *Check) {
	eachPermission(v, func(e *declaration.OriginEntry, p declaration.Permission) {
		if p.Origin == "any" && p.Credentials {
			v.say(p.Place, len(p.Origin), "origin any", -1, "pages of any origin may call with credentials and read "+
				"the answers", "list the origins, or leave credentials out",
				fixed("Leave credentials out", v.originEdit(e, "", "any", "credentials")))
		}
	})
}

func originNull(v *reviewer, c *Check) {
	eachPermission(v, func(e *declaration.OriginEntry, p declaration.Permission) {
		if p.Origin == "null" {
			v.say(p.Place, 4, "origin null", -1, "the origin null is permitted: a sandboxed frame of any page has it",
				"take it out", v.without(e, p))
		}
	})
}

func loopback(host string) bool {
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback()
}

func originPlainHTTP(v *reviewer, c *Check) {
	eachPermission(v, func(e *declaration.OriginEntry, p declaration.Permission) {
		u, err := url.Parse(p.Origin)
		if err != nil || u.Scheme != "http" || loopback(u.Hostname()) {
			return
		}
		v.say(p.Place, len(p.Origin), "origin "+p.Origin, -1, fmt.Sprintf("%s is permitted over plain http: who sits "+
			"on the network can speak as it", p.Origin), "permit its https origin",
			fixed("Permit https in its place", v.originEdit(e, p.Text(),
				"https"+strings.TrimPrefix(p.Origin, "http")), v.originEdit(e, "", p.Origin)))
	})
}

func originWide(v *reviewer, c *Check) {
	d := v.d
	under := make([][]int, len(d.Origins))
	for i, e := range d.OriginsAt {
		if e >= 0 {
			under[e] = append(under[e], i)
		}
	}
	for k, e := range d.Origins {
		if len(under[k]) == 0 {
			continue
		}
		have := map[string]bool{"HEAD": true, "OPTIONS": true}
		guarded := false
		for _, i := range under[k] {
			have[d.Routes[i].Method()] = true
			guarded = guarded || !v.open(i) && !v.closed(i)
		}
		for _, p := range e.Allow {
			var needed, beyond []string
			for _, m := range p.Methods {
				if have[m] {
					needed = append(needed, m)
				} else {
					beyond = append(beyond, m)
				}
			}
			if len(beyond) > 0 {
				v.say(p.Place, len(p.Origin), "origin "+p.Origin, -1, fmt.Sprintf("%s may use %s, which no route "+
					"here has", p.Origin, strings.Join(beyond, ", ")), "permit what the routes need",
					fixed("Permit "+strings.Join(needed, ", "), v.originEdit(e, "["+strings.Join(needed, ", ")+"]",
						p.Origin, "methods")))
			}
			if p.Credentials && !guarded {
				v.say(p.Place, len(p.Origin), "origin "+p.Origin, -1, fmt.Sprintf("%s may call with credentials, and "+
					"every route here is open to anyone", p.Origin), "leave credentials out",
					fixed("Leave credentials out", v.originEdit(e, "", p.Origin, "credentials")))
			}
		}
	}
}
