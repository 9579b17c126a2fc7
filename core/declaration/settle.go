package declaration

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"millgate/core/route"
)

// settled gives the document its meaning: names are looked up, every route
// gets its deciding entry and the record that fills it.
func (d *Document) settled(r *reader) *Document {
	sels := make([]route.Selector, len(d.Routes))
	for i, rt := range d.Routes {
		sels[i] = rt.Selector
	}
	d.Inventory, _ = route.NewInventory(sels)
	d.routeKeys = make(map[string]int, len(d.Routes))
	for i, r := range d.Routes {
		r.key = r.Selector.String()
		if _, there := d.routeKeys[r.key]; !there {
			d.routeKeys[r.key] = i
		}
	}
	d.Deciding = slices.Repeat([]int{-1}, len(d.Routes))
	d.Fillers = slices.Repeat([]int{-1}, len(d.Routes))
	d.roleSets = make(map[string]map[string]bool, len(d.Identities))
	d.owners = make(map[string]bool, len(d.Identities))
	for _, id := range d.Identities {
		d.roleSets[id.Name] = d.collectRoles(id)
	}
	for _, rec := range d.Records {
		for n, ids := range rec.OwnedBy {
			d.owners[n] = d.owners[n] || len(ids) > 0
		}
	}
	d.OriginsAt = slices.Repeat([]int{-1}, len(d.Routes))
	d.QuotasAt = make([][]int, len(d.Routes))
	d.checkNames(r)
	d.settleRecords(r)
	d.lists = make([]*List, len(d.Routes))
	d.settleLists(r)
	d.settleOn(r)
	d.settleAccess(r)
	d.settleLimits(r)
	d.settleRefusals(r)
	accepted := make(map[*Entry][]*Scheme, len(d.Access))
	for _, e := range d.Access {
		accepted[e] = slices.Clip(d.Accepted(e))
	}
	d.accepted = accepted
	d.leastFirst = d.ranked()
	return d
}

// Names are what each of a list is called.
func Names[T any](list []T, of func(T) string) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = of(x)
	}
	return out
}

// checkTwice reports names that two files declare; inside one file the reader
// has said so.
func (d *Document) checkTwice(r *reader) {
	seen := map[string]Place{}
	once := func(what, name string, at Place) {
		k := what + "\x00" + name
		if old, ok := seen[k]; ok {
			r.sayAt(at, len(name), Error, "duplicate", fmt.Sprintf("the %s %q is declared already, in %s line %d", what,
				name, old.File, old.Line), "remove one of them")
			return
		}
		seen[k] = at
	}
	for _, x := range d.Targets {
		once("target", x.Name, x.Place)
	}
	for _, x := range d.Roles {
		once("role", x.Name, x.Place)
	}
	for _, x := range d.Schemes {
		once("scheme", x.Name, x.Place)
	}
	for _, x := range d.Lifetimes {
		once("lifetime", x.Name, x.Place)
	}
	for _, x := range d.Identities {
		once("identity", x.Name, x.Place)
	}
	for _, x := range d.Records {
		once("record", x.Name, x.Place)
	}
	for _, x := range d.Quotas {
		once("quota", x.Name, x.Place)
	}
}

// Needs are the members that a credential of a scheme must have, in the order in which one says them.
func (d *Document) Needs(s *Scheme) (out []string) {
	switch {
	case s.Kind == APIKey:
		return []string{"key"}
	case s.Kind == Basic:
		return []string{"username", "password"}
	case s.Kind == Signature:
		return []string{"secret"}
	case (s.Kind == Bearer || s.Kind == Cookie) && s.Login == nil:
		return []string{"token"}
	case s.Kind == Link && s.Issue == nil:
		return []string{"link"}
	case s.Login != nil:
		for _, p := range s.Login.Placeholders() {
			if !d.isValue(p) {
				out = append(out, p)
			}
		}
	}
	return out
}

func (d *Document) checkFill(r *reader, c Credential) {
	s := d.SchemeNamed(c.Scheme.Name)
	if s == nil {
		return
	}
	for _, n := range d.Needs(s) {
		if _, ok := c.Fill[n]; !ok {
			r.sayAt(c.Scheme.Place, len(c.Scheme.Name), Error, "missing",
				fmt.Sprintf("the credential for %s does not say %q", s.Name, n), fmt.Sprintf("add  %s: env:NAME", n))
		}
	}
}

// Placeholders are the {names} that a request needs, sorted.
func (q *Request) Placeholders() []string {
	seen := map[string]bool{}
	find := func(s string) {
		for {
			i := strings.IndexByte(s, '{')
			if i < 0 {
				return
			}
			s = s[i+1:]
			j := strings.IndexAny(s, "{}\"")
			if j > 0 && s[j] == '}' && (plainName(s[:j]) || isFresh(s[:j])) {
				seen[s[:j]] = true
			}
		}
	}
	find(string(q.JSON))
	find(q.Path)
	for _, p := range append(slices.Clone(q.Form), q.Headers...) {
		find(p[1])
	}
	out := make([]string, 0, len(seen))
	for n := range seen {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

func (d *Document) checkCycles(r *reader) {
	byName := map[string]*Role{}
	for _, ro := range d.Roles {
		byName[ro.Name] = ro
	}
	state := map[*Role]int{}
	var walk func(ro *Role, path []string)
	walk = func(ro *Role, path []string) {
		state[ro] = 1
		for _, i := range ro.Includes {
			o := byName[i.Name]
			switch {
			case o == nil:
			case state[o] == 1:
				r.sayAt(i.Place, len(i.Name), Error, "cycle", fmt.Sprintf("role %q includes itself: %s", o.Name,
					strings.Join(append(path, ro.Name, o.Name), " → ")), "remove one of these includes")
			case state[o] == 0:
				walk(o, append(path, ro.Name))
			}
		}
		state[ro] = 2
	}
	for _, ro := range d.Roles {
		if state[ro] == 0 {
			walk(ro, nil)
		}
	}
}

// FillParam is the parameter of route i that rec fills, "" when it fills none.
func (d *Document) FillParam(i int, rec *Record) string {
	ps := d.Routes[i].Parameters()
	if len(ps) == 0 {
		return ""
	}
	if rec.Param != "" && slices.Contains(ps, rec.Param) {
		return rec.Param
	}
	for _, s := range rec.Fills {
		if d.Inventory.Relate(s, i) == route.Covers {
			return ps[len(ps)-1]
		}
	}
	return ""
}

func (d *Document) settleRecords(r *reader) {
	used := make([]bool, len(d.Records))
	for i := range d.Routes {
		for k, rec := range d.Records {
			if d.FillParam(i, rec) == "" {
				continue
			}
			used[k] = true
			if d.Fillers[i] < 0 {
				d.Fillers[i] = k
			}
		}
	}
	for k, rec := range d.Records {
		if !used[k] && len(rec.Listed) == 0 && (rec.Param != "" || len(rec.Fills) > 0) && len(d.Routes) > 0 {
			r.sayAt(rec.Place, len(rec.Name), Warning, "selects-nothing",
				fmt.Sprintf("record %q fills no route of the inventory", rec.Name),
				"check `fills` against the routes' templates")
		}
	}
}

func (d *Document) settleAccess(r *reader) {
	rules := make([]rule, len(d.Access))
	for e, en := range d.Access {
		rules[e] = rule{en.At, en.Place}
	}
	found, touched := d.matched(r, rules)
	d.rules, d.candidates, d.Touched = rules, found, touched
	for i := range d.Routes {
		if d.Deciding[i] = d.decide(r, i, found[i], rules,
			func(e int) string { return d.Access[e].normal() }); d.Deciding[i] >= 0 {
			d.checkOn(r, i, d.Access[d.Deciding[i]])
		}
	}
	for e, en := range d.Access {
		d.checkEntry(r, e, en)
	}
}

func (d *Document) settleLimits(r *reader) {
	rules := make([]rule, len(d.Origins))
	for e, en := range d.Origins {
		rules[e] = rule{en.At, en.Place}
	}
	found, _ := d.matched(r, rules)
	for i := range d.Routes {
		d.OriginsAt[i] = d.decide(r, i, found[i], rules, func(e int) string { return d.Origins[e].normal() })
	}
	rules = make([]rule, len(d.Quotas))
	for q, u := range d.Quotas {
		rules[q] = rule{u.At, u.Place}
	}
	found, _ = d.matched(r, rules)
	for i := range d.Routes {
		for _, c := range found[i] {
			if !slices.Contains(d.QuotasAt[i], c.entry) {
				d.QuotasAt[i] = append(d.QuotasAt[i], c.entry)
			}
		}
		slices.Sort(d.QuotasAt[i])
	}
	d.settleLowered(r)
	for _, u := range d.Quotas {
		for _, id := range d.Identities {
			if _, ok := u.AmountsFor(d, id); !ok {
				r.sayAt(u.Place, len(u.Name), Error, "tie", fmt.Sprintf("quota %q gives %s two amounts, by roles of "+
					"which neither includes the other", u.Name, id.Name),
					"add an amount for identity:"+id.Name+" under `for`")
				break
			}
		}
	}
}

// settleLowered holds what targets lower against the quotas.
func (d *Document) settleLowered(r *reader) {
	for _, t := range d.Targets {
		for _, l := range t.Lowered {
			q := d.QuotaNamed(l.Name)
			if q == nil {
				continue // said where names are checked
			}
			bucket := q.Model == TokenBucket || q.Model == LeakyBucket
			switch {
			case slices.ContainsFunc(l.Allow, func(a Amount) bool { return (a.Per == 0) != (q.Model == Concurrency) }):
				r.sayAt(l.Place, len(l.Name), Error, "type", fmt.Sprintf("the lowered amount does not fit the model "+
					"%s of quota %q", q.Model, q.Name), "give it the same shape as its `allow`")
			case l.Burst > 0 && !bucket:
				r.sayAt(l.Place, len(l.Name), Error, "unknown-word", fmt.Sprintf("`burst` has no meaning for the "+
					"model %s of quota %q", q.Model, q.Name), "remove it")
			case bucket && len(l.Allow) > 1:
				r.sayAt(l.Place, len(l.Name), Error, "type", "a bucket has one amount, its rate", "leave one")
			}
		}
	}
}

func (d *Document) checkEntry(r *reader, e int, en *Entry) {
	r.alone(en, "who")
	if en.Open() && (len(en.Given) > 0 || len(en.Scope) > 0 || len(en.By) > 0) {
		r.sayAt(en.Place, 1, Error, "type", "`anyone` needs no credential, so given, scope and by cannot hold",
			"remove them, or write  who: signed-in")
	}
	if en.Hide && en.Turned.Ownership != 0 {
		r.sayAt(en.Place, 1, Error, "type", "`hide` and `turned_away` both say how somebody else's record is refused",
			"leave  hide  out, and write  turned_away: { ownership: 404 }")
	}
	if en.is(WhoNobody) && en.Turned != (TurnedAway{}) {
		r.sayAt(en.Place, 1, Error, "type", "where nobody is admitted 401, 403, 404 and 405 all agree, since there is "+
			"nobody to compare with", "leave  turned_away  out")
	}
	if en.Undecided() && (len(en.Given) > 0 || len(en.Scope) > 0 || len(en.By) > 0 || en.Hide ||
		en.Turned != (TurnedAway{}) || en.OwnerOf.Name != "" || en.Broken != BrokenEither) {
		r.sayAt(en.Place, 1, Error, "type", "`undecided` decides nothing, so that nothing can hold beside it",
			"remove the other words, or say who is admitted")
	}
	if en.Open() || len(en.By) > 0 || !slices.Contains(d.Deciding, e) {
		return
	}
	if locks := d.Locks(en); len(locks) > 1 {
		n := Names(locks, func(s *Scheme) string { return s.Name })
		r.sayAt(en.Place, 1, Error, "by", fmt.Sprintf("callers that this entry admits come with %s; which does the "+
			"route accept?", strings.Join(n, " and ")), "add  by: "+n[0]+"  or  by: ["+strings.Join(n, ", ")+"]")
	}
}

// settleRefusals finds the routes that `refused_when` is said for.
func (d *Document) settleRefusals(r *reader) {
	rules := make([]rule, len(d.Answers.RefusedWhen))
	for k, f := range d.Answers.RefusedWhen {
		rules[k] = rule{f.At, f.Place}
	}
	found, _ := d.matched(r, rules)
	for i, rt := range d.Routes {
		for _, c := range found[i] {
			f := &d.Answers.RefusedWhen[c.entry]
			if f.routes == nil {
				f.routes = map[string]bool{}
			}
			f.routes[rt.Key()] = true
		}
	}
}
