package importing

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"millgate/core/byexample"
	"millgate/core/declaration"
	"millgate/core/inventory"
	"millgate/core/madeup"
	"millgate/core/route"
	"millgate/format/accesslog"
	"millgate/format/har"
)

func previewObserved(p *Preview, q Request, doc *declaration.Document) error {
	all, err := sentRequests(p, q)
	if err != nil {
		return err
	}
	p.Origins = map[string]int{}
	for _, r := range all {
		p.Origins[r.origin]++
	}
	p.Origin = q.Origin
	if _, ok := p.Origins[p.Origin]; !ok || q.Origin == "" {
		p.Origin = likelyOrigin(p.Origins, doc)
	}
	known, err := templates(q, doc)
	if err != nil {
		return err
	}
	var in []inventory.Incoming
	var made madeup.Maker
	seen, examples := toService(p, q, all, doc)
	for _, f := range inventory.Fold(seen, known, q.Said) {
		x := inventory.Incoming{Key: f.Template, Count: f.Count, Paths: f.Paths, Unclear: f.Unclear, Under: f.Under,
			Line: f.Line}
		if f.Answered == 0 {
			x.Unclear, x.Under = "never answered with success: it may not exist", ""
		}
		x.Sample = made.Sample(f)
		in = append(in, x)
	}
	if len(made.Changed()) > 0 {
		p.Notes = append(p.Notes, "Values of "+strings.Join(made.Changed(),
			", ")+" in samples are made up, in the same "+
			"form: they looked like somebody's.")
	}
	p.Items = inventory.Merge(doc, in, false, "")
	if len(in) == 0 {
		return fmt.Errorf("there is no request to %s in it", orThis(p.Origin))
	}
	called(p, examples, doc)
	return nil
}

// sentTo is a request that was observed, and the origin that it went to.
type sentTo struct {
	inventory.Observed
	origin  string
	example *byexample.Request // with all its fields; nil where they are not known
}

// sentRequests are the requests of a recording or a log; what cannot be read of it is a problem.
func sentRequests(p *Preview, q Request) (all []sentTo, err error) {
	if p.Kind == KindHAR {
		list, problems, err := har.Read([]byte(q.Files[0].Text))
		if err != nil {
			return nil, err
		}
		for _, x := range problems {
			p.Problems = append(p.Problems, Problem(x))
		}
		for _, r := range list {
			all = append(all, sentTo{r.Observed, r.Origin, r.Example})
		}
		return all, nil
	}
	list, problems := accesslog.Read([]byte(q.Files[0].Text), q.Mapping)
	for _, x := range problems {
		p.Problems = append(p.Problems, Problem(x))
	}
	for _, r := range list {
		all = append(all, sentTo{r.Observed, r.ToHost, nil})
	}
	if len(all) == 0 && len(problems) > 0 {
		return nil, fmt.Errorf("no line could be read; line %d: %s", problems[0].Line, problems[0].Text)
	}
	return all, nil
}

// toService are the requests to the service that are calls of it, each on its host of the target and with the path
// there; a note says what is left out.
func toService(p *Preview, q Request, all []sentTo, doc *declaration.Document) (seen []inventory.Observed,
	examples []*byexample.Request) {
	left := map[string]int{}
	at := placed(p, q, all, doc)
	var list []*byexample.Request
	for _, r := range all {
		if r.example != nil && len(list) < mostExamples {
			list = append(list, r.example)
		}
	}
	whose := byexample.Whose(list)
	for _, r := range all {
		r.By = whose[r.example]
		host, path, ok := at(r)
		switch {
		case r.origin != p.Origin && !ok:
			left["to other hosts"]++
			if r.By != "" {
				examples = append(examples, r.example) // a caller logs in there, or proves itself
			}
		case !ok:
			left["beside the base of the target"]++
		case r.Method == "OPTIONS" || r.Method == "HEAD" || r.Method == "CONNECT":
			left["with the method "+r.Method]++
			if r.example != nil {
				examples = append(examples, r.example) // a page may have asked so first
			}
		case slices.Contains(static, strings.ToLower(filepath.Ext(r.Path))):
			left["for files that pages load"]++
		default:
			r.Host, r.Path = host, path
			seen = append(seen, r.Observed)
			if r.example != nil {
				examples = append(examples, r.example)
			}
		}
	}
	for _, why := range sortedKeys(left) {
		p.Notes = append(p.Notes, plural(left[why], "request", "requests")+" "+why+", left out.")
	}
	return seen, examples
}

// place says of a request on which host it is and what path it has there; ok is false where it is on none.
type place func(r sentTo) (host, path string, ok bool)

// placed places requests. Where nobody says a host or an origin, the hosts of a target that has the origin take what is
// theirs. A base that no request is under says nothing of where they went: then a path is as it was sent.
func placed(p *Preview, q Request, all []sentTo, doc *declaration.Document) place {
	if t := targetAt(p.Origin, doc); t != nil && q.Host == "" {
		on := func(r sentTo) (string, string, bool) {
			if q.Origin != "" && r.origin != q.Origin {
				return "", "", false
			}
			return t.On(r.origin + r.Path)
		}
		if slices.ContainsFunc(all, func(r sentTo) bool { _, _, ok := on(r); return ok }) {
			return on
		}
	}
	return func(r sentTo) (string, string, bool) { return q.Host, r.Path, r.origin == p.Origin }
}

// targetAt is a target that has a host at an origin; nil where none has. A log may say a host without a scheme.
func targetAt(origin string, doc *declaration.Document) *declaration.Target {
	at := func(base string) bool {
		base += "/"
		return origin != "" && (strings.HasPrefix(base, origin+"/") || strings.Contains(base, "://"+origin+"/"))
	}
	for _, t := range doc.Targets {
		if at(t.Base) || slices.ContainsFunc(slices.Collect(maps.Values(t.Hosts)), at) {
			return t
		}
	}
	return nil
}

// templates are those that paths are folded into: of the inventory, and as a person corrected
// them. A correction without a method counts for all.
func templates(q Request, doc *declaration.Document) (known []route.Selector, err error) {
	for _, r := range doc.Routes {
		known = append(known, r.Selector)
	}
	for _, t := range q.Templates {
		t = strings.TrimSpace(t)
		texts := []string{t}
		if strings.HasPrefix(t, "/") {
			texts = nil
			for _, m := range route.Methods {
				texts = append(texts, m+" "+route.Hosted(q.Host, t))
			}
		}
		for _, x := range texts {
			s, err := route.ParseTemplate(x)
			if err != nil {
				return nil, fmt.Errorf("the correction %q: %w", t, err)
			}
			known = append(known, s)
		}
	}
	return known, nil
}

func orThis(s string) string {
	if s == "" {
		return "this service"
	}
	return s
}

// likelyOrigin is a target's own, or the one that most requests went to.
func likelyOrigin(origins map[string]int, doc *declaration.Document) string {
	best := ""
	for _, o := range sortedKeys(origins) {
		if targetAt(o, doc) != nil {
			return o
		}
		if best == "" || origins[o] > origins[best] {
			best = o
		}
	}
	return best
}
