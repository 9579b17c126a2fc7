package view

import (
	"net/url"
	"strings"

	"millgate/core/check/pages"
	"millgate/core/declaration"
	"millgate/core/origin"
	"millgate/format/har"
)

// JudgedPage is what a browser makes of one request of a page, and what the
// declaration says to it.
type JudgedPage struct {
	Recorded origin.Recorded
	Outcome  origin.Outcome
	Does     origin.Does
	Browser  string // where the browser decides otherwise than the standard
	Route    string // "" when the inventory does not have it
	Want     *origin.Does
	Said     []origin.Judgement
}

// JudgePages judges recorded requests of pages by the declaration, without a
// target: only what is known of each is said.
func (vw *View) JudgePages(list []origin.Recorded) []JudgedPage {
	d := vw.ws.Present().Doc
	out := make([]JudgedPage, len(list))
	for k, r := range list {
		j := JudgedPage{Recorded: r}
		j.Outcome, j.Does, j.Browser = origin.Made(r)
		i := routeOfURL(d, r.Request.Method, r.Request.URL)
		var c origin.Call
		var allow []declaration.Permission
		page := origin.Page{ID: r.Request.Page, Origin: r.Request.Page}
		if i >= 0 {
			j.Route = d.Routes[i].Key()
			c, allow = pages.CallOf(d, i, ""), pages.Allowed(d, i)
			want := origin.Meant(r.Request, c, allow)
			j.Want = &want
			if r.Answer != nil || r.Preflight != nil && j.Outcome.Preflights > 0 {
				_, _, j.Said = origin.Judge(c, page, allow, origin.Seen{Preflight: r.Preflight, Answer: r.Answer}, nil)
			}
		}
		out[k] = j
	}
	return out
}

// JudgeArchive judges what a browser recorded.
func (vw *View) JudgeArchive(text []byte) ([]JudgedPage, []har.Problem, error) {
	list, problems, err := har.Heads(text)
	if err != nil {
		return nil, nil, err
	}
	return vw.JudgePages(origin.Paired(list)), problems, nil
}

// routeOfURL is the route that an address is served by, on whichever target it
// is; -1 without.
func routeOfURL(d *declaration.Document, method, raw string) int {
	u, err := url.Parse(raw)
	if err != nil {
		return -1
	}
	at := u.Scheme + "://" + u.Host
	for _, t := range d.Targets {
		if strings.EqualFold(strings.TrimSuffix(t.Base, "/"), at) {
			return d.Inventory.Find(method, "", u.EscapedPath())
		}
		for name, h := range t.Hosts {
			if strings.EqualFold(strings.TrimSuffix(h, "/"), at) {
				return d.Inventory.Find(method, name, u.EscapedPath())
			}
		}
	}
	return d.Inventory.Find(method, "", u.EscapedPath())
}
