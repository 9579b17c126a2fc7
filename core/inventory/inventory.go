// Package inventory brings routes together: what was observed is folded into
// templates, and what comes in is held against the routes that are known.
//
// # Folding
//
// A path that was observed is a sample of a template: /proposals/p-101 of
// /proposals/{proposal_id}. A path that a known template matches is a sample of
// that one. Of the others, a segment is a value and not a name when it looks
// like an id (a number, a UUID, a hash, letters and digits around a dash, an
// address), or when many take turns in one place. The second is a guess, and is
// said to be unclear; so is a segment that could be either. Whoever imports can
// give a template, which is then known.
package inventory

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"millgate/core/route"
)

// Observed is one request that somebody saw. It has no header fields, since
// these carry credentials.
type Observed struct {
	Method string
	Host   string // name of a host of the target, "" is its base
	Path   string // without the query
	Query  map[string]string
	Status int
	Body   []byte
	Type   string // content type of the body
	Line   int    // where it stands in its file, from 1
	By     string // how who sent it is called, "" where that is not known
}

// Folded is one template with what was seen of it.
type Folded struct {
	Template string // METHOD [host:]/path/{parameter}
	Known    bool   // a template that was known before
	Unclear  string // why the folding is a guess, "" when it is none
	Under    string // the place whose segments are unclear, as Said names it; "" where none is
	Count    int
	Answered int // of these, with 2xx or 3xx
	Paths    []string
	Best     Observed // the request to make a sample from: an answered one with a body, if any
	Line     int      // of the first
}

// maxPaths is how many paths are kept as examples.
const maxPaths = 8

// many is from how many different values on a place is taken for a parameter.
const many = 10

type node struct {
	kids  map[string]*node
	order []string
	ends  bool
}

func (n *node) kid(s string) *node {
	if n.kids == nil {
		n.kids = map[string]*node{}
	}
	k := n.kids[s]
	if k == nil {
		k = &node{}
		n.kids[s] = k
		n.order = append(n.order, s)
	}
	return k
}

// shape is equal for subtrees that hold the same paths, whatever their ids.
func (n *node) shape() string {
	list := make([]string, 0, len(n.kids))
	for s, k := range n.kids {
		if looks(s) == sure {
			s = "{}"
		}
		list = append(list, s+"("+k.shape()+")")
	}
	sort.Strings(list)
	list = slices.Compact(list)
	if n.ends {
		list = append(list, "$")
	}
	return strings.Join(list, " ")
}

type likeness int

const (
	name likeness = iota
	perhaps
	sure
)

var (
	digits    = regexp.MustCompile(`^\d+$`)
	uuid      = regexp.MustCompile(`^(?i)[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$`)
	hex       = regexp.MustCompile(`^(?i)[0-9a-f]{8,}$`)
	prefixed  = regexp.MustCompile(`^[A-Za-z]{1,12}[-_.:][A-Za-z0-9-_]*\d[A-Za-z0-9-_]*$`)
	dated     = regexp.MustCompile(`^\d{4}-\d{2}(-\d{2})?$`)
	mixed     = regexp.MustCompile(`^[A-Za-z]+\d+[A-Za-z0-9]*$|^\d+[A-Za-z]+[A-Za-z0-9]*$`)
	versioned = regexp.MustCompile(`^v\d+(\.\d+)*$`)
)

// looks says whether a segment looks like a value.
func looks(s string) likeness {
	switch {
	case versioned.MatchString(s):
		return name
	case digits.MatchString(s), uuid.MatchString(s), dated.MatchString(s), prefixed.MatchString(s),
		strings.Contains(s, "@"), strings.Contains(s, "%"):
		return sure
	case hex.MatchString(s) && strings.ContainsAny(s, "0123456789"):
		return sure
	case len(s) >= 16 && strings.ContainsAny(s, "0123456789") && !strings.ContainsAny(s, "."):
		return sure
	case mixed.MatchString(s):
		return perhaps
	}
	return name
}

// Said is what somebody says of unclear segments, by the place that they stand under: that they are values, or names. A
// place is a path with {} for each value, up to the slash before the segment.
type Said map[string]bool

// Fold brings observed requests under templates. known are the templates that
// paths are matched with first; a literal one keeps its path apart. What is unclear under a place is one question for
// all requests there, which said may answer.
func Fold(seen []Observed, known []route.Selector, said Said) []Folded {
	inv, _ := route.NewInventory(known)
	out := map[string]*Folded{}
	var order []string
	add := func(template string, o Observed, isKnown bool, q question) {
		f := out[template]
		if f == nil {
			f = &Folded{Template: template, Known: isKnown, Unclear: q.why, Under: q.under, Line: o.Line}
			out[template] = f
			order = append(order, template)
		}
		f.Count++
		ok := o.Status >= 200 && o.Status < 400
		if ok {
			f.Answered++
		}
		if !slices.Contains(f.Paths, o.Path) && len(f.Paths) < maxPaths {
			f.Paths = append(f.Paths, o.Path)
		}
		was := f.Best.Status >= 200 && f.Best.Status < 400
		if f.Best.Method == "" || ok && !was || ok == was && len(o.Body) > 0 && len(f.Best.Body) == 0 {
			f.Best = o
		}
	}
	roots := map[string]*node{}
	var open []Observed
	found := map[string]int{}
	find := func(o Observed) int {
		k := o.Method + " " + o.Host + ":" + o.Path
		i, ok := found[k]
		if !ok {
			i = inv.Find(o.Method, o.Host, o.Path)
			found[k] = i
		}
		return i
	}
	for _, o := range seen {
		if i := find(o); i >= 0 {
			add(known[i].String(), o, true, question{})
			continue
		}
		open = append(open, o)
		n := roots[o.Host]
		if n == nil {
			n = &node{}
			roots[o.Host] = n
		}
		for _, s := range route.Split(route.Normalise(o.Path)) {
			n = n.kid(s)
		}
		n.ends = true
	}
	folder := folder{params: map[*node]param{}, said: said, callers: map[string]bool{}}
	for _, o := range seen {
		if o.By != "" {
			folder.callers[o.By] = true
		}
	}
	for h, n := range roots {
		folder.decide(n, route.Hosted(h, "/"))
	}
	for _, o := range open {
		path, q := folder.template(roots[o.Host], route.Split(route.Normalise(o.Path)))
		// A template of another method names the parameters.
		if s, err := route.ParseTemplate(o.Method + " " + route.Hosted(o.Host, path)); err == nil {
			for _, k := range known {
				if k.TemplateKey() == s.TemplateKey() {
					path = k.Path()
					break
				}
			}
		}
		add(o.Method+" "+route.Hosted(o.Host, path), o, false, q)
	}
	list := make([]Folded, len(order))
	for i, t := range order {
		list[i] = *out[t]
	}
	return list
}

// question is what is unclear of a path, and where.
type question struct{ under, why string }

// param is what becomes of a child of a node.
type param struct {
	values map[string]bool // children that are values
	unsure map[string]bool // those of which that, or the contrary, is a guess
	question
}

type folder struct {
	params  map[*node]param
	said    Said
	callers map[string]bool
}

// callersAmong are the segments that callers are called by. Several side by side are values; one alone may be a name.
func (f folder) callersAmong(list []string) (out []string) {
	for _, s := range list {
		if f.callers[s] {
			out = append(out, s)
		}
	}
	return out
}

// decide decides which children of a node are values, and what is under them; at is the place of the node.
func (f folder) decide(n *node, at string) {
	p := param{values: map[string]bool{}, unsure: map[string]bool{}, question: question{under: at}}
	var maybe []string
	shapes := map[string][]string{}
	callers := f.callersAmong(n.order)
	for _, s := range n.order {
		if s == "" {
			continue
		}
		l := looks(s)
		switch called := f.callers[s]; {
		case called && len(callers) > 1:
			l = sure
		case called && l != sure:
			l = perhaps
		}
		switch l {
		case sure:
			p.values[s] = true
		case perhaps:
			maybe = append(maybe, s)
		default:
			if len(n.kids[s].kids) < 4 {
				shapes[n.kids[s].shape()] = append(shapes[n.kids[s].shape()], s)
			}
		}
	}
	guess := func(list []string, values bool, why string) {
		if v, ok := f.said[at]; ok {
			values = v
		} else {
			p.why = why
		}
		for _, s := range list {
			p.unsure[s] = true
			if values {
				p.values[s] = true
			}
		}
	}
	if len(maybe) > 0 { // alone it stays as it is
		guess(maybe, len(maybe) >= 2 || len(p.values) > 0, maybe[0]+" could be a name or a value")
	}
	for _, list := range shapes {
		if len(list) >= many {
			guess(list, true, fmt.Sprintf("%d different words take turns here (%s, %s …)", len(list), list[0], list[1]))
		}
	}
	f.params[n] = p
	// What is under values is one place.
	if len(p.values) > 0 {
		all := &node{}
		for s := range p.values {
			merge(all, n.kids[s])
		}
		for s := range p.values {
			n.kids[s] = all
		}
		f.decide(all, at+"{}/")
	}
	for s, k := range n.kids {
		if !p.values[s] {
			f.decide(k, at+s+"/")
		}
	}
}

func merge(into, from *node) {
	into.ends = into.ends || from.ends
	for _, s := range from.order {
		merge(into.kid(s), from.kids[s])
	}
}

// template is the path that segments are folded to, with the first question of it.
func (f folder) template(n *node, segs []string) (path string, q question) {
	used := map[string]bool{}
	var b strings.Builder
	last := ""
	for _, s := range segs {
		p := f.params[n]
		b.WriteByte('/')
		if p.unsure[s] && q.why == "" && p.why != "" {
			q = p.question
		}
		if p.values[s] {
			nm := ParamName(last, used)
			used[nm] = true
			b.WriteString("{" + nm + "}")
			last = ""
		} else {
			b.WriteString(s)
			last = s
		}
		n = n.kids[s]
	}
	if b.Len() == 0 {
		return "/", q
	}
	return b.String(), q
}

var irregular = map[string]string{"people": "person", "children": "child", "men": "man", "women": "woman",
	"data": "datum", "media": "medium", "indices": "index", "series": "series", "news": "news", "status": "status"}

// ParamName names the parameter behind a segment: proposals gives proposal_id.
func ParamName(segment string, used map[string]bool) string {
	s := strings.ToLower(strings.Map(func(r rune) rune {
		if r == '-' || r == '.' || r == ' ' || r == '~' {
			return '_'
		}
		return r
	}, segment))
	switch {
	case s == "":
		s = "value"
	case irregular[s] != "":
		s = irregular[s] + "_id"
	case strings.HasSuffix(s, "ies") && len(s) > 4:
		s = s[:len(s)-3] + "y_id"
	case strings.HasSuffix(s, "sses"), strings.HasSuffix(s, "xes"), strings.HasSuffix(s, "ches"),
		strings.HasSuffix(s, "shes"):
		s = s[:len(s)-2] + "_id"
	case strings.HasSuffix(s, "s") && !strings.HasSuffix(s, "ss"):
		s = s[:len(s)-1] + "_id"
	default:
		s += "_id"
	}
	base := s
	for n := 2; used[s]; n++ {
		s = fmt.Sprintf("%s_%d", base, n)
	}
	return s
}
