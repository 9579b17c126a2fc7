package review

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

func noEntry(v *reviewer, c *Check) {
	for i, rt := range v.d.Routes {
		if v.d.Deciding[i] < 0 {
			v.say(rt.Place, len(rt.Key()), rt.Key(), i, fmt.Sprintf("%s has no access entry, so it is for nobody",
				rt.Key()), "say who may call it, or that nobody may",
				fixed("Say that it is for nobody", layout.Edit{Section: "access",
					Text: "{ at: " + declaration.Scalar(rt.Key()) + ", who: nobody }"}))
		}
	}
}

// nobodyDecided is one remark for all routes, where the entry stands that says so.
func nobodyDecided(v *reviewer, c *Check) {
	n, first := 0, (*declaration.Entry)(nil)
	for i := range v.d.Routes {
		if e := v.d.Entry(i); e.Undecided() {
			if n++; first == nil {
				first = e
			}
		}
	}
	if n > 0 {
		v.say(first.Place, len(entryName(first)), "undecided", -1, fmt.Sprintf("of %d of %d routes nobody has decided "+
			"who may call them, so that nothing is checked there", n, len(v.d.Routes)),
			"look at what the service does today (millgate observe), or write who may call them", nil)
	}
}

func entryName(e *declaration.Entry) string { return e.At[0].String() }

func entryIdle(v *reviewer, c *Check) {
	for e, en := range v.d.Access {
		if len(en.At) > 0 && v.d.Touched[e] && len(v.by[e]) == 0 && !en.Undecided() { // that one waits for new routes
			v.say(en.Place, len(entryName(en)), "entry "+entryName(en), -1,
				fmt.Sprintf("the entry at %s never decides: more specific ones decide every route that it selects",
					entryName(en)), "remove it",
				fixed("Remove the entry", layout.Edit{Section: "access", Line: en.Line}))
		}
	}
}

func entryNeedless(v *reviewer, c *Check) {
	for e, en := range v.d.Access {
		if len(v.by[e]) == 0 {
			continue
		}
		other := -1
		same := !slices.ContainsFunc(v.by[e], func(i int) bool {
			o := v.d.DecidingWithout(i, e)
			if o < 0 || !v.d.Access[o].SaysTheSame(en) {
				return true
			}
			other = o
			return false
		})
		if same && other >= 0 {
			o := v.d.Access[other]
			// Of two equal ones that need each other, only the later is needless.
			if entryName(o) == entryName(en) && o.Line > en.Line {
				continue
			}
			v.say(en.Place, len(entryName(en)), "entry "+entryName(en), -1,
				fmt.Sprintf("the entry at %s says what %s in line %d says already", entryName(en), entryName(o),
					o.Line), "remove it",
				fixed("Remove the entry", layout.Edit{Section: "access", Line: en.Line}))
		}
	}
}

func openWrite(v *reviewer, c *Check) {
	for i, rt := range v.d.Routes {
		if rt.Effect != declaration.Read && v.open(i) && !v.session[i] {
			e := v.d.Entry(i)
			v.say(e.Place, len(entryName(e)), rt.Key(), i, fmt.Sprintf("%s, which %s, is open to anyone", rt.Key(),
				does(rt.Effect)), "say who: signed-in or narrower, or accept it with a waiver",
				v.narrow(i, "who: signed-in", "signed-in"))
		}
	}
}

func does(e declaration.Effect) string {
	if e == declaration.Command {
		return "is a command"
	}
	return "can " + string(e)
}

// narrow is the fix that gives one route another `who`: in its entry when that
// decides nothing else, in a new one otherwise.
func (v *reviewer) narrow(i int, title, who string) *Fix {
	if v.d.Access[v.d.Deciding[i]].File != v.d.Name {
		return nil
	}
	edits, err := layout.EntryEdits(v.d, []int{i}, func(e *declaration.Entry) map[string]string {
		set := map[string]string{"who": who}
		if by := v.locks(); who == "signed-in" && len(e.By) == 0 && len(by) > 1 {
			set["by"] = declaration.FlowList(by)
		}
		return set
	})
	if err != nil {
		return nil
	}
	return fixed("Write "+title, edits...)
}

// locks are the schemes that callers come with, one for each lock.
func (v *reviewer) locks() (out []string) {
	var seen []*declaration.Scheme
	for _, id := range v.d.Identities {
		if len(id.Credentials) == 0 {
			continue
		}
		if s := v.d.SchemeNamed(id.Credentials[0].Scheme.Name); s != nil && !slices.ContainsFunc(seen, s.SameLock) {
			seen = append(seen, s)
			out = append(out, s.Name)
		}
	}
	return out
}

// topRoles are the roles that no other includes.
func (v *reviewer) topRoles() (out []string) {
	for _, r := range v.d.Roles {
		if !slices.ContainsFunc(v.d.Roles, func(o *declaration.Role) bool {
			return slices.ContainsFunc(o.Includes, func(x declaration.Ref) bool { return x.Name == r.Name })
		}) {
			out = append(out, r.Name)
		}
	}
	return out
}

func signedInWrite(v *reviewer, c *Check) {
	if len(v.widest) < 2 {
		return
	}
	for i, rt := range v.d.Routes {
		e := v.d.Entry(i)
		if rt.Effect == declaration.Read || e == nil || v.session[i] || len(e.Scope) > 0 || len(e.Given) > 0 ||
			!slices.ContainsFunc(e.Who, func(w declaration.Who) bool {
				return w.Kind == declaration.WhoSignedIn && w.On.Kind == declaration.OnAll
			}) {
			continue
		}
		if slices.ContainsFunc(v.widest, func(k int) bool { return !v.admits(i, k) }) {
			continue // `by` turns some away
		}
		who := "nobody"
		if top := v.topRoles(); len(top) > 0 {
			who = declaration.FlowList(top)
		}
		v.say(e.Place, len(entryName(e)), rt.Key(), i, fmt.Sprintf("%s, which %s, is open to every caller who is "+
			"signed in", rt.Key(), does(rt.Effect)), "name the roles, or ask for a scope",
			v.narrow(i, "who: "+who, who))
	}
}

func readByID(v *reviewer, c *Check) {
	d := v.d
	for i, rt := range d.Routes {
		e, rec := d.Entry(i), d.Record(i)
		if rt.Effect != declaration.Read || e == nil || rec == nil || v.open(i) || len(rec.OwnedBy) < 2 ||
			len(e.Words()) > 0 {
			continue
		}
		var owners []string
		for k, id := range d.Identities {
			if len(rec.OwnedBy[id.Name]) > 0 && v.admits(i, k) {
				owners = append(owners, id.Name)
			}
		}
		if len(owners) == 0 || len(owners) < len(rec.OwnedBy) {
			continue
		}
		keep := []string{"owner"}
		for _, w := range e.Who {
			if w.Kind == declaration.WhoRole && !slices.ContainsFunc(owners,
				func(n string) bool { return d.RolesOf(d.IdentityNamed(n))[w.Name] }) {
				keep = append(keep, w.Name)
			}
		}
		who := declaration.FlowList(keep)
		v.say(e.Place, len(entryName(e)), rt.Key(), i, fmt.Sprintf("%s shows every %s to every caller who owns one "+
			"(%s): ownership is not asked for", rt.Key(), rec.Name, strings.Join(owners[:min(3, len(owners))], ", ")),
			"write owner, and the roles that see all", v.narrow(i, "who: "+who, who))
	}
}

// named says whether some `who` names the role or one that it includes.
func (v *reviewer) reachOf() map[string]map[int]bool {
	d := v.d
	byRole := map[string][]int{} // entries that name it
	for e, en := range d.Access {
		for _, w := range en.Who {
			if w.Kind == declaration.WhoRole {
				byRole[w.Name] = append(byRole[w.Name], e)
			}
		}
	}
	out := map[string]map[int]bool{}
	var all func(string, map[string]bool)
	all = func(n string, into map[string]bool) {
		if into[n] {
			return
		}
		into[n] = true
		if r := d.RoleNamed(n); r != nil {
			for _, x := range r.Includes {
				all(x.Name, into)
			}
		}
	}
	for _, r := range d.Roles {
		has := map[string]bool{}
		all(r.Name, has)
		out[r.Name] = map[int]bool{}
		for n := range has {
			for _, e := range byRole[n] {
				for _, i := range v.by[e] {
					out[r.Name][i] = true
				}
			}
		}
	}
	return out
}

func roleIdle(v *reviewer, c *Check) {
	reach := v.reachOf()
	for _, r := range v.d.Roles {
		if len(reach[r.Name]) > 0 {
			continue
		}
		used := slices.ContainsFunc(v.d.Identities,
			func(id *declaration.Identity) bool { return v.d.RolesOf(id)[r.Name] }) ||
			slices.ContainsFunc(v.d.Roles, func(o *declaration.Role) bool {
				return slices.ContainsFunc(o.Includes, func(x declaration.Ref) bool { return x.Name == r.Name })
			})
		var fix *Fix
		if !used {
			fix = fixed("Remove the role", layout.Edit{Section: "roles", Item: r.Name})
		}
		v.say(r.Place, len(r.Name), "role "+r.Name, -1, fmt.Sprintf("the role %q opens no route", r.Name),
			"name it in an access entry, or remove it", fix)
	}
}

func roleAll(v *reviewer, c *Check) {
	reach := v.reachOf()
	guarded := 0
	for i := range v.d.Routes {
		if !v.open(i) && !v.closed(i) {
			guarded++
		}
	}
	for _, r := range v.d.Roles {
		if guarded >= 5 && len(reach[r.Name]) == guarded {
			v.say(r.Place, len(r.Name), "role "+r.Name, -1, fmt.Sprintf("the role %q opens every guarded route (%d)",
				r.Name, guarded), "split it by what its holders do, or accept it with a waiver", nil)
		}
	}
}

func roleTwins(v *reviewer, c *Check) {
	reach := v.reachOf()
	for x, a := range v.d.Roles {
		for _, b := range v.d.Roles[:x] {
			if len(reach[a.Name]) == 0 || len(reach[a.Name]) != len(reach[b.Name]) {
				continue
			}
			same := true
			for i := range reach[a.Name] {
				same = same && reach[b.Name][i]
			}
			if same {
				v.say(a.Place, len(a.Name), "role "+a.Name, -1, fmt.Sprintf("the roles %q and %q open the same "+
					"routes, so they cannot be told apart", b.Name, a.Name),
					"keep one of them, or say where they differ", nil)
				break
			}
		}
	}
}

func identityTwins(v *reviewer, c *Check) {
	for _, cl := range v.board.Classes {
		if len(cl.Members) < 2 || v.ownsSomething(v.d.Identities[cl.Members[0]]) {
			continue // what is whose tells them apart: each asks for what is the other's
		}
		first, second := v.d.Identities[cl.Members[0]], v.d.Identities[cl.Members[1]]
		v.say(second.Place, len(second.Name), "identity "+second.Name, -1,
			fmt.Sprintf("%d identities cannot be told apart: %s, %s …", len(cl.Members), first.Name, second.Name),
			"one of them is enough to probe with; remove the others, or say what they own",
			fixed("Remove "+second.Name, layout.Edit{Section: "identities", Item: second.Name}))
	}
}

func (v *reviewer) ownsSomething(id *declaration.Identity) bool {
	return slices.ContainsFunc(v.d.Records, func(r *declaration.Record) bool { return len(r.OwnedBy[id.Name]) > 0 })
}

func identityNowhere(v *reviewer, c *Check) {
	// Routes of one entry are equal: one of each is enough.
	for k, id := range v.d.Identities {
		in := false
		for e := range v.d.Access {
			if i := v.sample[e]; i >= 0 && !v.open(i) && v.admits(i, k) {
				in = true
				break
			}
		}
		if !in {
			v.say(id.Place, len(id.Name), "identity "+id.Name, -1, fmt.Sprintf("no route admits %s but those open to "+
				"anyone", id.Name), "name one of its roles in an access entry, or remove it",
				fixed("Remove "+id.Name, layout.Edit{Section: "identities", Item: id.Name}))
		}
	}
}

func neighbourOpen(v *reviewer, c *Check) {
	for i, rt := range v.d.Routes {
		if !v.open(i) || v.session[i] {
			continue
		}
		for _, j := range v.d.Inventory.Siblings(i) {
			if j != i && !v.open(j) && !v.closed(j) {
				e := v.d.Entry(i)
				v.say(e.Place, len(entryName(e)), rt.Key(), i, fmt.Sprintf("%s is open to anyone while %s is guarded",
					rt.Key(), v.d.Routes[j].Key()), "guard both, or accept it with a waiver",
					v.narrow(i, "who: signed-in", "signed-in"))
				break
			}
		}
	}
}

func methodUneven(v *reviewer, c *Check) {
	d := v.d
	for i, rt := range d.Routes {
		if m := rt.Method(); m != "PUT" && m != "PATCH" && m != "DELETE" || v.open(i) || v.closed(i) {
			continue
		}
		for _, j := range d.Inventory.Siblings(i) {
			if d.Routes[j].Method() != "GET" || d.Deciding[j] == d.Deciding[i] || d.Entry(j) == nil {
				continue
			}
			for k, id := range d.Identities {
				if v.admits(i, k) && !v.admits(j, k) && !v.closed(j) {
					e := d.Entry(i)
					who := whoText(d.Entry(j))
					v.say(e.Place, len(entryName(e)), rt.Key(), i, fmt.Sprintf("%s admits %s, whom %s turns away",
						rt.Key(), id.Name, d.Routes[j].Key()),
						"who may change it should be among those who may read it", v.narrow(i, "who: "+who, who))
					break
				}
			}
		}
	}
}

func whoText(e *declaration.Entry) string {
	var list []string
	for _, w := range e.Who {
		list = append(list, declaration.WhoWord(w))
	}
	return declaration.FlowList(list)
}
