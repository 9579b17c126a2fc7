package check

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/declaration"
)

// Drafts says with which parameters and on which records requests to routes are sent.
type Drafts struct {
	d       *declaration.Document
	t       *declaration.Target
	classes []access.Class
}

// NewDrafts makes drafts for a target.
func NewDrafts(d *declaration.Document, t *declaration.Target, classes []access.Class) Drafts {
	return Drafts{d, t, classes}
}

// Draft is a request to a route, before anybody presents a credential with it.
type Draft struct {
	Params map[string]string // values for all parameters but the record's; nil without any
	Record Record
	Phase  Phase
}

// For is that of an identity (nil is nobody) at route i, on a record of a relation to it; where
// some records are open to anyone, nobody's is one that is not, unless it is asked for.
// Where a parameter has no value, or the target does not allow it, ok is false and why says
// so.
func (x Drafts) For(i int, id *declaration.Identity, rel access.Relation, turnedAway bool) (out Draft, why string,
	ok bool) {
	rt := x.d.Routes[i]
	set := func(name, value string) {
		if out.Params == nil { // most routes have none
			out.Params = map[string]string{}
		}
		out.Params[name] = value
	}
	unsafe := rt.Unsafe()
	if unsafe && x.t.Unsafe == declaration.UnsafeRefused {
		return out, "the target does not allow unsafe methods", false
	}
	deciding := x.d.Record(i)
	if id == nil && rel == access.NoRecord {
		rel = access.Nobody(x.d, i).Record
	}
	// A login, a renewal or a logout touches a session, not a record.
	covered := x.makerOf(i) || UsesSession(x.d, i)
	for _, name := range rt.Parameters() {
		rec := x.Fills(i, name, deciding)
		sample, sampled := rt.Send.Path[name]
		switch {
		case rec == nil && !sampled && x.linked(i, id, name):
			continue // whoever comes with a link comes to where it leads
		case rec == nil && !sampled && x.d.Sealed(i) == name:
			set(name, Nowhere) // nobody's link
			continue
		case rec == nil && !sampled:
			return out, fmt.Sprintf("no sample for {%s}", name), false
		case rec == nil, sampled && !(unsafe && rec.Make != nil) && (rel == access.NoRecord || rec != deciding):
			// A sample will do where ownership does not count, and where
			// nothing better can be made for an unsafe request.
			set(name, sample)
			continue
		}
		if rec != deciding { // it is where that of the route stands; one request is lent one record
			use, why := x.Record(i, rec, name, id, x.beside(i, rel), false, turnedAway)
			if why != "" {
				return out, why, false
			}
			set(name, use.Value)
			continue
		}
		var why string
		if out.Record, why = x.Record(i, rec, name, id, rel, unsafe, turnedAway); why != "" {
			return out, why, false
		}
		covered = covered || out.Record.Lent()
	}
	x.together(i, deciding, out)
	if unsafe && x.t.Unsafe == declaration.UnsafeMade && !covered {
		return out, "the target allows unsafe methods on made records only, and this route has none", false
	}
	switch {
	case !unsafe:
		out.Phase = SafeFirst
	case turnedAway:
		out.Phase = ThenTurnedAway
	case rt.Effect == declaration.Delete:
		out.Phase = ThenDeleting
	default:
		out.Phase = ThenAdmitted
	}
	return out, "", true
}

// beside is the relation to a record beside that of the route: where ownership alone counts, the same.
func (x Drafts) beside(i int, rel access.Relation) access.Relation {
	if ownsAlone(x.d, i) {
		return rel
	}
	return access.NoRecord
}

// makerOf says whether route i is the one that makes a record, whose product can be removed
// again.
func (x Drafts) makerOf(i int) bool {
	rt := x.d.Routes[i]
	return slices.ContainsFunc(x.d.Records, func(r *declaration.Record) bool {
		return r.Remove != nil && access.Serves(rt, r.Make)
	})
}

// linked says whether an identity comes to route i by a link that says by itself what a
// parameter is.
func (x Drafts) linked(i int, id *declaration.Identity, param string) bool {
	if id == nil {
		return false
	}
	s, _ := x.Presentable(i, id)
	return s != nil && s.Kind == declaration.Link && (s.Issue == nil || !slices.Contains(s.Issue.Placeholders(), param))
}

// Fills is the record that fills a parameter of route i.
func (x Drafts) Fills(i int, param string, deciding *declaration.Record) *declaration.Record {
	if deciding != nil && x.d.FillParam(i, deciding) == param {
		return deciding
	}
	for _, r := range x.d.Records {
		if x.d.FillParam(i, r) == param {
			return r
		}
	}
	return nil
}

// Record chooses the record behind a parameter; why says that there is none.
func (x Drafts) Record(i int, rec *declaration.Record, param string, id *declaration.Identity, rel access.Relation,
	unsafe, turnedAway bool) (use Record, why string) {
	use = Record{Name: rec.Name, Param: param, Shared: turnedAway}
	owners := x.owners(i, rec, id, rel)
	if unsafe && rec.Make != nil {
		for _, o := range owners {
			if x.made(i, rec, o, id, rel) && x.canMake(rec, o) {
				use.Owner = o
				return use, ""
			}
		}
	}
	if unsafe && x.t.Unsafe == declaration.UnsafeMade {
		return use, fmt.Sprintf("the target allows unsafe methods on made records only, and no %s can be made here",
			rec.Name)
	}
	if list := x.known(i, rec, owners, id, rel); len(list) > 0 {
		known := list[0]
		if unsafe && !turnedAway && x.d.Routes[i].Effect == declaration.Delete {
			return use, fmt.Sprintf(WouldDelete+"%s %s, and no throwaway one can be made", rec.Name, known.Value)
		}
		use.Owner, use.Value = known.Owner, known.Value
		return use, ""
	}
	switch {
	case rel == access.Own:
		return use, fmt.Sprintf("%s owns no %s", id.Name, rec.Name)
	case rel == access.Foreign || rel == access.NoRecord:
		return use, fmt.Sprintf("no %s is known that belongs to somebody else", rec.Name)
	}
	return use, fmt.Sprintf("no %s is known", rel.Text(rec.Name))
}

// owners are those whose records a caller is sent to, by a relation to it.
func (x Drafts) owners(i int, rec *declaration.Record, id *declaration.Identity, rel access.Relation) (out []string) {
	all := x.OwnersOf(rec)
	switch {
	case rel == access.Own:
		return []string{id.Name}
	case ownsAlone(x.d, i):
		for _, o := range all {
			if id == nil || o != id.Name {
				out = append(out, o)
			}
		}
		if rel == access.NoRecord && len(out) == 0 {
			return all
		}
		return out
	}
	return all
}

// ownsAlone says whether ownership alone counts at route i.
func ownsAlone(d *declaration.Document, i int) bool {
	return declaration.OwnAlone(access.Counting(d, i))
}

// made says whether what an owner makes has a relation to a caller.
func (x Drafts) made(i int, rec *declaration.Record, owner string, id *declaration.Identity,
	rel access.Relation) bool {
	return rel == access.NoRecord || ownsAlone(x.d, i) ||
		access.StandingMade(x.d, i, rec, x.d.IdentityNamed(owner), id) == rel
}

// known are the records that the declaration names of a relation to a caller, those of some owners first. Where
// ownership alone counts only these are known to be somebody's.
func (x Drafts) known(i int, rec *declaration.Record, owners []string, id *declaration.Identity,
	rel access.Relation) (out []Record) {
	add := func(owner, value string) {
		if rel == access.NoRecord || ownsAlone(x.d, i) || access.Standing(x.d, i, rec, value, id) == rel {
			out = append(out, Record{Owner: owner, Value: value})
		}
	}
	for _, o := range owners {
		for _, value := range rec.OwnedBy[o] {
			add(o, value)
		}
	}
	if ownsAlone(x.d, i) {
		return out
	}
	for _, value := range rec.IDs() {
		if rec.OwnerOf(value) == "" {
			add("", value)
		}
	}
	for id := range x.d.Ranked() { // a kind that others stand in need not say which records there are
		for _, value := range id.In(rec.Name) {
			add("", value)
		}
	}
	return out
}

// Relations are those of an identity (nil is nobody) to the records that it can be sent to at route i, each once;
// last to one of which no word holds, and before it to those of words that hold of none.
func (x Drafts) Relations(i int, id *declaration.Identity) (out []access.Relation) {
	rec := x.d.Record(i)
	if rec == nil {
		return nil
	}
	if ownsAlone(x.d, i) {
		return []access.Relation{access.Own, access.Foreign}
	}
	add := func(rel access.Relation) {
		if rel != access.Foreign && !slices.Contains(out, rel) {
			out = append(out, rel)
		}
	}
	for _, r := range x.known(i, rec, x.OwnersOf(rec), id, access.NoRecord) {
		add(access.Standing(x.d, i, rec, r.Value, id))
	}
	if x.d.Routes[i].Unsafe() && rec.Make != nil {
		for _, o := range x.OwnersOf(rec) {
			add(access.StandingMade(x.d, i, rec, x.d.IdentityNamed(o), id))
		}
	}
	for _, o := range access.Counting(x.d, i) { // of what there is none, that is said
		if (id != nil || o.Kind == declaration.OnGroup) &&
			!slices.ContainsFunc(out, func(rel access.Relation) bool { return rel.Holds(o) }) {
			add(access.RelationOf([]declaration.On{o}))
		}
	}
	return append(out, access.Foreign)
}

// together gives parameters that a kind fills the one in which the record of the route stands, so that they name
// what belongs together.
func (x Drafts) together(i int, deciding *declaration.Record, out Draft) {
	if deciding == nil || out.Record.Name != deciding.Name {
		return
	}
	for name := range out.Params {
		rec := x.Fills(i, name, deciding)
		if rec == nil || rec == deciding {
			continue
		}
		if in := x.PlacesOf(deciding, out.Record, rec.Name); len(in) > 0 && !slices.Contains(in, out.Params[name]) {
			out.Params[name] = in[0]
		}
	}
}

// PlacesOf are the records of a kind that a probe's record stands in: one that is made stands where its owner does.
func (x Drafts) PlacesOf(rec *declaration.Record, r Record, kind string) []string {
	if !r.Lent() {
		return rec.In(kind, r.Value)
	}
	if owner := x.d.IdentityNamed(r.Owner); owner != nil {
		return owner.In(kind)
	}
	return nil
}

// NotDecided is the reason at a route of which nobody has decided who may call.
const NotDecided = "nobody has decided yet who may call it, so that nothing is expected"

// WouldDelete is how the reason begins where a record would be lost.
const WouldDelete = "it would delete "

// OwnersOf lists who owns records of the kind, those first that are sent for their class:
// their own answer is then there to compare with.
func (x Drafts) OwnersOf(rec *declaration.Record) []string {
	reps := map[string]bool{}
	for _, c := range x.classes {
		reps[x.d.Identities[c.Members[0]].Name] = true
	}
	var out, later []string
	for _, o := range rec.Owners {
		if len(rec.OwnedBy[o.Name]) == 0 && rec.Make == nil {
			continue
		}
		if reps[o.Name] {
			out = append(out, o.Name)
		} else {
			later = append(later, o.Name)
		}
	}
	return append(out, later...)
}

// canMake says whether the declaration lets the owner make a record.
func (x Drafts) canMake(rec *declaration.Record, owner string) bool {
	id := x.d.IdentityNamed(owner)
	if id == nil || len(id.Credentials) == 0 {
		return false
	}
	for i, rt := range x.d.Routes {
		if access.Serves(rt, rec.Make) {
			return access.Decide(x.d, i, access.Caller{Identity: id, State: access.Sound}).Outcome == access.Admit
		}
	}
	return true // the making route is not in the inventory: trying shows
}

// Presentable is the scheme that an identity would use at route i; nil where it cannot be
// presented, and why.
func (x Drafts) Presentable(i int, id *declaration.Identity) (*declaration.Scheme, string) {
	c := access.Credential(x.d, i, id)
	if c == nil {
		return nil, id.Name + " has no credential"
	}
	s := x.d.SchemeNamed(c.Scheme.Name)
	if s == nil {
		return nil, fmt.Sprintf("there is no scheme %s", c.Scheme.Name)
	}
	if s.Kind == declaration.Link && s.Issue != nil {
		rt := x.d.Routes[i]
		for _, n := range s.Issue.Placeholders() {
			_, given := c.Fill[n]
			if !given && !slices.Contains(rt.Parameters(), n) && x.t.Values[n] == "" {
				return nil, fmt.Sprintf("what issues links of %s needs {%s}, which this route does not have", s.Name, n)
			}
		}
	}
	return s, ""
}

// HasAt says whether there is a record of a relation to an identity for route i.
func (x Drafts) HasAt(i int, id *declaration.Identity, rel access.Relation) bool {
	rec := x.d.Record(i)
	if rec == nil {
		return false
	}
	_, why := x.Record(i, rec, x.d.FillParam(i, rec), id, rel, x.d.Routes[i].Unsafe(), true)
	return why == ""
}

// Standing is the relation of an identity (nil is nobody) to the record of a probe at route i; NoRecord where it
// does not matter which record it is.
func Standing(d *declaration.Document, i int, r Record, id *declaration.Identity) access.Relation {
	rec := d.RecordNamed(r.Name)
	switch {
	case rec == nil:
		return access.Nobody(d, i).Record
	case id == nil && access.Nobody(d, i).Record == access.NoRecord:
		return access.NoRecord
	case r.Lent():
		return access.StandingMade(d, i, rec, d.IdentityNamed(r.Owner), id)
	}
	return access.Standing(d, i, rec, r.Value, id)
}

// UsesSession says whether a route is a login, a renewal or a logout: it touches a session,
// and no record.
func UsesSession(d *declaration.Document, i int) bool {
	_, q := access.SessionAt(d, i)
	return q != nil
}

// ByTarget says whether a reason for leaving something out is one of the target's rules.
func ByTarget(why string) bool {
	return strings.HasPrefix(why, "the target ") || strings.HasPrefix(why, WouldDelete)
}

// HighestRole is the role that includes most, and that the identity does not have; of several that which
// the fewest identities have.
func HighestRole(d *declaration.Document, identity string) string {
	holders := func(role string) (n int) {
		for _, id := range d.Identities {
			if d.RolesOf(id)[role] {
				n++
			}
		}
		return n
	}
	have := map[string]bool{}
	if id := d.IdentityNamed(identity); id != nil {
		have = d.RolesOf(id)
	}
	best, size := "", -1
	for _, r := range d.Roles {
		n := len(r.Includes)
		for _, inc := range r.Includes {
			if o := d.RoleNamed(inc.Name); o != nil {
				n += len(o.Includes)
			}
		}
		if !have[r.Name] && (n > size || n == size && holders(r.Name) < holders(best)) {
			best, size = r.Name, n
		}
	}
	return best
}
