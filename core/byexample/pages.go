package byexample

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/origin"
)

// pages proposes what pages of other origins were let do: with the methods and the header fields that they sent, with
// cookies where they sent some. One entry for each host has them all. Of a host whose pages are declared nothing is
// proposed: what a page may do beyond that is decided there.
func (r *reader) pages() {
	type page struct {
		host, origin string
		is           declaration.Permission
		count        int
	}
	var list []*page
	var sent []origin.Exchange
	host := map[string]string{} // of each address
	for _, c := range r.calls {
		if h, _, ok := r.hostOf(c.q); ok && c.q.Answer != nil {
			x := origin.Exchange{Method: c.q.Method, URL: c.q.URL.String(), Headers: slices.Clone(c.q.Headers),
				Body: len(c.q.Body) > 0, Answer: origin.Answer{Status: c.q.Answer.Status, Headers: c.q.Answer.Headers}}
			if len(c.q.Cookies) > 0 {
				x.Headers = append(x.Headers, [2]string{"Cookie", "..."}) // that there are some is all that counts
			}
			sent, host[x.URL] = append(sent, x), h
		}
	}
	for _, x := range origin.Paired(sent) {
		if _, does, _ := origin.Made(x); x.Answer == nil || does < origin.Read {
			continue
		}
		h, q := host[x.Request.URL], x.Request
		at := slices.IndexFunc(list, func(p *page) bool { return p.host == h && p.origin == q.Page })
		if at < 0 {
			at, list = len(list), append(list, &page{host: h, origin: q.Page})
		}
		p := list[at]
		p.count++
		p.is.Credentials = p.is.Credentials || q.Credentials == origin.Include
		p.is.Methods = append(p.is.Methods, q.Method)
		p.is.Headers = append(p.is.Headers, origin.UnsafeNames(q.Headers, origin.Standard)...)
	}
	byHost := map[string][]*page{}
	for _, p := range list {
		byHost[p.host] = append(byHost[p.host], p)
	}
	for _, h := range slices.Sorted(maps.Keys(byHost)) {
		if r.pagesDeclared(h) {
			continue
		}
		var allow, why []string
		for _, p := range byHost[h] {
			for _, l := range []*[]string{&p.is.Methods, &p.is.Headers} {
				slices.Sort(*l)
				*l = slices.Compact(*l)
			}
			allow = append(allow, declaration.Scalar(p.origin)+": "+p.is.Text())
			why = append(why, fmt.Sprintf("pages of %s read %d of its answers", p.origin, p.count))
		}
		at := strings.TrimPrefix(h+":/**", ":")
		r.propose(Proposal{Kind: Pages, Name: cmp.Or(h, "the base"), Text: "{ at: " + declaration.Scalar(at) +
			", allow: { " + strings.Join(allow, ", ") + " } }", Why: strings.Join(why, "; ")})
	}
}

// pagesDeclared says whether an entry speaks of pages at a host.
func (r *reader) pagesDeclared(host string) bool {
	for _, e := range r.d.Origins {
		for _, s := range e.At {
			if s.Host == host {
				return true
			}
		}
	}
	return false
}
