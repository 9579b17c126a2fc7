package observe

import (
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/route"
)

// oddity is what looks wrong at a route. It is a hint for whoever decides, and no finding: nothing was declared yet.
type oddity struct{ kind, text string }

// odds are what looks wrong, by the place of the route in a list.
func odds(d *declaration.Document, list []At) []oddity {
	out := make([]oddity, len(list))
	beside := map[string][]int{} // by prefix
	under := func(a At) string { return d.Routes[a.Route].Host + " " + d.Routes[a.Route].Prefix() }
	for k, a := range list {
		beside[under(a)] = append(beside[under(a)], k)
	}
	for k, a := range list {
		switch by := peer(d, a); {
		case shutToSigned(d, a) != "":
			out[k] = oddity{"absent", "Open without a credential, and not to " + shutToSigned(d, a)}
		case by != "":
			out[k] = oddity{"peer", "Another's record is read: " + by}
		case a.Marks[nobody] == In && len(allows(d, a)) > 0:
			out[k] = oddity{"method", "Open, and it allows " + strings.Join(allows(d, a), ", ") +
				", which no route declares"}
		case inside(d, a) != "":
			out[k] = oddity{"inside", inside(d, a) + " reads what lies under " + insideWord(d.Routes[a.Route].Path())}
		case a.Marks[nobody] == In && guardedBeside(list, beside[under(a)], k):
			out[k] = oddity{"open", "Open, and its neighbours ask for a credential"}
		}
	}
	return out
}

// shutToSigned is who is turned away from what nobody needs a credential for: a guard that is asked only where there is
// a credential looks so.
func shutToSigned(d *declaration.Document, a At) string {
	if a.Marks[nobody] != In {
		return ""
	}
	for _, id := range d.Identities {
		if a.Marks[id.Name] == Away {
			return id.Name
		}
	}
	return ""
}

// peer is who read a record of somebody who may as much: an owner of its own who has no role that the other lacks.
func peer(d *declaration.Document, a At) string {
	rec := d.Record(a.Route)
	if rec == nil || a.Marks[nobody] == In {
		return ""
	}
	for _, s := range a.Seen {
		reader, owner := d.IdentityNamed(s.Identity), d.IdentityNamed(s.Owner)
		if s.Relation != access.Foreign || s.Class != check.Admitted || reader == nil || owner == nil ||
			len(rec.OwnedBy[reader.Name]) == 0 {
			continue
		}
		theirs, more := d.RolesOf(owner), false
		for r := range d.RolesOf(reader) {
			more = more || !theirs[r]
		}
		if !more {
			return reader.Name + " got " + rec.Name + " " + s.Record + " of " + owner.Name
		}
	}
	return ""
}

// allows are unsafe methods that an answer says are allowed, and that no route of the inventory has there.
func allows(d *declaration.Document, a At) []string {
	rt := d.Routes[a.Route]
	declared := []string{}
	for _, j := range d.Inventory.Siblings(a.Route) {
		declared = append(declared, d.Routes[j].Method())
	}
	var out []string
	for _, s := range a.Seen {
		for _, m := range s.Allows {
			if declaration.UnsafeMethod(m) && slices.Contains(route.Methods, m) && !slices.Contains(declared, m) &&
				m != rt.Method() && !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	slices.Sort(out)
	return out
}

// notDeclared says which methods routes of a group allow that the inventory does not have: nobody decides about them
// here. "" without any.
func notDeclared(d *declaration.Document, list []At) string {
	var methods []string
	for _, a := range list {
		methods = append(methods, allows(d, a)...)
	}
	if len(methods) == 0 {
		return ""
	}
	slices.Sort(methods)
	return "no route declares " + strings.Join(slices.Compact(methods), ", ") + ", which it allows there too"
}

// insiders are words of paths for what is not for everybody.
var insiders = []string{"admin", "administration", "audit", "backup", "backups", "config", "configuration", "console",
	"debug", "export", "internal", "logs", "manage", "management", "metrics", "operations", "private", "secrets"}

func insideWord(path string) string {
	if strings.HasPrefix(path, "/.well-known/") {
		return "" // what is there is for whoever comes (RFC 8615)
	}
	for _, s := range route.Split(path) {
		for _, w := range strings.FieldsFunc(strings.ToLower(s),
			func(r rune) bool { return strings.ContainsRune("-_.", r) }) {
			if slices.Contains(insiders, w) {
				return w
			}
		}
	}
	return ""
}

// inside is who may read what lies under such a word although it has none but plain roles: those that
// others include, or none at all.
func inside(d *declaration.Document, a At) string {
	if insideWord(d.Routes[a.Route].Path()) == "" {
		return ""
	}
	if a.Marks[nobody] == In {
		return "Everybody"
	}
	included := map[string]bool{}
	for _, r := range d.Roles {
		for _, x := range r.Includes {
			included[x.Name] = true
		}
	}
	for _, id := range d.Identities {
		if a.Marks[id.Name] != In || len(id.Roles) == 0 {
			continue
		}
		if !slices.ContainsFunc(id.Roles, func(r declaration.Ref) bool { return !included[r.Name] }) {
			return "A plain " + id.Roles[0].Name
		}
	}
	return ""
}

// guardedBeside says whether most routes beside one, and at least two, turn nobody's requests away.
func guardedBeside(list []At, beside []int, k int) bool {
	guarded, all := 0, 0
	for _, n := range beside {
		if n != k && list[n].Marks[nobody] != Unknown {
			if all++; list[n].Marks[nobody] == Away {
				guarded++
			}
		}
	}
	return guarded >= 2 && 2*guarded > all
}
