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
	Owner Action = "owner"     // up for some records only, one's own where no others are named
)

// Change is one edit of the board: either an action on the crossings of some
// routes and callers, or fields of the rules of whole routes.
type Change struct {
	Routes  []int
	Columns []int // 0 is nobody, k is identity k-1; none is every caller
	Action  Action
	On      string            // with Owner: on which records, a word of `on`; "" is own
	Set     map[string]string // in place of an action: words of the entry with their text
}

// Edits are the edits of the text that make a change, written as a person
// would: with roles where a role says it, with identities otherwise. notes say
// what cannot be had that way.
func Edits(d *declaration.Document, c Change) (edits []layout.Edit, notes []string, err error) {
	if c.Action == Owner {
		for _, i := range c.Routes {
			if err := d.CanSay(i, d.OnNamed(c.On)); err != nil {
				return nil, nil, err
			}
		}
	}
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
	open := e.Open()
	some := slices.DeleteFunc(slices.Clone(e.Who),
		func(w declaration.Who) bool { return w.On.Kind == declaration.OnAll })
	in := make([]bool, n)
	for k, id := range d.Identities {
		in[k] = d.Admits(e, id).All && (!open || len(id.Credentials) > 0)
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
		some = onSome(d, some, c.On, selected, nobody)
	case Lower:
		some = stillOnSome(d, some, selected, before, nobody, note)
	default:
	}
	list := synthesise(d, e, in, some, open)
	out := map[string]string{"who": declaration.WhoList(list)}
	if open {
		out["broken"] = ""
	}
	if list[0].Kind != declaration.WhoNobody {
		would := &declaration.Entry{Who: some}
		comes := slices.Clone(in)
		for k, id := range d.Identities {
			comes[k] = comes[k] || d.Comes(would, id)
		}
		schemes(d, e, comes, out)
	}
	return out
}

// stillOnSome are the alternatives of a rule that go on admitting on some records when callers are turned away: all,
// unless everybody is. It notes who of them is still admitted by these, having been admitted by no other (before).
func stillOnSome(d *declaration.Document, some []declaration.Who, selected, before []bool, nobody bool,
	note func(string)) []declaration.Who {
	if !slices.Contains(selected, false) {
		some = slices.DeleteFunc(some, func(w declaration.Who) bool {
			return nobody || w.Kind != declaration.WhoAnyone
		})
	}
	for k, id := range d.Identities {
		x := d.Admits(&declaration.Entry{Who: some}, id)
		switch {
		case !selected[k] || before[k] || x.None():
		case declaration.OwnAlone(x.On):
			note(fmt.Sprintf("%s is admitted to its own records as their owner; take owner out of the rule to turn it "+
				"away from these too", id.Name))
		default:
			note(fmt.Sprintf("%s is admitted %s; take that out of the rule to turn it away from these too", id.Name,
				OnText(x.On)))
		}
	}
	return some
}

// OnlyOn is what admitting on some records only is called.
func OnlyOn(on declaration.On) string {
	switch on.Kind {
	case declaration.OnOwn:
		return "Own records only"
	case declaration.OnGroup:
		return "Records that are " + on.Name + " only"
	default:
	}
	return "Records " + on.Text() + " only"
}

// onSome adds to the alternatives of a rule those that admit callers on some records: whoever owns them, anyone on a
// group, or who is selected.
func onSome(d *declaration.Document, list []declaration.Who, word string, selected []bool,
	nobody bool) []declaration.Who {
	on := d.OnNamed(word)
	add := func(w declaration.Who) {
		w.On = on
		if !slices.ContainsFunc(list, func(h declaration.Who) bool {
			return h.Kind == w.Kind && h.Name == w.Name && h.On.Name == w.On.Name
		}) {
			list = append(list, w)
		}
	}
	switch all := !slices.Contains(selected, false); {
	case on.Kind == declaration.OnGroup && nobody:
		add(declaration.WhoOf(declaration.Ref{Name: "anyone"}))
	case on.Kind == declaration.OnOwn:
		add(declaration.WhoOf(declaration.Ref{Name: "owner"}))
	case all:
		add(declaration.WhoOf(declaration.Ref{Name: "signed-in"}))
	default:
		is := func(k int) bool { return selected[k] }
		for _, w := range Cover(d, is, is) {
			add(declaration.WhoOf(declaration.Ref{Name: w}))
		}
	}
	return list
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

// synthesise writes a set of identities as alternatives of `who`, behind those that admit on some records.
func synthesise(d *declaration.Document, e *declaration.Entry, in []bool, some []declaration.Who,
	open bool) []declaration.Who {
	list := slices.Clone(some)
	say := func(words ...string) {
		for _, w := range words {
			list = append(list, declaration.WhoOf(declaration.Ref{Name: w}))
		}
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
		say(word)
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
		func(w declaration.Who) bool {
			return w.Kind == declaration.WhoSignedIn && w.On.Kind == declaration.OnAll
		})
	if every && signedIn && len(left) > 0 {
		say("signed-in")
		return list
	}
	// What the rule says already stays, as far as it still holds.
	for _, w := range e.Who {
		if w.On.Kind != declaration.OnAll {
			continue
		}
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
	say(Cover(d, func(k int) bool { return left[k] }, func(k int) bool { return in[k] })...)
	if len(list) == 0 {
		say("nobody")
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
