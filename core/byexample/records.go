package byexample

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/route"
)

// owned is what may be somebody's: the values of one parameter, by who asked for them.
type owned struct {
	name, fills string
	callers     []string
	ids         map[string][]string
}

// records proposes who owns what: where callers of one role ask for the same thing, each with an id of its own that no
// other of them asks for, these are taken for their own. Who is no identity, declared or proposed, owns nothing;
// who has
// another role may ask for what is somebody else's.
func (r *reader) records() {
	inv, _ := route.NewInventory(r.templates)
	index := map[string]*owned{}
	var list []*owned
	for _, c := range r.calls {
		host, path, ok := r.hostOf(c.q)
		if !ok || c.login != nil || !r.isIdentity(c.whose) || c.q.Answer != nil && c.q.Answer.Status/100 != 2 {
			continue
		}
		i := inv.Find(c.q.Method, host, path)
		if i < 0 || c.q.Method == "HEAD" {
			continue
		}
		param, id := lastOf(inv.Routes[i], path)
		if param == "" {
			continue
		}
		o := ownedBy(inv.Routes[i], param)
		if index[o.fills] == nil {
			index[o.fills] = o
			list = append(list, o)
		}
		if o = index[o.fills]; !slices.Contains(o.callers, c.whose) {
			o.callers = append(o.callers, c.whose)
		}
		if !slices.Contains(o.ids[c.whose], id) {
			o.ids[c.whose] = append(o.ids[c.whose], id)
		}
	}
	for _, o := range list {
		r.ofOneRole(o)
		if len(o.callers) > 1 && o.apart() && !r.owns(o) {
			r.propose(Proposal{Kind: Record, Name: o.name, Text: o.text(),
				Why: "each asked for one that no other of its " +
					"role asked for, so that it is taken for its own; leave it out if it is not"})
		}
	}
}

// ofOneRole leaves the callers of the role that most of them have, and those of whom no role is known.
func (r *reader) ofOneRole(o *owned) {
	count, best := map[string]int{}, ""
	role := func(name string) string { return strings.Join(r.rolesOf(name), " ") }
	for _, c := range o.callers {
		k := role(c)
		if count[k]++; count[k] > count[best] || best == "" && count[k] == count[best] {
			best = k
		}
	}
	o.callers = slices.DeleteFunc(o.callers, func(c string) bool { return role(c) != "" && role(c) != best })
}

// rolesOf are those of an identity, declared or proposed.
func (r *reader) rolesOf(name string) []string {
	if id := r.d.IdentityNamed(name); id != nil {
		return declaration.Names(id.Roles, func(x declaration.Ref) string { return x.Name })
	}
	for _, p := range r.out.Proposals {
		if p.Kind == Identity && p.Name == name {
			return p.Roles
		}
	}
	return nil
}

func (r *reader) isIdentity(name string) bool {
	return name != "" && (r.d.IdentityNamed(name) != nil || slices.ContainsFunc(r.out.Proposals,
		func(p Proposal) bool { return p.Kind == Identity && p.Name == name }))
}

// lastOf is the last parameter of a template and what stands there in a path of it; "" without one.
func lastOf(sel route.Selector, path string) (name, value string) {
	segments := route.Split(path)
	for k, s := range sel.Segments {
		if s.Name != "" {
			name, value = s.Name, segments[k]
		}
	}
	return name, value
}

// ownedBy is a record that fills a parameter: everywhere by its name, where that says of what it is, or else behind one
// path.
func ownedBy(sel route.Selector, param string) *owned {
	o := &owned{fills: param, name: strings.TrimSuffix(param, "_id"), ids: map[string][]string{}}
	if o.name != param && o.name != "" {
		return o
	}
	_, path, _ := strings.Cut(sel.String(), " ")
	o.name, o.fills = "record", path
	for k, s := range sel.Segments {
		if s.Name == param && k > 0 && sel.Segments[k-1].Name == "" {
			o.name = strings.TrimSuffix(slug(sel.Segments[k-1].Literal), "s")
		}
	}
	return o
}

// apart says whether no id is asked for by two callers.
func (o *owned) apart() bool {
	of := map[string]string{}
	for _, c := range o.callers {
		for _, id := range o.ids[c] {
			if of[id] != "" {
				return false
			}
			of[id] = c
		}
	}
	return true
}

// owns says whether a record that is declared fills the same.
func (r *reader) owns(o *owned) bool {
	return slices.ContainsFunc(r.d.Records, func(x *declaration.Record) bool {
		return x.Name == o.name || x.Param != "" && x.Param == o.fills ||
			slices.ContainsFunc(x.Fills, func(s route.Selector) bool { return s.String() == o.fills })
	})
}

func (o *owned) text() string {
	var owners []string
	for _, c := range o.callers {
		owners = append(owners, fmt.Sprintf("%s: [%s]", c, strings.Join(declaration.Names(o.ids[c], declaration.Scalar),
			", ")))
	}
	return "{ fills: " + declaration.Scalar(o.fills) + ", owned_by: { " + strings.Join(owners, ", ") + " } }"
}
