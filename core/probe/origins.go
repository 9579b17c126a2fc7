package probe

import (
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/origin"
)

// PageCaller is put before a page of the Origins lens where a caller is asked
// for.
const PageCaller = "origin:"

// PageColumns are the columns of the Origins lens: the declared origins, and
// hostile pages by their kind.
func PageColumns(d *declaration.Document) []origin.Page {
	var out []origin.Page
	like := ""
	for _, o := range origin.Declared(d) {
		out = append(out, origin.Page{ID: o, Origin: o})
	}
	if p := strongest(d, nil); p != nil {
		like = p.Origin
	}
	return append(out, origin.Hostile(like)...)
}

// strongest is the permission that hostile pages at a route are made from: of
// the entry that decides, or of the whole text where that permits nobody.
func strongest(d *declaration.Document, e *declaration.OriginEntry) *declaration.Permission {
	if e != nil {
		if p := origin.Strongest(e.Allow); p != nil {
			return p
		}
	}
	var all []declaration.Permission
	for _, e := range d.Origins {
		all = append(all, e.Allow...)
	}
	return origin.Strongest(all)
}

// Allowed are the permissions at route i, none when no page may call.
func Allowed(d *declaration.Document, i int) []declaration.Permission {
	if i < 0 {
		return nil
	}
	if e := d.OriginEntry(i); e != nil {
		return e.Allow
	}
	return nil
}

// PageAt is the page behind a column at route i; false when it has none there.
func PageAt(d *declaration.Document, i int, id string) (origin.Page, bool) {
	if origin.Says(id) == "" {
		return origin.Page{ID: id, Origin: id}, slices.Contains(origin.Declared(d), id)
	}
	like := ""
	if p := strongest(d, d.OriginEntry(i)); p != nil {
		like = p.Origin
	}
	for _, h := range origin.Hostile(like) {
		if h.ID == id {
			return h, true
		}
	}
	return origin.Page{}, false
}

// PageOf is the page of a probe.
func PageOf(p *Probe) origin.Page {
	says := origin.Says(p.Way)
	return origin.Page{ID: p.Way, Origin: p.Page, Hostile: says != "", Says: says}
}

// CallOf is a route as a page's script would call it, with the URL at base.
func CallOf(d *declaration.Document, i int, base string) origin.Call {
	rt := d.Routes[i]
	c := origin.Call{Method: rt.Method(),
		URL: origin.URLOf(base, strings.NewReplacer("{", "", "}", "").Replace(rt.Path()))}
	q := Request{}
	_, session := access.SessionAt(d, i)
	q.body(rt.Send, session)
	for _, h := range q.Headers {
		if strings.EqualFold(h[0], "Content-Type") {
			c.ContentType = h[1]
		}
	}
	if c.ContentType == "" && len(q.Body) > 0 {
		c.ContentType = "text/plain"
	}
	e := d.Entry(i)
	if e == nil || access.Evaluate(d, i, access.Caller{State: access.Absent}).Outcome == access.Admit {
		return c
	}
	if acc := d.Accepted(e); len(acc) > 0 {
		switch s := acc[0]; {
		case s.Kind == declaration.Bearer || s.Kind == declaration.Basic:
			c.Credential = "authorization"
		case s.Kind == declaration.APIKey && s.In == "header", s.Kind == declaration.Signature:
			c.Credential = strings.ToLower(s.Field)
		}
	}
	return c
}

// origins plans pages: every declared one and an unrelated one at every route,
// and those that are like a declared one on one safe route of each entry. What
// gets in there is then tried on the others.
func (pl *planner) origins() {
	type key struct {
		entry int
		host  string
	}
	best := map[key]int{}
	all := map[key][]int{}
	columns := PageColumns(pl.d)
	var order []key
	for i, rt := range pl.d.Routes {
		k := key{pl.d.OriginsAt[i], rt.Host}
		all[k] = append(all[k], i)
		if j, ok := best[k]; !ok {
			best[k] = i
			order = append(order, k)
		} else if pl.standsBetter(i, j) {
			best[k] = i
		}
	}
	for _, k := range order {
		for _, i := range all[k] {
			for _, c := range columns {
				if c.Hostile && c.ID != origin.Unrelated && i != best[k] {
					pl.plan.Spared++
					continue
				}
				if p := pl.page(i, c.ID); p != nil {
					p.Refused = i == best[k] && !c.Hostile && p.Scheme != ""
					pl.add(p)
				}
			}
		}
		pl.likeOthers(best[k])
	}
	credentials := pl.plan.widen
	pl.plan.widen = func(x *Probe) (out []*Probe) {
		if x.Kind != Origin {
			return credentials(x)
		}
		for _, i := range all[key{pl.d.OriginsAt[x.Route], pl.d.Routes[x.Route].Host}] {
			p := pl.pageOf(i, PageOf(x))
			if p != nil {
				p.Like = x.Like
			}
			if i == x.Route || p == nil || p.Refused {
				continue
			}
			p.Widens = x.ID
			if n := len(pl.plan.Probes); pl.add(p) == p && len(pl.plan.Probes) > n {
				out = append(out, p)
			}
		}
		return out
	}
}

// likeOthers plans the pages at route i that are like one of its declared origins
// that is not the strongest: a comparison may be careless with that one alone.
func (pl *planner) likeOthers(i int) {
	first := strongest(pl.d, pl.d.OriginEntry(i))
	if first == nil {
		return
	}
	tried := map[string]bool{first.Origin: true}
	for _, h := range origin.Hostile(first.Origin) {
		tried[h.Origin] = true
	}
	for _, a := range Allowed(pl.d, i) {
		if a.Origin == "any" || a.Origin == origin.Null || a.Origin == first.Origin {
			continue
		}
		for _, h := range origin.Hostile(a.Origin) {
			if tried[h.Origin] {
				continue
			}
			tried[h.Origin] = true
			if p := pl.pageOf(i, h); p != nil {
				p.Like = a.Origin
				pl.add(p)
			}
		}
	}
}

// standsBetter says whether route i shows more of a page's permission than j:
// it can be sent, somebody is admitted, and the strongest page may call it.
func (pl *planner) standsBetter(i, j int) bool {
	score := func(i int) (n int) {
		rt := pl.d.Routes[i]
		if c := pl.controls[i]; c != nil && !rt.Unsafe() {
			n += 4
			if c.Identity != "" {
				n += 2
			}
		}
		return n
	}
	return score(i) > score(j)
}

// page drafts what a page does at route i; nil where it has no such page. An
// unsafe request itself is left out: its preflight says what may be sent.
func (pl *planner) page(i int, id string) *Probe {
	page, ok := PageAt(pl.d, i, id)
	if !ok {
		return nil
	}
	return pl.pageOf(i, page)
}

func (pl *planner) pageOf(i int, page origin.Page) *Probe {
	rt := pl.d.Routes[i]
	p := &Probe{Route: i, RouteKey: rt.Key(), Method: rt.Method(), Host: rt.Host, Path: rt.Path(), State: access.Absent,
		Params: map[string]string{}, Phase: Safe}
	if c := pl.controls[i]; c != nil {
		p.Identity, p.Scheme, p.State, p.Control, p.Expect, p.WithBody = c.Identity, c.Scheme, c.State, c.ID, c.Expect,
			c.WithBody
		for k, v := range c.Params {
			p.Params[k] = v
		}
		if p.Record = c.Record; p.Record.Relation == access.Own {
			p.Record.Relation = access.NoRecord
		}
	}
	if rt.Unsafe() {
		p.PreflightOnly = true
		p.Identity, p.Scheme, p.State, p.Record = "", "", access.Absent, RecordUse{}
		for _, name := range rt.Parameters() {
			if p.Params[name] == "" {
				p.Params[name] = "1"
			}
		}
	} else if p.Control == "" && len(rt.Parameters()) > 0 {
		return nil // nothing is known that its path could name; the crossings say so
	}
	p.Kind, p.Way, p.Page = Origin, page.ID, page.Origin
	if _, asks := Preflight(pl.d, p, ""); p.PreflightOnly && !asks {
		return nil // a page sends it without asking, and it is not sent here
	}
	return p
}

// Preflight is the question that a browser sends before the request of a
// page; ok is false when it sends none.
func Preflight(d *declaration.Document, p *Probe, recordID string) (q Request, ok bool) {
	full := origin.Full(CallOf(d, p.Route, ""), p.Page)
	names := origin.UnsafeNames(full.Headers, origin.Standard)
	m := full.Method
	if len(names) == 0 && (m == "GET" || m == "HEAD" || m == "POST") {
		return q, false
	}
	built := Build(d, p, recordID)
	q = Request{Method: "OPTIONS", Host: built.Host, Path: built.Path, Query: built.Query,
		Headers: [][2]string{{"Origin", p.Page}, {"Access-Control-Request-Method", m}}}
	if len(names) > 0 {
		q.Headers = append(q.Headers, [2]string{"Access-Control-Request-Headers", strings.Join(names, ",")})
	}
	return q, true
}

// EntryLabel names the routes that share what decides about pages at route i.
func EntryLabel(d *declaration.Document, i int) string {
	e := d.OriginEntry(i)
	if e == nil {
		return "pages at routes without an origins entry"
	}
	at := make([]string, len(e.At))
	for k, s := range e.At {
		at[k] = s.String()
	}
	return "pages at " + strings.Join(at, ", ")
}
