package declaration

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// OnKind is what a word of `on` stands for.
type OnKind uint8

const (
	OnAll    OnKind = iota // no word: every record
	OnOwn                  // those that are the caller's own
	OnGroup                // those of a group
	OnWithin               // those that stand in the caller's own record of a kind: its team, its tenant
)

// On is on which records an alternative of `who` admits. The zero On is all of them.
type On struct {
	Kind OnKind
	Ref
}

// own is the word of OnOwn. foreign is what a record is to a caller of which no word holds.
const (
	own     = "own"
	foreign = "foreign"
)

// Own are the records that are the caller's own.
var Own = On{Kind: OnOwn, Ref: Ref{Name: own}}

// Text is which records it means, in words.
func (o On) Text() string {
	switch o.Kind {
	case OnOwn:
		return "its own"
	case OnGroup:
		return o.Name
	case OnWithin:
		return "of its own " + o.Name
	default:
	}
	return "any"
}

// OnNames are the words of several.
func OnNames(list []On) []string { return Names(list, func(o On) string { return o.Name }) }

// Extent is on which records a caller is admitted. The zero Extent is none.
type Extent struct {
	All bool // whatever the record
	On  []On // otherwise those for which one of these holds, each once: own first, then groups, then kinds
}

// None says that it takes in no record.
func (x Extent) None() bool { return !x.All && len(x.On) == 0 }

// With takes in what alternatives are about.
func (x Extent) With(more ...On) Extent {
	for _, o := range more {
		switch {
		case x.All:
		case o.Kind == OnAll:
			x = Extent{All: true}
		case len(x.On) == 0 && o.Kind == OnOwn:
			x.On = justOwn
		case !slices.ContainsFunc(x.On, func(h On) bool { return h.Name == o.Name }):
			x.On = append(slices.Clip(x.On), o)
			slices.SortFunc(x.On, func(a, b On) int {
				return cmp.Or(int(a.Kind)-int(b.Kind), strings.Compare(a.Name, b.Name))
			})
		}
	}
	return x
}

// OwnAlone says whether some words are about one's own records and no others.
func OwnAlone(words []On) bool { return len(words) == 1 && words[0].Kind == OnOwn }

var justOwn = []On{Own}

// Admits says on which records rung 4 lets an identity pass. What is open to anyone (Opens) is not asked here: it
// needs no identity.
func (d *Document) Admits(e *Entry, id *Identity) (x Extent) {
	roles := d.roleSets[id.Name]
	for _, w := range e.Who {
		var fits bool
		switch w.Kind {
		case WhoAnyone:
			fits = w.On.Kind == OnAll
		case WhoSignedIn:
			fits = true
		case WhoRole:
			fits = roles[w.Name]
		case WhoIdentity:
			fits = w.Name == id.Name
		default:
		}
		if fits {
			x = x.With(w.On)
		}
	}
	return x
}

// Opens says on which records an entry admits anyone, without a credential.
func (e *Entry) Opens() (x Extent) {
	for _, w := range e.Who {
		if w.Kind == WhoAnyone {
			x = x.With(w.On)
		}
	}
	return x
}

// Open says whether an entry admits anyone whatever the record.
func (e *Entry) Open() bool { return e.Opens().All }

// Words are the words of `on` that an entry uses, each once, in its order.
func (e *Entry) Words() (out []On) {
	for _, w := range e.Who {
		if w.On.Kind != OnAll && !slices.ContainsFunc(out, func(o On) bool { return o.Name == w.On.Name }) {
			out = append(out, w.On)
		}
	}
	return out
}

// Within says in which records of another kind some stand: a record's team, or an identity's.
type Within struct {
	Ref             // the kind
	Places []Placed // each record of the kind, with what stands in it
}

// Placed is a record of a kind, and the ids that stand in it. Of an identity there are none.
type Placed struct {
	Ref
	IDs []string
}

// Group is records that are alike in state.
type Group struct {
	Ref
	IDs []string
}

// in are the records of a kind in which one stands.
func in(list []Within, kind, id string) (out []string) {
	for _, w := range list {
		for _, p := range w.Places {
			if w.Name == kind && (id == "" || slices.Contains(p.IDs, id)) {
				out = append(out, p.Name)
			}
		}
	}
	return out
}

// In are the records of a kind that an identity stands in: its team.
func (id *Identity) In(kind string) []string { return in(id.Within, kind, "") }

// In are the records of a kind that one of rec stands in, by its id. A record stands in itself.
func (rec *Record) In(kind, id string) []string {
	if rec.Name == kind {
		return []string{id}
	}
	return in(rec.Within, kind, id)
}

// Knows says whether a word of `on` can hold of records of the kind.
func (rec *Record) Knows(o On) bool {
	switch o.Kind {
	case OnGroup:
		return slices.ContainsFunc(rec.Groups, func(g Group) bool { return g.Name == o.Name })
	case OnWithin:
		return rec.Name == o.Name || slices.ContainsFunc(rec.Within, func(w Within) bool { return w.Name == o.Name })
	default:
	}
	return true
}

// Kinds are those that identities or records stand in, each once, in the order written.
func (d *Document) Kinds() (out []string) {
	add := func(list []Within) {
		for _, w := range list {
			if !slices.Contains(out, w.Name) {
				out = append(out, w.Name)
			}
		}
	}
	for _, rec := range d.Records {
		add(rec.Within)
	}
	for _, id := range d.Identities {
		add(id.Within)
	}
	return out
}

// WordsOf are the words of `on` that can hold of records of a kind, each once: own first, then groups, then kinds.
func (d *Document) WordsOf(rec *Record) []On {
	var x Extent
	if len(rec.Owners) > 0 {
		x = x.With(Own)
	}
	for _, g := range rec.Groups {
		x = x.With(On{Kind: OnGroup, Ref: g.Ref})
	}
	for _, w := range rec.Within {
		x = x.With(On{Kind: OnWithin, Ref: w.Ref})
	}
	if slices.ContainsFunc(d.Identities, func(id *Identity) bool { return len(id.In(rec.Name)) > 0 }) {
		x = x.With(On{Kind: OnWithin, Ref: Ref{Name: rec.Name, Place: rec.Place}})
	}
	return x.On
}

// IDs are all records of the kind that the declaration names, each once: those with owners first.
func (rec *Record) IDs() (out []string) {
	add := func(ids []string) {
		for _, id := range ids {
			if !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
	}
	for _, o := range rec.Owners {
		add(rec.OwnedBy[o.Name])
	}
	for _, w := range rec.Within {
		for _, p := range w.Places {
			add(p.IDs)
		}
	}
	for _, g := range rec.Groups {
		add(g.IDs)
	}
	return out
}

// OwnerOf is the first owner of a record; "" where the declaration names none.
func (rec *Record) OwnerOf(id string) string {
	for _, o := range rec.Owners {
		if slices.Contains(rec.OwnedBy[o.Name], id) {
			return o.Name
		}
	}
	return ""
}

// Holds says whether a word of `on` holds of a record for an identity; nil is nobody.
func (o On) Holds(rec *Record, record string, id *Identity) bool {
	switch o.Kind {
	case OnOwn:
		return id != nil && slices.Contains(rec.OwnedBy[id.Name], record)
	case OnGroup:
		return slices.ContainsFunc(rec.Groups, func(g Group) bool {
			return g.Name == o.Name && slices.Contains(g.IDs, record)
		})
	case OnWithin:
		return id != nil && meet(rec.In(o.Name, record), id.In(o.Name))
	default:
	}
	return true
}

// HoldsMade is Holds of a record that an owner makes: it is its own, stands where its owner stands, and is in no
// group.
func (o On) HoldsMade(rec *Record, owner, id *Identity) bool {
	switch o.Kind {
	case OnOwn:
		return id != nil && owner.Name == id.Name
	case OnGroup:
		return false
	case OnWithin: // one of the kind itself is nobody's yet
		return id != nil && rec.Name != o.Name && meet(owner.In(o.Name), id.In(o.Name))
	default:
	}
	return true
}

func meet(a, b []string) bool {
	return slices.ContainsFunc(a, func(x string) bool { return slices.Contains(b, x) })
}

// alternative reads one of `who`: a word, or a caller with the records it is admitted on.
func (r *reader) alternative(n ast.Node, word string) (w Who, ok bool) {
	if _, text := r.joined(r.plain(n)); text || !isMap(r.plain(n)) {
		s, ok := r.str(n, word)
		return WhoOf(Ref{Name: s, Place: r.place(n)}), ok
	}
	if !r.since(V11, n, "`on` in `"+word+"`") {
		return w, false
	}
	var on Ref
	by := map[string]bool{}
	for _, f := range r.entries(n, "an alternative of `"+word+"`", []string{"who", "on"}) {
		s, said := r.str(f.val, f.key)
		ref := Ref{Name: s, Place: r.place(f.val)}
		if by[f.key] = said; f.key == "who" {
			w = WhoOf(ref)
		} else {
			on = ref
		}
	}
	switch {
	case !by["who"] || !by["on"]:
		r.fail(n, "missing", "an alternative of `"+word+"` that is a mapping needs `who` and `on`",
			"write for example  { who: signed-in, on: own }")
		return w, false
	case w.Kind == WhoNobody, w.Kind == WhoUndecided, w.On.Kind != OnAll:
		r.fail(n, "type", fmt.Sprintf("`%s` takes no `on`", WhoWord(w)), "name anyone, signed-in, a role or "+
			"identity:NAME, with the records it is admitted on")
		return w, false
	}
	w.On = On{Kind: OnWithin, Ref: on} // until it is settled whether it is a group
	if on.Name == own {
		if w.On.Kind = OnOwn; w.Kind == WhoSignedIn {
			w.Name = "owner" // they are one alternative
		}
	}
	return w, true
}

// OnNamed is a word of `on` as it stands in the declaration: own, a group or a kind. "" is own.
func (d *Document) OnNamed(word string) On {
	on := On{Kind: OnWithin, Ref: Ref{Name: word}}
	switch {
	case word == "", word == own:
		return Own
	case slices.ContainsFunc(d.Records, func(rec *Record) bool { return rec.Knows(On{Kind: OnGroup, Ref: on.Ref}) }):
		on.Kind = OnGroup
	}
	return on
}

// within reads in which records of other kinds something stands: of an identity a name or several, of records the
// ids by name.
func (r *reader) within(f pair, what string, ids bool) (out []Within) {
	if !r.since(V11, f.kn, "`in` of "+what) {
		return nil
	}
	for _, k := range r.entries(f.val, "`in` of "+what, nil) {
		w := Within{Ref: Ref{Name: k.key, Place: k.kpos}}
		if !ids {
			for _, x := range r.refs(k.val, k.key+" of "+what) {
				w.Places = append(w.Places, Placed{Ref: x})
			}
		} else {
			for _, p := range r.entries(k.val, k.key+" of "+what, nil) {
				w.Places = append(w.Places, Placed{Ref{Name: p.key, Place: p.kpos},
					r.strings(p.val, what+" of "+p.key)})
			}
		}
		r.onName(w.Ref, "kind")
		out = append(out, w)
	}
	return out
}

func (r *reader) groups(f pair, rec *Record) {
	if !r.since(V11, f.kn, "`groups` of a record") {
		return
	}
	for _, g := range r.entries(f.val, "groups of "+rec.Name, nil) {
		rec.Groups = append(rec.Groups, Group{Ref{Name: g.key, Place: g.kpos}, r.strings(g.val, "records of "+g.key)})
		r.onName(rec.Groups[len(rec.Groups)-1].Ref, "group")
	}
}

// onName checks what `on` shall call something.
func (r *reader) onName(n Ref, what string) {
	if n.Name == own || n.Name == foreign || !plainName(n.Name) {
		r.sayAt(n.Place, len(n.Name), Error, "type", fmt.Sprintf("%q cannot be the name of a %s", n.Name, what),
			"use letters, digits, - and _, and not the words own and foreign")
	}
}

// settleOn finds out of each word of `on` what it is, and says which stand for nothing or for two things.
func (d *Document) settleOn(r *reader) {
	kinds, groups := map[string]Ref{}, map[string]Ref{}
	kind := func(list []Within) {
		for _, w := range list {
			if _, there := kinds[w.Name]; !there {
				kinds[w.Name] = w.Ref
			}
		}
	}
	for _, rec := range d.Records {
		kind(rec.Within)
		for _, g := range rec.Groups {
			groups[g.Name] = g.Ref
		}
	}
	for _, id := range d.Identities {
		kind(id.Within)
	}
	for name, g := range groups {
		if _, both := kinds[name]; both || d.RecordNamed(name) != nil { // a record stands in itself
			r.sayAt(g.Place, len(name), Error, "duplicate", fmt.Sprintf("%q is a group here and a kind elsewhere, so "+
				"that `on: %s` could mean either", name, name), "call the group something else")
		}
	}
	known := []string{own}
	for _, m := range []map[string]Ref{groups, kinds} {
		for name := range m {
			known = append(known, name)
		}
	}
	slices.Sort(known)
	for _, e := range d.Access {
		for k := range e.Who {
			o := &e.Who[k].On
			_, group := groups[o.Name]
			_, within := kinds[o.Name]
			within = within || d.RecordNamed(o.Name) != nil
			if e.Who[k].Kind == WhoAnyone && (o.Kind == OnOwn || within) {
				r.sayAt(o.Place, len(o.Name), Error, "type", "`anyone` is admitted on a group only: who is not "+
					"signed in has no record of its own", "write  who: signed-in")
			}
			if o.Kind != OnWithin {
				continue
			}
			if o.Name == foreign { // a record may be called so, as in version 1
				r.onName(o.Ref, "kind")
				continue
			}
			if group {
				o.Kind = OnGroup
			} else if !within {
				r.sayAt(o.Place, len(o.Name), Error, "reference", fmt.Sprintf("no record has the group %q, and none "+
					"stands in a %s", o.Name, o.Name), HintAt(o.Name, known,
					"write own, or declare it under `groups` or `in` of a record"))
				r.msgs[len(r.msgs)-1].Suggest = Nearest(o.Name, known)
			}
		}
	}
	d.checkWithin(r)
}

// checkWithin warns of an identity that stands almost where records do: a slip of the pen turns it away everywhere.
// That nothing is known of what is there may well be.
func (d *Document) checkWithin(r *reader) {
	for _, id := range d.Identities {
		for _, w := range id.Within {
			var places []string
			for _, rec := range d.Records {
				if rec.Name == w.Name {
					places = append(places, rec.IDs()...)
				}
				for _, o := range rec.Within {
					if o.Name == w.Name {
						places = append(places, Names(o.Places, func(p Placed) string { return p.Name })...)
					}
				}
			}
			for _, p := range w.Places {
				if near := Nearest(p.Name, places); near != "" && !slices.Contains(places, p.Name) {
					r.sayAt(p.Place, len(p.Name), Warning, "reference", fmt.Sprintf("no record stands in the %s %q",
						w.Name, p.Name), fmt.Sprintf("did you mean %q?", near))
				}
			}
		}
	}
}

// checkOn checks that it is clear which record the words of an entry are about on route i, and that they can hold of
// it.
func (d *Document) checkOn(r *reader, i int, e *Entry) {
	words := e.Words()
	if len(words) == 0 {
		return
	}
	word := "on: " + words[0].Name
	if words[0].Kind == OnOwn {
		word = "owner"
	}
	rec := d.About(i)
	switch fill := d.FilledBy(i); {
	case e.OwnerOf.Name != "":
		if rec != nil && d.FillParam(i, rec) == "" {
			r.sayAt(e.OwnerOf.Place, len(e.OwnerOf.Name), Error, "owner",
				fmt.Sprintf("record %q does not fill %s", rec.Name, d.Routes[i].Key()), "check `fills` of the record")
			return
		}
	case len(fill) == 0 && rec == nil:
		r.sayAt(e.Place, 1, Error, "owner", fmt.Sprintf("`%s` is admitted, but no record fills %s", word,
			d.Routes[i].Key()), "declare a record whose `fills` is this path, or that is `listed` there, or "+
			"remove "+word)
		return
	case len(fill) > 1:
		r.sayAt(e.Place, 1, Error, "owner", fmt.Sprintf("%s is filled by %s; whose owner is meant?", d.Routes[i].Key(),
			strings.Join(fill, " and ")), "add  owner_of: "+fill[0])
		return
	}
	for _, o := range words {
		if err := d.CanSay(i, o); err != nil && rec != nil {
			r.sayAt(o.Place, len(o.Name), Error, "owner", err.Error(), "say it under record "+rec.Name)
		}
	}
}

// CanSay says why a word of `on` can hold of no record at route i; nil where it can.
func (d *Document) CanSay(i int, on On) error {
	rec := d.About(i)
	switch {
	case on.Kind == OnOwn:
		return nil // that it has a record at all is told of the text
	case rec == nil:
		return fmt.Errorf("no record fills %s, and none is listed there", d.Routes[i].Key())
	case !rec.Knows(on):
		return fmt.Errorf("%s is about the record %s, which has no group and no `in` called %s",
			d.Routes[i].Key(), rec.Name, on.Name)
	}
	return nil
}

// FilledBy are the records that fill a parameter of route i.
func (d *Document) FilledBy(i int) (out []string) {
	for _, rec := range d.Records {
		if d.FillParam(i, rec) != "" {
			out = append(out, rec.Name)
		}
	}
	return out
}
