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

// For is that of an identity (nil is nobody) at route i, on a record of a relation to it.
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
		use, why := x.Record(i, rec, name, id, rel, unsafe, turnedAway)
		if why != "" {
			return out, why, false
		}
		if out.Record.Name != "" && !use.Lent() {
			set(name, use.Value)
			continue
		}
		out.Record = use
		covered = covered || use.Lent()
	}
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
	var owners []string
	switch {
	case rel == access.Own:
		owners = []string{id.Name}
	default:
		for _, o := range x.OwnersOf(rec) {
			if id == nil || o != id.Name {
				owners = append(owners, o)
			}
		}
		if rel == access.NoRecord && len(owners) == 0 {
			owners = x.OwnersOf(rec)
		}
	}
	if unsafe && rec.Make != nil {
		for _, o := range owners {
			if x.canMake(rec, o) {
				use.Owner = o
				return use, ""
			}
		}
	}
	if unsafe && x.t.Unsafe == declaration.UnsafeMade {
		return use, fmt.Sprintf("the target allows unsafe methods on made records only, and no %s can be made here",
			rec.Name)
	}
	for _, o := range owners {
		if ids := rec.OwnedBy[o]; len(ids) > 0 {
			if unsafe && !turnedAway && x.d.Routes[i].Effect == declaration.Delete {
				return use, fmt.Sprintf(WouldDelete+"%s %s, and no throwaway one can be made", rec.Name, ids[0])
			}
			use.Owner, use.Value = o, ids[0]
			return use, ""
		}
	}
	if rel == access.Own {
		return use, fmt.Sprintf("%s owns no %s", id.Name, rec.Name)
	}
	return use, fmt.Sprintf("no %s is known that belongs to somebody else", rec.Name)
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

// OwnsAt says whether an identity has a record of its own for route i.
func (x Drafts) OwnsAt(i int, id *declaration.Identity) bool {
	rec := x.d.Record(i)
	if rec == nil {
		return false
	}
	_, why := x.Record(i, rec, x.d.FillParam(i, rec), id, access.Own, x.d.Routes[i].Unsafe(), true)
	return why == ""
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
