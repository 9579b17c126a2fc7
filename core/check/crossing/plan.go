package crossing

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// The rungs of the role, and of scope and attributes.
const roleRung, scopeRung = 4, 5

type planning struct {
	*check.Planning
	check.Drafts
	d  *declaration.Document
	at *at
}

// at is what is planned at a route.
type at struct {
	route int
	made  []*check.Probe
}

// Plan plans the crossings of every route.
func (f Family) Plan(c *check.Context, p *check.Planning) {
	classes := access.Classes(c.Doc)
	controls := make([]*check.Probe, len(c.Doc.Routes))
	for i, rt := range c.Doc.Routes {
		if access.IsUndecided(c.Doc, i) {
			p.Leave(check.Omission{Route: rt.Key(), What: "every crossing", Why: check.NotDecided,
				Undecided: 1 + len(c.Doc.Identities)})
			continue
		}
		x := planning{p, check.NewDrafts(c.Doc, c.Target, classes), c.Doc, &at{route: i}}
		x.nobody()
		for _, class := range classes {
			x.identity(class)
		}
		controls[i] = x.control(f, c)
		x.compare(f, c)
		x.untried()
	}
	near(c, p, controls)
	drafts := check.NewDrafts(c.Doc, c.Target, classes)
	otherForms := func(s check.Spot, ways ...string) {
		_, _, ok := drafts.For(s.Route, nil, access.NoRecord, true) // the crossing itself says why not
		for _, way := range ways {
			if q, refused := refusal(c, s.Control, way); ok && refused && q.Phase < check.ThenDeleting &&
				s.Control.Phase < check.ThenDeleting {
				p.Add(q)
			}
		}
	}
	for _, g := range check.Guards(c.Doc, func(i int) (*check.Probe, string) { return controls[i], "" }) {
		otherForms(g.Best, AcceptHTML, AcceptNone)
		for _, s := range g.All {
			if c.Doc.Routes[s.Route].Method() == "GET" {
				otherForms(s, AcceptHTML)
			}
		}
	}
}

// nearby is how many routes beside one tell whether the rest of the service works.
const nearby = 3

// near says for who must be admitted which other routes of the host show that the service
// works: the closest ones in the inventory that are safe to ask for.
func near(c *check.Context, p *check.Planning, controls []*check.Probe) {
	safe := map[string][]int{} // by host, in the order of the inventory
	for i, ctl := range controls {
		if ctl != nil && ctl.Phase == check.SafeFirst {
			safe[c.Doc.Routes[i].Host] = append(safe[c.Doc.Routes[i].Host], i)
		}
	}
	keysOf := map[string][]string{}
	for i, ctl := range controls {
		if ctl == nil {
			continue
		}
		list := safe[c.Doc.Routes[i].Host]
		at, _ := slices.BinarySearch(list, i)
		for back, on := at-1, at; len(keysOf[ctl.Route]) < nearby && (back >= 0 || on < len(list)); {
			k := 0
			if on >= len(list) || back >= 0 && i-list[back] <= list[on]-i {
				k, back = list[back], back-1
			} else {
				k, on = list[on], on+1
			}
			if k != i {
				keysOf[ctl.Route] = append(keysOf[ctl.Route], controls[k].Key())
			}
		}
	}
	for _, x := range p.Probes {
		if (Family{}).Expect(c, x).Outcome == access.Admit {
			d := of(x)
			d.Near = keysOf[x.Route]
			x.Detail = d
		}
	}
}

func (x planning) leave(caller, what, why string) {
	x.Leave(check.Omission{Route: x.d.Routes[x.at.route].Key(), Caller: caller, What: what, Why: why,
		ByTarget: check.ByTarget(why)})
}

// keep plans a draft.
func (x planning) keep(d check.Draft, who check.Caller, rel access.Relation, rest []string) {
	if p := x.Add(check.Probe{ID: check.ID{Family: Family{}.Name(), Route: x.d.Routes[x.at.route].Key(), Caller: who,
		Relation: rel}, Phase: d.Phase, Unsafe: x.d.Routes[x.at.route].Unsafe(), Record: d.Record, StandsFor: rest,
		Detail: Detail{Params: d.Params}}); p != nil {
		x.at.made = append(x.at.made, p)
	}
}

// nobody plans who has no credential, and a broken one.
func (x planning) nobody() {
	rels := []access.Relation{access.NoRecord}
	if access.Nobody(x.d, x.at.route).Record != access.NoRecord {
		rels = x.Relations(x.at.route, nil)
	}
	for _, st := range []access.State{access.Absent, access.Broken} {
		who := check.Caller{State: st}
		if st == access.Broken {
			if who.Scheme = brokenScheme(x.d, x.at.route); who.Scheme == "" {
				continue
			}
		}
		for _, rel := range rels {
			e := access.Decide(x.d, x.at.route, access.Caller{State: st, Record: rel})
			d, why, ok := x.For(x.at.route, nil, rel, e.Outcome != access.Admit && e.Outcome != access.Either)
			if !ok {
				x.leave("", "nobody, "+string(st)+" credential"+x.onA(rel), why)
				continue
			}
			x.keep(d, who, rel, nil)
		}
	}
}

// onA is the record of a crossing in words, behind what it is; nothing where it does not matter which.
func (x planning) onA(rel access.Relation) string {
	if rec := x.d.Record(x.at.route); rel != access.NoRecord && rec != nil {
		return ", " + rel.Text(rec.Name)
	}
	return ""
}

// brokenScheme is the scheme of which a broken credential is presented at route i.
func brokenScheme(d *declaration.Document, i int) string {
	if e := d.Entry(i); e != nil {
		if acc := d.Accepted(e); len(acc) > 0 {
			return acc[0].Name
		}
	}
	if len(d.Schemes) > 0 {
		return d.Schemes[0].Name
	}
	return ""
}

// identity plans who is sent for a class.
func (x planning) identity(class access.Class) {
	i := x.at.route
	rep, rest := check.Members(x.d, class)
	s, why := x.Presentable(i, rep)
	if s == nil {
		x.leave(rep.Name, "the crossing", why)
		return
	}
	e := access.Decide(x.d, i, access.Caller{Identity: rep, State: access.Sound})
	if attr := x.changed(rep); attr != "" && e.Outcome == access.Admit {
		x.leave(rep.Name, "the crossing", fmt.Sprintf("it would change %s of %s, and what is declared would be false "+
			"from then on", attr, rep.Name))
		return
	}
	rels := []access.Relation{access.NoRecord}
	switch {
	case e.Depends:
		rels = x.Relations(i, rep)
	case e.Outcome != access.Admit && e.Decider >= roleRung:
		// On somebody else's record ownership would answer in place of what is asked.
		if rel := x.best(rep, e.Decider); rel != access.NoRecord {
			rels = []access.Relation{rel}
		}
	}
	sent := false
	for _, rel := range rels {
		e := access.Decide(x.d, i, access.Caller{Identity: rep, State: access.Sound, Record: rel})
		d, why, ok := x.For(i, rep, rel, e.Outcome != access.Admit)
		if !ok {
			if strings.Contains(why, " owns no ") || x.never(rep, rel) {
				continue // there is no such crossing
			}
			what := "the crossing"
			switch rel {
			case access.NoRecord:
			case access.Own:
				what += " with a record of its own"
			case access.Foreign:
				what += " with a record of its neighbour"
			default:
				what += x.onA(rel)
			}
			x.leave(rep.Name, what, why)
			continue
		}
		x.keep(d, check.Caller{Identity: rep.Name, Scheme: s.Name, State: access.Sound}, rel, rest)
		sent = true
		if e.Subject == ownership && !x.d.Routes[i].Unsafe() && !d.Record.Lent() && slices.Contains(rest,
			d.Record.Owner) {
			x.owner(d.Record.Owner)
		}
	}
	if sent {
		x.Inferred += len(rest)
		x.apart(check.Caller{Identity: rep.Name, Scheme: s.Name, State: access.Sound}, rest)
	}
}

// apart plans requests of a caller whose parameters name what does not belong together: its own team, and the record
// of another, and the other way round. A service may look at one of them alone.
func (x planning) apart(who check.Caller, rest []string) {
	rt, rec := x.d.Routes[x.at.route], x.d.Record(x.at.route)
	if rec == nil {
		return
	}
	var in, out *check.Probe
	for _, p := range x.at.made {
		if p.Caller != who || p.Relation == access.NoRecord {
			continue
		}
		switch e := access.Decide(x.d, x.at.route, p.CallerIn(x.d)); {
		case e.Outcome == access.Admit && in == nil:
			in = p
		case e.Subject == ownership && out == nil:
			out = p
		}
	}
	if in == nil || out == nil {
		return
	}
	for _, name := range rt.Parameters() {
		place := x.Fills(x.at.route, name, rec)
		if place == nil || place == rec || of(in).Params[name] == of(out).Params[name] ||
			len(x.PlacesOf(rec, in.Record, place.Name)) == 0 || len(x.PlacesOf(rec, out.Record, place.Name)) == 0 {
			continue
		}
		x.mixed(out, name, of(in).Params[name], anothersRecord, rest)
		if !rt.Unsafe() { // what a change of an own record did elsewhere shows nowhere
			x.mixed(in, name, of(out).Params[name], anothersPlace, rest)
		}
		return
	}
}

// mixed plans a probe anew with another value of a parameter.
func (x planning) mixed(p *check.Probe, name, value, apart string, rest []string) {
	c := check.Probe{ID: p.ID, Phase: p.Phase, Unsafe: p.Unsafe, Record: p.Record, StandsFor: rest}
	c.Of = apart
	params := maps.Clone(of(p).Params)
	params[name] = value
	c.Detail = Detail{Params: params, Apart: apart}
	if q := x.Add(c); q != nil {
		x.at.made = append(x.at.made, q)
	}
}

// owner plans the own crossing of somebody whose record is asked for as somebody else's, and for whom its like stands
// otherwise: without its answer one cannot tell whether what was shown is its record. (Of a change, what the owner
// reads afterwards tells.)
func (x planning) owner(name string) {
	id := x.d.IdentityNamed(name)
	s, _ := x.Presentable(x.at.route, id)
	if s == nil {
		return
	}
	for _, rel := range x.Relations(x.at.route, id) {
		e := access.Decide(x.d, x.at.route, access.Caller{Identity: id, State: access.Sound, Record: rel})
		if d, _, ok := x.For(x.at.route, id, rel, false); ok && e.Outcome == access.Admit {
			x.keep(d, check.Caller{Identity: name, Scheme: s.Name, State: access.Sound}, rel, nil)
		}
	}
}

// best is the relation of an identity to a record on which only the role, the scope or an attribute can turn it
// away; NoRecord where there is none, or none is needed.
func (x planning) best(id *declaration.Identity, decider int) access.Relation {
	i := x.at.route
	e := x.d.Admission(i)
	if e == nil || decider == roleRung && len(e.Words()) == 0 {
		return access.NoRecord
	}
	on := access.Counting(x.d, i)
	if decider == scopeRung {
		if extent := x.d.Admits(e, id); !extent.All {
			on = extent.On
		}
	}
	for _, rel := range x.Relations(i, id) {
		if rel.HoldsAny(on) && x.HasAt(i, id, rel) {
			return rel
		}
	}
	return access.NoRecord
}

// never says whether a relation cannot be by what an identity is: it owns nothing of the kind, or stands in none.
func (x planning) never(id *declaration.Identity, rel access.Relation) bool {
	return slices.ContainsFunc(access.Counting(x.d, x.at.route), func(o declaration.On) bool {
		return rel.Holds(o) && (o.Kind == declaration.OnWithin && len(id.In(o.Name)) == 0 ||
			o.Kind == declaration.OnOwn && !x.HasAt(x.at.route, id, access.Own))
	})
}

// changed is an attribute that the route's admission changes of an identity, "" for none.
func (x planning) changed(id *declaration.Identity) string {
	for _, attr := range slices.Sorted(maps.Keys(x.d.Routes[x.at.route].Changes)) {
		if fmt.Sprint(id.Attributes[attr]) != fmt.Sprint(x.d.Routes[x.at.route].Changes[attr]) {
			return attr
		}
	}
	return ""
}

// untried names the checks of the route that nobody shows: a caller must lack that and pass all
// else, or another check answers in its place.
func (x planning) untried() {
	if len(x.at.made) == 0 {
		return // said already
	}
	shown := map[string]bool{}
	for _, p := range x.at.made {
		id := x.d.IdentityNamed(p.Caller.Identity)
		if id == nil || p.Caller.State != access.Sound || p.Of != "" || !x.accepts(p.Caller.Scheme) {
			continue
		}
		rel := p.Relation
		switch {
		case rel != access.NoRecord:
		case p.Record.Name == "": // none that could be somebody else's
			rel = access.RelationOf(access.Counting(x.d, x.at.route))
		default:
			rel = check.Standing(x.d, x.at.route, p.Record, id)
		}
		if lacks := access.Lacks(x.d, x.at.route, id, rel); len(lacks) == 1 {
			shown[lacks[0]] = true
		}
	}
	for _, a := range access.Asks(x.d, x.at.route) {
		if !shown[a] {
			x.leave("", "the check of "+strings.TrimPrefix(a, "the "),
				"no caller that can be sent lacks that alone, so that "+
					"another check may answer in its place")
		}
	}
}

// accepts says whether the route takes credentials of a scheme.
func (x planning) accepts(scheme string) bool {
	e := x.d.Entry(x.at.route)
	return e != nil && slices.ContainsFunc(x.d.Accepted(e),
		func(s *declaration.Scheme) bool { return s.Name == scheme })
}

// control chooses what shows the requests of a route to be fair ones.
func (x planning) control(f Family, c *check.Context) *check.Probe {
	made := x.at.made
	ctl := pickControl(f, c, made)
	if ctl == nil {
		if e := x.d.Entry(x.at.route); e != nil && len(made) > 0 && f.Expect(c, made[0]).Outcome != access.Closed {
			x.leave("", "the control", "no caller that must be admitted can be presented, so refusals stay "+
				"unproven")
		}
		return nil
	}
	for _, p := range made {
		d := of(p)
		if p.IsControl = p == ctl; !p.IsControl {
			p.Control, d.ControlBy = ctl.Key(), f.Who(ctl)
		}
		p.Detail = d
	}
	return ctl
}

// pickControl prefers nobody on an open route, then a caller admitted whatever the record,
// then an owner with its own record, or another who is admitted on some records. One that is
// open to anyone comes last: it shows no guard.
func pickControl(f Family, c *check.Context, made []*check.Probe) *check.Probe {
	open := func(p *check.Probe) bool {
		e := c.Doc.Admission(c.Doc.RouteNamed(p.Route))
		return e != nil && p.Relation.HoldsAny(e.Opens().On)
	}
	for _, good := range []func(*check.Probe) bool{
		func(p *check.Probe) bool {
			return p.Caller.Identity == "" && p.Caller.State == access.Absent && !open(p)
		},
		func(p *check.Probe) bool { return p.Caller.Identity != "" && p.Relation == access.NoRecord },
		func(p *check.Probe) bool { return p.Caller.Identity != "" && !open(p) },
		func(p *check.Probe) bool { return p.Caller.Identity != "" || p.Caller.State == access.Absent },
	} {
		for _, p := range made {
			if good(p) && f.Expect(c, p).Outcome == access.Admit {
				return p
			}
		}
	}
	return nil
}

// compare says with which answers that of a record is compared on which its caller is not admitted.
func (x planning) compare(f Family, c *check.Context) {
	expect := make([]access.Expectation, len(x.at.made))
	for k, p := range x.at.made {
		expect[k] = f.Expect(c, p)
	}
	for k, p := range x.at.made {
		if p.Record.Lent() || expect[k].Outcome == access.Admit || p.Relation == access.NoRecord {
			continue
		}
		d := of(p)
		var others []Shown // who may see it beside its owner
		for n, o := range x.at.made {
			switch {
			case expect[n].Outcome != access.Admit:
			case o.Caller.Identity == p.Caller.Identity:
				if o.Record.Value != p.Record.Value || d.Apart == anothersPlace {
					d.Own = append(d.Own, o.Key())
				}
			case o.Record.Value != p.Record.Value:
			case o.Caller.Identity == p.Record.Owner:
				d.Owner = append(d.Owner, Shown{o.Key(), f.Who(o)})
			default:
				others = append(others, Shown{o.Key(), f.Who(o)})
			}
		}
		if len(d.Owner) == 0 {
			d.Owner = others
		}
		p.Detail = d
	}
}

// refusal is a probe of how a refusal looks to who asks for a page, or for nothing: some
// services send the one to a login page and answer the other. It sends what the control
// sends. ok is false where nobody is refused there.
func refusal(c *check.Context, control *check.Probe, way string) (p check.Probe, ok bool) {
	i := c.Doc.RouteNamed(control.Route)
	d := Detail{Params: of(control).Params, ControlBy: Family{}.Who(control)}
	p = check.Probe{ID: check.ID{Family: Family{}.Name(), Route: control.Route,
		Caller: check.Caller{State: access.Absent}, Relation: control.Relation, Of: way},
		Unsafe: control.Unsafe, Record: control.Record, Control: control.Key(),
		Detail: d}
	if p.Relation != access.NoRecord {
		p.Relation = check.Standing(c.Doc, i, p.Record, nil)
	}
	if p.Phase = check.SafeFirst; c.Doc.Routes[i].Unsafe() {
		p.Phase, p.Record.Shared = check.ThenTurnedAway, true
	}
	return p, Family{}.Expect(c, &p).Outcome == access.Refuse
}
