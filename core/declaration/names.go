package declaration

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/route"
)

// namer knows what is declared, by kind, and says of a name that it is not.
type namer struct {
	d     *Document
	r     *reader
	known map[string][]string
	index map[string]map[string]bool
	hosts []string // of all targets
	// uses is told of each name that stands for something declared; nil where nobody asks.
	uses func(kind string, ref Ref)
}

// sectionOf is where a kind is declared.
var sectionOf = map[string]string{"role": "roles", "scheme": "schemes", "identity": "identities",
	"lifetime": "lifetimes", "record": "records", "target": "targets", "quota": "quotas"}

func (d *Document) namer(r *reader) *namer {
	n := &namer{d: d, r: r, index: map[string]map[string]bool{}}
	n.known = map[string][]string{
		"role":     Names(d.Roles, func(x *Role) string { return x.Name }),
		"scheme":   Names(d.Schemes, func(x *Scheme) string { return x.Name }),
		"identity": Names(d.Identities, func(x *Identity) string { return x.Name }),
		"lifetime": Names(d.Lifetimes, func(x *Lifetime) string { return x.Name }),
		"record":   Names(d.Records, func(x *Record) string { return x.Name }),
		"quota":    Names(d.Quotas, func(x *Quota) string { return x.Name }),
		"target":   Names(d.Targets, func(x *Target) string { return x.Name }),
	}
	for what, list := range n.known {
		n.index[what] = map[string]bool{}
		for _, name := range list {
			n.index[what][name] = true
		}
	}
	for _, t := range d.Targets {
		for h := range t.Hosts {
			if !slices.Contains(n.hosts, h) {
				n.hosts = append(n.hosts, h)
			}
		}
	}
	sort.Strings(n.hosts)
	return n
}

func (n *namer) has(what, name string) bool { return n.index[what][name] }

// want says that something is not declared, and what may be meant.
func (n *namer) want(ref Ref, what string) {
	if n.uses != nil {
		n.uses(what, ref)
	}
	if n.has(what, ref.Name) {
		return
	}
	known := n.known[what]
	hint := fmt.Sprintf("declare it under `%s`", sectionOf[what])
	if near := Nearest(ref.Name, known); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	} else if len(known) > 0 && len(known) <= 12 {
		hint += "; known are " + strings.Join(known, ", ")
	}
	n.r.sayAt(ref.Place, len(ref.Name), Error, "reference", fmt.Sprintf("the %s %q is not declared", what, ref.Name),
		hint)
	n.r.msgs[len(n.r.msgs)-1].Suggest = Nearest(ref.Name, known)
}

// wantIf wants what is named, where something is.
func (n *namer) wantIf(ref Ref, what string) {
	if ref.Name != "" {
		n.want(ref, what)
	}
}

// host says that no target has a host.
func (n *namer) host(name string, at Place) {
	if name == "" || slices.Contains(n.hosts, name) || len(n.d.Targets) == 0 {
		return
	}
	n.r.sayAt(at, len(name), Error, "reference", fmt.Sprintf("no target has a host called %q", name),
		HintAt(name, n.hosts, "add it under `hosts` of a target"))
}

func (n *namer) hostsOf(requests ...*Request) {
	for _, q := range requests {
		if q != nil {
			n.host(q.Host, q.Place)
		}
	}
}

func (n *namer) hostsAt(selectors []route.Selector, at Place) {
	for _, s := range selectors {
		n.host(s.Host, at)
	}
}

// checkNames says which names stand for nothing, and which for two things.
func (d *Document) checkNames(r *reader) {
	n := d.namer(r)
	d.checkTwice(r)
	n.all()
	d.checkCycles(r)
}

// Uses are the places at which a role, an identity or a scheme is named, where it is declared among them.
func (d *Document) Uses(kind, name string) (out []Ref) {
	n := d.namer(&reader{file: d.Name, version: V11})
	n.uses = func(k string, ref Ref) {
		if k == kind && ref.Name == name {
			out = append(out, ref)
		}
	}
	switch kind {
	case "role":
		if x := d.RoleNamed(name); x != nil {
			out = append(out, Ref{name, x.Place})
		}
	case "identity":
		if x := d.IdentityNamed(name); x != nil {
			out = append(out, Ref{name, x.Place})
		}
	case "scheme":
		if x := d.SchemeNamed(name); x != nil {
			out = append(out, Ref{name, x.Place})
		}
	}
	n.all()
	return out
}

// all goes through everything that names something.
func (n *namer) all() {
	for _, t := range n.d.Targets {
		for _, l := range t.Lowered {
			n.want(l.Ref, "quota")
		}
		for _, l := range t.Shorter {
			n.want(l.Ref, "lifetime")
		}
	}
	n.quotas()
	for _, e := range n.d.Origins {
		n.hostsAt(e.At, e.Place)
	}
	n.roles()
	n.routes()
	n.callers()
	n.access()
}

func (n *namer) quotas() {
	for _, u := range n.d.Quotas {
		if u.Locks != nil {
			n.wantIf(u.Locks.TriedOn, "identity")
		}
		for i := range u.For {
			f := &u.For[i]
			if name, ok := strings.CutPrefix(f.Name, "identity:"); ok {
				n.want(Ref{name, f.Place}, "identity")
			} else if !n.has("role", f.Name) && n.has("identity", f.Name) {
				f.Name = "identity:" + f.Name
			} else {
				n.want(f.Ref, "role")
			}
		}
		for _, x := range u.Exempt {
			if sectionOf[x.Kind] != "" {
				n.want(x.Ref, x.Kind)
			}
		}
		n.hostsAt(u.At, u.Place)
	}
}

// ownWho are the words of `who` that are no names.
func ownWho(v Version) []string {
	words := []string{"anyone", "signed-in", "nobody", "owner"}
	if v != V1 {
		words = append(words, undecided)
	}
	return words
}

func (n *namer) roles() {
	for _, ro := range n.d.Roles {
		if slices.Contains(ownWho(n.r.version), ro.Name) {
			n.r.sayAt(ro.Place, len(ro.Name), Error, "type", fmt.Sprintf("%q has a meaning of its own in `who`",
				ro.Name),
				"call the role something else")
		}
		for _, i := range ro.Includes {
			n.want(i, "role")
		}
	}
}

func (n *namer) routes() {
	for _, rt := range n.d.Routes {
		n.host(rt.Host, rt.Place)
		n.wantIf(rt.Send.As, "identity")
		for _, u := range rt.Then {
			n.host(u.Host, u.Place)
			n.wantIf(u.As, "identity")
		}
	}
	for _, rec := range n.d.Records {
		for _, o := range rec.Owners {
			n.want(o, "identity")
		}
		n.hostsOf(rec.Make, rec.Remove)
		n.wantIf(rec.RemoveAs, "identity")
	}
}

// callers are schemes and identities.
func (n *namer) callers() {
	for _, s := range n.d.Schemes {
		for _, l := range s.Lifetime {
			n.want(l, "lifetime")
		}
		n.hostsOf(s.Login, s.Refresh, s.Logout, s.Issue, s.Introspect)
		if s.Arrives != nil {
			n.hostsOf(&s.Arrives.Read)
		}
		if a := s.Account; a != nil {
			n.hostsOf(&a.Request, a.Remove)
			n.wantIf(a.RemoveAs, "identity")
			n.d.checkAccount(n.r, s)
		}
		n.wantIf(s.IntrospectAs, "identity")
	}
	for _, id := range n.d.Identities {
		for _, x := range id.Roles {
			n.want(x, "role")
		}
		for _, c := range id.Credentials {
			n.want(c.Scheme, "scheme")
			n.d.checkFill(n.r, c)
		}
	}
}

// who are the identities and roles that an entry names.
func (n *namer) who(e *Entry) {
	for _, w := range e.Who {
		switch {
		case w.Kind == WhoIdentity:
			n.want(w.Ref, "identity")
		case w.Kind == WhoRole && !n.has("role", w.Name):
			n.unknownWho(w)
		case w.Kind == WhoRole:
			n.want(w.Ref, "role")
		}
	}
}

func (n *namer) access() {
	attrs := map[string]bool{}
	for _, id := range n.d.Identities {
		for a := range id.Attributes {
			attrs[a] = true
		}
	}
	for _, t := range n.d.Targets {
		if t.Describes != nil {
			n.who(t.Describes)
		}
	}
	for _, e := range n.d.Access {
		n.who(e)
		for _, b := range e.By {
			n.want(b, "scheme")
		}
		n.hostsAt(e.At, e.Place)
		n.wantIf(e.OwnerOf, "record")
		for g := range e.Given {
			if !attrs[g] {
				n.r.sayAt(e.Place, 1, Warning, "reference", fmt.Sprintf("no identity has the attribute %q, so this "+
					"entry admits nobody", g), "add it under `attributes` of an identity")
			}
		}
	}
}

// unknownWho says of a name in `who` that it is no role, and what may be meant.
func (n *namer) unknownWho(w Who) {
	near := Nearest(w.Name, slices.Concat(ownWho(n.r.version), n.known["role"]))
	hint := "write anyone, signed-in, nobody, owner, a role or identity:NAME"
	switch {
	case w.Name == undecided:
		hint = fmt.Sprintf("that nobody has decided yet can be said from version %s on: begin %s with  millgate: %[1]s",
			V11, n.r.file)
	case n.has("identity", w.Name):
		near = "identity:" + w.Name
		hint = "for one identity write " + near
	case near != "":
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	n.r.sayAt(w.Place, len(w.Name), Error, "reference", fmt.Sprintf("the role %q is not declared", w.Name), hint)
	n.r.msgs[len(n.r.msgs)-1].Suggest = near
}
