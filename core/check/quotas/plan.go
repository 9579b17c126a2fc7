package quotas

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// At is a route that a quota counts, and how it is called there.
type At struct {
	Route    string
	Caller   check.Caller
	Relation access.Relation
	Record   check.Record
	Params   map[string]string
	Empty    bool   // without the members of its body
	Done     bool   // each call is carried out: a command without a body has nothing that could be left out
	Login    string // whose login it is, with a name that nobody has and another secret; "" where it is none
	Account  bool   // with the login's own name: it is counted by account, and that one is given up for it
	By       string // what its caller is counted by: the first of the quota's keys that the caller has

	// tighter is the count that refuses before the quota's there, "" where none does; room how many calls it
	// lets through, and first how many the quota does.
	tighter     string
	room, first int64
}

// Detail is where a quota is filled, and what else shows how it counts.
type Detail struct {
	At
	Other  *At    // another route that it counts for the same caller; nil without
	Beside string // another identity of the caller's scheme, in no other drill; "" without
	Exempt string // an identity that the quota does not count, and the route admits; "" without
	// Spread are further routes at which calls are sent in turn, where at each alone a tighter quota would
	// refuse first; nil without.
	Spread []*At
}

// Elsewhere is where else it sends calls: to other routes, without a credential, and as another caller.
func (d Detail) Elsewhere() (out []check.ID) {
	if d.Caller.Identity != "" {
		out = append(out, check.ID{Family: Family{}.Name(), Route: d.Route, Caller: check.Caller{State: access.Absent}})
	}
	if d.Beside != "" {
		who := d.Caller
		who.Identity = d.Beside
		out = append(out, check.ID{Family: Family{}.Name(), Route: d.Route, Caller: who})
	}
	for _, a := range append([]*At{d.Other}, d.Spread...) {
		if a != nil {
			out = append(out, check.ID{Family: Family{}.Name(), Route: a.Route, Caller: a.Caller})
		}
	}
	return out
}

// Parameters are those of the route.
func (d Detail) Parameters() map[string]string { return d.Params }

type planning struct {
	*check.Planning
	c *check.Context
}

// Plan plans a drill for each declared quota: calls at one of its routes, as a caller whom it
// counts, until one is refused.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	x := planning{p, c}
	var drills []check.Probe
	for k, q := range c.Doc.Quotas {
		list, why := x.drills(k, q)
		if len(list) == 0 {
			p.Leave(check.Omission{Route: "quota " + q.Name, What: "the quota drill", Why: why,
				ByTarget: check.ByTarget(why)})
			continue
		}
		for _, d := range list {
			id := check.ID{Family: f.Name(), Route: d.Route, Caller: d.Caller, Relation: d.Relation, Of: q.Name}
			phase := check.ThenDrilling
			if d.Account {
				phase = check.ThenLocking
			}
			drills = append(drills, check.Probe{ID: id, Phase: phase, Unsafe: d.Empty || d.Done, Record: d.Record,
				Detail: *d})
		}
		for _, by := range missing(q, list) {
			p.Leave(check.Omission{Route: "quota " + q.Name, What: "the quota drill by " + by,
				Why: "no route that it counts admits a caller who is counted by that"})
		}
	}
	// What counts more routes is filled later: it would refuse the calls of the others.
	slices.SortStableFunc(drills, func(a, b check.Probe) int { return cmp.Compare(x.counts(a.Of), x.counts(b.Of)) })
	for _, p := range drills {
		d, _ := p.Detail.(Detail)
		d.Beside = x.beside(p, drills)
		p.Detail = d
		x.Add(p)
	}
}

// counts is how many routes a quota counts.
func (x planning) counts(quota string) (n int) {
	for _, list := range x.c.Doc.QuotasAt {
		for _, k := range list {
			if x.c.Doc.Quotas[k].Name == quota {
				n++
			}
		}
	}
	return n
}

// drills are where quota k is filled: for each of its keys that some caller is counted by, at the route
// that is disturbed least; why says why there is none.
func (x planning) drills(k int, q *declaration.Quota) (out []*Detail, why string) {
	if quota.Exempt(q, quota.Caller{Target: x.c.Target.Name}) {
		return nil, "the target is exempt from it"
	}
	var list, tight []*At
	for i := range x.c.Doc.Routes {
		if !slices.Contains(x.c.Doc.QuotasAt[i], k) {
			continue
		}
		switch a, w := x.at(i, q); {
		case a == nil:
			why = w
		case a.tighter != "":
			tight, why = append(tight, a), w
		default:
			list = append(list, a)
		}
	}
	if len(list)+len(tight) == 0 && why == "" {
		why = "no route of the inventory is counted by it"
	}
	for _, key := range q.CountedBy {
		var best *At
		for _, a := range list {
			if a.By == key.String() && (best == nil || x.calmer(a, best)) {
				best = a
			}
		}
		if best != nil {
			out = append(out, x.detail(q, best, list))
		} else if some := x.spread(q, key.String(), tight); some != nil {
			out = append(out, &Detail{At: *some[0], Spread: some[1:]})
		}
	}
	return out, why
}

// spread are routes at each of which another quota refuses before q does, one of each group that counts by
// itself: those at which together, called in turn, most calls are admitted; nil where that are no more than
// q lets through.
func (x planning) spread(q *declaration.Quota, by string, tight []*At) (out []*At) {
	if on, _ := x.c.Target.Quota(q); on.Model == declaration.Concurrency || on.PerRoute {
		return nil
	}
	slices.SortStableFunc(tight, func(a, b *At) int { return cmp.Compare(b.room, a.room) })
	most, groups := int64(0), map[string]bool{}
	var all []*At
	for _, a := range tight {
		one := len(all) == 0 || a.Caller == all[0].Caller
		if a.By != by || !one || groups[a.tighter] || a.Login != "" {
			continue
		}
		groups[a.tighter] = true
		all = append(all, a)
		if room := a.room * int64(len(all)); room > max(most, a.first) {
			most, out = room, all[:len(all):len(all)]
		}
	}
	return out
}

// detail is a drill at a route; another route that the quota counts for the same caller shows whether
// they share the count.
func (x planning) detail(q *declaration.Quota, at *At, list []*At) *Detail {
	d := &Detail{At: *at}
	for _, a := range list {
		one := a.Caller.Identity == at.Caller.Identity && a.Caller.Scheme == at.Caller.Scheme ||
			at.By == "address" || at.By == "everyone"
		if a != at && one && a.By == at.By && (d.Other == nil || x.calmer(a, d.Other)) {
			d.Other = a
		}
	}
	d.Exempt = x.exempt(q, d)
	return d
}

// missing are the keys of a quota with several by which no drill counts.
func missing(q *declaration.Quota, list []*Detail) (out []string) {
	for _, k := range q.CountedBy {
		if !slices.ContainsFunc(list, func(d *Detail) bool { return d.By == k.String() }) {
			out = append(out, k.String())
		}
	}
	return out
}

// counted is what a caller is counted by there: the first of a quota's keys that it has.
func (a *At) counted(d *declaration.Document, q *declaration.Quota, id *declaration.Identity) string {
	s := d.SchemeNamed(a.Caller.Scheme)
	for _, k := range q.CountedBy {
		switch k.By {
		case "identity":
			if id == nil {
				continue
			}
		case "role":
			if id == nil || len(id.Roles) == 0 {
				continue
			}
		case "key":
			if id == nil || s == nil || s.Kind != declaration.APIKey {
				continue
			}
		case declaration.Account:
			if !a.Account {
				continue
			}
		case "header":
			continue // none is sent
		}
		return k.String()
	}
	return q.CountedBy[0].String() // who has none of its keys is counted with the others who have none
}

// calmer says whether a disturbs less than b: a safe request before an unsafe one, what is not
// carried out before what is, fewer other quotas before more.
func (x planning) calmer(a, b *At) bool {
	i, k := x.c.Doc.RouteNamed(a.Route), x.c.Doc.RouteNamed(b.Route)
	if m, n := x.c.Doc.Routes[i].Unsafe(), x.c.Doc.Routes[k].Unsafe(); m != n {
		return n
	}
	if a.Done != b.Done {
		return b.Done
	}
	if m, n := a.Record.Param != "", b.Record.Param != ""; m != n {
		return n // at a record another caller would be turned away for that
	}
	return len(x.c.Doc.QuotasAt[i]) < len(x.c.Doc.QuotasAt[k])
}

// at is how a quota is filled at route i. What is sent there need not be carried out: that it
// is not refused for coming too often is enough.
func (x planning) at(i int, q *declaration.Quota) (*At, string) {
	rt := x.c.Doc.Routes[i]
	a := &At{Route: rt.Key(), Caller: check.Caller{State: access.Absent}, Params: map[string]string{}}
	s, req := access.SessionAt(x.c.Doc, i)
	switch {
	case rt.Unsafe() && x.c.Target.Unsafe != declaration.UnsafeAllowed:
		return nil, "its routes take unsafe methods alone, and the target does not allow them"
	case q.ByAccount() && (req == nil || req != s.Login):
		return nil, "it counts the accounts that logins name, and its routes are none"
	case q.ByAccount():
		name := q.Sacrificed()
		id := x.c.Doc.IdentityNamed(name)
		if id == nil || id.Credential(s.Name) == nil {
			return nil,
				"it would close an account that people use; name one that is given up for it:  locks: { tried_on: " +
					"NAME }"
		}
		a.Caller.Scheme, a.Login, a.Account = s.Name, name, true
		return x.binds(i, q, nil, a)
	case req != nil && req == s.Login:
		// A login with an unknown name is counted, and locks nobody out.
		id := x.c.Doc.Holder(s.Name)
		if id == nil {
			return nil, "nobody logs in there"
		}
		a.Caller.Scheme, a.Login = s.Name, id.Name
		return x.binds(i, q, nil, a)
	case rt.Unsafe() && len(rt.Send.JSON) == 0 && req == nil && rt.Effect != declaration.Command:
		return nil, "a call of its routes would be carried out, and nothing of it can be left out"
	case rt.Unsafe() && len(rt.Send.JSON) == 0 && req == nil:
		a.Done = true // a mail that is sent again, say: only so it shows whether that is counted
	case rt.Unsafe():
		a.Empty = true // without what it needs, it is counted and not carried out
	}
	var id *declaration.Identity
	ctl, _ := x.ControlAt(i)
	switch {
	case ctl == nil && len(rt.Parameters()) > 0:
		return nil, "nothing is known that its path could name"
	case ctl != nil:
		if ctl.Caller.Identity != "" {
			id, a.Caller = x.c.Doc.IdentityNamed(ctl.Caller.Identity), ctl.Caller
		}
		maps.Copy(a.Params, check.ParamsOf(ctl))
		if a.Record, a.Relation = ctl.Record, ctl.Relation; a.Record.Param != "" && a.Record.Value == "" {
			a.Params[a.Record.Param], a.Record, a.Relation = "1", check.Record{}, access.NoRecord
		}
		if a.Relation == access.Own {
			a.Relation = access.NoRecord
		}
	}
	if s := x.c.Doc.SchemeNamed(a.Caller.Scheme); s != nil &&
		(s.Kind == declaration.Signature || s.Kind == declaration.Link) {
		return nil, "its callers sign each request"
	}
	return x.binds(i, q, id, a)
}

// binds says of a whether this quota is the first to refuse there, or which other one is.
func (x planning) binds(i int, q *declaration.Quota, id *declaration.Identity, a *At) (*At, string) {
	q, _ = x.c.Target.Quota(q)
	mine, ok := q.AmountsFor(x.c.Doc, id)
	if !ok || len(mine) == 0 || q.ExemptIdentity(x.c.Doc, id) {
		return nil, "it does not count who can call there"
	}
	a.first = quota.Of(q, mine).First()
	if q.Model == declaration.Concurrency {
		a.first = 4*a.first + concurrencyCalls
	}
	a.By = a.counted(x.c.Doc, q, id)
	why := ""
	for _, k := range x.c.Doc.QuotasAt[i] {
		o, _ := x.c.Target.Quota(x.c.Doc.Quotas[k])
		if o.Name == q.Name || o.Model == declaration.Concurrency || o.ExemptIdentity(x.c.Doc, id) {
			continue
		}
		amounts, ok := o.AmountsFor(x.c.Doc, id)
		if n := quota.Of(o, amounts).First(); ok && n <= a.first && (why == "" || n < a.room) {
			a.tighter, a.room, why = o.Name, n, "the quota "+o.Name+" refuses first wherever it counts"
			if o.PerRoute {
				a.tighter += " " + a.Route
			}
		}
	}
	return a, why
}

// concurrencyCalls are the calls that a drill of how many run at once makes, beside a few
// times that many.
const concurrencyCalls = 20

// beside is an identity of the scheme of a drill's caller whom its route admits, whom the
// quota counts and who takes part in no other drill.
func (x planning) beside(p check.Probe, drills []check.Probe) string {
	q, _ := x.c.Target.Quota(x.c.Doc.QuotaNamed(p.Of))
	if p.Caller.Identity == "" || p.Caller.Scheme == "" {
		return ""
	}
	return x.admitted(p.Route, p.Record, func(id *declaration.Identity) bool {
		busy := slices.ContainsFunc(drills, func(o check.Probe) bool { return o.Caller.Identity == id.Name })
		return !busy && !q.ExemptIdentity(x.c.Doc, id) && id.Credential(p.Caller.Scheme) != nil
	})
}

// admitted is the first identity that fits whom a route admits, on a record that is somebody else's; ""
// without one.
func (x planning) admitted(route string, record check.Record, fits func(*declaration.Identity) bool) string {
	as := access.Caller{State: access.Sound}
	if record.Param != "" {
		as.Record = access.Foreign
	}
	for id := range x.c.Doc.Ranked() {
		as.Identity = id
		if fits(id) && access.Decide(x.c.Doc, x.c.Doc.RouteNamed(route), as).Outcome == access.Admit {
			return id.Name
		}
	}
	return ""
}

// call is one call there that fills a quota.
func (a At) call(c *check.Context, counts string) check.Call {
	i := c.Doc.RouteNamed(a.Route)
	rt := c.Doc.Routes[i]
	out := check.Call{Name: a.Route, Counts: counts, Effect: check.Safe}
	if rt.Unsafe() {
		out.Effect = check.Again // it is not carried out, or may be so often
	}
	if a.Login != "" {
		s, _ := access.SessionAt(c.Doc, i)
		out.Request = check.LoginAs(c, s.Login, c.Doc.IdentityNamed(a.Login), s.Name, func(secret bool) (check.Fill,
			bool) {
			switch {
			case secret:
				return check.Fill{Made: "wrong"}, true
			case a.Account:
				return check.Fill{}, false // its own
			}
			return check.Fill{Made: "nobody"}, true
		})
		return out
	}
	p := &check.Probe{ID: check.ID{Route: a.Route, Caller: a.Caller}, Record: a.Record}
	out.Request, out.As = check.RequestOf(c, p, i, rt.Path(), a.Params).WithBody(c, i), check.Bears(c, p)
	if a.Empty {
		out.Request.Body, out.Request.Needs = emptied(out.Request.Body), nil
	}
	return out
}

// emptied is a JSON body without its members; another stays.
func emptied(body []byte) []byte {
	var m map[string]json.RawMessage
	if json.Unmarshal(body, &m) != nil {
		return body
	}
	return []byte("{}")
}
