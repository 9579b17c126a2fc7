package access

import (
	"fmt"
	"maps"
	"slices"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

// Action is what is done to some crossings of the board.
type Action string

const (
	Raise Action = "admit"     // the bar goes up
	Lower Action = "turn-away" // the bar goes down
	Owner Action = "owner"     // up for one's own record only
)

// Change is one edit of the board: either an action on the crossings of some
// routes and callers, or fields of the rules of whole routes.
type Change struct {
	Routes  []int
	Columns []int // 0 is nobody, k is identity k-1; none is every caller
	Action  Action
	Set     map[string]string // in place of an action: words of the entry with their text
}

// Edits are the edits of the text that make a change, written as a person
// would: with roles where a role says it, with identities otherwise. notes say
// what cannot be had that way.
func Edits(d *declaration.Document, c Change) (edits []layout.Edit, notes []string, err error) {
	said := map[string]bool{}
	note := func(s string) {
		if !said[s] {
			said[s] = true
			notes = append(notes, s)
		}
	}
	edits, err = layout.EntryEdits(d, c.Routes, func(e *declaration.Entry) map[string]string {
		if c.Action == "" {
			return c.Set
		}
		return rule(d, e, c, note)
	})
	return edits, notes, err
}

// rule is the new `who` (and what goes with it) of one entry; nil is closed.
func rule(d *declaration.Document, e *declaration.Entry, c Change, note func(string)) map[string]string {
	if e == nil || e.Undecided() {
		e = &declaration.Entry{}
	}
	n := len(d.Identities)
	selected := make([]bool, n)
	nobody := len(c.Columns) == 0
	for k := range selected {
		selected[k] = len(c.Columns) == 0
	}
	for _, col := range c.Columns {
		if col == 0 {
			nobody = true
		} else if col <= n {
			selected[col-1] = true
		}
	}
	if c.Action == Raise && nobody {
		return map[string]string{"who": "anyone", "given": "", "scope": "", "by": "", "hide": "", "turned_away": "",
			"owner_of": ""}
	}
	open, owner := false, false
	in := make([]bool, n)
	for _, w := range e.Who {
		open = open || w.Kind == declaration.WhoAnyone
		owner = owner || w.Kind == declaration.WhoOwner
	}
	for k, id := range d.Identities {
		pass, only := d.Admits(e, id)
		in[k] = pass && !only && (!open || len(id.Credentials) > 0)
	}
	if open && c.Action == Lower && !nobody {
		note("the rule admits anyone, so who is signed in could leave the credential away: turn nobody away too")
	}
	before := slices.Clone(in)
	for k, id := range d.Identities {
		if !selected[k] {
			continue
		}
		switch c.Action {
		case Raise:
			if len(id.Credentials) == 0 {
				note(id.Name + " has no credential to come in with")
				continue
			}
			in[k] = true
			held(d, e, id, note)
		default:
			in[k] = false
		}
	}
	switch c.Action {
	case Owner:
		owner = true
	case Lower:
		if owner && !slices.Contains(selected, false) {
			owner = false
		} else if owner {
			for k, id := range d.Identities {
				if selected[k] && !before[k] {
					note(fmt.Sprintf("%s is admitted to its own records as their owner; take owner out of the rule "+
						"to turn it away from these too", id.Name))
				}
			}
		}
	default:
	}
	list := synthesise(d, e, in, owner, open)
	out := map[string]string{"who": declaration.FlowList(list)}
	if open {
		out["broken"] = ""
	}
	if !slices.Equal(list, []string{"nobody"}) {
		comes := slices.Clone(in)
		for k, id := range d.Identities {
			comes[k] = comes[k] || owner && d.Owns(id)
		}
		schemes(d, e, comes, out)
	}
	return out
}

// held says what the identity lacks beside a role.
func held(d *declaration.Document, e *declaration.Entry, id *declaration.Identity, note func(string)) {
	for _, s := range e.Scope {
		if !slices.Contains(id.Scopes, s) {
			note(fmt.Sprintf("%s does not hold the scope %s that the rule asks for", id.Name, s))
		}
	}
	for _, g := range sortedKeys(e.Given) {
		if have, ok := id.Attributes[g]; !ok || fmt.Sprint(have) != fmt.Sprint(e.Given[g]) {
			note(fmt.Sprintf("%s has not %s: %v, which the rule asks for", id.Name, g, e.Given[g]))
		}
	}
}

// synthesise writes a set of identities as alternatives of `who`.
func synthesise(d *declaration.Document, e *declaration.Entry, in []bool, owner, open bool) []string {
	var list []string
	if owner {
		list = append(list, "owner")
	}
	left := map[int]bool{}
	every := true
	for k, id := range d.Identities {
		if in[k] {
			left[k] = true
		} else if len(id.Credentials) > 0 {
			every = false
		}
	}
	fits := func(has func(*declaration.Identity) bool) (covers int, ok bool) {
		for k, id := range d.Identities {
			if !has(id) {
				continue
			}
			if !in[k] {
				return 0, false
			}
			if left[k] {
				covers++
			}
		}
		return covers, true
	}
	take := func(word string, has func(*declaration.Identity) bool) {
		list = append(list, word)
		for k, id := range d.Identities {
			if has(id) {
				delete(left, k)
			}
		}
	}
	ofRole := func(name string) func(*declaration.Identity) bool {
		return func(id *declaration.Identity) bool { return d.RolesOf(id)[name] }
	}
	signedIn := open || slices.ContainsFunc(e.Who,
		func(w declaration.Who) bool { return w.Kind == declaration.WhoSignedIn })
	if every && signedIn && len(left) > 0 {
		return append(list, "signed-in")
	}
	// What the rule says already stays, as far as it still holds.
	for _, w := range e.Who {
		switch w.Kind {
		case declaration.WhoRole:
			if _, ok := fits(ofRole(w.Name)); ok {
				take(w.Name, ofRole(w.Name))
			}
		case declaration.WhoIdentity:
			same := func(id *declaration.Identity) bool { return id.Name == w.Name }
			if _, ok := fits(same); ok {
				take("identity:"+w.Name, same)
			}
		default:
		}
	}
	list = append(list, Cover(d, func(k int) bool { return left[k] }, func(k int) bool { return in[k] })...)
	if len(list) == 0 {
		return []string{"nobody"}
	}
	return list
}

// Cover writes identities as alternatives of `who`: roles whose holders may all come in, those that
// cover most first, and by name who is left.
func Cover(d *declaration.Document, must, may func(identity int) bool) (list []string) {
	left := map[int]bool{}
	for k := range d.Identities {
		if must(k) {
			left[k] = true
		}
	}
	for len(left) > 0 {
		best, covers := "", 0
		for _, r := range d.Roles {
			n, fits := 0, true
			for k, id := range d.Identities {
				if d.RolesOf(id)[r.Name] {
					fits = fits && may(k)
					if left[k] {
						n++
					}
				}
			}
			if fits && n > covers {
				best, covers = r.Name, n
			}
		}
		if covers == 0 {
			break
		}
		list = append(list, best)
		for k, id := range d.Identities {
			if d.RolesOf(id)[best] {
				delete(left, k)
			}
		}
	}
	for _, k := range slices.Sorted(maps.Keys(left)) {
		list = append(list, "identity:"+d.Identities[k].Name)
	}
	return list
}

// schemes adds `by` where those who are admitted come with schemes that the
// rule does not accept yet, or with several that it must name.
func schemes(d *declaration.Document, e *declaration.Entry, in []bool, out map[string]string) {
	var locks []*declaration.Scheme
	add := func(s *declaration.Scheme) {
		if s != nil && !slices.ContainsFunc(locks, s.SameLock) {
			locks = append(locks, s)
		}
	}
	for _, b := range e.By {
		add(d.SchemeNamed(b.Name))
	}
	had := len(locks)
	for k, id := range d.Identities {
		if !in[k] || len(id.Credentials) == 0 {
			continue
		}
		if slices.ContainsFunc(id.Credentials, func(c declaration.Credential) bool {
			s := d.SchemeNamed(c.Scheme.Name)
			return s != nil && slices.ContainsFunc(locks, s.SameLock)
		}) {
			continue
		}
		add(d.SchemeNamed(id.Credentials[0].Scheme.Name))
	}
	if len(locks) <= 1 && had == 0 || len(locks) == had && had > 0 {
		return
	}
	var list []string
	for _, b := range e.By {
		list = append(list, b.Name)
	}
	for _, s := range locks {
		if !slices.Contains(list, s.Name) {
			list = append(list, s.Name)
		}
	}
	out["by"] = declaration.FlowList(list)
}
