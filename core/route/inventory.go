package route

import (
	"fmt"
	"slices"
	"strings"
)

// Inventory is the list of routes, indexed. Routes keep the order they were
// given in. It is not changed once made.
type Inventory struct {
	Routes []Selector
	byKey  map[string]int   // "METHOD shape"
	shapes map[string][]int // routes of one template
	under  []([]int)        // for each route, the routes more specific than it
	paths  map[served]*fork // by segment
}

// served is what serves paths: a method at a host.
type served struct{ method, host string }

// fork is where paths part: at their next segment.
type fork struct {
	literal map[string]*fork
	any     *fork
	ends    []int // routes that end here
	tails   []int // routes of which more may follow
}

// add puts route i among the paths that begin here.
func (f *fork) add(i int, s Selector) {
	for _, g := range s.Segments {
		next := f.any
		if !g.Any {
			next = f.literal[g.Literal]
		}
		if next == nil {
			next = &fork{}
			switch {
			case g.Any:
				f.any = next
			case f.literal == nil:
				f.literal = map[string]*fork{g.Literal: next}
			default:
				f.literal[g.Literal] = next
			}
		}
		f = next
	}
	if s.Tail {
		f.tails = append(f.tails, i)
	} else {
		f.ends = append(f.ends, i)
	}
}

// match collects the routes of a path's segments.
func (f *fork) match(segments []string, out []int) []int {
	out = append(out, f.tails...)
	if len(segments) == 0 {
		return append(out, f.ends...)
	}
	if next := f.literal[segments[0]]; next != nil {
		out = next.match(segments[1:], out)
	}
	if f.any != nil && segments[0] != "" {
		out = f.any.match(segments[1:], out)
	}
	return out
}

// NewInventory indexes routes made by ParseTemplate. Two routes with the same
// method and template are reported as a pair of indexes in dup; the first
// stays.
func NewInventory(routes []Selector) (inv *Inventory, dup [][2]int) {
	inv = &Inventory{Routes: routes, byKey: make(map[string]int, len(routes)),
		shapes: make(map[string][]int, len(routes)), under: make([][]int, len(routes)), paths: map[served]*fork{}}
	byLen := map[string][]int{}
	for i, r := range routes {
		at := served{r.Method(), r.Host}
		if inv.paths[at] == nil {
			inv.paths[at] = &fork{}
		}
		inv.paths[at].add(i, r)
		shape := r.shape()
		key := r.Method() + " " + shape
		if j, ok := inv.byKey[key]; ok {
			dup = append(dup, [2]int{j, i})
			continue
		}
		inv.byKey[key] = i
		inv.shapes[shape] = append(inv.shapes[shape], i)
		k := lengthKey(r)
		byLen[k] = append(byLen[k], i)
	}
	for _, group := range byLen {
		inv.linkSpecific(group)
	}
	return inv, dup
}

func lengthKey(r Selector) string {
	return fmt.Sprintf("%s %s %d", r.Method(), r.Host, len(r.Segments))
}

// linkSpecific finds, inside routes of one method, host and length, which are
// more specific than which. Only a route with a parameter can contain another,
// so literal routes are looked up under the patterns' shapes.
func (inv *Inventory) linkSpecific(group []int) {
	var open []int
	for _, i := range group {
		if slices.ContainsFunc(inv.Routes[i].Segments, func(g Segment) bool { return g.Any }) {
			open = append(open, i)
		}
	}
	// Bucket by the literal segments that stand before the first parameter.
	byPrefix := map[string][]int{}
	lens := map[int]bool{}
	for _, i := range open {
		p, n := literalPrefix(inv.Routes[i])
		byPrefix[p] = append(byPrefix[p], i)
		lens[n] = true
	}
	for _, j := range group {
		b := inv.Routes[j]
		prefix := ""
		for n := 0; n <= len(b.Segments); n++ {
			if lens[n] {
				for _, i := range byPrefix[prefix] {
					if i != j && inv.Routes[i].containsPath(b) {
						inv.under[i] = append(inv.under[i], j)
					}
				}
			}
			if n == len(b.Segments) || b.Segments[n].Any {
				break
			}
			prefix += "/" + b.Segments[n].Literal
		}
	}
}

func literalPrefix(s Selector) (string, int) {
	var b strings.Builder
	for i, g := range s.Segments {
		if g.Any {
			return b.String(), i
		}
		b.WriteString("/" + g.Literal)
	}
	return b.String(), len(s.Segments)
}

// Find returns the route that serves the request, the most specific one; -1
// when none does. GET serves HEAD unless HEAD is declared.
func (inv *Inventory) Find(method, host, path string) int {
	best := -1
	if at := inv.paths[served{method, host}]; at != nil {
		found := at.match(Split(Normalise(path)), nil)
		slices.Sort(found)
		for _, i := range found {
			if best < 0 || inv.Routes[best].containsPath(inv.Routes[i]) {
				best = i
			}
		}
	}
	if best < 0 && method == "HEAD" {
		return inv.Find("GET", host, path)
	}
	return best
}

// Named returns the routes whose template the selector names, one per method;
// nil when it names none. Parameter names do not matter.
func (inv *Inventory) Named(s Selector) []int {
	if s.Wild() {
		return nil
	}
	var out []int
	for _, i := range inv.shapes[s.shape()] {
		if len(s.Methods) == 0 || slices.Contains(s.Methods, inv.Routes[i].Method()) {
			out = append(out, i)
		}
	}
	return out
}

// Siblings are all routes of the template that route i has, i among them.
func (inv *Inventory) Siblings(i int) []int { return inv.shapes[inv.Routes[i].shape()] }

// How a selector stands to a route.
type Relation uint8

const (
	Apart  Relation = iota // shares no request with the route
	Covers                 // holds the whole route
	Splits                 // holds a part of the route: an error in a declaration
)

// Relate says how a pattern stands to route i, as that route is: without the
// requests of routes more specific than it.
func (inv *Inventory) Relate(s Selector, i int) Relation {
	r := inv.Routes[i]
	// A declared HEAD is a route of its own; only a selector that says HEAD,
	// or no method at all, speaks for it.
	if len(s.Methods) > 0 && !slices.Contains(s.Methods, r.Method()) {
		return Apart
	}
	if s.Host != r.Host {
		return Apart
	}
	if s.containsPath(r) {
		return Covers
	}
	part, ok := s.Intersect(r)
	if !ok {
		return Apart
	}
	for _, j := range inv.under[i] {
		if inv.Routes[j].containsPath(part) {
			return Apart
		}
	}
	return Splits
}

// Index finds the patterns that may touch a route without trying all of them.
type Index struct{ root *indexNode }

type indexNode struct {
	kids map[string]*indexNode
	here []int
}

// NewIndex files each selector under its leading literal segments.
func NewIndex(selectors []Selector) *Index {
	ix := &Index{root: &indexNode{}}
	for i, s := range selectors {
		n := ix.root.kid(s.Host)
		for _, g := range s.Segments {
			if g.Any {
				break
			}
			n = n.kid(g.Literal)
		}
		n.here = append(n.here, i)
	}
	return ix
}

func (n *indexNode) kid(name string) *indexNode {
	if n.kids == nil {
		n.kids = map[string]*indexNode{}
	}
	k := n.kids[name]
	if k == nil {
		k = &indexNode{}
		n.kids[name] = k
	}
	return k
}

// Near returns a superset of the selectors that share a request with r, in
// ascending order.
func (ix *Index) Near(r Selector) []int {
	var out []int
	var walk func(n *indexNode, segs []Segment)
	walk = func(n *indexNode, segs []Segment) {
		if n == nil {
			return
		}
		out = append(out, n.here...)
		if len(segs) == 0 {
			if r.Tail {
				for _, k := range n.kids {
					walk(k, nil)
				}
			}
			return
		}
		if segs[0].Any {
			for _, k := range n.kids {
				walk(k, segs[1:])
			}
			return
		}
		walk(n.kids[segs[0].Literal], segs[1:])
	}
	walk(ix.root.kids[r.Host], r.Segments)
	slices.Sort(out)
	return out
}
