package pages

import (
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/origin"
)

// Columns are the columns of the Origins lens: the declared origins, and hostile pages by
// their kind.
func Columns(d *declaration.Document) []origin.Page {
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

// strongest is the permission that hostile pages at a route are made from: of the entry
// that decides, or of the whole text where that permits nobody.
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

// At is the page behind a column at route i; ok is false where it has none there. Of a route of which nobody
// has decided who may call it, it is not known either what pages may: none is looked at.
func At(d *declaration.Document, i int, column string) (p origin.Page, ok bool) {
	if access.IsUndecided(d, i) {
		return origin.Page{}, false
	}
	if origin.Says(column) == "" {
		return origin.Page{ID: column, Origin: column}, slices.Contains(origin.Declared(d), column)
	}
	like := ""
	if p := strongest(d, d.OriginEntry(i)); p != nil {
		like = p.Origin
	}
	for _, h := range origin.Hostile(like) {
		if h.ID == column {
			return h, true
		}
	}
	return origin.Page{}, false
}

// unbraced are the names of parameters in place of a path's parameters.
var unbraced = strings.NewReplacer("{", "", "}", "")

// CallOf is route i as a page's script would call it, with the URL at base.
func CallOf(d *declaration.Document, i int, base string) origin.Call {
	rt := d.Routes[i]
	c := origin.Call{Method: rt.Method(),
		URL: origin.URLOf(base, unbraced.Replace(rt.Path()))}
	_, session := access.SessionAt(d, i)
	headers, body := check.SampleBody(rt.Send, session)
	c.ContentType = headers.Get("Content-Type")
	if c.ContentType == "" && len(body) > 0 {
		c.ContentType = "text/plain"
	}
	e := d.Entry(i)
	if e == nil || access.Open(d, i) {
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

// asks says what a browser asks before the request of a page at route i, whose preflight
// goes to an address; ok is false where it asks nothing.
func asks(d *declaration.Document, i int, page string, at *check.Request) (q check.Request, ok bool) {
	full := origin.Full(CallOf(d, i, ""), page)
	names := origin.UnsafeNames(full.Headers, origin.Standard)
	m := full.Method
	if len(names) == 0 && (m == "GET" || m == "HEAD" || m == "POST") {
		return q, false
	}
	q = check.Request{Method: "OPTIONS", Host: at.Host, Path: at.Path, Query: at.Query,
		Headers: field.List{{"Origin", page}, {"Access-Control-Request-Method", m}}}
	if len(names) > 0 {
		q.Headers = append(q.Headers, [2]string{"Access-Control-Request-Headers", strings.Join(names, ",")})
	}
	return q, true
}
